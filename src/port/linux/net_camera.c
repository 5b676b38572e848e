/* A stream from the network as a camera: RTSP, or JPEG pictures in a multipart stream
 * over HTTP. A thread of its own reads it, as reading may block for longer than a camera
 * may. */
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../../media/codecs.h"
#include "../../media/packets.h"
#include "linux.h"
#include "../request.h"
#include "tawny/settings.h"
#include "../../settings/sections.h"

enum {
    WAITING_MAX = 16,     /* packets; then the network has to wait */
    TIMEOUT_US = 8000000, /* without a byte */
    OPEN_US = 10000000,   /* to learn what the stream is */
    WAIT_MS = 400,        /* for a packet, in one call */
    DRIFT_US = 2000000    /* of the sender's clock against ours, then it is set anew */
};

typedef struct net_camera {
    char *url, *shown;
    tw_clock clock;
    bool udp;
    bool hears; /* its sound is wanted */
    const twi_codecs *codecs;
    twi_footage *footage;
    uint8_t *extra;
    bool timed;
    bool any;         /* a packet has come */
    int64_t zero_us;  /* our time less that of the packets */
    int64_t last_us;  /* newest decoding time that was given */
    int64_t until_us; /* the call into the library ends by then */
    pthread_t thread;
    bool running;
    twi_packets *packets;
} net_camera;

/* Asked by the library, in the thread that called it. */
static int interrupted(void *ctx)
{
    net_camera *c = ctx;
    return twi_packets_stopped(c->packets) ||
           c->clock.ops->now_us(c->clock.ctx) >= c->until_us;
}

static void allow(net_camera *c, int64_t us)
{
    c->until_us = c->clock.ops->now_us(c->clock.ctx) + us;
}

/* ---- the thread ------------------------------------------------------------------ */

/* When a packet was captured, on our clock. Where the sender says so, by its clock, which
 * runs as evenly as the frames; it is set by ours at the first, and where they part. */
static void stamp(net_camera *c, tw_packet *p)
{
    const int64_t now = c->clock.ops->now_us(c->clock.ctx);
    const int64_t wall = c->clock.ops->wall_us(c->clock.ctx);
    if (!c->timed)
        p->t_us = p->dts_us = now - c->zero_us;
    const int64_t off = now - (c->zero_us + p->dts_us);
    if (!c->any || off > DRIFT_US || off < -DRIFT_US)
        c->zero_us = now - p->dts_us;
    p->t_us += c->zero_us;
    p->dts_us += c->zero_us;
    if (c->any && p->dts_us <= c->last_us) { /* clips need rising times */
        p->t_us += c->last_us + 1 - p->dts_us;
        p->dts_us = c->last_us + 1;
    }
    c->last_us = p->dts_us;
    c->any = true;
    p->wall_us = wall - (now - p->t_us);
}

/* Sound goes with the pictures' clock. @return false: none of them has come yet. */
static bool stamp_sound(const net_camera *c, tw_packet *p)
{
    const int64_t now = c->clock.ops->now_us(c->clock.ctx);
    p->t_us += c->zero_us;
    p->dts_us = p->t_us;
    p->wall_us = c->clock.ops->wall_us(c->clock.ctx) - (now - p->t_us);
    return c->any && c->timed;
}

/* What the library says of the end, in our words. */
static tw_status word_end(const net_camera *c, tw_status st, tw_error *err)
{
    if (c->clock.ops->now_us(c->clock.ctx) >= c->until_us)
        return tw_fail(err, TW_ETIMEOUT, "%s: no frame for %d s", c->shown,
                       TIMEOUT_US / 1000000);
    if (st == TW_EEND)
        return tw_fail(err, TW_EEND, "%s: the other side has ended it", c->shown);
    return st;
}

