/* Writing captures. */
#include "writer.h"

#include <stdlib.h>
#include <string.h>

#include "../media/exif.h"

enum { WHY_BYTES = 256 }; /* of the line that says why a sighting began */

tw_status tw_job_copy(tw_job *job, const uint8_t *data, size_t bytes)
{
    uint8_t *copy = malloc(bytes ? bytes : 1);
    if (!copy)
        return TW_ENOMEM;
    if (bytes > 0)
        memcpy(copy, data, bytes);
    job->packet.data = copy;
    job->packet.size = bytes;
    return TW_OK;
}

static void tell_problem(const tw_writer *writer, const tw_job *job, const char *what,
                         const tw_error *why)
{
    if (!writer->told)
        return;
    tw_error line = {0};
    (void)tw_fail(&line, why->status, "%s of sighting %u not stored: %s", what,
                  (unsigned)job->sighting.number, why->text);
    const tw_event event = {.kind = TW_EVENT_PROBLEM,
                            .camera = job->lane->camera->name,
                            .t_us = job->packet.t_us,
                            .wall_us = job->packet.wall_us,
                            .status = why->status,
                            .text = line.text};
    writer->told(writer->ctx, &event);
}

static void tell_stored(const tw_writer *writer, const tw_lane *lane,
                        const tw_sighting *sighting, const tw_store_file *file,
                        const char *kind)
{
    if (!writer->told)
        return;
    const tw_event event = {.kind = TW_EVENT_STORED,
                            .camera = lane->camera->name,
                            .sighting = sighting,
                            .file = file->name,
                            .file_kind = kind,
                            .bytes = file->bytes};
    writer->told(writer->ctx, &event);
}

static tw_name_fields name_for(const tw_writer *writer, const tw_job *job,
                               const char *kind, const char *extension)
{
    tw_name_fields f = {.camera = job->lane->camera->name,
                        .kind = kind,
                        .sighting = job->sighting.number,
                        .n = job->n,
                        .extension = extension};
    const int64_t wall = job->packet.wall_us;
    tw_civil_split(wall, writer->clock.ops->offset_s(writer->clock.ctx, wall), &f.time);
    return f;
}

/* ---- stills ---------------------------------------------------------------------- */

static tw_status store_still(const tw_writer *writer, const tw_job *job,
                             tw_store_file *file, tw_error *err)
{
    const tw_name_fields name = name_for(writer, job, "still", "jpg");
    char why[WHY_BYTES];
    const tw_exif_fields exif = {.time = name.time,
                                 .camera = name.camera,
                                 .sighting = name.sighting,
                                 .why = tw_why_began(&job->sighting, why, sizeof why),
                                 .width = job->width,
                                 .height = job->height};
    uint8_t *tagged = NULL;
    size_t bytes = 0;
    tw_status st =
        tw_exif_add(job->packet.data, job->packet.size, &exif, &tagged, &bytes, err);
    if (st != TW_OK)
        return st;
    st = tw_store_begin(&writer->store, &name, file, err);
    if (st == TW_OK) {
        st = tw_store_append(&writer->store, file, tagged, bytes, err);
        if (st == TW_OK)
            st = tw_store_commit(&writer->store, file, err);
        else
            tw_store_abandon(&writer->store, file);
    }
    free(tagged);
    return st;
}

static void do_still(const tw_writer *writer, const tw_job *job)
{
    tw_error err = {0};
    tw_store_file file;
    if (store_still(writer, job, &file, &err) == TW_OK)
        tell_stored(writer, job->lane, &job->sighting, &file, "still");
    else
        tell_problem(writer, job, "still", &err);
}

/* ---- clips ----------------------------------------------------------------------- */

static tw_status write_clip(void *ctx, const void *data, size_t bytes, tw_error *err)
{
    tw_lane *lane = ctx;
    return tw_store_append(lane->own.store, &lane->own.file, data, bytes, err);
}

