/* What settings make of a pipeline: at the start, and while it runs. */
#include <stdlib.h>
#include <string.h>

#include "../media/mask.h"
#include "pipeline_state.h"
#include "../core/view.h"
#include "../settings/sections.h"
#include "why.h"

/* What the detector sees: nothing that it leaves out need be black. */
twi_view twi_pipeline_seen(const twi_camera_settings *camera, tw_turn lies)
{
    twi_view view = twi_view_of(camera, lies);
    view.hidden = NULL;
    view.hidden_count = 0;
    return view;
}

/* How much of the width the detector looks at, or of the height where that is more: it
 * wants as many pixels of a part as of a whole. */
uint32_t twi_pipeline_inspected_ppm(const twi_view *view)
{
    const twi_crop *c = &view->crop;
    const int32_t across = c->right - c->left, down = c->bottom - c->top;
    if (twi_crop_is_whole(c))
        return TWI_INSPECT_ALL;
    return (uint32_t)(across > down ? across : down);
}

tw_sighting_config twi_sighting_config_of(const twi_camera_settings *c)
{
    tw_sighting_config config = (tw_sighting_config){.start_ppm = (uint32_t)c->start_ppm,
                                                     .stay_ppm = (uint32_t)c->stay_ppm,
                                                     .confirm_k = c->confirm.k,
                                                     .confirm_n = c->confirm.n,
                                                     .armed = c->armed,
                                                     .settle_us = c->settle_us,
                                                     .pre_us = c->pre_us,
                                                     .post_us = c->post_us,
                                                     .rest_us = c->rest_us,
                                                     .longest_us = c->longest_us};
    for (size_t i = 0; i < c->zone_count && config.own_count < TW_OWN_LIMITS_MAX; i++)
        if (c->zones[i].start_ppm > 0)
            config.own[config.own_count++] =
                (tw_own_limits){c->zones[i].start_ppm, c->zones[i].stay_ppm};
    return config;
}

static tw_detector_config detector_config(const twi_camera_settings *c, uint16_t width,
                                          uint16_t height)
{
    tw_detector_config config;
    tw_detector_defaults(&config, width, height);
    config.difference = (uint16_t)c->difference;
    config.noise_margin_pct = (uint16_t)c->noise_margin_pct;
    config.smallest_ppm = (uint32_t)c->smallest_ppm;
    config.largest_ppm = (uint32_t)c->largest_ppm;
    config.travel_ppm = (uint32_t)c->travel_ppm;
    config.evidence_pct = (uint16_t)c->evidence_pct;
    config.memory_us = c->memory_us;
    config.light_guard = c->light_guard;
    config.sway_guard = c->sway_guard;
    config.shake_guard = c->shake_guard;
    return config;
}

static bool any_runs(const uint8_t *cells, size_t count)
{
    for (size_t i = 0; i < count; i++)
        if (cells[i] != 0)
            return true;
    return false;
}

/* Which cells zones and mask leave to be watched. @param out  The caller's to free. */
static tw_status mark_cells(const tw_grid *grid, const twi_camera_settings *camera,
                            const tw_luma *mask, uint8_t **out, tw_error *err)
{
    uint8_t *cells = malloc((size_t)grid->columns * grid->rows);
    if (!cells)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    tw_status st = tw_zones_mark(grid, camera->zones, camera->zone_count, cells);
    if (st == TW_OK && mask)
        st = tw_mask_mark(grid, mask, cells);
    if (st == TW_OK && !any_runs(cells, (size_t)grid->columns * grid->rows))
        st = TW_EINVAL;
    if (st == TW_OK) {
        *out = cells;
        return TW_OK;
    }
    free(cells);
    return tw_fail(err, TW_EINVAL, "camera %s: its %s leave nothing to watch",
                   camera->name, mask ? "zones and mask" : "zones");
}

/* What zones ask of a subject; areas are counted as tw_zones_mark does. */
static void ask_evidence(tw_detector *detector, const twi_camera_settings *c)
{
    uint8_t area = 1;
    for (int i = 0; i < TW_AREAS_MAX; i++)
        (void)tw_detector_area_evidence(detector, (uint8_t)i, 0);
    for (size_t i = 0; i < c->zone_count && area < TW_AREAS_MAX; i++)
        if (c->zones[i].start_ppm > 0 && c->zone_evidence_pct)
            (void)tw_detector_area_evidence(detector, area++, c->zone_evidence_pct[i]);
}

static tw_status watch_zones(twi_pipeline *p, tw_error *err)
{
    const tw_grid grid = tw_detector_grid(p->detect.detector);
    uint8_t *cells = NULL;
    tw_status st = mark_cells(
        &grid, p->camera, p->detect.mask_picture ? &p->detect.mask : NULL, &cells, err);
    if (st == TW_OK)
        st = tw_detector_watch_cells(p->detect.detector, cells);
    if (st == TW_OK)
        ask_evidence(p->detect.detector, p->camera);
    free(cells);
    return st;
}

tw_status twi_pipeline_make_detector(twi_pipeline *p, uint16_t width, uint16_t height,
                                     tw_error *err)
{
    const tw_detector_config config = detector_config(p->camera, width, height);
    size_t bytes = 0;
    if (tw_detector_bytes(&config, &bytes) != TW_OK)
        return tw_fail(err, TW_ESIZE, "camera %s: a picture of %u x %u cannot be watched",
                       p->camera->name, p->detect.width, p->detect.height);
    free(p->detect.memory);
    p->detect.memory = malloc(bytes);
    if (!p->detect.memory ||
        tw_detector_init(&config, p->detect.memory, bytes, &p->detect.detector) != TW_OK)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    p->detect.luma_width = width;
    p->detect.luma_height = height;
    return watch_zones(p, err);
}

