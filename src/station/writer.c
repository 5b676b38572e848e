/* Writing captures. */
#include "writer.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../media/exif.h"
#include "upkeep.h"

enum {
    WHY_BYTES = 256,     /* of the line that says why a sighting began */
    ROOM_BYTES = 4000000 /* made at once on a full card, so that it is made seldom */
};

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
    if (job->kind == TW_JOB_TIMED)
        (void)tw_fail(&line, why->status, "timed still not stored: %s", why->text);
    else
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

/* ---- the catalogue --------------------------------------------------------------- */

/* A catalogue that cannot be written stops nothing, and is told once. */
static void tell_catalogue(tw_writer *writer, const char *camera, const tw_error *why)
{
    if (writer->catalogue_failed || !writer->told)
        return;
    writer->catalogue_failed = true;
    tw_error line = {0};
    (void)tw_fail(&line, why->status, "%s; captures go on without it", why->text);
    const tw_event event = {.kind = TW_EVENT_PROBLEM,
                            .camera = camera,
                            .status = why->status,
                            .text = line.text};
    writer->told(writer->ctx, &event);
}

/* @return the sighting's id, 0: it could not be written. */
static int64_t note_sighting(tw_writer *writer, const tw_job *job, bool over)
{
    const tw_camera_settings *camera = job->lane->camera;
    char why[WHY_BYTES];
    tw_error err = {0};
    int64_t id = 0;
    const tw_sighting_entry entry = {.camera = camera->name,
                                     .sighting = &job->sighting,
                                     .wall_offset_us = job->wall_offset_us,
                                     .start_ppm = (uint32_t)camera->start_ppm,
                                     .stay_ppm = (uint32_t)camera->stay_ppm,
                                     .why = tw_why_began(&job->sighting, why, sizeof why),
                                     .over = over};
    if (!writer->catalogue)
        return 0;
    if (tw_catalogue_note(writer->catalogue, &entry, &id, &err) != TW_OK)
        tell_catalogue(writer, camera->name, &err);
    return id;
}

static void note_capture(tw_writer *writer, const tw_job *job, const tw_store_file *file,
                         const char *kind, int64_t start_us)
{
    tw_error err = {0};
    const bool timed = job->kind == TW_JOB_TIMED;
    const int64_t id = timed ? 0 : note_sighting(writer, job, false);
    const tw_capture_record record = {.sighting = id,
                                      .camera = job->lane->camera->name,
                                      .kind = kind,
                                      .file = file->name,
                                      .bytes = file->bytes,
                                      .start_us = start_us};
    if (writer->catalogue && (id != 0 || timed) &&
        tw_catalogue_add(writer->catalogue, &record, &err) != TW_OK)
        tell_catalogue(writer, record.camera, &err);
}

