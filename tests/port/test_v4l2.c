/* V4L2 against a stand-in for the device's system calls, which answers as the kernel
 * documents it, and fails where it is told to. */
#include <errno.h>
#include <linux/videodev2.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../../src/port/linux/v4l2.h"
#include "../support/support.h"
#include "../../src/port/linux/devices.h"

enum { BITS = V4L2_CID_EXPOSURE_ABSOLUTE + 0x1000 };
enum { FD = 77, BUFFERS = 4, BYTES = 1 << 20 };

/* The device. */
typedef struct device {
    uint32_t caps;
    const twi_v4l2_mode *modes; /* of one size and rate for each format entry */
    size_t mode_count;
    bool no_sizes, no_rates; /* an old driver */
    uint32_t quantization;   /* V4L2_QUANTIZATION_ */
    uint32_t stride;         /* of raw pictures; 0: none beside the pixels */
    int interrupts;          /* so many calls are interrupted first */
    int gone_after;          /* frames; then it is unplugged. 0: never */
    int busy;                /* S_FMT fails */
    uint32_t padding;        /* bytes that the driver counts behind a picture */
    bool flags_keys;         /* of H.264, which has one in five frames */
    bool gone;               /* for each call */
    int error_at,
        skip_at; /* frames: one that is damaged; one before which two are lost */
    /* state */
    bool is_open, streaming;
    uint8_t *memory[BUFFERS];
    bool queued[BUFFERS];
    uint32_t fourcc, width, height;
    uint32_t frames, sequence;
    int32_t gain, repeats; /* parameter sets with each key frame */
    int mapped;
} device;

static int fail_with(int number)
{
    errno = number;
    return -1;
}

static int dev_open(void *ctx, const char *path, int flags)
{
    device *d = ctx;
    (void)flags;
    if (strcmp(path, "/dev/video7") != 0 ||
        (d->gone_after > 0 && (int)d->frames > d->gone_after))
        return fail_with(ENOENT);
    assert_false(d->is_open);
    d->is_open = true;
    return FD;
}

static int dev_close(void *ctx, int fd)
{
    device *d = ctx;
    assert_int_equal(fd, FD);
    d->is_open = d->streaming = false;
    assert_int_equal(d->mapped, 0); /* all is given back before */
    return 0;
}

static void *dev_map(void *ctx, size_t bytes, int fd, off_t offset)
{
    device *d = ctx;
    assert_int_equal(fd, FD);
    assert_int_equal(bytes, BYTES);
    d->mapped++;
    return d->memory[offset / BYTES];
}

static int dev_unmap(void *ctx, void *memory, size_t bytes)
{
    device *d = ctx;
    (void)memory;
    assert_int_equal(bytes, BYTES);
    d->mapped--;
    return 0;
}

static int dev_poll(void *ctx, struct pollfd *fds, nfds_t count, int timeout_ms)
{
    device *d = ctx;
    (void)timeout_ms;
    assert_int_equal(count, 1);
    if (d->interrupts > 0) {
        d->interrupts--;
        return fail_with(EINTR);
    }
    fds->revents = POLLIN;
    return 1;
}

static int capability(const device *d, struct v4l2_capability *c)
{
    memset(c, 0, sizeof *c);
    (void)strcpy((char *)c->card, "Pond Cam");
    c->capabilities = V4L2_CAP_DEVICE_CAPS | 0x80000000U;
    c->device_caps = d->caps;
    return 0;
}

/* Formats are told once each, in the order of the modes. */
static int enum_format(const device *d, struct v4l2_fmtdesc *f)
{
    uint32_t index = 0;
    for (size_t i = 0; i < d->mode_count; i++) {
        if (i > 0 && d->modes[i].fourcc == d->modes[i - 1].fourcc)
            continue;
        if (index++ == f->index) {
            f->pixelformat = d->modes[i].fourcc;
            return 0;
        }
    }
    return fail_with(EINVAL);
}

static int enum_size(const device *d, struct v4l2_frmsizeenum *s)
{
    uint32_t index = 0;
    if (d->no_sizes)
        return fail_with(ENOTTY);
    for (size_t i = 0; i < d->mode_count; i++) {
        if (d->modes[i].fourcc != s->pixel_format || index++ != s->index)
            continue;
        s->type = V4L2_FRMSIZE_TYPE_DISCRETE;
        s->discrete.width = d->modes[i].width;
        s->discrete.height = d->modes[i].height;
        return 0;
    }
    return fail_with(EINVAL);
}

