/* A camera of which frames are left out. */
#include "thinned.h"
#include "../core/sized.h"

#include <stdlib.h>

#include "../core/thin.h"
#include "../media/raw.h"

enum { LEFT_OUT_MAX = 64 }; /* before whoever asks may look after other things */

typedef struct thinned {
    tw_camera_ops ops;
    tw_camera camera;
    twi_thin thin;
} thinned;

/* What it promises is less now. Groups of pictures keep no even rate. */
static void promise_less(tw_stream *stream, uint32_t fps)
{
    if (stream->fps_num <= (uint64_t)fps * stream->fps_den)
        return;
    const bool alone = stream->codec == TW_CODEC_MJPEG || stream->codec == TW_CODEC_RAW;
    stream->fps_num = alone ? fps : 0;
    stream->fps_den = 1;
}

static tw_status open_camera(void *ctx, tw_stream *stream, tw_error *err)
{
    thinned *t = ctx;
    const tw_status st = t->camera.ops->open(t->camera.ctx, stream, err);
    t->thin = (twi_thin){.fps = t->thin.fps};
    if (st == TW_OK)
        promise_less(stream, t->thin.fps);
    return st;
}

static tw_status next_frame(void *ctx, tw_frame *frame, tw_error *err)
{
    thinned *t = ctx;
    for (int i = 0; i < LEFT_OUT_MAX; i++) {
        const tw_status st = t->camera.ops->next(t->camera.ctx, frame, err);
        if (st == TW_OK)
            twi_frame_complete(frame);
        if (st != TW_OK || frame->sound || twi_thin_keeps(&t->thin, &frame->packet))
            return st;
    }
    return TW_EAGAIN;
}

static void close_camera(void *ctx)
{
    const thinned *t = ctx;
    t->camera.ops->close(t->camera.ctx);
}

static void destroy(void *ctx)
{
    thinned *t = ctx;
    t->camera.ops->destroy(t->camera.ctx);
    free(t);
}

static tw_status control(void *ctx, const char *controls, tw_error *err)
{
    const thinned *t = ctx;
    return t->camera.ops->control(t->camera.ctx, controls, err);
}

tw_status twi_thinned_camera(uint32_t fps, tw_camera *camera, tw_error *err)
{
    if (camera->ops->live == TW_LIVE_RARE)
        return TW_OK;
    thinned *t = calloc(1, sizeof *t);
    if (!t) {
        camera->ops->destroy(camera->ctx);
        *camera = (tw_camera){0};
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    t->ops = (tw_camera_ops){
        sizeof t->ops,
        camera->ops->name,
        camera->ops->live,
        open_camera,
        next_frame,
        close_camera,
        destroy,
        TWI_HAS(camera->ops, control) && camera->ops->control ? control : NULL};
    t->camera = *camera;
    t->thin.fps = fps;
    *camera = (tw_camera){&t->ops, t};
    return TW_OK;
}
