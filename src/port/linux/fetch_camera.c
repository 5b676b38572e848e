/* A picture that is fetched over HTTP every so often, as a camera. */
#include <stdlib.h>
#include <string.h>

#include "../../media/jpeg.h"
#include "../../net/transfer.h"
#include "linux.h"
#include "tawny/settings.h"
#include "../../settings/sections.h"

enum {
    TIMEOUT_MS = 10000, /* for one picture */
    WAIT_MS = 400,      /* in one call */
    OPEN_STEPS = TIMEOUT_MS / WAIT_MS + 2
};

typedef struct fetch_camera {
    char *url, *shown;
    tw_clock clock;
    int64_t every_us;
    int64_t next_us; /* when the next one is due, by the clock */
    const twi_transfer *transfer;
    twi_fetch *fetch;
    bool under_way, waiting; /* one is being fetched; one is there, not yet given */
    tw_frame frame;
} fetch_camera;

static int64_t now_of(const fetch_camera *c)
{
    return c->clock.ops->now_us(c->clock.ctx);
}

static void close_camera(void *ctx)
{
    fetch_camera *c = ctx;
    if (c->fetch)
        c->transfer->fetch_free(c->fetch);
    c->fetch = NULL;
    c->under_way = c->waiting = false;
}

/* Go on with a picture that is being fetched. */
static tw_status step(fetch_camera *c, tw_error *err)
{
    const uint8_t *data = NULL;
    size_t bytes = 0;
    const tw_status st = c->transfer->fetch_step(c->fetch, WAIT_MS, &data, &bytes, err);
    c->under_way = st == TW_EAGAIN;
    if (st != TW_OK)
        return st;
    if (bytes < 4 || data[0] != 0xFF || data[1] != 0xD8)
        return tw_fail(err, TW_EDAMAGED, "%s: %zu bytes that are no JPEG picture",
                       c->shown, bytes);
    const int64_t now_us = now_of(c);
    c->frame = (tw_frame){.packet = {.data = data,
                                     .size = bytes,
                                     .t_us = now_us,
                                     .dts_us = now_us,
                                     .wall_us = c->clock.ops->wall_us(c->clock.ctx),
                                     .key = true}};
    c->waiting = true;
    return TW_OK;
}

static tw_status begin(fetch_camera *c, tw_error *err)
{
    const tw_status st = c->transfer->fetch_begin(c->fetch, err);
    c->under_way = st == TW_OK;
    c->next_us = now_of(c) + c->every_us;
    return st;
}

static tw_status open_camera(void *ctx, tw_stream *stream, tw_error *err)
{
    fetch_camera *c = ctx;
    close_camera(c);
    c->transfer = twi_transfer_load(err);
    if (!c->transfer)
        return TW_ENOTSUP;
    const twi_fetch_spec spec = {c->url, c->shown, TIMEOUT_MS, TWI_JPEG_MAX_BYTES};
    tw_status st = c->transfer->fetch_new(&spec, &c->fetch, err);
    if (st == TW_OK)
        st = begin(c, err);
    if (st == TW_OK)
        st = step(c, err);
    for (int i = 0; st == TW_EAGAIN && i < OPEN_STEPS; i++)
        st = step(c, err);
    if (st == TW_EAGAIN)
        st = tw_fail(err, TW_ETIMEOUT, "%s: no answer in time", c->shown);
    *stream = (tw_stream){.codec = TW_CODEC_MJPEG,
                          .codec_name = "mjpeg",
                          .fps_num = 1000,
                          .fps_den = (uint32_t)(c->every_us / 1000)};
    if (st != TW_OK)
        close_camera(c);
    return st;
}

static void sleep_for(const fetch_camera *c, int64_t us)
{
    const int64_t most_us = (int64_t)WAIT_MS * 1000;
    c->clock.ops->sleep_until(c->clock.ctx, now_of(c) + (us < most_us ? us : most_us));
}

static tw_status next(void *ctx, tw_frame *frame, tw_error *err)
{
    fetch_camera *c = ctx;
    tw_status st = TW_OK;
    memset(frame, 0, sizeof *frame);
    if (!c->fetch)
        return tw_fail(err, TW_EIO, "%s is not open", c->shown);
    if (!c->waiting && !c->under_way) {
        const int64_t left_us = c->next_us - now_of(c);
        if (left_us > 0)
            sleep_for(c, left_us);
        if (left_us > (int64_t)WAIT_MS * 1000)
            return TW_EAGAIN;
        st = begin(c, err);
    }
    if (st == TW_OK && !c->waiting)
        st = step(c, err);
    if (st != TW_OK)
        return st;
    c->waiting = false;
    *frame = c->frame;
    return TW_OK;
}

static void destroy(void *ctx)
{
    fetch_camera *c = ctx;
    close_camera(c);
    free(c->url);
    free(c->shown);
    free(c);
}

tw_status twi_linux_fetch_camera(const tw_camera_request *request, tw_camera *out,
                                 tw_error *err)
{
    /* There may be minutes between pictures; that one fails is told by itself. */
    static const tw_camera_ops ops = {sizeof ops, "fetch",      TW_LIVE_RARE, open_camera,
                                      next,       close_camera, destroy,      NULL};
    char shown[1024];
    fetch_camera *c = calloc(1, sizeof *c);
    if (!c)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    c->clock = request->clock;
    c->every_us = request->fetch_every_us;
    c->url = strdup(request->source);
    c->shown = strdup(twi_source_shown(request->source, shown, sizeof shown));
    if (!c->url || !c->shown) {
        destroy(c);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    *out = (tw_camera){&ops, c};
    return TW_OK;
}