static int enum_rate(const device *d, struct v4l2_frmivalenum *r)
{
    if (d->no_rates)
        return fail_with(ENOTTY);
    for (size_t i = 0; i < d->mode_count && r->index == 0; i++) {
        if (d->modes[i].fourcc != r->pixel_format || d->modes[i].width != r->width)
            continue;
        r->type = V4L2_FRMIVAL_TYPE_DISCRETE;
        r->discrete = (struct v4l2_fract){d->modes[i].fps_den, d->modes[i].fps_num};
        return 0;
    }
    return fail_with(EINVAL);
}

static int set_format(device *d, struct v4l2_format *f)
{
    if (d->busy)
        return fail_with(EBUSY);
    d->fourcc = f->fmt.pix.pixelformat;
    d->width = f->fmt.pix.width ? f->fmt.pix.width : 320;
    d->height = f->fmt.pix.height ? f->fmt.pix.height : 240;
    f->fmt.pix.width = d->width;
    f->fmt.pix.height = d->height;
    f->fmt.pix.bytesperline = d->stride;
    f->fmt.pix.colorspace = V4L2_COLORSPACE_SRGB;
    f->fmt.pix.quantization = d->quantization;
    f->fmt.pix.ycbcr_enc = V4L2_YCBCR_ENC_DEFAULT;
    return 0;
}

static int query_control(struct v4l2_queryctrl *q)
{
    static const struct {
        uint32_t id;
        const char *name;
    } controls[] = {{V4L2_CID_GAIN, "Gain"},
                    {V4L2_CID_EXPOSURE_ABSOLUTE, "Exposure Time, Absolute"},
                    {BITS, "Bits of It"}};
    const bool next = (q->id & V4L2_CTRL_FLAG_NEXT_CTRL) != 0;
    const uint32_t id = q->id & ~V4L2_CTRL_FLAG_NEXT_CTRL;
    for (size_t i = 0; i < 3; i++) {
        if (next ? controls[i].id <= id : controls[i].id != id)
            continue;
        memset(q, 0, sizeof *q);
        q->id = controls[i].id;
        q->type = V4L2_CTRL_TYPE_INTEGER;
        (void)strcpy((char *)q->name, controls[i].name);
        q->minimum = 1;
        q->maximum = 100;
        if (q->id == BITS) {
            q->type = V4L2_CTRL_TYPE_BITMASK;
            q->minimum = 0;
            q->maximum = (int32_t)0x80002000U;
        }
        return 0;
    }
    return fail_with(EINVAL);
}

/* A picture of the format: JPEG, or raw with a ramp of luma. */
static uint32_t draw(const device *d, uint8_t *to)
{
    const uint32_t pixel = d->fourcc == V4L2_PIX_FMT_YUYV    ? 2
                           : d->fourcc == V4L2_PIX_FMT_RGB24 ? 3
                                                             : 1;
    const uint32_t stride = d->stride ? d->stride : d->width * pixel;
    if (d->fourcc == V4L2_PIX_FMT_H264) {
        const uint8_t kind = d->frames % 5 == 1 ? 0x65 : 0x41;
        const uint8_t unit[] = {0, 0, 0, 1, 0x09, 0x10, 0, 0, 1, kind, 0x88, 0x84};
        memcpy(to, unit, sizeof unit);
        return sizeof unit;
    }
    if (d->fourcc == V4L2_PIX_FMT_MJPEG) {
        size_t bytes = 0;
        uint8_t *jpeg = plain_jpeg((uint16_t)d->width, (uint16_t)d->height, 90, &bytes);
        memcpy(to, jpeg, bytes);
        free(jpeg);
        memset(to + bytes, 0x5A, d->padding);
        return (uint32_t)bytes + d->padding;
    }
    const uint32_t rows = d->fourcc == V4L2_PIX_FMT_NV12 ? d->height * 3 / 2 : d->height;
    memset(to, 128, (size_t)stride * rows);
    for (uint32_t y = 0; y < d->height; y++)
        for (uint32_t x = 0; x < d->width * pixel; x++)
            if (pixel != 2 || !(x & 1))
                to[(size_t)stride * y + x] = (uint8_t)(x / pixel * 255 / d->width);
    return stride * rows;
}

