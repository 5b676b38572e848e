/* A folder of JPEG pictures as a camera, in the order of their names: numbers count as
 * numbers, so that 10 comes after 9. */
#include <dirent.h>
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>
#include <sys/stat.h>

#include "../../media/jpeg.h"
#include "../recorded.h"
#include "linux.h"
#include "../../base/system_error.h"

typedef struct folder_camera {
    tw_camera_request request;
    char *path;
    struct dirent **entries;
    int count, at; /* pictures; the next one */
    uint8_t *data; /* of the current picture */
    size_t capacity;
    tw_packet waiting;
    bool has_waiting;
    twi_recorded recorded;
} folder_camera;

static int is_picture(const struct dirent *entry)
{
    const char *dot = strrchr(entry->d_name, '.');
    return dot && (strcasecmp(dot, ".jpg") == 0 || strcasecmp(dot, ".jpeg") == 0);
}

static void close_camera(void *ctx)
{
    folder_camera *c = ctx;
    for (int i = 0; i < c->count; i++)
        free(c->entries[i]);
    free(c->entries);
    c->entries = NULL;
    c->count = c->at = 0;
    c->has_waiting = false;
}

static int64_t written_at(const folder_camera *c, const char *name)
{
    char path[4096 + 256];
    struct stat s;
    (void)snprintf(path, sizeof path, "%s/%s", c->path, name);
    if (stat(path, &s) != 0)
        return 0;
    return (int64_t)s.st_mtim.tv_sec * 1000000 + s.st_mtim.tv_nsec / 1000;
}

static tw_status open_camera(void *ctx, tw_stream *stream, tw_error *err)
{
    folder_camera *c = ctx;
    close_camera(c);
    const int count = scandir(c->path, &c->entries, is_picture, versionsort);
    if (count < 0)
        return tw_fail(err, twi_status_of_errno(errno), "%s: %s", c->path,
                       strerror(errno));
    c->count = count;
    if (count == 0)
        return tw_fail(err, TW_ENOENT, "%s: no JPEG pictures in this folder", c->path);
    twi_recorded_begin(&c->recorded, &c->request, written_at(c, c->entries[0]->d_name));
    *stream = (tw_stream){.codec = TW_CODEC_MJPEG,
                          .codec_name = "mjpeg",
                          .fps_num = c->request.fps,
                          .fps_den = 1,
                          .length_us = (int64_t)count * 1000000 / c->request.fps};
    return TW_OK;
}

static tw_status read_picture(folder_camera *c, const char *name, size_t *bytes,
                              tw_error *err)
{
    char path[4096 + 256];
    (void)snprintf(path, sizeof path, "%s/%s", c->path, name);
    return twi_jpeg_read_file(path, &c->data, &c->capacity, bytes, err);
}

static tw_status next(void *ctx, tw_frame *frame, tw_error *err)
{
    folder_camera *c = ctx;
    memset(frame, 0, sizeof *frame);
    if (!c->has_waiting) {
        if (c->at == c->count && c->request.loop) {
            twi_recorded_again(&c->recorded);
            c->at = 0;
        }
        if (c->at >= c->count)
            return TW_EEND;
        const int index = c->at++;
        size_t bytes = 0;
        const tw_status st = read_picture(c, c->entries[index]->d_name, &bytes, err);
        if (st != TW_OK)
            return st;
        const int64_t t = (int64_t)index * 1000000 / c->request.fps;
        c->waiting = (tw_packet){
            .data = c->data, .size = bytes, .t_us = t, .dts_us = t, .key = true};
        c->has_waiting = true;
    }
    const tw_status st = twi_recorded_deliver(&c->recorded, &c->waiting, &frame->packet);
    c->has_waiting = st != TW_OK;
    return st;
}

static void destroy(void *ctx)
{
    folder_camera *c = ctx;
    close_camera(c);
    free(c->data);
    free(c->path);
    free(c);
}

tw_status twi_linux_folder_camera(const tw_camera_request *request, const char *path,
                                  tw_camera *out, tw_error *err)
{
    static const tw_camera_ops ops = {sizeof ops, "folder",     TW_RECORDED, open_camera,
                                      next,       close_camera, destroy,     NULL};
    folder_camera *c = calloc(1, sizeof *c);
    if (!c || !(c->path = strdup(path))) {
        free(c);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    c->request = *request;
    c->request.name = c->request.source = NULL;
    *out = (tw_camera){&ops, c};
    return TW_OK;
}
