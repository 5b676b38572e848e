/* A camera whose sound comes from a microphone of the board. */
#include "hearing_camera.h"

#include <stdlib.h>
#include <string.h>

#include "mic.h"
#include "../../core/sized.h"

typedef struct hearing {
    tw_camera_ops ops;
    tw_camera camera;
    char *device;
    tw_clock clock;
    twi_mic *mic;
    tw_error said;
} hearing;

static void close_camera(void *ctx)
{
    hearing *h = ctx;
    twi_mic_close(h->mic);
    h->mic = NULL;
    h->camera.ops->close(h->camera.ctx);
}

static tw_status open_camera(void *ctx, tw_stream *stream, tw_error *err)
{
    hearing *h = ctx;
    twi_mic_close(h->mic);
    h->mic = NULL;
    tw_status st = h->camera.ops->open(h->camera.ctx, stream, err);
    if (st == TW_OK)
        st = twi_mic_open(h->device, h->clock, &h->mic, &stream->sound, err);
    return st;
}

static tw_status next_frame(void *ctx, tw_frame *frame, tw_error *err)
{
    hearing *h = ctx;
    if (h->mic && twi_mic_news(h->mic, &h->said)) {
        *frame = (tw_frame){.sound = true, .said = &h->said};
        return TW_OK;
    }
    if (h->mic && twi_mic_take(h->mic, frame) == TW_OK)
        return TW_OK;
    return h->camera.ops->next(h->camera.ctx, frame, err);
}

static tw_status control(void *ctx, const char *controls, tw_error *err)
{
    const hearing *h = ctx;
    return h->camera.ops->control(h->camera.ctx, controls, err);
}

static void destroy(void *ctx)
{
    hearing *h = ctx;
    twi_mic_close(h->mic);
    h->camera.ops->destroy(h->camera.ctx);
    free(h->device);
    free(h);
}

tw_status twi_hearing_camera(const char *device, tw_clock clock, tw_camera *camera,
                             tw_error *err)
{
    hearing *h = calloc(1, sizeof *h);
    if (h)
        h->device = strdup(device);
    if (!h || !h->device) {
        free(h);
        camera->ops->destroy(camera->ctx);
        *camera = (tw_camera){0};
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    h->clock = clock;
    h->ops = (tw_camera_ops){
        sizeof h->ops,
        camera->ops->name,
        camera->ops->live,
        open_camera,
        next_frame,
        close_camera,
        destroy,
        TWI_HAS(camera->ops, control) && camera->ops->control ? control : NULL};
    h->camera = *camera;
    *camera = (tw_camera){&h->ops, h};
    return TW_OK;
}