static int dequeue(device *d, struct v4l2_buffer *b)
{
    if (d->gone_after > 0 && (int)d->frames >= d->gone_after) {
        d->frames++;
        return fail_with(ENODEV);
    }
    for (uint32_t i = 0; i < BUFFERS; i++) {
        if (!d->queued[i])
            continue;
        const tw_clock clock = tw_linux_clock();
        const int64_t now = clock.ops->now_us(clock.ctx) - 5000;
        d->queued[i] = false;
        d->frames++;
        d->sequence += (int)d->frames == d->skip_at ? 3 : 1;
        b->index = i;
        b->bytesused = draw(d, d->memory[i]);
        b->sequence = d->sequence;
        b->flags = V4L2_BUF_FLAG_TIMESTAMP_MONOTONIC;
        if (d->flags_keys && d->frames % 5 == 1)
            b->flags |= V4L2_BUF_FLAG_KEYFRAME;
        if ((int)d->frames == d->error_at)
            b->flags |= V4L2_BUF_FLAG_ERROR;
        b->timestamp.tv_sec = now / 1000000;
        b->timestamp.tv_usec = now % 1000000;
        return 0;
    }
    return fail_with(EAGAIN);
}

static int buffers(device *d, unsigned long request, void *argument)
{
    struct v4l2_buffer *b = argument;
    struct v4l2_requestbuffers *r = argument;
    switch (request) {
    case VIDIOC_REQBUFS:
        assert_int_equal(r->memory, V4L2_MEMORY_MMAP);
        r->count = BUFFERS;
        return 0;
    case VIDIOC_QUERYBUF:
        b->length = BYTES;
        b->m.offset = b->index * BYTES;
        return 0;
    case VIDIOC_QBUF:
        assert_false(d->queued[b->index]); /* never twice */
        d->queued[b->index] = true;
        return 0;
    case VIDIOC_DQBUF: return dequeue(d, b);
    case VIDIOC_STREAMON: d->streaming = true; return 0;
    case VIDIOC_STREAMOFF: d->streaming = false; return 0;
    default: return fail_with(ENOTTY);
    }
}

static int set_control(device *d, const struct v4l2_control *c)
{
    if (c->id == V4L2_CID_MPEG_VIDEO_REPEAT_SEQ_HEADER)
        d->repeats = c->value;
    else
        d->gain = c->value;
    return 0;
}

static int dev_ioctl(void *ctx, int fd, unsigned long request, void *argument)
{
    device *d = ctx;
    assert_int_equal(fd, FD);
    if (d->interrupts > 0) {
        d->interrupts--;
        return fail_with(EINTR);
    }
    if (d->gone)
        return fail_with(ENODEV);
    switch (request) {
    case VIDIOC_QUERYCAP: return capability(d, argument);
    case VIDIOC_ENUM_FMT: return enum_format(d, argument);
    case VIDIOC_ENUM_FRAMESIZES: return enum_size(d, argument);
    case VIDIOC_ENUM_FRAMEINTERVALS: return enum_rate(d, argument);
    case VIDIOC_S_FMT: return set_format(d, argument);
    case VIDIOC_S_PARM: return d->no_rates ? fail_with(ENOTTY) : 0;
    case VIDIOC_QUERYCTRL: return query_control(argument);
    case VIDIOC_G_CTRL: ((struct v4l2_control *)argument)->value = d->gain; return 0;
    case VIDIOC_S_CTRL: return set_control(d, argument);
    default: return buffers(d, request, argument);
    }
}

typedef struct bench {
    device d;
    twi_v4l2_calls calls;
    tw_camera camera;
    tw_stream stream;
} bench;

static const twi_v4l2_mode WEBCAM[] = {{V4L2_PIX_FMT_YUYV, 640, 480, 30, 1},
                                       {V4L2_PIX_FMT_YUYV, 1280, 720, 10, 1},
                                       {V4L2_PIX_FMT_MJPEG, 640, 480, 30, 1},
                                       {V4L2_PIX_FMT_MJPEG, 1280, 720, 30, 1},
                                       {V4L2_PIX_FMT_MJPEG, 1920, 1080, 30, 1}};

static bench *set_up(const twi_v4l2_mode *modes, size_t count,
                     const tw_camera_request *extra)
{
    bench *b = calloc(1, sizeof *b);
    assert_non_null(b);
    b->d = (device){.caps = V4L2_CAP_VIDEO_CAPTURE | V4L2_CAP_STREAMING,
                    .modes = modes,
                    .mode_count = count};
    for (int i = 0; i < BUFFERS; i++)
        b->d.memory[i] = malloc(BYTES);
    b->calls = (twi_v4l2_calls){dev_open,  dev_close, dev_ioctl, dev_map,
                                dev_unmap, dev_poll,  &b->d};
    tw_camera_request request = extra ? *extra : (tw_camera_request){.fps = 10};
    request.clock = tw_linux_clock();
    assert_int_equal(
        twi_v4l2_camera(&b->calls, &request, "/dev/video7", &b->camera, NULL), TW_OK);
    return b;
}

