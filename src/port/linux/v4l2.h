/* Cameras by V4L2: the seam to the kernel, and choosing a format. */
#ifndef TWI_V4L2_H
#define TWI_V4L2_H

#include <poll.h>
#include <stddef.h>
#include <stdint.h>
#include <sys/types.h>

#include "tawny/port.h"

/* The system calls that a device needs; tests put a device of their own behind them. */
typedef struct twi_v4l2_calls {
    int (*open)(void *ctx, const char *path, int flags);
    int (*close)(void *ctx, int fd);
    int (*ioctl)(void *ctx, int fd, unsigned long request, void *argument);
    void *(*map)(void *ctx, size_t bytes, int fd,
                 off_t offset); /* NULL: errno says why */
    int (*unmap)(void *ctx, void *memory, size_t bytes);
    int (*poll)(void *ctx, struct pollfd *fds, nfds_t count, int timeout_ms);
    void *ctx;
} twi_v4l2_calls;

/* One way in which a device can deliver. */
typedef struct twi_v4l2_mode {
    uint32_t fourcc; /* V4L2_PIX_FMT_... */
    uint32_t width, height;
    uint32_t fps_num, fps_den; /* frames a second; 0/1: it does not say */
} twi_v4l2_mode;

enum { TWI_V4L2_MODES_MAX = 512 };

/* What is wanted of a device. */
typedef struct twi_v4l2_wish {
    uint32_t fourcc;        /* 0: the cheapest */
    uint32_t width, height; /* 0: 1280 x 720, or what is nearest */
    uint32_t fps;
} twi_v4l2_wish;

/**
 * Choose a mode: of a format that can be used, compressed before raw, as that is cheap to
 * keep; of the size nearest to the wish; that is quick enough, and not quicker than it
 * must.
 *
 * @return its index, count: none can be used.
 */
size_t twi_v4l2_choose(const twi_v4l2_mode *modes, size_t count,
                       const twi_v4l2_wish *wish);

/** The modes of an open device whose formats can be used. @return how many there are, at
 * most TWI_V4L2_MODES_MAX.
 */
size_t twi_v4l2_modes(const twi_v4l2_calls *calls, int fd, twi_v4l2_mode *out);

/** "MJPG": its four letters, ended by 0. */
const char *twi_v4l2_fourcc(uint32_t fourcc, char out[5]);

/** An ioctl, again while it is interrupted. @return 0; -1: errno says why. */
int twi_v4l2_ask(const twi_v4l2_calls *calls, int fd, unsigned long request,
                 void *argument);

/**
 * Set controls of an open device: "exposure_time_absolute=120, gain=3".
 *
 * @param device  For messages.
 * @return TW_OK; TW_ENOENT: it has no such control, and err names those it has;
 *         TW_EINVAL: a value that cannot be read or is out of its range; TW_EIO.
 */
tw_status twi_v4l2_set_controls(const twi_v4l2_calls *calls, int fd, const char *device,
                                const char *controls, tw_error *err);

enum { TWI_V4L2_WORDS = 1024 };

/* A device in words. */
typedef struct twi_v4l2_about {
    char name[64];
    char modes[TWI_V4L2_WORDS];    /* "MJPG 640x480@30, ..." */
    char controls[TWI_V4L2_WORDS]; /* "gain 1 to 100 (now 16), ..." */
    char choice[160];              /* the mode that is taken without a wish, and why */
    char why_not[64];              /* it cannot be a camera; "" where that is not known */
    bool usable;                   /* it can be one */
} twi_v4l2_about;

/** @return false: there is no such device. */
bool twi_v4l2_describe(const twi_v4l2_calls *calls, const char *path,
                       twi_v4l2_about *out);

/** The link to a device in a folder of links that are named by make and serial number.
 * @param path  "/dev/video0". @param out  Set to its path, "" where there is none. */
void twi_v4l2_stable(const char *folder, const char *path, char *out, size_t capacity);

/** A device as a camera. @param calls Outlives it; NULL: the kernel's. */
tw_status twi_v4l2_camera(const twi_v4l2_calls *calls, const tw_camera_request *request,
                          const char *path, tw_camera *out, tw_error *err);

/** The kernel's own. */
const twi_v4l2_calls *twi_v4l2_kernel(void);

#endif
