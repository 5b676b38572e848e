/* All footage of a camera into one file. */
#include <errno.h>
#include <stdio.h>
#include <string.h>

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

/* A file that a camera's frames go into. */
typedef struct footage_file {
    const twi_codecs *codecs;
    twi_clip *clip;
    bool encodes;
    tw_stream source;
} footage_file;

static tw_status add_frame(footage_file *f, const tw_frame *frame, tw_error *err)
{
    tw_frame own = *frame;
    twi_buffer *buffer = twi_buffer_frame(frame);
    if (!buffer)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    twi_frame_complete(&own);
    const tw_status st = twi_clip_frame(f->codecs, f->clip, f->encodes, &f->source,
                                        &own.packet, buffer, err);
    twi_buffer_unref(buffer);
    return st;
}

static tw_status copy_frames(const tw_camera *camera, footage_file *f,
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
    footage_file f = {.codecs = twi_codecs_load(err), .source = *stream};
    if (!f.codecs)
        return TW_ENOTSUP;
    f.encodes = twi_clip_must_encode(f.codecs, settings, stream);
    const tw_stream made_of = twi_clip_stream(stream, f.encodes);
    const twi_clip_spec spec = {.stream = &made_of,
                                .encode = f.encodes,
                                .quality = (int)settings->clip_quality,
                                .view = twi_view_of(settings, stream->turn),
                                .sink = {append, file}};
    tw_status st = f.codecs->clip_open(&spec, &f.clip, err);
    if (st != TW_OK)
        return st;
    st = copy_frames(camera, &f, stop, err);
    const tw_status closed = f.codecs->clip_close(f.clip, st == TW_OK ? err : NULL);
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