static tw_status open_it(bench *b, tw_error *err)
{
    return b->camera.ops->open(b->camera.ctx, &b->stream, err);
}

static tw_status take(bench *b, tw_frame *frame, tw_error *err)
{
    tw_status st = TW_EAGAIN;
    for (int i = 0; i < 10 && st == TW_EAGAIN; i++)
        st = b->camera.ops->next(b->camera.ctx, frame, err);
    return st;
}

static void take_down(bench *b)
{
    b->camera.ops->destroy(b->camera.ctx);
    assert_false(b->d.is_open);
    for (int i = 0; i < BUFFERS; i++)
        free(b->d.memory[i]);
    free(b);
}

static void test_the_cheapest_good_format(void **state)
{
    (void)state;
    static const struct {
        twi_v4l2_wish wish;
        size_t expected;
    } cases[] = {{{0, 0, 0, 10}, 3},
                 {{0, 640, 480, 10}, 2},
                 {{0, 1900, 1000, 10}, 4},
                 {{V4L2_PIX_FMT_YUYV, 0, 0, 10}, 1},
                 {{V4L2_PIX_FMT_YUYV, 600, 400, 30}, 0},
                 {{V4L2_PIX_FMT_H264, 0, 0, 10}, 5}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++)
        assert_int_equal(twi_v4l2_choose(WEBCAM, 5, &cases[i].wish), cases[i].expected);
    const twi_v4l2_mode odd[] = {{V4L2_PIX_FMT_SBGGR8, 640, 480, 30, 1},
                                 {V4L2_PIX_FMT_GREY, 640, 480, 30, 1},
                                 {V4L2_PIX_FMT_MJPEG, 1280, 720, 5, 1},
                                 {V4L2_PIX_FMT_MJPEG, 1280, 720, 15, 1},
                                 {V4L2_PIX_FMT_MJPEG, 1280, 720, 60, 1}};
    const twi_v4l2_wish ten = {0, 0, 0, 10};
    assert_int_equal(twi_v4l2_choose(odd, 1, &ten), 1); /* none can be used */
    assert_int_equal(twi_v4l2_choose(odd, 2, &ten), 1);
    const twi_v4l2_mode raw[] = {{V4L2_PIX_FMT_GREY, 640, 480, 15, 1},
                                 {V4L2_PIX_FMT_RGB24, 640, 480, 15, 1},
                                 {V4L2_PIX_FMT_YUYV, 640, 480, 15, 1}};
    assert_int_equal(twi_v4l2_choose(raw, 3, &ten), 2); /* colour, if it can be had */
    assert_int_equal(twi_v4l2_choose(odd, 5, &ten), 3); /* quick enough, and no quicker */
}

static void test_frames_come_with_the_drivers_times(void **state)
{
    (void)state;
    bench *b = set_up(WEBCAM, 5, NULL);
    tw_error err = {0};
    tw_frame frame;
    if (open_it(b, &err) != TW_OK)
        fail_msg("%s", err.text);
    assert_int_equal(b->stream.codec, TW_CODEC_MJPEG);
    assert_int_equal(b->stream.width, 1280);
    const tw_clock clock = tw_linux_clock();
    for (int i = 0; i < 50; i++) {
        if (take(b, &frame, &err) != TW_OK)
            fail_msg("%s", err.text);
        assert_int_equal(frame.packet.data[0], 0xFF);
        const int64_t age = clock.ops->now_us(clock.ctx) - frame.packet.t_us;
        assert_true(age >= 5000 && age < 500000);
    }
    assert_int_equal(b->camera.ops->live, TW_LIVE);
    take_down(b);
}

static void test_interrupted_calls_are_made_again(void **state)
{
    (void)state;
    bench *b = set_up(WEBCAM, 5, NULL);
    tw_frame frame;
    b->d.interrupts = 40;
    assert_int_equal(open_it(b, NULL), TW_OK);
    b->d.interrupts = 5;
    assert_int_equal(take(b, &frame, NULL), TW_OK);
    take_down(b);
}

