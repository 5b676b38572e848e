/* Which devices libavcodec's V4L2 encoder may meet: made-up ones, behind a folder of
 * their names. */
#include <errno.h>
#include <linux/videodev2.h>
#include <stdlib.h>
#include <string.h>

#include "../../src/media/av/board.h"
#include "../support/support.h"

/* What a device has: formats of its queues, 0: none. */
typedef struct device {
    const char *name;
    uint32_t caps, in_type, in, out_type, out;
    bool refused; /* it cannot be opened */
} device;

static const uint32_t STREAMS = V4L2_CAP_STREAMING;

#define SPLANE                                                                           \
    V4L2_BUF_TYPE_VIDEO_OUTPUT, V4L2_PIX_FMT_YUV420, V4L2_BUF_TYPE_VIDEO_CAPTURE
#define MPLANE                                                                           \
    V4L2_BUF_TYPE_VIDEO_OUTPUT_MPLANE, V4L2_PIX_FMT_NV12M,                               \
        V4L2_BUF_TYPE_VIDEO_CAPTURE_MPLANE

static const device ENCODER = {"video11", V4L2_CAP_VIDEO_M2M_MPLANE, MPLANE,
                               V4L2_PIX_FMT_H264, false},
                    OLD_ENCODER = {"video3", V4L2_CAP_VIDEO_M2M, SPLANE,
                                   V4L2_PIX_FMT_H264, false},
                    DECODER = {"video10",
                               V4L2_CAP_VIDEO_M2M_MPLANE,
                               V4L2_BUF_TYPE_VIDEO_OUTPUT_MPLANE,
                               V4L2_PIX_FMT_H264,
                               V4L2_BUF_TYPE_VIDEO_CAPTURE_MPLANE,
                               V4L2_PIX_FMT_NV12M,
                               false},
                    WEBCAM = {"video0", V4L2_CAP_VIDEO_CAPTURE,      0,
                              0,        V4L2_BUF_TYPE_VIDEO_CAPTURE, V4L2_PIX_FMT_H264,
                              false},
                    LOOPBACK = {"video2", V4L2_CAP_VIDEO_CAPTURE, SPLANE,
                                V4L2_PIX_FMT_H264, false},
                    MINE = {"video2", V4L2_CAP_VIDEO_CAPTURE, SPLANE, V4L2_PIX_FMT_H264,
                            true};

typedef struct machine {
    const device *all[4];
    int open; /* devices that are */
} machine;

static int open_device(void *ctx, const char *path)
{
    machine *m = ctx;
    for (int i = 0; i < 4 && m->all[i]; i++) {
        if (strcmp(strrchr(path, '/') + 1, m->all[i]->name) != 0)
            continue;
        if (m->all[i]->refused)
            return -1;
        m->open++;
        return 100 + i;
    }
    fail_msg("%s is none of the devices", path);
    return -1;
}

static void close_device(void *ctx, int fd)
{
    machine *m = ctx;
    assert_true(fd >= 100);
    m->open--;
}

static int answer(void *ctx, int fd, unsigned long request, void *argument)
{
    const machine *m = ctx;
    const device *d = m->all[fd - 100];
    struct v4l2_capability *about = argument;
    struct v4l2_fmtdesc *format = argument;
    errno = EINVAL;
    if (request == VIDIOC_QUERYCAP) {
        about->capabilities =
            V4L2_CAP_DEVICE_CAPS | V4L2_CAP_VIDEO_M2M; /* of the board */
        about->device_caps = d->caps | STREAMS;
        return 0;
    }
    assert_int_equal(request, VIDIOC_ENUM_FMT);
    const uint32_t has = format->type == d->in_type    ? d->in
                         : format->type == d->out_type ? d->out
                                                       : 0;
    if (has == 0 || format->index > 1)
        return -1;
    format->pixelformat = format->index == 1 ? has : v4l2_fourcc('X', 'X', 'X', 'X');
    return 0;
}

static bool encodes(const device *a, const device *b, const device *c)
{
    machine m = {.all = {a, b, c}};
    const twi_board_calls calls = {open_device, close_device, answer, &m};
    char *folder = make_folder(), path[256];
    static const char *const others[] = {"null", "vide", "v4l"};
    for (size_t i = 0; i < sizeof others / sizeof *others; i++) {
        (void)snprintf(path, sizeof path, "%s/%s", folder, others[i]);
        write_text(path, "");
    }
    for (int i = 0; i < 4 && m.all[i]; i++) {
        (void)snprintf(path, sizeof path, "%s/%s", folder, m.all[i]->name);
        write_text(path, "");
    }
    const bool found = twi_board_encodes(&calls, folder);
    assert_int_equal(m.open, 0);
    remove_folder(folder);
    return found;
}

static void test_a_real_encoder_is_tried(void **state)
{
    (void)state;
    assert_true(encodes(&ENCODER, NULL, NULL));
    assert_true(encodes(&OLD_ENCODER, NULL, NULL));
    assert_true(encodes(&WEBCAM, &DECODER, &ENCODER));
}

static void test_what_is_none_is_not(void **state)
{
    (void)state;
    assert_false(encodes(NULL, NULL, NULL));
    assert_false(encodes(&DECODER, NULL, NULL));
    assert_false(encodes(&WEBCAM, &DECODER, NULL));
    assert_false(twi_board_encodes(NULL, "/nowhere"));
}

static void test_what_could_be_taken_for_one_forbids_it(void **state)
{
    (void)state;
    assert_false(encodes(&LOOPBACK, NULL, NULL));
    assert_false(encodes(&ENCODER, &LOOPBACK, NULL));
    for (int i = 0; i < 40; i++) { /* whichever comes first in its folder */
        char name[16];
        (void)snprintf(name, sizeof name, "video%d", 20 + i);
        device other = LOOPBACK;
        other.name = name;
        assert_false(encodes(&ENCODER, &other, NULL));
    }
    assert_true(encodes(&ENCODER, &MINE, NULL)); /* libavcodec cannot open it either */
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_real_encoder_is_tried),
        cmocka_unit_test(test_what_is_none_is_not),
        cmocka_unit_test(test_what_could_be_taken_for_one_forbids_it),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
