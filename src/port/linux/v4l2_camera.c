/* A V4L2 device as a camera: memory-mapped streaming, times and gaps from the driver. */
#include <errno.h>
#include <fcntl.h>
#include <linux/videodev2.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../../core/split.h"
#include "../../media/h264.h"
#include "../../media/jpeg.h"
#include "v4l2.h"
#include "v4l2_colour.h"
#include "../../base/system_error.h"

enum { BUFFERS = 4, WAIT_MS = 400 };

typedef struct buffer {
    void *memory;
    size_t bytes;
} buffer;

typedef struct v4l2_camera {
    const twi_v4l2_calls *calls;
    tw_clock clock;
    char *path, *controls;
    twi_v4l2_wish wish;
    int fd; /* -1: closed */
    bool streaming;
    buffer buffers[BUFFERS];
    uint32_t count;
    struct v4l2_buffer held; /* with the caller until the next call */
    bool has_held;
    uint32_t fourcc, width, height, stride;
    twi_v4l2_colour colour;
    uint8_t *full; /* a raw picture brought to full range; NULL: they come so */
    bool any;
    uint32_t sequence; /* of the newest frame */
    uint64_t dropped;  /* by the driver */
} v4l2_camera;

static tw_status fail(const v4l2_camera *c, const char *doing, tw_error *err)
{
    const int number = errno;
    if (number == ENODEV)
        return tw_fail(err, TW_EIO, "%s has been unplugged", c->path);
    return tw_fail(err, twi_status_of_errno(number), "%s: %s: %s", c->path, doing,
                   strerror(number));
}

static int ask(const v4l2_camera *c, unsigned long request, void *argument)
{
    return twi_v4l2_ask(c->calls, c->fd, request, argument);
}

/* ---- raw pictures ---------------------------------------------------------------- */

/* A format without compression. */
typedef struct raw_format {
    uint32_t fourcc;
    const char *name;
    tw_pixels pixels;
    uint8_t pixel; /* bytes of one in a row */
    bool pairs;    /* rows of chroma in pairs come after those of luma */
} raw_format;

static const raw_format RAW[] = {
    {V4L2_PIX_FMT_GREY, "grey", TW_PIXELS_GREY, 1, false},
    {V4L2_PIX_FMT_NV12, "nv12", TW_PIXELS_NV12, 1, true},
    {V4L2_PIX_FMT_YUYV, "yuyv", TW_PIXELS_YUYV, 2, false},
    {V4L2_PIX_FMT_RGB24, "rgb", TW_PIXELS_RGB, 3, false},
};

static const raw_format *raw_of(uint32_t fourcc)
{
    for (size_t i = 0; i < sizeof RAW / sizeof *RAW; i++)
        if (RAW[i].fourcc == fourcc)
            return &RAW[i];
    return NULL;
}

/* Bytes of a raw picture with the padding of its rows. */
static size_t raw_bytes(const v4l2_camera *c, const raw_format *format)
{
    const size_t rows = c->height + (format->pairs ? (c->height + 1) / 2 : 0);
    return c->stride * rows;
}

static tw_status give_raw(const v4l2_camera *c, const raw_format *format,
                          const uint8_t *data, size_t bytes, tw_frame *frame,
                          tw_error *err)
{
    const size_t whole = raw_bytes(c, format);
    const uint32_t stride = c->stride;
    if (bytes < whole)
        return tw_fail(err, TW_EDAMAGED, "%s: a frame of %zu bytes instead of %zu",
                       c->path, bytes, whole);
    if (c->full) {
        twi_v4l2_to_full(&c->colour, c->fourcc, data, c->full, stride, c->width,
                         c->height);
        data = c->full;
    }
    const uint8_t *chroma = data + (size_t)stride * c->height;
    frame->packet.key = true;
    frame->picture = (tw_picture){.px = {data, format->pairs ? chroma : NULL, NULL},
                                  .stride = {stride, stride, 0},
                                  .width = (uint16_t)c->width,
                                  .height = (uint16_t)c->height,
                                  .pixels = format->pixels};
    return TW_OK;
}