/* What 0 to 255 become where they are said to be limited. */
static int expanded(int level)
{
    const int full = ((level - 16) * 255 + 109) / 219;
    return full < 0 ? 0 : full > 255 ? 255 : full;
}

static void check_raw(uint32_t fourcc, const char *format, uint32_t stride,
                      uint32_t quantization, bool limited)
{
    const twi_v4l2_mode mode = {fourcc, 321, 240, 15, 1};
    const tw_camera_request request = {.fps = 10, .format = format};
    bench *b = set_up(&mode, 1, &request);
    tw_error err = {0};
    tw_frame frame;
    b->d.stride = stride;
    b->d.quantization = quantization;
    if (open_it(b, &err) != TW_OK || take(b, &frame, &err) != TW_OK)
        fail_msg("%s: %s", format, err.text);
    assert_string_equal(b->stream.codec_name, format);
    assert_int_equal(b->stream.codec, TW_CODEC_RAW);
    assert_null(frame.packet.data);
    uint8_t *memory = malloc((size_t)321 * 240);
    tw_luma luma;
    assert_int_equal(tw_picture_luma(&frame.picture, memory, (size_t)321 * 240, &luma),
                     TW_OK);
    assert_int_equal(luma.width, 321);
    assert_int_equal(luma.height, 240);
    for (int x = 0; x < 321; x += 40) { /* the ramp, to a level or so */
        const int level = luma.px[(size_t)luma.stride * 100 + (size_t)x];
        const int drawn = x * 255 / 321;
        const int off = level - (limited ? expanded(drawn) : drawn);
        assert_true(off >= -1 && off <= 1);
    }
    free(memory);
    take_down(b);
}

static void test_raw_formats(void **state)
{
    (void)state;
    enum {
        FULL = V4L2_QUANTIZATION_FULL_RANGE,
        LIMITED = V4L2_QUANTIZATION_LIM_RANGE,
        UNSAID = V4L2_QUANTIZATION_DEFAULT
    };
    check_raw(V4L2_PIX_FMT_GREY, "grey", 0, FULL, false);
    check_raw(V4L2_PIX_FMT_GREY, "grey", 512, FULL, false);
    check_raw(V4L2_PIX_FMT_NV12, "nv12", 384, FULL, false);
    check_raw(V4L2_PIX_FMT_YUYV, "yuyv", 0, FULL, false);
    check_raw(V4L2_PIX_FMT_YUYV, "yuyv", 700, FULL, false);
    check_raw(V4L2_PIX_FMT_RGB24, "rgb", 1024, FULL, false);
    check_raw(V4L2_PIX_FMT_GREY, "grey", 0, UNSAID, false);
    check_raw(V4L2_PIX_FMT_GREY, "grey", 512, LIMITED, true);
    check_raw(V4L2_PIX_FMT_RGB24, "rgb", 1024, UNSAID, false);
    check_raw(V4L2_PIX_FMT_RGB24, "rgb", 0, LIMITED, true);
    check_raw(V4L2_PIX_FMT_YUYV, "yuyv", 0, UNSAID, true);
    check_raw(V4L2_PIX_FMT_YUYV, "yuyv", 700, LIMITED, true);
    check_raw(V4L2_PIX_FMT_NV12, "nv12", 384, UNSAID, true);
    check_raw(V4L2_PIX_FMT_NV12, "nv12", 322, LIMITED, true);
}

static void test_old_drivers(void **state)
{
    (void)state;
    const twi_v4l2_mode mode = {V4L2_PIX_FMT_MJPEG, 0, 0, 0, 1};
    const tw_camera_request request = {.fps = 10, .width = 640, .height = 480};
    bench *b = set_up(&mode, 1, &request);
    tw_frame frame;
    b->d.no_sizes = b->d.no_rates = true;
    assert_int_equal(open_it(b, NULL), TW_OK);
    assert_int_equal(b->stream.width, 640); /* asked for, and given */
    assert_int_equal(b->stream.fps_num, 0);
    assert_int_equal(take(b, &frame, NULL), TW_OK);
    take_down(b);
}

static void test_unplugged_and_back(void **state)
{
    (void)state;
    bench *b = set_up(WEBCAM, 5, NULL);
    tw_error err = {0};
    tw_frame frame;
    b->d.gone_after = 5;
    assert_int_equal(open_it(b, NULL), TW_OK);
    for (int i = 0; i < 5; i++)
        assert_int_equal(take(b, &frame, NULL), TW_OK);
    assert_int_equal(take(b, &frame, &err), TW_EIO);
    assert_has(err.text, "/dev/video7 has been unplugged");
    b->camera.ops->close(b->camera.ctx);
    assert_int_equal(open_it(b, &err), TW_ENOENT);
    assert_has(err.text, "/dev/video7: cannot be opened: No such file");
    b->d.gone_after = 0;
    memset(b->d.queued, 0, sizeof b->d.queued);
    assert_int_equal(open_it(b, NULL), TW_OK);
    assert_int_equal(take(b, &frame, NULL), TW_OK);
    take_down(b);
}

