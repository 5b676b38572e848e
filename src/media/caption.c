/* Captions. */
#include "caption.h"

#include <stdlib.h>
#include <string.h>

#include "drawing.h"
#include "jpeg.h"
#include "../settings/sections.h"

/* The plate is as dark as the ground of everything else that is drawn, and lets a third
 * of the picture through; the ink is nearly white. */
enum { PLATE_LUMA = 20, INK_LUMA = 228, PLATE_ALPHA = 170, GREY = 128 };

struct twi_caption {
    const twi_camera_settings *camera;
    const twi_drawing *drawing;
    char text[TWI_CAPTION_MAX]; /* that ink shows */
    uint8_t *ink;               /* NULL: nothing is drawn yet */
    uint16_t ink_width, ink_height;
    uint16_t width, height; /* of the picture it was drawn for */
};

tw_status twi_caption_new(const twi_camera_settings *camera, twi_caption **out,
                          tw_error *err)
{
    twi_caption *c = calloc(1, sizeof *c);
    if (!c)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    c->camera = camera;
    c->drawing = twi_drawing_load(err);
    if (!c->drawing) {
        free(c);
        return TW_ENOTSUP;
    }
    *out = c;
    return TW_OK;
}

void twi_caption_free(twi_caption *c)
{
    if (!c)
        return;
    free(c->ink);
    free(c);
}

/* Have the text's ink, drawn again only if it says something else. */
static tw_status have_ink(twi_caption *c, const twi_caption_fields *fields,
                          uint16_t width, uint16_t height, tw_error *err)
{
    char text[TWI_CAPTION_MAX];
    const tw_status st =
        twi_caption_expand(c->camera->caption, fields, text, sizeof text, NULL);
    if (st != TW_OK)
        return tw_fail(err, st, "caption = %s: %s", c->camera->caption,
                       tw_status_text(st));
    if (c->ink && strcmp(text, c->text) == 0 && c->width == width && c->height == height)
        return TW_OK;
    free(c->ink);
    c->ink = NULL;
    const int64_t line = height * c->camera->caption_size_ppm / 1000000;
    const tw_status drawn = c->drawing->label(text, (uint16_t)line, width, &c->ink,
                                              &c->ink_width, &c->ink_height, err);
    if (drawn != TW_OK)
        return drawn;
    (void)memcpy(c->text, text, sizeof c->text);
    c->width = width;
    c->height = height;
    return TW_OK;
}

/* Where the plate stands, on even pixels, as chroma has half of them. */
typedef struct place {
    uint32_t x, y, width, height;
} place;

static place place_of(const twi_caption *c, uint16_t width, uint16_t height)
{
    const twi_corner corner = (twi_corner)c->camera->caption_place;
    place p = {0, 0, c->ink_width, c->ink_height < height ? c->ink_height : height};
    if (corner == TWI_TOP_RIGHT || corner == TWI_BOTTOM_RIGHT)
        p.x = (width - p.width) & ~1U;
    if (corner == TWI_BOTTOM_LEFT || corner == TWI_BOTTOM_RIGHT)
        p.y = (height - p.height) & ~1U;
    return p;
}

static uint8_t blend(uint32_t from, uint32_t to, uint32_t alpha)
{
    return (uint8_t)((from * (255 - alpha) + to * alpha + 127) / 255);
}

static void draw_luma(const twi_caption *c, const place *p, const twi_canvas *canvas)
{
    for (uint32_t y = 0; y < p->height; y++) {
        uint8_t *row = canvas->px[0] + (size_t)(p->y + y) * (size_t)canvas->stride[0];
        const uint8_t *ink = c->ink + (size_t)y * c->ink_width;
        for (uint32_t x = 0; x < p->width && p->x + x < canvas->width; x++) {
            const uint8_t plate = blend(row[p->x + x], PLATE_LUMA, PLATE_ALPHA);
            row[p->x + x] = blend(plate, INK_LUMA, ink[x]);
        }
    }
}

/* The plate takes colour away as it takes light, and ink has none. */
static void draw_chroma(const twi_caption *c, const place *p, const twi_canvas *canvas,
                        int plane)
{
    const uint32_t width = (canvas->width + 1U) / 2, height = (canvas->height + 1U) / 2;
    for (uint32_t y = 0; y < (p->height + 1) / 2 && p->y / 2 + y < height; y++) {
        uint8_t *row =
            canvas->px[plane] + (size_t)(p->y / 2 + y) * (size_t)canvas->stride[plane];
        const uint8_t *ink = c->ink + (size_t)y * 2 * c->ink_width;
        for (uint32_t x = 0; x < (p->width + 1) / 2 && p->x / 2 + x < width; x++) {
            const uint32_t over = 2 * x < c->ink_width ? ink[2 * x] : 0;
            uint8_t *at = row + p->x / 2 + x;
            *at = blend(*at, GREY, over > PLATE_ALPHA ? over : PLATE_ALPHA);
        }
    }
}

tw_status twi_caption_draw(twi_caption *c, const twi_caption_fields *fields,
                           const twi_canvas *canvas, tw_error *err)
{
    const tw_status st = have_ink(c, fields, canvas->width, canvas->height, err);
    if (st != TW_OK)
        return st;
    const place p = place_of(c, canvas->width, canvas->height);
    draw_luma(c, &p, canvas);
    for (int plane = 1; plane < 3 && canvas->px[plane]; plane++)
        draw_chroma(c, &p, canvas, plane);
    return TW_OK;
}

tw_status twi_caption_jpeg(twi_caption *c, const twi_caption_fields *fields,
                           const uint8_t *jpeg, size_t jpeg_bytes, int quality,
                           uint8_t **out, size_t *bytes, tw_error *err)
{
    twi_canvas canvas;
    uint8_t *memory = NULL;
    tw_status st = twi_jpeg_planes(jpeg, jpeg_bytes, &canvas, &memory, err);
    if (st == TW_OK)
        st = twi_caption_draw(c, fields, &canvas, err);
    if (st == TW_OK) {
        const tw_picture picture = {.px = {canvas.px[0], canvas.px[1], canvas.px[2]},
                                    .stride = {(uint32_t)canvas.stride[0],
                                               (uint32_t)canvas.stride[1],
                                               (uint32_t)canvas.stride[2]},
                                    .width = canvas.width,
                                    .height = canvas.height};
        st = twi_jpeg_encode(&picture, quality, out, bytes, err);
    }
    free(memory);
    return st;
}
