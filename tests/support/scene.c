/* A detector before drawn pictures. */
#include "scene.h"

#include <stdlib.h>
#include <string.h>

scene *make_scene(const tw_detector_config *config, int fps, uint32_t chance)
{
    scene *s = calloc(1, sizeof *s);
    size_t bytes = 0;
    assert_non_null(s);
    s->config = *config;
    s->width = config->width;
    s->height = config->height;
    s->fps = fps;
    s->chance = chance;
    s->px = calloc(s->width, s->height);
    assert_non_null(s->px);
    assert_int_equal(tw_detector_bytes(config, &bytes), TW_OK);
    s->memory = malloc(bytes);
    assert_non_null(s->memory);
    memset(s->memory, 0xA5, bytes); /* whatever was there before must not matter */
    assert_int_equal(tw_detector_init(config, s->memory, bytes, &s->detector), TW_OK);
    return s;
}

void leave_scene(scene *s)
{
    free(s->memory);
    free(s->px);
    free(s);
}

uint32_t roll(scene *s)
{
    s->chance = s->chance * 1664525U + 1013904223U;
    return s->chance;
}

int noise(scene *s)
{
    return (int)(roll(s) >> 30) - 1;
}

int64_t scene_now_us(const scene *s)
{
    return (int64_t)s->frame * 1000000 / s->fps;
}

const tw_reading *see(scene *s)
{
    const tw_luma luma = {s->px, s->width, s->width, s->height};
    assert_int_equal(tw_detector_read(s->detector, &luma, scene_now_us(s), &s->reading),
                     TW_OK);
    s->frame++;
    return &s->reading;
}

int moving_in(const scene *s, int left, int top, int width, int height)
{
    const tw_reading *r = &s->reading;
    const int cell = r->grid.cell_px;
    int count = 0;
    for (int y = top / cell; y < (top + height) / cell; y++)
        for (int x = left / cell; x < (left + width) / cell; x++)
            count += (r->cells[y * r->grid.columns + x] & TW_CELL_MOVING) != 0;
    return count;
}