/* ---- opening --------------------------------------------------------------------- */

static tw_status check_device(const v4l2_camera *c, tw_error *err)
{
    struct v4l2_capability about;
    memset(&about, 0, sizeof about);
    if (ask(c, VIDIOC_QUERYCAP, &about) != 0)
        return errno == ENOTTY
                   ? tw_fail(err, TW_ENOTSUP, "%s is no video device", c->path)
                   : fail(c, "cannot be asked", err);
    const uint32_t can = about.capabilities & V4L2_CAP_DEVICE_CAPS ? about.device_caps
                                                                   : about.capabilities;
    if (!(can & V4L2_CAP_VIDEO_CAPTURE))
        return tw_fail(err, TW_ENOTSUP, "%s (%s) captures no video", c->path,
                       (const char *)about.card);
    if (!(can & V4L2_CAP_STREAMING))
        return tw_fail(err, TW_ENOTSUP, "%s (%s) cannot stream", c->path,
                       (const char *)about.card);
    return TW_OK;
}

static tw_status choose_mode(const v4l2_camera *c, twi_v4l2_mode *out, tw_error *err)
{
    twi_v4l2_mode *modes = calloc(TWI_V4L2_MODES_MAX, sizeof *modes);
    if (!modes)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    tw_status st = TW_OK;
    const size_t count = twi_v4l2_modes(c->calls, c->fd, modes);
    const size_t best = twi_v4l2_choose(modes, count, &c->wish);
    if (best < count)
        *out = modes[best];
    else
        st = tw_fail(err, TW_ENOTSUP,
                     "%s has none of the formats MJPEG, H.264, GREY, NV12, YUYV, RGB%s",
                     c->path, c->wish.fourcc ? " that is wanted" : "");
    free(modes);
    return st;
}

/* What pixels mean, and room for them at full range where they are not. */
static tw_status take_colour(v4l2_camera *c, const struct v4l2_pix_format *format,
                             tw_error *err)
{
    const raw_format *raw = raw_of(c->fourcc);
    if (!raw)
        return TW_OK;
    const uint32_t least = c->width * raw->pixel;
    c->stride = c->stride >= least ? c->stride : least;
    c->colour = twi_v4l2_colour_of(format);
    if (c->colour.as_it_is)
        return TW_OK;
    c->full = malloc(raw_bytes(c, raw));
    return c->full ? TW_OK : tw_fail(err, TW_ENOMEM, "out of memory");
}

/* The driver may give another size or rate than it was asked for: what it says holds. */
static tw_status set_mode(v4l2_camera *c, const twi_v4l2_mode *mode, tw_error *err)
{
    struct v4l2_format format = {.type = V4L2_BUF_TYPE_VIDEO_CAPTURE};
    format.fmt.pix.pixelformat = mode->fourcc;
    format.fmt.pix.width = mode->width ? mode->width : c->wish.width;
    format.fmt.pix.height = mode->height ? mode->height : c->wish.height;
    format.fmt.pix.field = V4L2_FIELD_ANY;
    if (ask(c, VIDIOC_S_FMT, &format) != 0)
        return errno == EBUSY
                   ? tw_fail(err, TW_EIO, "%s is in use by another program", c->path)
                   : fail(c, "the format cannot be set", err);
    if (format.fmt.pix.pixelformat != mode->fourcc)
        return tw_fail(err, TW_ENOTSUP, "%s gives another format than it says", c->path);
    c->fourcc = format.fmt.pix.pixelformat;
    c->width = format.fmt.pix.width;
    c->height = format.fmt.pix.height;
    c->stride = format.fmt.pix.bytesperline;
    if (c->width == 0 || c->height == 0 || c->width > TWI_JPEG_MAX_SIDE ||
        c->height > TWI_JPEG_MAX_SIDE)
        return tw_fail(err, TW_ESIZE, "%s: a picture of %u x %u cannot be watched",
                       c->path, c->width, c->height);
    return take_colour(c, &format.fmt.pix, err);
}

