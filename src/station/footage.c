/* All footage of a camera into one file. */
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "../media/raw.h"
#include "pipeline.h"
#include "../settings/sections.h"
#include "footage.h"
#include "tawny/port.h"
#include "../base/system_error.h"

static tw_status append(void *ctx, const void *data, size_t bytes, tw_error *err)
{
    if (fwrite(data, 1, bytes, ctx) == bytes)
        return TW_OK;
    return tw_fail(err, twi_status_of_errno(errno), "cannot write: %s", strerror(errno));
}

static tw_status add_frame(twi_clip_frames *f, const tw_frame *frame, tw_error *err)
{
    tw_frame own = *frame;
    twi_buffer *buffer = twi_buffer_frame(frame);
    if (!buffer)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    twi_frame_complete(&own);
    const tw_status st = twi_clip_frame(f, &own.packet, buffer, err);
    twi_buffer_unref(buffer);
    return st;
}

static tw_status copy_frames(const tw_camera *camera, twi_clip_frames *f,
                             const volatile int *stop, tw_error *err)
{
    tw_status st = TW_OK;
    while (st == TW_OK && !(stop && *stop)) {
        tw_frame frame;
        st = camera->ops->next(camera->ctx, &frame, err);
        if (st == TW_OK)
            st = add_frame(f, &frame, err);
        else if (st == TW_EAGAIN || st == TW_EDAMAGED)
            st = TW_OK; /* a frame that is lost is lost */
    }
    if (st == TW_EEND)
        return TW_OK;
    return st == TW_OK ? TW_ESTOPPED : st;
}

static tw_status write_all(const tw_camera *camera, const twi_camera_settings *settings,
                           const tw_stream *stream, FILE *file, const volatile int *stop,
                           tw_error *err)
{
    twi_clip_frames f = {.codecs = twi_codecs_load(err),
                         .source = *stream,
                         .view = twi_view_of(settings, stream->turn)};
    if (!f.codecs)
        return TW_ENOTSUP;
    f.encodes = twi_clip_must_encode(f.codecs, settings, stream);
    const tw_stream made_of = twi_clip_stream(stream, f.encodes);
    const twi_clip_spec spec = {.stream = &made_of,
                                .encode = f.encodes,
                                .quality = (int)settings->clip_quality,
                                .view = f.view,
                                .sink = {append, file}};
    tw_status st = f.codecs->clip_open(&spec, &f.clip, err);
    if (st != TW_OK)
        return st;
    st = copy_frames(camera, &f, stop, err);
    const tw_status closed = f.codecs->clip_close(f.clip, st == TW_OK ? err : NULL);
    twi_hide_free(&f.hide);
    return st == TW_OK ? closed : st;
}

tw_status twi_footage_write(const tw_platform *platform,
                            const twi_camera_settings *camera, const char *path,
                            const volatile int *stop, tw_error *err)
{
    if (!platform || !camera || !path)
        return tw_fail(err, TW_EINVAL, "nothing to write");
    tw_camera_request request = twi_request_of(platform, camera);
    request.sound = camera->sound;
    tw_camera made = {0};
    tw_stream stream;
    FILE *file = NULL;
    tw_status st = tw_camera_make(platform->makers, &request, &made, err);
    if (st != TW_OK)
        return st;
    st = made.ops->open(made.ctx, &stream, err);
    if (st == TW_OK && !(file = fopen(path, "wb")))
        st = tw_fail(err, twi_status_of_errno(errno), "%s: %s", path, strerror(errno));
    if (st == TW_OK)
        st = write_all(&made, camera, &stream, file, stop, err);
    if (file && fclose(file) != 0 && st == TW_OK)
        st = tw_fail(err, twi_status_of_errno(errno), "%s: %s", path, strerror(errno));
    made.ops->destroy(made.ctx);
    return st;
}

/* ---- what encoding takes ---------------------------------------------------------- */

static tw_status let_go(void *ctx, const void *data, size_t bytes, tw_error *err)
{
    (void)ctx;
    (void)data;
    (void)bytes;
    (void)err;
    return TW_OK;
}

static int64_t busy_us(void)
{
    struct timespec t;
    (void)clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &t);
    return (int64_t)t.tv_sec * 1000000 + t.tv_nsec / 1000;
}

/* Grain over a slope that moves. */
static void draw_hard(uint8_t *px, uint16_t width, uint16_t height, int number)
{
    uint32_t chance = 7;
    for (size_t y = 0; y < height; y++)
        for (size_t x = 0; x < width; x++) {
            chance = chance * 1664525U + 1013904223U;
            px[y * width + x] = (uint8_t)(60 + (x / 2 + y / 3 + (size_t)number * 3) % 80 +
                                          (chance >> 28));
        }
}

static tw_status encode_some(twi_clip_frames *f, uint16_t width, uint16_t height,
                             int64_t *us, tw_error *err)
{
    enum { PICTURES = 12, FIRST = 2 }; /* the first opens the encoder */
    uint8_t *px = malloc((size_t)width * height);
    tw_status st = TW_OK;
    int64_t from_us = 0;
    if (!px)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    for (int i = 0; i < PICTURES && st == TW_OK; i++) {
        draw_hard(px, width, height, i);
        const tw_picture picture = {.px = {px},
                                    .stride = {width},
                                    .width = width,
                                    .height = height,
                                    .pixels = TW_PIXELS_GREY};
        const tw_packet packet = {
            .t_us = i * INT64_C(100000), .dts_us = i * INT64_C(100000), .key = true};
        twi_buffer *buffer = twi_buffer_picture(&picture);
        if (i == FIRST)
            from_us = busy_us();
        st = buffer ? twi_clip_frame(f, &packet, buffer, err)
                    : tw_fail(err, TW_ENOMEM, "out of memory");
        twi_buffer_unref(buffer);
    }
    *us = (busy_us() - from_us) / (PICTURES - FIRST);
    free(px);
    return st;
}

tw_status twi_encoding_cost(uint16_t width, uint16_t height, int quality, int64_t *us,
                            tw_error *err)
{
    twi_clip_frames f = {.codecs = twi_codecs_load(err),
                         .encodes = true,
                         .source = {.codec = TW_CODEC_RAW,
                                    .pixels = TW_PIXELS_GREY,
                                    .width = width,
                                    .height = height,
                                    .fps_num = 10,
                                    .fps_den = 1}};
    if (!f.codecs)
        return TW_ENOTSUP;
    const twi_clip_spec spec = {
        .stream = &f.source, .encode = true, .quality = quality, .sink = {let_go, NULL}};
    tw_status st = f.codecs->clip_open(&spec, &f.clip, err);
    if (st != TW_OK)
        return st;
    st = encode_some(&f, width, height, us, err);
    (void)f.codecs->clip_close(f.clip, NULL);
    return st;
}

bool twi_encodes_for_privacy(const twi_camera_settings *camera, const tw_stream *stream)
{
    twi_camera_settings open = *camera;
    const twi_codecs *codecs = twi_codecs_load(NULL);
    open.private_count = 0;
    return codecs && camera->private_count > 0 &&
           twi_clip_must_encode(codecs, camera, stream) &&
           !twi_clip_must_encode(codecs, &open, stream);
}
