/* A folder that another program drops pictures into: each is a frame once it is complete,
 * that is, closed after writing or moved there. What was there before is left alone. */
#include <errno.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>
#include <sys/inotify.h>
#include <sys/stat.h>
#include <unistd.h>

#include "../../media/jpeg.h"
#include "linux.h"
#include "../../base/system_error.h"

enum { WAIT_MS = 400, EVENTS_BYTES = 16384 };

typedef struct inbox_camera {
    tw_clock clock;
    uint32_t fps;
    char *path;
    int fd; /* of inotify; -1: closed */
    /* Of events that have been read: inotify aligns them as its struct. */
    _Alignas(struct inotify_event) char events[EVENTS_BYTES];
    size_t bytes, at;
    uint8_t *data;
    size_t capacity;
    int64_t last_us;
} inbox_camera;

static bool is_picture(const char *name)
{
    const char *dot = strrchr(name, '.');
    return dot && (strcasecmp(dot, ".jpg") == 0 || strcasecmp(dot, ".jpeg") == 0);
}

static void close_camera(void *ctx)
{
    inbox_camera *c = ctx;
    if (c->fd >= 0)
        (void)close(c->fd);
    c->fd = -1;
    c->bytes = c->at = 0;
}

static tw_status open_camera(void *ctx, tw_stream *stream, tw_error *err)
{
    inbox_camera *c = ctx;
    close_camera(c);
    c->fd = inotify_init1(IN_CLOEXEC | IN_NONBLOCK);
    if (c->fd < 0 || inotify_add_watch(c->fd, c->path,
                                       IN_CLOSE_WRITE | IN_MOVED_TO | IN_DELETE_SELF |
                                           IN_MOVE_SELF | IN_ONLYDIR) < 0) {
        const tw_status st =
            tw_fail(err, twi_status_of_errno(errno), "%s: %s", c->path, strerror(errno));
        close_camera(c);
        return st;
    }
    *stream = (tw_stream){
        .codec = TW_CODEC_MJPEG, .codec_name = "mjpeg", .fps_num = c->fps, .fps_den = 1};
    return TW_OK;
}

static tw_status read_events(inbox_camera *c, tw_error *err)
{
    struct pollfd in = {.fd = c->fd, .events = POLLIN};
    if (poll(&in, 1, WAIT_MS) <= 0)
        return TW_EAGAIN;
    const ssize_t n = read(c->fd, c->events, sizeof c->events);
    if (n < 0 && (errno == EAGAIN || errno == EINTR))
        return TW_EAGAIN;
    if (n <= 0)
        return tw_fail(err, TW_EIO, "%s: %s", c->path, strerror(errno));
    c->bytes = (size_t)n;
    c->at = 0;
    return TW_OK;
}

/* It was captured when its file was written, as far as anybody knows. */
static tw_status read_picture(inbox_camera *c, const char *name, tw_frame *frame,
                              tw_error *err)
{
    char path[4096 + 256];
    struct stat s;
    size_t bytes = 0;
    (void)snprintf(path, sizeof path, "%s/%s", c->path, name);
    const tw_status st = twi_jpeg_read_file(path, &c->data, &c->capacity, &bytes, err);
    if (st != TW_OK || stat(path, &s) != 0)
        return st != TW_OK ? st : tw_fail(err, TW_EDAMAGED, "%s: is gone", path);
    const int64_t now = c->clock.ops->now_us(c->clock.ctx);
    c->last_us = now > c->last_us ? now : c->last_us + 1;
    frame->packet = (tw_packet){.data = c->data,
                                .size = bytes,
                                .t_us = c->last_us,
                                .dts_us = c->last_us,
                                .wall_us = (int64_t)s.st_mtim.tv_sec * 1000000 +
                                           s.st_mtim.tv_nsec / 1000,
                                .key = true};
    return TW_OK;
}

/* The next event that has been read. @return TW_EAGAIN: it was none for us. */
static tw_status take_event(inbox_camera *c, tw_frame *frame, tw_error *err)
{
    const struct inotify_event *e = (const void *)(c->events + c->at);
    c->at += sizeof *e + e->len;
    if (e->mask & (IN_DELETE_SELF | IN_MOVE_SELF | IN_IGNORED))
        return tw_fail(err, TW_EIO, "%s: the folder is gone", c->path);
    if (e->mask & IN_Q_OVERFLOW)
        return tw_fail(err, TW_EDAMAGED,
                       "%s: pictures came too fast, and some were missed", c->path);
    if (e->len == 0 || !is_picture(e->name))
        return TW_EAGAIN;
    return read_picture(c, e->name, frame, err);
}

static tw_status next(void *ctx, tw_frame *frame, tw_error *err)
{
    inbox_camera *c = ctx;
    memset(frame, 0, sizeof *frame);
    tw_status st = c->at < c->bytes ? TW_OK : read_events(c, err);
    while (st == TW_OK && c->at < c->bytes) {
        st = take_event(c, frame, err);
        if (st != TW_EAGAIN)
            return st;
        st = TW_OK;
    }
    return st == TW_OK ? TW_EAGAIN : st;
}

static void destroy(void *ctx)
{
    inbox_camera *c = ctx;
    close_camera(c);
    free(c->data);
    free(c->path);
    free(c);
}

tw_status twi_linux_inbox_camera(const tw_camera_request *request, const char *path,
                                 tw_camera *out, tw_error *err)
{
    static const tw_camera_ops ops = {sizeof ops, "inbox",      TW_LIVE_RARE, open_camera,
                                      next,       close_camera, destroy,      NULL};
    inbox_camera *c = calloc(1, sizeof *c);
    if (!c || !(c->path = strdup(path))) {
        free(c);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    c->fd = -1;
    c->clock = request->clock;
    c->fps = request->fps;
    *out = (tw_camera){&ops, c};
    return TW_OK;
}
