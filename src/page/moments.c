/* What moved lately: seconds that the catalogue does not have yet, and where in the
 * picture, to try zones on. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../media/mask.h"
#include "page_state.h"
#include "../settings/sections.h"
#include "tawny/events.h"

#define SECOND_US INT64_C(1000000)

void twi_moments_init(moments *m)
{
    memset(m, 0, sizeof *m);
    (void)pthread_mutex_init(&m->lock, NULL);
}

void twi_moments_free(moments *m)
{
    for (size_t i = 0; i < m->count; i++) {
        free(m->all[i]->recent);
        free(m->all[i]);
    }
    (void)pthread_mutex_destroy(&m->lock);
}

/* Under the lock. @return NULL: it is not known. */
static moment *find(moments *m, const char *camera)
{
    for (size_t i = 0; i < m->count; i++)
        if (strcmp(m->all[i]->name, camera) == 0)
            return m->all[i];
    return NULL;
}

static moment *find_or_make(moments *m, const char *camera)
{
    moment *one = find(m, camera);
    if (one || m->count == CAMERAS_MAX || !(one = calloc(1, sizeof *one)))
        return one;
    (void)snprintf(one->name, sizeof one->name, "%s", camera);
    m->all[m->count++] = one;
    return one;
}

/* The newest; before there is one, a place that is none. */
static tw_trace_point *last_second(moment *one)
{
    return &one->second[(one->first + one->count + SECONDS_KEPT - 1) % SECONDS_KEPT];
}

static void note_second(moment *one, int64_t wall_us, uint32_t activity_ppm)
{
    const int64_t t_us = wall_us - wall_us % SECOND_US;
    tw_trace_point *last = last_second(one);
    if (one->count > 0 && last->t_us == t_us) {
        if (activity_ppm > last->max_ppm)
            last->max_ppm = activity_ppm;
        return;
    }
    if (one->count == SECONDS_KEPT)
        one->first = (one->first + 1) % SECONDS_KEPT;
    else
        one->count++;
    *last_second(one) =
        (tw_trace_point){.t_us = t_us, .max_ppm = activity_ppm, .mean_ppm = activity_ppm};
}

/* A camera that comes back with another size begins anew. */
static void note_cells(moment *one, const tw_reading *reading)
{
    if (one->recent && twi_recent_add(one->recent, reading) == TW_OK)
        return;
    void *memory = malloc(twi_recent_bytes(&reading->grid));
    free(one->recent);
    one->recent = memory ? twi_recent_init(memory, &reading->grid) : NULL;
    if (one->recent)
        (void)twi_recent_add(one->recent, reading);
}

void twi_moments_event(moments *m, const tw_event *event)
{
    if (event->kind != TW_EVENT_READING || !event->reading)
        return;
    (void)pthread_mutex_lock(&m->lock);
    moment *one = find_or_make(m, event->camera);
    if (one) {
        note_second(one, event->wall_us, event->reading->activity_ppm);
        note_cells(one, event->reading);
    }
    (void)pthread_mutex_unlock(&m->lock);
}

void twi_moments_seconds(moments *m, const char *camera, int64_t from_us,
                         bool (*visit)(void *ctx, const tw_trace_point *point), void *ctx)
{
    (void)pthread_mutex_lock(&m->lock);
    const moment *one = find(m, camera);
    bool more = one != NULL;
    for (size_t i = 0; more && i < one->count; i++) {
        const tw_trace_point *p = &one->second[(one->first + i) % SECONDS_KEPT];
        if (p->t_us >= from_us)
            more = visit(ctx, p);
    }
    (void)pthread_mutex_unlock(&m->lock);
}

/* @return false: the zones cannot be laid over it. */
static bool make_mask(const tw_grid *grid, const twi_camera_settings *camera,
                      uint8_t mask[CELLS_MAX])
{
    uint8_t *memory = NULL;
    tw_luma picture;
    bool good = (size_t)grid->columns * grid->rows <= CELLS_MAX &&
                tw_zones_mark(grid, camera->zones, camera->zone_count, mask) == TW_OK;
    if (good && camera->mask && camera->mask[0])
        good = twi_mask_read(camera->mask, &memory, &picture, NULL) == TW_OK &&
               tw_mask_mark(grid, &picture, mask) == TW_OK;
    free(memory);
    return good;
}

size_t twi_moments_walk(moments *m, const twi_camera_settings *camera,
                        void (*visit)(void *ctx, const tw_reading *reading), void *ctx)
{
    uint8_t mask[CELLS_MAX];
    size_t frames = 0;
    (void)pthread_mutex_lock(&m->lock);
    const moment *one = find(m, camera->name);
    if (one && one->recent) {
        const tw_grid grid = twi_recent_grid(one->recent);
        if (make_mask(&grid, camera, mask))
            frames = twi_recent_walk(one->recent, mask, visit, ctx);
    }
    (void)pthread_mutex_unlock(&m->lock);
    return frames;
}