/* It is the first call that fails, whichever that is. */
static void test_unplugged_while_a_frame_is_out(void **state)
{
    (void)state;
    bench *b = set_up(WEBCAM, 5, NULL);
    tw_error err = {0};
    tw_frame frame;
    assert_int_equal(open_it(b, NULL), TW_OK);
    assert_int_equal(take(b, &frame, NULL), TW_OK);
    b->d.gone = true;
    assert_int_equal(take(b, &frame, &err), TW_EIO);
    assert_string_equal(err.text, "/dev/video7 has been unplugged");
    take_down(b);
}

static void test_key_frames_of_h264(void **state)
{
    (void)state;
    const twi_v4l2_mode mode = {V4L2_PIX_FMT_H264, 320, 240, 15, 1};
    for (int flags = 0; flags < 2; flags++) {
        bench *b = set_up(&mode, 1, NULL);
        tw_frame frame;
        b->d.flags_keys = flags;
        assert_int_equal(open_it(b, NULL), TW_OK);
        assert_int_equal(b->d.repeats, 1);
        for (int i = 1; i <= 12; i++) {
            assert_int_equal(take(b, &frame, NULL), TW_OK);
            assert_int_equal(frame.packet.key, i % 5 == 1);
            assert_int_equal(frame.packet.size, 12);
        }
        take_down(b);
    }
}

static void test_what_is_behind_a_jpeg_is_not_kept(void **state)
{
    (void)state;
    size_t bytes[2] = {0, 0};
    for (uint32_t padded = 0; padded < 2; padded++) {
        bench *b = set_up(WEBCAM, 5, NULL);
        tw_frame frame;
        b->d.padding = padded * 200000;
        assert_int_equal(open_it(b, NULL), TW_OK);
        assert_int_equal(take(b, &frame, NULL), TW_OK);
        bytes[padded] = frame.packet.size;
        assert_int_equal(frame.packet.data[bytes[padded] - 1], 0xD9);
        take_down(b);
    }
    assert_int_equal(bytes[1], bytes[0]);
}

/* More modes of formats that cannot be used than there is room for, and then one. */
static void test_what_cannot_be_used_takes_no_room(void **state)
{
    (void)state;
    enum { FORMATS = 20, SIZES = 40, COUNT = FORMATS * SIZES + 1 };
    twi_v4l2_mode *all = calloc(COUNT, sizeof *all);
    assert_non_null(all);
    for (uint32_t i = 0; i < COUNT - 1; i++)
        all[i] = (twi_v4l2_mode){v4l2_fourcc('X', 'Y', 'A' + i / SIZES, '1'),
                                 320 + i % SIZES * 8, 240, 15, 1};
    all[COUNT - 1] = (twi_v4l2_mode){V4L2_PIX_FMT_GREY, 640, 480, 15, 1};
    bench *b = set_up(all, COUNT, NULL);
    tw_error err = {0};
    if (open_it(b, &err) != TW_OK)
        fail_msg("%s", err.text);
    assert_string_equal(b->stream.codec_name, "grey");
    take_down(b);
    free(all);
}

static void test_damaged_frames(void **state)
{
    (void)state;
    bench *b = set_up(WEBCAM, 5, NULL);
    tw_error err = {0};
    tw_frame frame;
    b->d.error_at = 3;
    b->d.skip_at = 5;
    assert_int_equal(open_it(b, NULL), TW_OK);
    for (int i = 1; i <= 8; i++)
        assert_int_equal(take(b, &frame, &err), i == 3 ? TW_EDAMAGED : TW_OK);
    assert_has(err.text, "the driver calls damaged");
    assert_int_equal(frame.dropped, 2);
    take_down(b);
}