static void set_rate(const v4l2_camera *c, tw_stream *stream)
{
    struct v4l2_streamparm p = {.type = V4L2_BUF_TYPE_VIDEO_CAPTURE};
    p.parm.capture.timeperframe = (struct v4l2_fract){1, c->wish.fps ? c->wish.fps : 10};
    stream->fps_num = 0;
    stream->fps_den = 1;
    if (ask(c, VIDIOC_S_PARM, &p) != 0 || p.parm.capture.timeperframe.numerator == 0)
        return; /* many drivers cannot, and say so */
    stream->fps_num = p.parm.capture.timeperframe.denominator;
    stream->fps_den = p.parm.capture.timeperframe.numerator;
}

static tw_status map_buffers(v4l2_camera *c, tw_error *err)
{
    struct v4l2_requestbuffers request = {.count = BUFFERS,
                                          .type = V4L2_BUF_TYPE_VIDEO_CAPTURE,
                                          .memory = V4L2_MEMORY_MMAP};
    if (ask(c, VIDIOC_REQBUFS, &request) != 0)
        return errno == EINVAL
                   ? tw_fail(err, TW_ENOTSUP, "%s cannot map its buffers", c->path)
                   : fail(c, "no buffers", err);
    if (request.count < 2)
        return tw_fail(err, TW_ENOMEM, "%s: too little memory for buffers", c->path);
    const uint32_t wanted = request.count < BUFFERS ? request.count : BUFFERS;
    for (uint32_t i = 0; i < wanted; i++) {
        struct v4l2_buffer b = {
            .type = V4L2_BUF_TYPE_VIDEO_CAPTURE, .memory = V4L2_MEMORY_MMAP, .index = i};
        if (ask(c, VIDIOC_QUERYBUF, &b) != 0)
            return fail(c, "a buffer cannot be asked for", err);
        void *memory = c->calls->map(c->calls->ctx, b.length, c->fd, (off_t)b.m.offset);
        if (!memory)
            return fail(c, "a buffer cannot be mapped", err);
        c->buffers[c->count++] = (buffer){memory, b.length};
        if (ask(c, VIDIOC_QBUF, &b) != 0)
            return fail(c, "a buffer cannot be queued", err);
    }
    return TW_OK;
}

static void close_camera(void *ctx)
{
    v4l2_camera *c = ctx;
    int type = V4L2_BUF_TYPE_VIDEO_CAPTURE;
    if (c->streaming)
        (void)ask(c, VIDIOC_STREAMOFF, &type);
    c->streaming = c->has_held = c->any = false;
    for (; c->count > 0; c->count--)
        (void)c->calls->unmap(c->calls->ctx, c->buffers[c->count - 1].memory,
                              c->buffers[c->count - 1].bytes);
    if (c->fd >= 0)
        (void)c->calls->close(c->calls->ctx, c->fd);
    c->fd = -1;
    free(c->full);
    c->full = NULL;
}

static void describe(const v4l2_camera *c, tw_stream *stream)
{
    const raw_format *raw = raw_of(c->fourcc);
    const bool h264 = c->fourcc == V4L2_PIX_FMT_H264;
    stream->codec = raw ? TW_CODEC_RAW : h264 ? TW_CODEC_H264 : TW_CODEC_MJPEG;
    stream->codec_name = raw ? raw->name : h264 ? "h264" : "mjpeg";
    if (raw)
        stream->pixels = raw->pixels;
    stream->width = (uint16_t)c->width;
    stream->height = (uint16_t)c->height;
}

/* Each key frame is to bring what is needed to decode it, as a clip may begin with any.
 * Not every driver can be asked, or need be. */
static void ask_for_sets(const v4l2_camera *c)
{
    struct v4l2_control repeat = {.id = V4L2_CID_MPEG_VIDEO_REPEAT_SEQ_HEADER,
                                  .value = 1};
    if (c->fourcc == V4L2_PIX_FMT_H264)
        (void)ask(c, VIDIOC_S_CTRL, &repeat);
}

