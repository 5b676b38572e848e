/* A video file as a camera. */
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

#include "../../media/codecs.h"
#include "../recorded.h"
#include "linux.h"
#include "../request.h"

typedef struct file_camera {
    tw_camera_request request;
    char *path;
    const twi_codecs *codecs;
    twi_footage *footage;
    twi_recorded recorded;
    tw_packet waiting; /* read, but not due yet */
    bool has_waiting;
    bool sound;     /* that is sound */
    bool hears;     /* its sound is wanted */
    bool any;       /* this round has had a frame */
    bool failed;    /* and that has been said */
    uint8_t *extra; /* the stream's, kept while the file is begun again */
} file_camera;

static tw_status open_footage(file_camera *c, tw_stream *stream, int64_t *wall_us,
                              tw_error *err)
{
    c->codecs = twi_codecs_load(err);
    if (!c->codecs)
        return TW_ENOTSUP;
    tw_status st = c->codecs->footage_open(c->path, &c->footage, stream, wall_us, err);
    if (st == TW_OK && c->hears)
        st = c->codecs->footage_sound(c->footage, stream, err);
    return st;
}

/* When the footage began: by its own date, else so long before the file was last written
 * as it lasts. */
static int64_t began(const file_camera *c, const tw_stream *stream, int64_t wall_us)
{
    struct stat s;
    if (wall_us > 0 || stat(c->path, &s) != 0)
        return wall_us;
    return (int64_t)s.st_mtim.tv_sec * 1000000 + s.st_mtim.tv_nsec / 1000 -
           stream->length_us;
}

static void close_camera(void *ctx)
{
    file_camera *c = ctx;
    if (c->footage)
        c->codecs->footage_close(c->footage);
    c->footage = NULL;
    c->has_waiting = false;
}

static tw_status open_camera(void *ctx, tw_stream *stream, tw_error *err)
{
    file_camera *c = ctx;
    int64_t wall_us = 0;
    close_camera(c);
    c->any = c->failed = false;
    tw_status st = open_footage(c, stream, &wall_us, err);
    if (st == TW_OK)
        st = twi_linux_keep_extra(&c->extra, stream, err);
    if (st == TW_OK)
        twi_recorded_begin(&c->recorded, &c->request, began(c, stream, wall_us));
    return st;
}

/* Begin the file again. One that has given no frame would do so forever. */
static tw_status again(file_camera *c, tw_error *err)
{
    tw_stream stream;
    int64_t wall_us = 0;
    if (!c->any)
        return tw_fail(err, TW_EDAMAGED, "%s: no frame in it", c->path);
    close_camera(c);
    const tw_status st = open_footage(c, &stream, &wall_us, err);
    twi_recorded_again(&c->recorded);
    c->any = false;
    return st;
}

static tw_status next(void *ctx, tw_frame *frame, tw_error *err)
{
    file_camera *c = ctx;
    memset(frame, 0, sizeof *frame);
    while (!c->has_waiting) {
        if (c->failed || !c->footage)
            return TW_EEND;
        tw_status st = c->codecs->footage_next(c->footage, &c->waiting, err);
        if (st == TW_EEND && c->request.loop) {
            st = again(c, err);
            if (st == TW_OK)
                continue;
        }
        if (st != TW_OK) {
            c->failed = true; /* reading on would say the same forever */
            return st;
        }
        c->has_waiting = c->any = true;
        c->sound = c->codecs->footage_was_sound(c->footage);
    }
    frame->sound = c->sound;
    const tw_status st =
        c->sound ? twi_recorded_sound(&c->recorded, &c->waiting, &frame->packet)
                 : twi_recorded_deliver(&c->recorded, &c->waiting, &frame->packet);
    c->has_waiting = st != TW_OK;
    return st;
}

static void destroy(void *ctx)
{
    file_camera *c = ctx;
    close_camera(c);
    free(c->extra);
    free(c->path);
    free(c);
}

tw_status twi_linux_file_camera(const tw_camera_request *request, const char *path,
                                tw_camera *out, tw_error *err)
{
    static const tw_camera_ops ops = {sizeof ops, "file",       TW_RECORDED, open_camera,
                                      next,       close_camera, destroy,     NULL};
    file_camera *c = calloc(1, sizeof *c);
    if (!c || !(c->path = strdup(path))) {
        free(c);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    c->request = *request;
    c->hears = twi_request_hears(request);
    /* borrowed for the making only */
    c->request.name = c->request.source = c->request.sound = NULL;
    *out = (tw_camera){&ops, c};
    return TW_OK;
}
