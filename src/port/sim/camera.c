/* The simulated camera: a drawn scene as JPEG packets, or as grey pixels. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../../media/jpeg.h"
#include "../recorded.h"
#include "scene.h"

enum { QUALITY = 85, COARSE_QUALITY = 38, KEY_EVERY = 25 };
enum { MIN_SIDE = 64, MAX_SIDE = 4096 };

/* Drawn footage needs some date: the spring walk, Hollin Lane, 2027-03-13 20:30 UTC. */
#define WALK_BEGINS_US INT64_C(1804969800000000)

typedef struct sim_camera {
    tw_camera_request request;
    const tw_sim_scene *scene;
    unsigned seed, width, height;
    bool raw; /* pixels instead of JPEG packets */
    twi_painter *painter;
    uint32_t number; /* of the next frame in this round */
    uint32_t rounds;
    uint8_t *jpeg;
    tw_picture picture;
    tw_packet waiting;
    bool has_waiting;
    twi_recorded recorded;
} sim_camera;

static void close_camera(void *ctx)
{
    sim_camera *c = ctx;
    twi_painter_free(c->painter);
    free(c->jpeg);
    c->painter = NULL;
    c->jpeg = NULL;
    c->has_waiting = false;
}

static tw_status open_camera(void *ctx, tw_stream *stream, tw_error *err)
{
    sim_camera *c = ctx;
    close_camera(c);
    c->painter =
        twi_painter_new(c->scene, c->seed, (uint16_t)c->width, (uint16_t)c->height);
    if (!c->painter)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    c->number = c->rounds = 0;
    twi_recorded_begin(&c->recorded, &c->request, WALK_BEGINS_US);
    *stream = (tw_stream){.codec = c->raw ? TW_CODEC_RAW : TW_CODEC_MJPEG,
                          .pixels = TW_PIXELS_GREY,
                          .codec_name = c->raw ? "grey" : "mjpeg",
                          .width = (uint16_t)c->width,
                          .height = (uint16_t)c->height,
                          .fps_num = c->request.fps,
                          .fps_den = 1,
                          .length_us = c->scene->length_us};
    return TW_OK;
}

static tw_status encode(sim_camera *c, size_t *bytes, tw_error *err)
{
    const bool coarse = twi_painter_pulses(c->painter) && c->number % KEY_EVERY != 0;
    free(c->jpeg);
    c->jpeg = NULL;
    return twi_jpeg_encode(&c->picture, coarse ? COARSE_QUALITY : QUALITY, &c->jpeg,
                           bytes, err);
}

static tw_status draw_next(sim_camera *c, tw_error *err)
{
    int64_t t = (int64_t)c->number * 1000000 / c->request.fps;
    if (t >= c->scene->length_us) {
        if (!c->request.loop)
            return TW_EEND;
        twi_recorded_again(&c->recorded);
        c->number = 0;
        c->rounds++;
        t = 0;
    }
    const tw_luma luma = twi_painter_draw(c->painter, c->number + c->rounds * 100003, t);
    c->picture = (tw_picture){.px = {luma.px},
                              .stride = {luma.stride},
                              .width = luma.width,
                              .height = luma.height,
                              .pixels = TW_PIXELS_GREY};
    size_t bytes = 0;
    const tw_status st = c->raw ? TW_OK : encode(c, &bytes, err);
    if (st != TW_OK)
        return st;
    c->number++;
    c->waiting =
        (tw_packet){.data = c->jpeg, .size = bytes, .t_us = t, .dts_us = t, .key = true};
    c->has_waiting = true;
    return TW_OK;
}

static tw_status next(void *ctx, tw_frame *frame, tw_error *err)
{
    sim_camera *c = ctx;
    memset(frame, 0, sizeof *frame);
    tw_status st = c->has_waiting ? TW_OK : draw_next(c, err);
    if (st != TW_OK)
        return st;
    st = twi_recorded_deliver(&c->recorded, &c->waiting, &frame->packet);
    c->has_waiting = st != TW_OK;
    if (c->raw) { /* of pixels a camera says when they were captured, and no more */
        frame->picture = c->picture;
        frame->packet =
            (tw_packet){.t_us = frame->packet.t_us, .wall_us = frame->packet.wall_us};
    }
    return st;
}

static void destroy(void *ctx)
{
    close_camera(ctx);
    free(ctx);
}

static bool read_option(sim_camera *c, const char *option)
{
    int end = 0;
    const int n = (int)strlen(option);
    if (sscanf(option, "seed=%u%n", &c->seed, &end) == 1 && end == n)
        return true;
    if (sscanf(option, "size=%ux%u%n", &c->width, &c->height, &end) == 2 && end == n)
        return c->width >= MIN_SIDE && c->width <= MAX_SIDE && c->height >= MIN_SIDE &&
               c->height <= MAX_SIDE;
    c->raw = strcmp(option, "raw=yes") == 0;
    return c->raw || strcmp(option, "raw=no") == 0;
}

static tw_status read_source(sim_camera *c, const char *text, tw_error *err)
{
    char copy[256];
    if (snprintf(copy, sizeof copy, "%s", text) >= (int)sizeof copy)
        return tw_fail(err, TW_ESYNTAX, "sim:%s: too long", text);
    char *rest = NULL;
    const char *name = strtok_r(copy, ",", &rest);
    c->scene = tw_sim_scene_find(name);
    if (!c->scene) {
        const tw_sim_scene *one = tw_sim_scene_at(0);
        return tw_fail(err, TW_ESYNTAX, "sim:%s: there is no such scene, try sim:%s",
                       name ? name : "", one->name);
    }
    for (const char *option = strtok_r(NULL, ",", &rest); option;
         option = strtok_r(NULL, ",", &rest))
        if (!read_option(c, option))
            return tw_fail(
                err, TW_ESYNTAX,
                "sim:%s: %s is not understood: options are seed=N, size=WxH (%d to "
                "%d), raw=yes",
                text, option, MIN_SIDE, MAX_SIDE);
    return TW_OK;
}

tw_status tw_sim_camera_make(const tw_camera_request *request, tw_camera *out,
                             tw_error *err)
{
    static const tw_camera_ops ops = {sizeof ops, "sim",        TW_RECORDED, open_camera,
                                      next,       close_camera, destroy,     NULL};
    static const char scheme[] = "sim:";
    if (strncmp(request->source, scheme, sizeof scheme - 1) != 0)
        return TW_ENOTSUP;
    sim_camera *c = calloc(1, sizeof *c);
    if (!c)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    *c = (sim_camera){.request = *request, .seed = 1, .width = 640, .height = 360};
    const tw_status st = read_source(c, request->source + sizeof scheme - 1, err);
    c->request.name = c->request.source = NULL;
    if (st != TW_OK) {
        free(c);
        return st == TW_ENOTSUP ? TW_ESYNTAX : st;
    }
    *out = (tw_camera){&ops, c};
    return TW_OK;
}