static void tell_stored(tw_writer *writer, const tw_job *job, const tw_store_file *file,
                        const char *kind, int64_t start_us)
{
    note_capture(writer, job, file, kind, start_us);
    tw_upkeep(writer);
    if (!writer->told)
        return;
    const tw_event event = {.kind = TW_EVENT_STORED,
                            .camera = job->lane->camera->name,
                            .sighting = job->kind == TW_JOB_TIMED ? NULL : &job->sighting,
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

static tw_status append(tw_writer *writer, tw_store_file *file, const void *data,
                        size_t bytes, tw_error *err)
{
    tw_status st = tw_store_append(&writer->store, file, data, bytes, err);
    if (st == TW_ENOSPC && tw_upkeep_make_room(writer, bytes + ROOM_BYTES))
        st = tw_store_append(&writer->store, file, data, bytes, err);
    return st;
}

/* ---- stills ---------------------------------------------------------------------- */

static tw_status store_still(tw_writer *writer, const tw_job *job, tw_store_file *file,
                             tw_error *err)
{
    const bool timed = job->kind == TW_JOB_TIMED;
    const tw_name_fields name =
        name_for(writer, job, timed ? TW_KIND_TIMED : "still", "jpg");
    char why[WHY_BYTES];
    const tw_exif_fields exif = {
        .time = name.time,
        .camera = name.camera,
        .sighting = name.sighting,
        .why = timed ? NULL : tw_why_began(&job->sighting, why, sizeof why),
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
        st = append(writer, file, tagged, bytes, err);
        if (st == TW_OK)
            st = tw_store_commit(&writer->store, file, err);
        else
            tw_store_abandon(&writer->store, file);
    }
    free(tagged);
    return st;
}

static void do_still(tw_writer *writer, const tw_job *job)
{
    tw_error err = {0};
    tw_store_file file;
    const char *kind = job->kind == TW_JOB_TIMED ? TW_KIND_TIMED : "still";
    if (store_still(writer, job, &file, &err) == TW_OK)
        tell_stored(writer, job, &file, kind, job->packet.wall_us);
    else
        tell_problem(writer, job, "still", &err);
}

/* ---- clips ----------------------------------------------------------------------- */

/* A clip plays as far as it is safe on the card: a power cut costs no more than this. */
enum {
    SYNC_EVERY_US = 1000000,
    HEADER_BYTES = 4096 /* without its header nothing of it plays: safe at once */
};

static tw_status write_clip(void *ctx, const void *data, size_t bytes, tw_error *err)
{
    tw_lane *lane = ctx;
    tw_writer *writer = lane->own.writer;
    const int64_t now_us = writer->clock.ops->now_us(writer->clock.ctx);
    const bool in_header = lane->own.file.bytes < HEADER_BYTES;
    tw_status st = append(writer, &lane->own.file, data, bytes, err);
    if (st == TW_OK && (in_header || now_us - lane->own.synced_us >= SYNC_EVERY_US)) {
        st = tw_store_sync(&writer->store, &lane->own.file, err);
        lane->own.synced_us = now_us;
    }
    return st;
}

bool tw_clip_must_encode(const tw_codecs *codecs, const tw_camera_settings *camera,
                         const tw_stream *stream)
{
    switch ((tw_clip_video)camera->clip_video) {
    case TW_VIDEO_COPY: return false;
    case TW_VIDEO_H264: return stream->codec != TW_CODEC_H264;
    case TW_VIDEO_MJPEG:
        if (stream->codec == TW_CODEC_MJPEG)
            return false;
        break;
    case TW_VIDEO_AUTO: break;
    }
    /* What browsers play as it is. */
    const bool plays = stream->codec == TW_CODEC_H264 || stream->codec == TW_CODEC_H265;
    return !plays || !codecs->clip_carries(stream);
}

static tw_status begin_clip(tw_writer *writer, tw_job *job, tw_error *err)
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
    lane->own.writer = writer;
    lane->own.start_us = job->packet.wall_us;
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

static void do_begin(tw_writer *writer, tw_job *job)
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

static void do_end(tw_writer *writer, const tw_job *job)
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
        tell_stored(writer, job, &lane->own.file, "clip", lane->own.start_us);
    else
        tell_problem(writer, job, "clip", &err);
}

void tw_writer_do(tw_writer *writer, tw_job *job)
{
    switch (job->kind) {
    case TW_JOB_CLIP_BEGIN: do_begin(writer, job); break;
    case TW_JOB_CLIP_PACKET: do_packet(writer, job); break;
    case TW_JOB_CLIP_END: do_end(writer, job); break;
    case TW_JOB_STILL:
    case TW_JOB_TIMED: do_still(writer, job); break;
    case TW_JOB_BEGAN: (void)note_sighting(writer, job, false); break;
    case TW_JOB_ENDED: (void)note_sighting(writer, job, true); break;
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

/* ---- opening --------------------------------------------------------------------- */

/* Out of the way, under a name that tells; what SQLite keeps beside it goes with it. */
static tw_status move_aside(const tw_card *card, char name[64], tw_error *err)
{
    enum { KEPT_MAX = 99 };
    tw_status st = TW_EEXIST;
    for (int i = 1; st == TW_EEXIST && i <= KEPT_MAX; i++) {
        (void)snprintf(name, 64, "%s.old-%d", TW_CATALOGUE_FILE, i);
        st = card->ops->rename(card->ctx, TW_CATALOGUE_FILE, name, err);
    }
    (void)card->ops->remove(card->ctx, TW_CATALOGUE_FILE "-wal", NULL);
    (void)card->ops->remove(card->ctx, TW_CATALOGUE_FILE "-shm", NULL);
    return st;
}

static tw_status open_in(tw_writer *writer, const tw_card *card, tw_error *err)
{
    char path[1024];
    const char *folder = card->ops->folder(card->ctx);
    if (folder && snprintf(path, sizeof path, "%s/%s", folder, TW_CATALOGUE_FILE) >=
                      (int)sizeof path)
        return tw_fail(err, TW_ESIZE, "%s: the name of the store is too long", folder);
    tw_status st = tw_catalogue_open(folder ? path : NULL, true, &writer->catalogue, err);
    if (st == TW_OK)
        st = tw_catalogue_begin_run(writer->catalogue,
                                    writer->clock.ops->wall_us(writer->clock.ctx), err);
    if (st != TW_OK) {
        tw_catalogue_close(writer->catalogue);
        writer->catalogue = NULL;
    }
    return st;
}

/* One that is damaged is moved aside, and a new one made: the files are still there. */
static void open_catalogue(tw_writer *writer, const tw_card *card)
{
    char name[64];
    tw_error err = {0}, line = {0};
    tw_status st = open_in(writer, card, &err);
    if (st == TW_EDAMAGED && move_aside(card, name, &err) == TW_OK) {
        (void)tw_fail(
            &line, TW_EDAMAGED,
            "the catalogue was damaged: it is %s now, and a new one is made from "
            "the files",
            name);
        if (writer->told)
            writer->told(writer->ctx, &(tw_event){.kind = TW_EVENT_PROBLEM,
                                                  .status = TW_EDAMAGED,
                                                  .text = line.text});
        st = open_in(writer, card, &err);
    }
    if (st != TW_OK)
        tell_catalogue(writer, NULL, &err);
}

tw_status tw_store_rebuild(const tw_card *card, const tw_station_settings *settings,
                           tw_clock clock, tw_event_fn told, void *ctx, tw_error *err)
{
    char name[64];
    if (!card || !settings)
        return tw_fail(err, TW_EINVAL, "no store");
    tw_writer writer = {.clock = clock, .told = told, .ctx = ctx};
    tw_status st = move_aside(card, name, err);
    if (st == TW_ENOENT) /* it was lost */
        st = TW_OK;
    if (st == TW_OK)
        st = tw_store_open(&writer.store, card, settings, err);
    if (st == TW_OK)
        st = open_in(&writer, card, err);
    if (st == TW_OK)
        tw_upkeep_mend(&writer);
    tw_writer_close(&writer);
    return st;
}

tw_status tw_writer_open(tw_writer *writer, const tw_card *card,
                         const tw_station_settings *settings, tw_error *err)
{
    const tw_status st = tw_store_open(&writer->store, card, settings, err);
    writer->keep_free = (uint64_t)settings->keep_free;
    if (st == TW_OK)
        open_catalogue(writer, card);
    return st;
}

void tw_writer_close(tw_writer *writer)
{
    tw_catalogue_close(writer->catalogue);
    writer->catalogue = NULL;
}