static void test_controls(void **state)
{
    (void)state;
    static const struct {
        const char *controls, *line;
        tw_status st;
    } cases[] = {
        {"gain=7", "", TW_OK},
        {"exposure_time_absolute = 12 , gain = 0x10", "", TW_OK},
        {"gain=101", "gain = 101 is not within 1 to 100", TW_EINVAL},
        {"gain=much", "gain = much is no number", TW_EINVAL},
        {"gain", "expected name=value", TW_EINVAL},
        {"zoom=1", "has no control zoom, but gain, exposure_time_absolute", TW_ENOENT}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        const tw_camera_request request = {.fps = 10, .controls = cases[i].controls};
        bench *b = set_up(WEBCAM, 5, &request);
        tw_error err = {0};
        assert_int_equal(open_it(b, &err), cases[i].st);
        assert_has(err.text, cases[i].line);
        if (i == 1)
            assert_int_equal(b->d.gain, 16);
        take_down(b);
    }
}

/* They are set while it runs, and what cannot be set ends nothing. */
static void test_controls_while_it_runs(void **state)
{
    (void)state;
    const tw_camera_request request = {.fps = 10, .controls = "gain=7"};
    bench *b = set_up(WEBCAM, 5, &request);
    tw_error err = {0};
    tw_frame frame;
    assert_int_equal(b->camera.ops->control(b->camera.ctx, "gain=8", &err), TW_EINVAL);
    assert_int_equal(open_it(b, &err), TW_OK);
    assert_int_equal(take(b, &frame, &err), TW_OK);
    assert_int_equal(b->camera.ops->control(b->camera.ctx, "gain=9", &err), TW_OK);
    assert_int_equal(b->d.gain, 9);
    assert_int_equal(b->camera.ops->control(b->camera.ctx, "gain=900", &err), TW_EINVAL);
    assert_has(err.text, "gain = 900 is not within 1 to 100");
    assert_int_equal(b->d.gain, 9);
    assert_int_equal(take(b, &frame, &err), TW_OK);
    take_down(b);
}

static void test_a_device_in_words(void **state)
{
    (void)state;
    const tw_camera_request request = {.fps = 10};
    bench *b = set_up(WEBCAM, 5, &request);
    twi_v4l2_about about;
    assert_true(twi_v4l2_describe(&b->calls, "/dev/video7", &about));
    assert_string_equal(about.name, "Pond Cam");
    assert_true(about.usable);
    assert_has(about.modes, "MJPG ");
    assert_has(about.choice, "MJPG 1280x720@");
    assert_has(about.choice, ": compressed, so cheap to keep, and nearest to 1280 x 720");
    assert_has(about.controls, "gain 1 to 100 (now ");
    assert_has(about.controls, "exposure_time_absolute ");
    assert_has(about.controls, "bits_of_it 0 to 0x80002000 (now 0x");
    assert_string_equal(about.why_not, "");
    assert_false(b->d.is_open);
    assert_false(twi_v4l2_describe(&b->calls, "/dev/video8", &about));
    take_down(b);
}

/* A list that does not fit ends with a whole word, and says so. */
static void test_a_device_of_many_words(void **state)
{
    (void)state;
    enum { COUNT = 400 };
    twi_v4l2_mode *all = calloc(COUNT, sizeof *all);
    assert_non_null(all);
    for (uint32_t fewer = 0; fewer < 40; fewer++) {
        for (uint32_t i = 0; i < COUNT; i++)
            all[i] = (twi_v4l2_mode){V4L2_PIX_FMT_GREY, 16 + i + fewer * 4000, 12000,
                                     15000, 1};
        bench *b = set_up(all, fewer == 0 ? 4 : 150, NULL);
        twi_v4l2_about about;
        assert_true(twi_v4l2_describe(&b->calls, "/dev/video7", &about));
        const char *last = strrchr(about.modes, ' ');
        assert_non_null(last);
        if (fewer == 0)
            assert_string_equal(last, " 19x12000@15000");
        else
            assert_string_equal(last - strlen("x12000@15000,"), "x12000@15000, ...");
        take_down(b);
    }
    free(all);
}

static void check_why_not(uint32_t caps, const twi_v4l2_mode *mode, const char *why)
{
    bench *b = set_up(mode, 1, NULL);
    twi_v4l2_about about;
    b->d.caps = caps;
    assert_true(twi_v4l2_describe(&b->calls, "/dev/video7", &about));
    assert_false(about.usable);
    assert_string_equal(about.why_not, why);
    assert_string_equal(about.controls, "");
    take_down(b);
}

