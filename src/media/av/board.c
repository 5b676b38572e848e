/* Encoders are memory-to-memory devices: raw video in, H.264 out (the kernel's Video for
 * Linux API, section 5, "Codec Interface"). */
#include "board.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <linux/videodev2.h>
#include <stdint.h>
#include <stdio.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

enum { DEVICES_MAX = 256, FORMATS_MAX = 64, AGAIN_MAX = 100 };

/* ---- the kernel ------------------------------------------------------------------ */

static int kernel_open(void *ctx, const char *path)
{
    (void)ctx;
    return open(path, O_RDWR | O_NONBLOCK | O_CLOEXEC);
}

static void kernel_close(void *ctx, int fd)
{
    (void)ctx;
    (void)close(fd);
}

static int kernel_ioctl(void *ctx, int fd, unsigned long request, void *argument)
{
    (void)ctx;
    return ioctl(fd, request, argument);
}

static int ask(const twi_board_calls *calls, int fd, unsigned long request,
               void *argument)
{
    int code = -1;
    for (int i = 0; i < AGAIN_MAX; i++) {
        code = calls->ioctl(calls->ctx, fd, request, argument);
        if (code == 0 || errno != EINTR)
            break;
    }
    return code;
}

/* ---- one device ------------------------------------------------------------------ */

/* Whether one of two queues, of one plane or of many, has a format. @param wanted  0: any
 * will do. */
static bool queue_has(const twi_board_calls *calls, int fd, const uint32_t type[2],
                      uint32_t wanted)
{
    for (int i = 0; i < 2; i++) {
        struct v4l2_fmtdesc format = {.type = type[i]};
        for (; format.index < FORMATS_MAX; format.index++) {
            if (ask(calls, fd, VIDIOC_ENUM_FMT, &format) != 0)
                break;
            if (wanted == 0 || format.pixelformat == wanted)
                return true;
        }
    }
    return false;
}

typedef enum kind { OTHER, ENCODER, TAKEN_FOR_ONE } kind;

static kind kind_of(const twi_board_calls *calls, int fd)
{
    static const uint32_t in[2] = {V4L2_BUF_TYPE_VIDEO_OUTPUT,
                                   V4L2_BUF_TYPE_VIDEO_OUTPUT_MPLANE},
                          out[2] = {V4L2_BUF_TYPE_VIDEO_CAPTURE,
                                    V4L2_BUF_TYPE_VIDEO_CAPTURE_MPLANE};
    struct v4l2_capability about;
    memset(&about, 0, sizeof about);
    if (ask(calls, fd, VIDIOC_QUERYCAP, &about) != 0 ||
        !queue_has(calls, fd, out, V4L2_PIX_FMT_H264) || !queue_has(calls, fd, in, 0))
        return OTHER;
    const uint32_t can = about.capabilities & V4L2_CAP_DEVICE_CAPS ? about.device_caps
                                                                   : about.capabilities;
    return can & (V4L2_CAP_VIDEO_M2M | V4L2_CAP_VIDEO_M2M_MPLANE) ? ENCODER
                                                                  : TAKEN_FOR_ONE;
}

static kind look_at(const twi_board_calls *calls, const char *folder, const char *name)
{
    char path[512];
    if (snprintf(path, sizeof path, "%s/%s", folder, name) >= (int)sizeof path)
        return OTHER;
    const int fd = calls->open(calls->ctx, path);
    if (fd < 0)
        return OTHER;
    const kind found = kind_of(calls, fd);
    calls->close(calls->ctx, fd);
    return found;
}

bool twi_board_encodes(const twi_board_calls *calls, const char *folder)
{
    static const twi_board_calls kernel = {kernel_open, kernel_close, kernel_ioctl, NULL};
    const struct dirent *entry = NULL;
    bool encoder = false, safe = true;
    DIR *all = opendir(folder);
    if (!all)
        return false;
    for (int i = 0; safe && i < DEVICES_MAX && (entry = readdir(all));) {
        if (strncmp(entry->d_name, "video", 5) != 0)
            continue;
        const kind found = look_at(calls ? calls : &kernel, folder, entry->d_name);
        encoder = encoder || found == ENCODER;
        safe = found != TAKEN_FOR_ONE;
        i++;
    }
    (void)closedir(all);
    return encoder && safe;
}
