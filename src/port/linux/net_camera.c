/* A stream from the network as a camera: RTSP, or JPEG pictures in a multipart stream
 * over HTTP. A thread of its own reads it, as reading may block for longer than a camera
 * may. */
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "../../media/codecs.h"
#include "linux.h"
#include "tawny/settings.h"

enum {
    WAITING_MAX = 16,     /* packets; then the network has to wait */
    TIMEOUT_US = 8000000, /* without a byte */
    OPEN_US = 10000000,   /* to learn what the stream is */
    WAIT_NS = 400000000,  /* for a packet, in one call */
    DRIFT_US = 2000000    /* of the sender's clock against ours, then it is set anew */
};

typedef struct item {
    tw_packet packet;
    uint8_t *data;
    tw_status st; /* TW_EDAMAGED: no packet */
} item;

typedef struct net_camera {
    char *url, *shown;
    tw_clock clock;
    bool udp;
    const tw_codecs *codecs;
    tw_footage *footage;
    uint8_t *extra;
    bool timed;
    bool any;         /* a packet has come */
    int64_t zero_us;  /* our time less that of the packets */
    int64_t last_us;  /* newest decoding time that was given */
    int64_t until_us; /* the call into the library ends by then */
    pthread_t thread;
    bool running;
    uint8_t *given; /* with the caller until the next call */
    /* Under the lock. */
    pthread_mutex_t lock;
    pthread_cond_t came, went;
    item waiting[WAITING_MAX];
    size_t first, count;
    bool stop;
    tw_status ended; /* TW_OK: it goes on */
    tw_error why;
} net_camera;