/* Read one packet. @return false: that was the last. */
static bool read_one(net_camera *c)
{
    tw_error err = {0};
    tw_frame frame = {.dropped = 0};
    allow(c, TIMEOUT_US);
    tw_status st = c->codecs->footage_next(c->footage, &frame.packet, &err);
    frame.sound = st == TW_OK && c->codecs->footage_was_sound(c->footage);
    if (frame.sound && !stamp_sound(c, &frame.packet))
        return true;
    if (st == TW_OK) {
        if (!frame.sound)
            stamp(c, &frame.packet);
        st = twi_packets_put(c->packets, &frame, true, &err);
    } else if (st == TW_EDAMAGED) {
        st = twi_packets_put(c->packets, NULL, true, &err);
    } else {
        st = word_end(c, st, &err);
    }
    if (st == TW_OK)
        return true;
    if (st != TW_ESTOPPED)
        twi_packets_end(c->packets, st, &err);
    return false;
}

static void *read_all(void *ctx)
{
    net_camera *c = ctx;
    while (read_one(c))
        ;
    return NULL;
}

/* ---- the camera ------------------------------------------------------------------ */

static void close_camera(void *ctx)
{
    net_camera *c = ctx;
    twi_packets_stop(c->packets);
    if (c->running)
        (void)pthread_join(c->thread, NULL);
    c->running = false;
    if (c->footage)
        c->codecs->footage_close(c->footage);
    c->footage = NULL;
    free(c->extra);
    c->extra = NULL;
}

static tw_status open_camera(void *ctx, tw_stream *stream, tw_error *err)
{
    net_camera *c = ctx;
    close_camera(c);
    c->any = false;
    twi_packets_reset(c->packets);
    c->codecs = twi_codecs_load(err);
    if (!c->codecs)
        return TW_ENOTSUP;
    const twi_live_options options = {c->shown, c->udp, TIMEOUT_US, interrupted, c};
    allow(c, OPEN_US);
    tw_status st =
        c->codecs->live_open(c->url, &options, &c->footage, stream, &c->timed, err);
    if (st == TW_OK && c->hears)
        st = c->codecs->footage_sound(c->footage, stream, err);
    if (!c->timed)
        stream->fps_num = 0; /* the rate is as invented as the times */
    if (st == TW_OK)
        st = twi_linux_keep_extra(&c->extra, stream, err);
    if (st == TW_OK && pthread_create(&c->thread, NULL, read_all, c) != 0)
        st = tw_fail(err, TW_ENOMEM, "cannot start the thread that reads %s", c->shown);
    c->running = st == TW_OK;
    if (st != TW_OK)
        close_camera(c);
    return st;
}

static tw_status next(void *ctx, tw_frame *frame, tw_error *err)
{
    net_camera *c = ctx;
    const tw_status st = twi_packets_take(c->packets, WAIT_MS, frame, err);
    if (st == TW_EDAMAGED)
        return tw_fail(err, TW_EDAMAGED, "%s: a frame was cut short", c->shown);
    return st;
}

static void destroy(void *ctx)
{
    net_camera *c = ctx;
    if (c->packets)
        close_camera(c);
    twi_packets_free(c->packets);
    free(c->url);
    free(c->shown);
    free(c);
}

tw_status twi_linux_net_camera(const tw_camera_request *request, tw_camera *out,
                               tw_error *err)
{
    static const tw_camera_ops ops = {sizeof ops, "net",        TW_LIVE, open_camera,
                                      next,       close_camera, destroy, NULL};
    char shown[1024];
    net_camera *c = calloc(1, sizeof *c);
    if (!c)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    c->clock = request->clock;
    c->udp = request->udp;
    c->hears = twi_request_hears(request);
    c->url = strdup(request->source);
    c->shown = strdup(twi_source_shown(request->source, shown, sizeof shown));
    c->packets = twi_packets_new(WAITING_MAX);
    if (!c->url || !c->shown || !c->packets) {
        destroy(c);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    *out = (tw_camera){&ops, c};
    return TW_OK;
}