static tw_status start(v4l2_camera *c, tw_stream *stream, tw_error *err)
{
    twi_v4l2_mode mode = {.fourcc = 0};
    int type = V4L2_BUF_TYPE_VIDEO_CAPTURE;
    tw_status st = check_device(c, err);
    if (st == TW_OK)
        st = choose_mode(c, &mode, err);
    if (st == TW_OK)
        st = set_mode(c, &mode, err);
    if (st == TW_OK && c->controls[0])
        st = twi_v4l2_set_controls(c->calls, c->fd, c->path, c->controls, err);
    if (st != TW_OK)
        return st;
    ask_for_sets(c);
    set_rate(c, stream);
    st = map_buffers(c, err);
    if (st == TW_OK && ask(c, VIDIOC_STREAMON, &type) != 0)
        st = fail(c, "cannot begin", err);
    c->streaming = st == TW_OK;
    describe(c, stream);
    return st;
}

static tw_status control(void *ctx, const char *controls, tw_error *err)
{
    const v4l2_camera *c = ctx;
    if (c->fd < 0)
        return tw_fail(err, TW_EINVAL, "%s is not open", c->path);
    return twi_v4l2_set_controls(c->calls, c->fd, c->path, controls, err);
}

static tw_status open_camera(void *ctx, tw_stream *stream, tw_error *err)
{
    v4l2_camera *c = ctx;
    close_camera(c);
    *stream = (tw_stream){.fps_den = 1};
    c->fd = c->calls->open(c->calls->ctx, c->path, O_RDWR | O_NONBLOCK | O_CLOEXEC);
    if (c->fd < 0)
        return fail(c, "cannot be opened", err);
    const tw_status st = start(c, stream, err);
    if (st != TW_OK)
        close_camera(c);
    return st;
}

/* ---- frames ---------------------------------------------------------------------- */

/* The driver's own time, where it is of our clock. */
static void stamp(const v4l2_camera *c, const struct v4l2_buffer *b, tw_packet *p)
{
    const int64_t now = c->clock.ops->now_us(c->clock.ctx);
    const uint32_t kind = b->flags & V4L2_BUF_FLAG_TIMESTAMP_MASK;
    int64_t t = (int64_t)b->timestamp.tv_sec * 1000000 + b->timestamp.tv_usec;
    if (kind != V4L2_BUF_FLAG_TIMESTAMP_MONOTONIC || t <= 0 || t > now ||
        now - t > 2000000)
        t = now;
    p->t_us = p->dts_us = t;
    p->wall_us = c->clock.ops->wall_us(c->clock.ctx) - (now - t);
}

static void count_gap(v4l2_camera *c, uint32_t sequence)
{
    const uint32_t gap = sequence - c->sequence;
    if (c->any && gap > 1 && gap < 1000)
        c->dropped += gap - 1;
    c->any = true;
    c->sequence = sequence;
}

/* Not every driver sets the flag, so the stream is asked as well. */
static bool is_key(const v4l2_camera *c, const struct v4l2_buffer *b,
                   const tw_packet *packet)
{
    return c->fourcc != V4L2_PIX_FMT_H264 || (b->flags & V4L2_BUF_FLAG_KEYFRAME) ||
           twi_h264_is_key(packet->data, packet->size);
}

/* Some drivers say that the whole of a buffer is used. What is behind the end of a JPEG
 * is not kept. */
static size_t bytes_of(const v4l2_camera *c, const uint8_t *data, size_t bytes)
{
    twi_split split = {0, false};
    size_t length = bytes;
    const bool ended = bytes >= 2 && data[bytes - 2] == 0xFF && data[bytes - 1] == 0xD9;
    if (c->fourcc == V4L2_PIX_FMT_H264 || ended)
        return bytes;
    return twi_split_jpeg(&split, data, bytes, &length) == TW_OK ? length : bytes;
}