/* Asked by the library, in the thread that called it. */
static int interrupted(void *ctx)
{
    net_camera *c = ctx;
    (void)pthread_mutex_lock(&c->lock);
    const bool stop = c->stop;
    (void)pthread_mutex_unlock(&c->lock);
    return stop || c->clock.ops->now_us(c->clock.ctx) >= c->until_us;
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

/* @return false: the camera is being closed. */
static bool hand_over(net_camera *c, const item *made)
{
    (void)pthread_mutex_lock(&c->lock);
    while (c->count == WAITING_MAX && !c->stop)
        (void)pthread_cond_wait(&c->went, &c->lock);
    const bool going = !c->stop;
    if (going) {
        c->waiting[(c->first + c->count) % WAITING_MAX] = *made;
        c->count++;
        (void)pthread_cond_signal(&c->came);
    }
    (void)pthread_mutex_unlock(&c->lock);
    return going;
}

static void end(net_camera *c, tw_status st, const tw_error *why)
{
    (void)pthread_mutex_lock(&c->lock);
    c->ended = st;
    c->why = *why;
    (void)pthread_cond_signal(&c->came);
    (void)pthread_mutex_unlock(&c->lock);
}

/* Read one packet. @return false: that was the last. */
static bool read_one(net_camera *c)
{
    tw_error err = {0};
    item made = {.st = TW_OK};
    allow(c, TIMEOUT_US);
    made.st = c->codecs->footage_next(c->footage, &made.packet, &err);
    if (made.st != TW_OK && made.st != TW_EDAMAGED) {
        const bool late = c->clock.ops->now_us(c->clock.ctx) >= c->until_us;
        if (late)
            made.st = tw_fail(&err, TW_ETIMEOUT, "%s: no frame for %d s", c->shown,
                              TIMEOUT_US / 1000000);
        else if (made.st == TW_EEND)
            (void)tw_fail(&err, TW_EEND, "%s: the other side has ended it", c->shown);
        end(c, made.st, &err);
        return false;
    }
    if (made.st == TW_OK) {
        made.data = malloc(made.packet.size);
        if (!made.data) {
            (void)tw_fail(&err, TW_ENOMEM, "out of memory");
            end(c, TW_ENOMEM, &err);
            return false;
        }
        memcpy(made.data, made.packet.data, made.packet.size);
        made.packet.data = made.data;
        stamp(c, &made.packet);
    }
    if (hand_over(c, &made))
        return true;
    free(made.data);
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
    (void)pthread_mutex_lock(&c->lock);
    c->stop = true;
    (void)pthread_cond_broadcast(&c->went);
    (void)pthread_mutex_unlock(&c->lock);
    if (c->running)
        (void)pthread_join(c->thread, NULL);
    c->running = false;
    if (c->footage)
        c->codecs->footage_close(c->footage);
    c->footage = NULL;
    for (; c->count > 0; c->count--, c->first = (c->first + 1) % WAITING_MAX)
        free(c->waiting[c->first].data);
    free(c->given);
    c->given = NULL;
    free(c->extra);
    c->extra = NULL;
}

static tw_status open_camera(void *ctx, tw_stream *stream, tw_error *err)
{
    net_camera *c = ctx;
    close_camera(c);
    c->stop = c->any = false;
    c->ended = TW_OK;
    c->codecs = tw_codecs_load(err);
    if (!c->codecs)
        return TW_ENOTSUP;
    const tw_live_options options = {c->shown, c->udp, TIMEOUT_US, interrupted, c};
    allow(c, OPEN_US);
    tw_status st =
        c->codecs->live_open(c->url, &options, &c->footage, stream, &c->timed, err);
    if (!c->timed)
        stream->fps_num = 0; /* the rate is as invented as the times */
    if (st == TW_OK)
        st = tw_linux_keep_extra(&c->extra, stream, err);
    if (st == TW_OK && pthread_create(&c->thread, NULL, read_all, c) != 0)
        st = tw_fail(err, TW_ENOMEM, "cannot start the thread that reads %s", c->shown);
    c->running = st == TW_OK;
    if (st != TW_OK)
        close_camera(c);
    return st;
}

static void deadline(struct timespec *out)
{
    (void)clock_gettime(CLOCK_MONOTONIC, out);
    out->tv_nsec += WAIT_NS;
    out->tv_sec += out->tv_nsec / 1000000000;
    out->tv_nsec %= 1000000000;
}

static tw_status next(void *ctx, tw_frame *frame, tw_error *err)
{
    net_camera *c = ctx;
    struct timespec until;
    item taken = {.st = TW_EAGAIN};
    memset(frame, 0, sizeof *frame);
    free(c->given);
    c->given = NULL;
    deadline(&until);
    (void)pthread_mutex_lock(&c->lock);
    int waited = 0;
    while (c->count == 0 && c->ended == TW_OK && waited == 0)
        waited = pthread_cond_timedwait(&c->came, &c->lock, &until);
    if (c->count > 0) {
        taken = c->waiting[c->first];
        c->first = (c->first + 1) % WAITING_MAX;
        c->count--;
        (void)pthread_cond_signal(&c->went);
    } else if (c->ended != TW_OK) {
        taken.st = c->ended;
        if (err)
            *err = c->why;
    }
    (void)pthread_mutex_unlock(&c->lock);
    if (taken.st == TW_EDAMAGED && taken.data == NULL)
        return tw_fail(err, TW_EDAMAGED, "%s: a frame was cut short", c->shown);
    if (taken.st != TW_OK)
        return taken.st;
    c->given = taken.data;
    frame->packet = taken.packet;
    return TW_OK;
}

static void destroy(void *ctx)
{
    net_camera *c = ctx;
    close_camera(c);
    (void)pthread_cond_destroy(&c->came);
    (void)pthread_cond_destroy(&c->went);
    (void)pthread_mutex_destroy(&c->lock);
    free(c->url);
    free(c->shown);
    free(c);
}

tw_status tw_linux_net_camera(const tw_camera_request *request, tw_camera *out,
                              tw_error *err)
{
    static const tw_camera_ops ops = {"net", TW_LIVE,      open_camera,
                                      next,  close_camera, destroy};
    char shown[1024];
    net_camera *c = calloc(1, sizeof *c);
    if (!c)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    pthread_condattr_t monotonic;
    (void)pthread_condattr_init(&monotonic);
    (void)pthread_condattr_setclock(&monotonic, CLOCK_MONOTONIC);
    (void)pthread_mutex_init(&c->lock, NULL);
    (void)pthread_cond_init(&c->came, &monotonic);
    (void)pthread_cond_init(&c->went, NULL);
    (void)pthread_condattr_destroy(&monotonic);
    c->clock = request->clock;
    c->udp = request->udp;
    c->url = strdup(request->source);
    c->shown = strdup(tw_source_shown(request->source, shown, sizeof shown));
    if (!c->url || !c->shown) {
        destroy(c);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    *out = (tw_camera){&ops, c};
    return TW_OK;
}