/* ---- while it runs --------------------------------------------------------------- */

/* What may fail is made before any of the new settings hold. */
typedef struct replacement {
    const twi_camera_settings *camera;
    tw_sighting_config sighting;
    tw_detector_config detector;
    twi_hours hours;
    uint8_t *mask_picture;
    tw_luma mask_luma;
    uint8_t *cells;       /* NULL: there is no detector yet, or another one comes */
    twi_decoder *decoder; /* NULL: the one that there is goes on */
    twi_view view, kept_view;
    bool turned; /* it sees another picture */
} replacement;

static bool same_view(const twi_view *a, const twi_view *b)
{
    return a->turn.quarters == b->turn.quarters && a->turn.mirror == b->turn.mirror &&
           memcmp(&a->crop, &b->crop, sizeof a->crop) == 0;
}

static tw_status prepare_limits(const twi_pipeline *p, replacement *r, tw_error *err)
{
    tw_sighting_watch tried;
    size_t unused = 0;
    r->sighting = twi_sighting_config_of(r->camera);
    if (tw_sighting_init(&tried, &r->sighting) != TW_OK)
        return tw_fail(err, TW_EINVAL,
                       "camera %s: start_at and stay_at contradict each other",
                       r->camera->name);
    if (!p->detect.detector)
        return TW_OK;
    r->detector = detector_config(r->camera, p->detect.luma_width, p->detect.luma_height);
    if (tw_detector_bytes(&r->detector, &unused) != TW_OK)
        return tw_fail(err, TW_EINVAL,
                       "camera %s: smallest and largest contradict each other",
                       r->camera->name);
    return TW_OK;
}

static tw_status prepare_zones(const twi_pipeline *p, replacement *r, tw_error *err)
{
    tw_status st = TW_OK;
    if (r->camera->mask[0] != '\0')
        st = twi_mask_read(r->camera->mask, &r->mask_picture, &r->mask_luma, err);
    if (st != TW_OK || !p->detect.detector || r->turned)
        return st;
    const tw_grid grid = tw_detector_grid(p->detect.detector);
    return mark_cells(&grid, r->camera, r->mask_picture ? &r->mask_luma : NULL, &r->cells,
                      err);
}

static tw_status prepare_view(const twi_pipeline *p, replacement *r, tw_error *err)
{
    r->view = twi_pipeline_seen(r->camera, p->detect.stream.turn);
    r->kept_view = twi_view_of(r->camera, p->stream.turn);
    r->turned = !same_view(&r->view, &p->detect.view);
    const uint32_t ppm = twi_pipeline_inspected_ppm(&r->view);
    if (ppm == twi_pipeline_inspected_ppm(&p->detect.view))
        return TW_OK;
    return twi_decoder_open(&p->detect.stream, ppm, &r->decoder, err);
}

static tw_status prepare(const twi_pipeline *p, replacement *r, tw_error *err)
{
    tw_status st = prepare_limits(p, r, err);
    if (st == TW_OK && r->camera->hours)
        st = twi_hours_parse(r->camera->hours, &r->hours, NULL);
    if (st == TW_OK)
        st = prepare_view(p, r, err);
    if (st == TW_OK)
        st = prepare_zones(p, r, err);
    return st;
}

/* The next frame finds no detector of its size, and makes one. */
static void begin_detector_anew(twi_pipeline *p)
{
    p->detect.width = p->detect.height = 0;
    tw_sighting_learns_anew(&p->watch);
}

/* Nothing here can fail. What the replacement has is the pipeline's, and the other way
 * round. */
static void exchange(twi_pipeline *p, replacement *r)
{
    uint8_t *mask_picture = p->detect.mask_picture;
    twi_gpio_change(p, r->camera);
    p->camera = r->camera;
    p->arming.hours = r->hours;
    p->arming.known = false;
    p->detect.mask_picture = r->mask_picture;
    p->detect.mask = r->mask_luma;
    r->mask_picture = mask_picture;
    p->detect.view = r->view;
    p->kept.view = r->kept_view;
    twi_hide_free(&p->detect.hide);
    (void)tw_sighting_adjust(&p->watch, &r->sighting);
    if (p->kept.recorder)
        twi_recorder_adjust(p->kept.recorder, r->camera);
    if (r->decoder) {
        twi_decoder *had = p->detect.decoder;
        p->detect.decoder = r->decoder;
        r->decoder = had;
        p->times.waits_for_key = p->detect.stream.codec != TW_CODEC_MJPEG;
    }
    if (r->turned) {
        begin_detector_anew(p);
    } else if (p->detect.detector) {
        (void)tw_detector_adjust(p->detect.detector, &r->detector);
        (void)tw_detector_watch_cells(p->detect.detector, r->cells);
        ask_evidence(p->detect.detector, r->camera);
    }
}

tw_status twi_pipeline_run_on(twi_pipeline *p, const twi_camera_settings *camera,
                              tw_error *err)
{
    replacement r = {.camera = camera};
    const tw_status st = prepare(p, &r, err);
    if (st == TW_OK)
        exchange(p, &r);
    twi_decoder_close(r.decoder);
    free(r.mask_picture);
    free(r.cells);
    return st;
}

const twi_camera_settings *twi_pipeline_settings(const twi_pipeline *p)
{
    return p->camera;
}