static tw_status give(v4l2_camera *c, const struct v4l2_buffer *b, tw_frame *frame,
                      tw_error *err)
{
    if (b->index >= c->count)
        return tw_fail(err, TW_EDAMAGED, "%s: the driver names a buffer that is none",
                       c->path);
    const uint8_t *data = c->buffers[b->index].memory;
    const size_t bytes = b->bytesused <= c->buffers[b->index].bytes ? b->bytesused : 0;
    count_gap(c, b->sequence);
    if (b->flags & V4L2_BUF_FLAG_ERROR || bytes == 0)
        return tw_fail(err, TW_EDAMAGED, "%s: a frame that the driver calls damaged",
                       c->path);
    stamp(c, b, &frame->packet);
    const raw_format *raw = raw_of(c->fourcc);
    if (raw)
        return give_raw(c, raw, data, bytes, frame, err);
    frame->packet.data = data;
    frame->packet.size = bytes_of(c, data, bytes);
    frame->packet.key = is_key(c, b, &frame->packet);
    return TW_OK;
}

static tw_status release(v4l2_camera *c, tw_error *err)
{
    if (!c->has_held)
        return TW_OK;
    c->has_held = false;
    return ask(c, VIDIOC_QBUF, &c->held) == 0 ? TW_OK
                                              : fail(c, "a buffer cannot be queued", err);
}

static tw_status next(void *ctx, tw_frame *frame, tw_error *err)
{
    v4l2_camera *c = ctx;
    memset(frame, 0, sizeof *frame);
    if (c->fd < 0)
        return tw_fail(err, TW_EIO, "%s is not open", c->path);
    tw_status st = release(c, err);
    if (st != TW_OK)
        return st;
    struct pollfd in = {.fd = c->fd, .events = POLLIN};
    const int ready = c->calls->poll(c->calls->ctx, &in, 1, WAIT_MS);
    if (ready == 0 || (ready < 0 && errno == EINTR))
        return TW_EAGAIN;
    struct v4l2_buffer b = {.type = V4L2_BUF_TYPE_VIDEO_CAPTURE,
                            .memory = V4L2_MEMORY_MMAP};
    if (ask(c, VIDIOC_DQBUF, &b) != 0) {
        if (errno == EAGAIN)
            return TW_EAGAIN;
        return fail(c, "no frame", err);
    }
    c->held = b;
    c->has_held = true;
    st = give(c, &b, frame, err);
    frame->dropped = c->dropped;
    return st;
}

static void destroy(void *ctx)
{
    v4l2_camera *c = ctx;
    close_camera(c);
    free(c->path);
    free(c->controls);
    free(c);
}

static uint32_t fourcc_of(const char *format)
{
    if (!format)
        return 0;
    if (strcmp(format, "mjpeg") == 0)
        return V4L2_PIX_FMT_MJPEG;
    if (strcmp(format, "h264") == 0)
        return V4L2_PIX_FMT_H264;
    for (size_t i = 0; i < sizeof RAW / sizeof *RAW; i++)
        if (strcmp(RAW[i].name, format) == 0)
            return RAW[i].fourcc;
    return 0;
}

tw_status twi_v4l2_camera(const twi_v4l2_calls *calls, const tw_camera_request *request,
                          const char *path, tw_camera *out, tw_error *err)
{
    static const tw_camera_ops ops = {sizeof ops, "v4l2",       TW_LIVE, open_camera,
                                      next,       close_camera, destroy, control};
    v4l2_camera *c = calloc(1, sizeof *c);
    if (!c)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    c->fd = -1;
    c->calls = calls ? calls : twi_v4l2_kernel();
    c->clock = request->clock;
    c->wish = (twi_v4l2_wish){fourcc_of(request->format), request->width, request->height,
                              request->fps};
    c->path = strdup(path);
    c->controls = strdup(request->controls ? request->controls : "");
    if (!c->path || !c->controls) {
        destroy(c);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    *out = (tw_camera){&ops, c};
    return TW_OK;
}