static void test_why_a_device_is_no_camera(void **state)
{
    (void)state;
    const twi_v4l2_mode grey = {V4L2_PIX_FMT_GREY, 320, 240, 15, 1},
                        bayer = {V4L2_PIX_FMT_SBGGR8, 320, 240, 15, 1};
    check_why_not(V4L2_CAP_META_CAPTURE | V4L2_CAP_STREAMING, &grey,
                  "it captures no video");
    check_why_not(V4L2_CAP_VIDEO_CAPTURE | V4L2_CAP_READWRITE, &grey, "it cannot stream");
    check_why_not(V4L2_CAP_VIDEO_CAPTURE | V4L2_CAP_STREAMING, &bayer,
                  "it has no format that can be used");
}

/* A device's number may change with the order in which it is found; its link does not. */
static void test_the_name_that_stays(void **state)
{
    (void)state;
    char *folder = make_folder(), *plain = join(folder, "readme"), out[256], want[256];
    char *pond = join(folder, "usb-Pond_Cam_4711-index0");
    char *lane = join(folder, "usb-Lane_Cam_12-index0");
    write_text(plain, "no link");
    assert_int_equal(symlink("../../video12", pond), 0);
    assert_int_equal(symlink("../../video2", lane), 0);
    twi_v4l2_stable(folder, "/dev/video2", out, sizeof out);
    (void)snprintf(want, sizeof want, "%s/usb-Lane_Cam_12-index0", folder);
    assert_string_equal(out, want);
    twi_v4l2_stable(folder, "/dev/video12", out, sizeof out);
    assert_has(out, "usb-Pond_Cam_4711-index0");
    twi_v4l2_stable(folder, "/dev/video1", out, sizeof out);
    assert_string_equal(out, "");
    twi_v4l2_stable(plain, "/dev/video2", out, sizeof out); /* no folder */
    assert_string_equal(out, "");
    remove_folder(folder);
    free(plain);
    free(pond);
    free(lane);
}

static void test_devices_that_cannot_be_used(void **state)
{
    (void)state;
    tw_error err = {0};
    bench *b = set_up(WEBCAM, 5, NULL);
    b->d.caps = V4L2_CAP_STREAMING;
    assert_int_equal(open_it(b, &err), TW_ENOTSUP);
    assert_has(err.text, "(Pond Cam) captures no video");
    b->d.caps = V4L2_CAP_VIDEO_CAPTURE;
    assert_int_equal(open_it(b, &err), TW_ENOTSUP);
    assert_has(err.text, "cannot stream");
    b->d.caps |= V4L2_CAP_STREAMING;
    b->d.busy = 1;
    assert_int_equal(open_it(b, &err), TW_EIO);
    assert_has(err.text, "is in use by another program");
    b->d.busy = 0;
    b->d.mode_count = 0;
    assert_int_equal(open_it(b, &err), TW_ENOTSUP);
    assert_has(err.text, "has none of the formats");
    take_down(b);
    tw_camera camera;
    const tw_camera_request request = {
        .name = "x", .source = "v4l2:/dev/null", .fps = 10, .clock = tw_linux_clock()};
    tw_stream stream;
    assert_int_equal(tw_camera_make(TEST_MAKERS, &request, &camera, &err), TW_OK);
    assert_int_equal(camera.ops->open(camera.ctx, &stream, &err), TW_ENOTSUP);
    assert_has(err.text, "/dev/null is no video device"); /* the real kernel says so */
    camera.ops->destroy(camera.ctx);
    assert_true(twi_linux_devices(NULL, NULL) < 64); /* there are none here, as a rule */
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_the_cheapest_good_format),
        cmocka_unit_test(test_frames_come_with_the_drivers_times),
        cmocka_unit_test(test_interrupted_calls_are_made_again),
        cmocka_unit_test(test_raw_formats),
        cmocka_unit_test(test_old_drivers),
        cmocka_unit_test(test_unplugged_and_back),
        cmocka_unit_test(test_unplugged_while_a_frame_is_out),
        cmocka_unit_test(test_key_frames_of_h264),
        cmocka_unit_test(test_what_is_behind_a_jpeg_is_not_kept),
        cmocka_unit_test(test_what_cannot_be_used_takes_no_room),
        cmocka_unit_test(test_damaged_frames),
        cmocka_unit_test(test_controls),
        cmocka_unit_test(test_controls_while_it_runs),
        cmocka_unit_test(test_a_device_in_words),
        cmocka_unit_test(test_a_device_of_many_words),
        cmocka_unit_test(test_why_a_device_is_no_camera),
        cmocka_unit_test(test_the_name_that_stays),
        cmocka_unit_test(test_devices_that_cannot_be_used),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
