/* Frames that a program pushes, as a camera. */
#include "push_camera.h"

#include "../core/sized.h"

#include <pthread.h>
#include <stdlib.h>
#include <string.h>

#include "../media/packets.h"
#include "request.h"

enum { WAITING_MAX = 8, WAIT_MS = 400 };

struct tw_push {
    char *name, *codec_name;
    uint8_t *extra;
    tw_stream stream;
    tw_liveness live;
    twi_packets *waiting;
    pthread_mutex_t lock;
    pthread_cond_t opened;
    /* Under the lock. */
    bool open, was_open, ended;
    tw_clock clock; /* while it is open */
    uint64_t dropped;
};

/* ---- for the program ------------------------------------------------------------- */

/* @return false: out of memory. */
static bool copy_stream(tw_push *p, const tw_stream *stream)
{
    TWI_TAKE(p->stream, stream);
    p->codec_name = strdup(stream->codec_name ? stream->codec_name : "pushed");
    if (stream->extra_size > 0)
        p->extra = malloc(stream->extra_size);
    if (!p->codec_name || (stream->extra_size > 0 && !p->extra))
        return false;
    if (p->extra)
        memcpy(p->extra, stream->extra, stream->extra_size);
    p->stream.codec_name = p->codec_name;
    p->stream.extra = p->extra;
    if (stream->fps_den == 0)
        p->stream.fps_den = 1;
    return true;
}

tw_status tw_push_new(const char *name, const tw_stream *stream, tw_liveness live,
                      tw_push **out)
{
    if (!name || name[0] == '\0' || !stream || !out || (unsigned)live > TW_LIVE_RARE ||
        (stream->extra_size > 0 && !stream->extra))
        return TW_EINVAL;
    tw_push *p = calloc(1, sizeof *p);
    if (!p)
        return TW_ENOMEM;
    (void)pthread_mutex_init(&p->lock, NULL);
    (void)pthread_cond_init(&p->opened, NULL);
    p->live = live;
    p->name = strdup(name);
    p->waiting = twi_packets_new(WAITING_MAX);
    if (!p->name || !p->waiting || !copy_stream(p, stream)) {
        tw_push_free(p);
        return TW_ENOMEM;
    }
    *out = p;
    return TW_OK;
}

void tw_push_free(tw_push *p)
{
    if (!p)
        return;
    twi_packets_free(p->waiting);
    (void)pthread_cond_destroy(&p->opened);
    (void)pthread_mutex_destroy(&p->lock);
    free(p->name);
    free(p->codec_name);
    free(p->extra);
    free(p);
}

/* Whether it holds pixels, or a packet. */
static bool is_whole(const tw_frame *frame)
{
    return frame->picture.px[0] ? tw_picture_check(&frame->picture) == TW_OK
                                : frame->packet.data && frame->packet.size > 0;
}

/* @return false: nobody watches. */
static bool is_watched(tw_push *p, bool wait, tw_frame *frame)
{
    (void)pthread_mutex_lock(&p->lock);
    while (wait && !p->was_open && !p->ended)
        (void)pthread_cond_wait(&p->opened, &p->lock);
    const bool open = p->open && !p->ended;
    if (open && frame->packet.wall_us == 0)
        frame->packet.wall_us = p->clock.ops->wall_us(p->clock.ctx);
    frame->dropped = p->dropped;
    (void)pthread_mutex_unlock(&p->lock);
    return open;
}

tw_status tw_push_frame(tw_push *p, const tw_frame *frame, bool wait)
{
    if (!p || !frame || !is_whole(frame))
        return TW_EINVAL;
    tw_frame own = *frame;
    own.said = NULL; /* for cameras of the port's own */
    if (!is_watched(p, wait, &own))
        return TW_EAGAIN;
    const tw_status st = twi_packets_put(p->waiting, &own, wait, NULL);
    if (st != TW_EAGAIN && st != TW_ESTOPPED)
        return st;
    (void)pthread_mutex_lock(&p->lock);
    p->dropped++;
    (void)pthread_mutex_unlock(&p->lock);
    return TW_EAGAIN;
}

static void say_ended(const tw_push *p)
{
    tw_error why = {0};
    (void)tw_fail(&why, TW_EEND, "push:%s: no more frames are pushed", p->name);
    twi_packets_end(p->waiting, TW_EEND, &why);
}

void tw_push_end(tw_push *p)
{
    if (!p)
        return;
    (void)pthread_mutex_lock(&p->lock);
    p->ended = true;
    say_ended(p);
    (void)pthread_cond_broadcast(&p->opened);
    (void)pthread_mutex_unlock(&p->lock);
}

size_t tw_push_waiting(tw_push *p)
{
    return p ? twi_packets_waiting(p->waiting) : 0;
}

/* ---- the camera ------------------------------------------------------------------ */

typedef struct push_camera {
    tw_push *push;
    tw_clock clock;
    bool hears; /* its sound is wanted */
} push_camera;

static void close_camera(void *ctx)
{
    const push_camera *c = ctx;
    twi_packets_stop(c->push->waiting); /* whoever waits for room is let go */
    (void)pthread_mutex_lock(&c->push->lock);
    c->push->open = false;
    (void)pthread_mutex_unlock(&c->push->lock);
}

static tw_status open_camera(void *ctx, tw_stream *stream, tw_error *err)
{
    const push_camera *c = ctx;
    tw_push *p = c->push;
    (void)err;
    twi_packets_reset(p->waiting);
    (void)pthread_mutex_lock(&p->lock);
    if (p->ended)
        say_ended(p);
    p->open = p->was_open = true;
    p->clock = c->clock;
    (void)pthread_cond_broadcast(&p->opened);
    (void)pthread_mutex_unlock(&p->lock);
    *stream = p->stream;
    if (!c->hears)
        stream->sound = (tw_sound){.codec = TW_SOUND_NONE};
    return TW_OK;
}

static tw_status next(void *ctx, tw_frame *frame, tw_error *err)
{
    const push_camera *c = ctx;
    const tw_status st = twi_packets_take(c->push->waiting, WAIT_MS, frame, err);
    return st == TW_OK && frame->sound && !c->hears ? TW_EAGAIN : st;
}

static void destroy(void *ctx)
{
    close_camera(ctx);
    free(ctx);
}

tw_status twi_push_camera(const tw_camera_request *request, tw_camera *out, tw_error *err)
{
    static const tw_camera_ops ops[] = {
        [TW_RECORDED] = {sizeof *ops, "push", TW_RECORDED, open_camera, next,
                         close_camera, destroy, NULL},
        [TW_LIVE] = {sizeof *ops, "push", TW_LIVE, open_camera, next, close_camera,
                     destroy, NULL},
        [TW_LIVE_RARE] = {sizeof *ops, "push", TW_LIVE_RARE, open_camera, next,
                          close_camera, destroy, NULL}};
    static const char scheme[] = "push:";
    if (strncmp(request->source, scheme, sizeof scheme - 1) != 0)
        return TW_ENOTSUP;
    const char *name = request->source + sizeof scheme - 1;
    tw_push *const *found = request->pushed;
    while (found && *found && strcmp((*found)->name, name) != 0)
        found++;
    if (!found || !*found)
        return tw_fail(err, TW_ENOENT,
                       "%s: this program pushes no frames of that name: use a camera of "
                       "its own, or another source",
                       request->source);
    push_camera *c = malloc(sizeof *c);
    if (!c)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    *c = (push_camera){*found, request->clock, twi_request_hears(request)};
    *out = (tw_camera){&ops[(*found)->live], c};
    return TW_OK;
}