bool tw_clip_must_encode(const tw_codecs *codecs, const tw_camera_settings *camera,
                         const tw_stream *stream)
{
    switch ((tw_clip_video)camera->clip_video) {
    case TW_VIDEO_COPY: return false;
    case TW_VIDEO_H264: return stream->codec != TW_CODEC_H264;
    case TW_VIDEO_AUTO: break;
    }
    return !codecs->clip_carries(stream);
}

static tw_status begin_clip(const tw_writer *writer, tw_job *job, tw_error *err)
{
    tw_lane *lane = job->lane;
    job->stream.extra = job->packet.data;
    job->stream.extra_size = job->packet.size;
    lane->own.codecs = tw_codecs_load(err);
    if (!lane->own.codecs)
        return TW_ENOTSUP;
    const bool encode = tw_clip_must_encode(lane->own.codecs, lane->camera, &job->stream);
    if (!encode && !lane->own.codecs->clip_carries(&job->stream))
        return tw_fail(err, TW_ENOTSUP, "clips cannot carry %s: use clip_video = auto",
                       job->stream.codec_name);
    const tw_name_fields name = name_for(writer, job, "clip", "mp4");
    lane->own.store = &writer->store;
    tw_status st = tw_store_begin(&writer->store, &name, &lane->own.file, err);
    if (st != TW_OK)
        return st;
    char why[WHY_BYTES];
    const tw_clip_spec spec = {.stream = &job->stream,
                               .encode = encode,
                               .quality = (int)lane->camera->clip_quality,
                               .wall_us = job->packet.wall_us,
                               .why = tw_why_began(&job->sighting, why, sizeof why),
                               .sink = {write_clip, lane}};
    st = lane->own.codecs->clip_open(&spec, &lane->own.clip, err);
    if (st != TW_OK)
        tw_store_abandon(&writer->store, &lane->own.file);
    return st;
}

static void drop_clip(const tw_writer *writer, tw_lane *lane)
{
    if (!lane->own.clip)
        return;
    (void)lane->own.codecs->clip_close(lane->own.clip, NULL);
    lane->own.clip = NULL;
    tw_store_abandon(&writer->store, &lane->own.file);
}

static void do_begin(const tw_writer *writer, tw_job *job)
{
    tw_error err = {0};
    job->lane->own.skip = begin_clip(writer, job, &err) != TW_OK;
    if (job->lane->own.skip)
        tell_problem(writer, job, "clip", &err);
}

static void do_packet(const tw_writer *writer, const tw_job *job)
{
    tw_lane *lane = job->lane;
    tw_error err = {0};
    if (lane->own.skip || !lane->own.clip)
        return;
    if (lane->own.codecs->clip_packet(lane->own.clip, &job->packet, &err) == TW_OK)
        return;
    lane->own.skip = true;
    drop_clip(writer, lane);
    tell_problem(writer, job, "clip", &err);
}

static void do_end(const tw_writer *writer, const tw_job *job)
{
    tw_lane *lane = job->lane;
    tw_error err = {0};
    if (lane->own.skip || !lane->own.clip)
        return;
    tw_status st = lane->own.codecs->clip_close(lane->own.clip, &err);
    lane->own.clip = NULL;
    if (st == TW_OK)
        st = tw_store_commit(&writer->store, &lane->own.file, &err);
    else
        tw_store_abandon(&writer->store, &lane->own.file);
    if (st == TW_OK)
        tell_stored(writer, lane, &job->sighting, &lane->own.file, "clip");
    else
        tell_problem(writer, job, "clip", &err);
}

void tw_writer_do(tw_writer *writer, tw_job *job)
{
    switch (job->kind) {
    case TW_JOB_CLIP_BEGIN: do_begin(writer, job); break;
    case TW_JOB_CLIP_PACKET: do_packet(writer, job); break;
    case TW_JOB_CLIP_END: do_end(writer, job); break;
    case TW_JOB_STILL: do_still(writer, job); break;
    }
    free((void *)job->packet.data);
    job->packet.data = NULL;
}

static bool do_at_once(void *ctx, tw_job *job, bool wait)
{
    (void)wait;
    tw_writer_do(ctx, job);
    return true;
}

tw_job_sink tw_writer_sink(tw_writer *writer)
{
    return (tw_job_sink){do_at_once, writer};
}
