/* All footage of a camera into one file. */
#include <errno.h>
#include <stdio.h>
#include <string.h>

#include "pipeline.h"

static tw_status append(void *ctx, const void *data, size_t bytes, tw_error *err)
{
    if (fwrite(data, 1, bytes, ctx) == bytes)
        return TW_OK;
    return tw_fail(err, tw_status_of_errno(errno), "cannot write: %s", strerror(errno));
}

static tw_status copy_frames(const tw_camera *camera, const tw_codecs *codecs,
                             tw_clip *clip, const volatile int *stop, tw_error *err)
{
    tw_status st = TW_OK;
    while (st == TW_OK && !(stop && *stop)) {
        tw_frame frame;
        st = camera->ops->next(camera->ctx, &frame, err);
        if (st == TW_OK)
            st = tw_clip_copy(codecs, clip, &frame.packet, err);
        else if (st == TW_EAGAIN || st == TW_EDAMAGED)
            st = TW_OK; /* a frame that is lost is lost */
    }
    if (st == TW_EEND)
        return TW_OK;
    return st == TW_OK ? TW_ESTOPPED : st;
}

static tw_status write_all(const tw_camera *camera, const tw_camera_settings *settings,
                           const tw_stream *stream, FILE *file, const volatile int *stop,
                           tw_error *err)
{
    const tw_codecs *codecs = tw_codecs_load(err);
    tw_clip *clip = NULL;
    if (!codecs)
        return TW_ENOTSUP;
    const tw_clip_spec spec = {.stream = stream,
                               .encode = tw_clip_must_encode(codecs, settings, stream),
                               .quality = (int)settings->clip_quality,
                               .view = tw_view_of(settings, stream->turn),
                               .sink = {append, file}};
    tw_status st = codecs->clip_open(&spec, &clip, err);
    if (st != TW_OK)
        return st;
    st = copy_frames(camera, codecs, clip, stop, err);
    const tw_status closed = codecs->clip_close(clip, st == TW_OK ? err : NULL);
    return st == TW_OK ? closed : st;
}

tw_status tw_footage_write(const tw_board *board, const tw_camera_settings *camera,
                           const char *path, const volatile int *stop, tw_error *err)
{
    if (!board || !camera || !path)
        return tw_fail(err, TW_EINVAL, "nothing to write");
    const tw_camera_request request = tw_request_of(board, camera);
    tw_camera made = {0};
    tw_stream stream;
    FILE *file = NULL;
    tw_status st = tw_camera_make(board->makers, &request, &made, err);
    if (st != TW_OK)
        return st;
    st = made.ops->open(made.ctx, &stream, err);
    if (st == TW_OK && !(file = fopen(path, "wb")))
        st = tw_fail(err, tw_status_of_errno(errno), "%s: %s", path, strerror(errno));
    if (st == TW_OK)
        st = write_all(&made, camera, &stream, file, stop, err);
    if (file && fclose(file) != 0 && st == TW_OK)
        st = tw_fail(err, tw_status_of_errno(errno), "%s: %s", path, strerror(errno));
    made.ops->destroy(made.ctx);
    return st;
}
