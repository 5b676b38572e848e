/* Writing captures. */
#include "catalogue_write.h"
#include "writer.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../media/exif.h"
#include "../media/jpeg.h"
#include "../media/raw.h"
#include "catalogue.h"
#include "upkeep.h"

enum {
    PATH_BYTES = 1024,
    WHY_BYTES = 256,      /* of the line that says why a sighting began */
    RETRY_US = 10000000,  /* until a catalogue that failed is opened again */
    ROOM_BYTES = 4000000, /* made at once on a full card, so that it is made seldom */
    UNIT_BYTES = 65536,   /* more than is needed: cards give room in units */
    CHECK_BYTES = 128000  /* written until it is looked again whether there is room */
};

/* Until room is made again where it was of no use. */
#define USELESS_US (INT64_C(3600) * 1000000)

static int64_t now_of(const twi_writer *writer)
{
    return writer->clock.ops->now_us(writer->clock.ctx);
}

static void tell_problem(const twi_writer *writer, const twi_job *job, tw_kind what,
                         const tw_error *why)
{
    if (!writer->callback)
        return;
    tw_error line = {0};
    if (tw_kind_of_sighting(what))
        (void)tw_fail(&line, why->status, "%s of sighting %u not stored: %s",
                      tw_kind_name(what), (unsigned)job->sighting.number, why->text);
    else
        (void)tw_fail(&line, why->status, "%s not stored: %s", tw_kind_name(what),
                      why->text);
    const tw_event event = {.kind = TW_EVENT_PROBLEM,
                            .camera = job->channel->camera->name,
                            .t_us = job->packet.t_us,
                            .wall_us = job->packet.wall_us,
                            .file_kind = tw_kind_name(what),
                            .lost = true,
                            .status = why->status,
                            .text = line.text};
    writer->callback(writer->ctx, &event);
}

/* ---- the catalogue --------------------------------------------------------------- */

/* A catalogue that cannot be written stops nothing, and is told once. It is opened anew
 * when the card can be written again. */
static void tell_catalogue(twi_writer *writer, const char *camera, const tw_error *why)
{
    const bool reported = writer->catalogue_failed;
    __atomic_store_n(&writer->catalogue_failed, true, __ATOMIC_RELAXED);
    writer->retry_us = now_of(writer) + RETRY_US;
    if (reported || !writer->callback)
        return;
    tw_error line = {0};
    (void)tw_fail(&line, why->status, "%s; captures go on without it", why->text);
    const tw_event event = {.kind = TW_EVENT_PROBLEM,
                            .camera = camera,
                            .status = why->status,
                            .text = line.text};
    writer->callback(writer->ctx, &event);
}

twi_stamp twi_writer_stamp(const twi_writer *writer, int64_t wall_us)
{
    bool trusted = writer->clock.ops->trusted(writer->clock.ctx, wall_us);
    twi_stamp stamp = {.wall_us = twi_timing_right(&writer->timing, wall_us, &trusted)};
    stamp.order_us = twi_timing_order(&writer->timing, stamp.wall_us);
    stamp.unsure = !trusted;
    return stamp;
}

/* @return the sighting's id, 0: it could not be written. */
static int64_t note_sighting(twi_writer *writer, const twi_job *job, bool over)
{
    const tw_camera_settings *camera = job->channel->camera;
    char why[WHY_BYTES];
    tw_error err = {0};
    int64_t id = 0;
    const int64_t start_us = job->sighting.start_us;
    const twi_stamp stamp = twi_writer_stamp(writer, start_us + job->wall_offset_us);
    const twi_sighting_entry entry = {.camera = camera->name,
                                      .sighting = &job->sighting,
                                      .wall_offset_us = stamp.wall_us - start_us,
                                      .start_ppm = (uint32_t)camera->start_ppm,
                                      .stay_ppm = (uint32_t)camera->stay_ppm,
                                      .why =
                                          tw_why_began(&job->sighting, why, sizeof why),
                                      .over = over,
                                      .order_us = stamp.order_us,
                                      .unsure = stamp.unsure,
                                      .by_number = writer->numbers_for_good};
    if (!writer->catalogue)
        return 0;
    if (twi_catalogue_put(writer->catalogue, &entry, &id, &err) != TW_OK)
        tell_catalogue(writer, camera->name, &err);
    return id;
}

static void note_capture(twi_writer *writer, const twi_job *job,
                         const twi_store_file *file, tw_kind kind, const twi_stamp *stamp)
{
    tw_error err = {0};
    const bool homeless = !tw_kind_of_sighting(kind);
    const int64_t id = homeless ? 0 : note_sighting(writer, job, false);
    const tw_capture_record record = {.sighting = id,
                                      .camera = job->channel->camera->name,
                                      .kind = tw_kind_name(kind),
                                      .file = file->name,
                                      .bytes = file->bytes,
                                      .start_us = stamp->wall_us,
                                      .order_us = stamp->order_us,
                                      .unsure = stamp->unsure};
    if (writer->catalogue && (id != 0 || homeless) &&
        twi_catalogue_add(writer->catalogue, &record, &err) != TW_OK)
        tell_catalogue(writer, record.camera, &err);
}

static void note_trace(twi_writer *writer, const twi_job *job)
{
    tw_error err = {0};
    twi_trace_minute minute;
    memcpy(&minute, job->buffer->data, sizeof minute);
    const twi_stamp stamp = twi_writer_stamp(writer, minute.start_us);
    minute.start_us = stamp.wall_us;
    if (writer->catalogue &&
        twi_catalogue_add_trace(writer->catalogue, job->channel->camera->name, &minute,
                                stamp.unsure, &err) != TW_OK)
        tell_catalogue(writer, job->channel->camera->name, &err);
}

static void add_log_entry(twi_writer *writer, const twi_job *job)
{
    tw_error err = {0};
    const twi_stamp stamp = twi_writer_stamp(writer, job->packet.wall_us);
    const tw_log_entry entry = {.camera =
                                    job->channel ? job->channel->camera->name : NULL,
                                .at_us = stamp.wall_us,
                                .what = job->happened,
                                .text = (const char *)job->buffer->data,
                                .unsure = stamp.unsure};
    if (writer->catalogue &&
        twi_catalogue_happened(writer->catalogue, &entry, &err) != TW_OK)
        tell_catalogue(writer, entry.camera, &err);
}

static void tell_stored(twi_writer *writer, const twi_job *job,
                        const twi_store_file *file, tw_kind kind, const twi_stamp *stamp)
{
    note_capture(writer, job, file, kind, stamp);
    twi_upkeep(writer);
    if (!writer->callback)
        return;
    const tw_event event = {.kind = TW_EVENT_STORED,
                            .camera = job->channel->camera->name,
                            .sighting = tw_kind_of_sighting(kind) ? &job->sighting : NULL,
                            .file = file->name,
                            .file_kind = tw_kind_name(kind),
                            .bytes = file->bytes};
    writer->callback(writer->ctx, &event);
}

static tw_name_fields name_for(const twi_writer *writer, const twi_job *job, tw_kind kind,
                               const twi_stamp *stamp)
{
    tw_name_fields f = {.camera = job->channel->camera->name,
                        .kind = tw_kind_name(kind),
                        .sighting = job->sighting.number,
                        .n = job->n,
                        .extension = tw_kind_is_video(kind) ? "mp4" : "jpg"};
    const int64_t wall = stamp->wall_us;
    tw_civil_split(wall, writer->clock.ops->offset_s(writer->clock.ctx, wall), &f.time);
    return f;
}

/* What the card has taken of the time, for whoever wonders what is slow. */
static tw_status took(twi_writer *writer, int64_t began_us, tw_status st)
{
    writer->card_us += now_of(writer) - began_us;
    return st;
}

/* Room is made where a card is full, for what is to be written. @return false: there is
 * none to be made, or it was of no use a short while ago: a card that takes nothing
 * whatever goes (a broken one, somebody's quota) must not cost all that there is. */
static bool make_room(twi_writer *writer, uint64_t bytes)
{
    return (writer->useless_until_us == 0 ||
            now_of(writer) >= writer->useless_until_us) &&
           twi_upkeep_make_room(writer, bytes, UNIT_BYTES);
}

/* @param st  Of the second try. @return the same. */
static tw_status note_room(twi_writer *writer, tw_status st)
{
    const tw_card *card = &writer->store.card;
    const bool useless = st == TW_ENOSPC;
    uint64_t free_bytes = 0, total = 0;
    writer->useless_until_us = useless ? now_of(writer) + USELESS_US : 0;
    if (!useless && card->ops->space(card->ctx, &free_bytes, &total, NULL) == TW_OK &&
        free_bytes < ROOM_BYTES)
        (void)twi_upkeep_make_room(writer, 0, ROOM_BYTES - free_bytes);
    return st;
}

/* Room is made while there is still some: a clip that runs must not find the card full,
 * nor must the catalogue. */
static tw_status append(twi_writer *writer, twi_store_file *file, const void *data,
                        size_t bytes, tw_error *err)
{
    writer->unchecked_bytes += bytes;
    if (writer->unchecked_bytes >= CHECK_BYTES) {
        writer->unchecked_bytes = 0;
        twi_upkeep_keep_free(writer);
    }
    const int64_t began_us = now_of(writer);
    tw_status st = twi_store_append(&writer->store, file, data, bytes, err);
    if (st == TW_ENOSPC && make_room(writer, bytes))
        st = note_room(writer, twi_store_append(&writer->store, file, data, bytes, err));
    return took(writer, began_us, st);
}

static tw_status begin_file(twi_writer *writer, const tw_name_fields *name,
                            twi_store_file *file, tw_error *err)
{
    const int64_t began_us = now_of(writer);
    tw_status st = twi_store_begin(&writer->store, name, file, err);
    if (st == TW_ENOSPC && make_room(writer, 1))
        st = note_room(writer, twi_store_begin(&writer->store, name, file, err));
    return took(writer, began_us, st);
}

static tw_status commit(twi_writer *writer, twi_store_file *file, tw_error *err)
{
    const int64_t began_us = now_of(writer);
    return took(writer, began_us, twi_store_commit(&writer->store, file, err));
}

/* ---- stills ---------------------------------------------------------------------- */

/* The picture with our EXIF before its own segments, which go to the card as they are. */
static tw_status append_still(twi_writer *writer, twi_store_file *file,
                              const twi_job *job, const twi_exif_fields *exif,
                              tw_error *err)
{
    uint8_t *head = NULL;
    size_t bytes = 0;
    tw_status st =
        twi_exif_head(job->packet.data, job->packet.size, exif, &head, &bytes, err);
    if (st == TW_OK)
        st = append(writer, file, head, bytes, err);
    if (st == TW_OK)
        st = append(writer, file, job->packet.data + TWI_EXIF_REPLACES,
                    job->packet.size - TWI_EXIF_REPLACES, err);
    free(head);
    return st;
}

static tw_status store_still(twi_writer *writer, const twi_job *job,
                             const twi_stamp *stamp, twi_store_file *file, tw_error *err)
{
    const tw_name_fields name = name_for(writer, job, job->what, stamp);
    char why[WHY_BYTES];
    const twi_exif_fields exif = {.time = name.time,
                                  .camera = name.camera,
                                  .sighting = name.sighting,
                                  .why =
                                      tw_kind_of_sighting(job->what)
                                          ? tw_why_began(&job->sighting, why, sizeof why)
                                          : NULL,
                                  .width = job->width,
                                  .height = job->height};
    tw_status st = begin_file(writer, &name, file, err);
    if (st != TW_OK)
        return st;
    st = append_still(writer, file, job, &exif, err);
    if (st == TW_OK)
        return commit(writer, file, err);
    twi_store_abandon(&writer->store, file);
    return st;
}

static void do_still(twi_writer *writer, const twi_job *job)
{
    tw_error err = {0};
    twi_store_file file;
    const twi_stamp stamp = twi_writer_stamp(writer, job->packet.wall_us);
    if (store_still(writer, job, &stamp, &file, &err) == TW_OK)
        tell_stored(writer, job, &file, job->what, &stamp);
    else
        tell_problem(writer, job, job->what, &err);
}

static twi_caption_fields caption_fields(const twi_writer *writer,
                                         const tw_camera_settings *camera,
                                         uint32_t sighting, int64_t wall_us)
{
    twi_caption_fields f = {
        .camera = camera->name, .station = writer->store.station, .sighting = sighting};
    const twi_stamp stamp = twi_writer_stamp(writer, wall_us);
    tw_civil_split(stamp.wall_us,
                   writer->clock.ops->offset_s(writer->clock.ctx, stamp.wall_us),
                   &f.time);
    return f;
}

/* Put another picture into a still's place. @param jpeg  Taken over. */
static tw_status replace_still(twi_job *job, uint8_t *jpeg, size_t bytes, tw_error *err)
{
    twi_buffer *made = twi_buffer_adopt(jpeg, bytes);
    if (!made)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    made->activity_ppm = job->buffer->activity_ppm;
    twi_buffer_unref(job->buffer);
    job->buffer = made;
    job->packet.data = made->data;
    job->packet.size = made->size;
    return TW_OK;
}

tw_view twi_view_of(const tw_camera_settings *camera, tw_turn lies)
{
    const tw_turn wanted = {(uint8_t)camera->rotate, camera->mirror};
    return (tw_view){tw_turn_then(lies, wanted), camera->crop};
}

/* Turn and crop a still as its camera's pictures are. One that cannot be is stored as it
 * came. */
static void show_still(twi_writer *writer, twi_job *job)
{
    const tw_view view = twi_view_of(job->channel->camera, job->turn);
    tw_error err = {0};
    uint8_t *jpeg = NULL;
    size_t bytes = 0;
    if (tw_view_is_plain(&view))
        return;
    tw_status st = twi_jpeg_view(job->packet.data, job->packet.size, &view, &jpeg, &bytes,
                                 &job->width, &job->height, &err);
    if (st == TW_OK)
        st = replace_still(job, jpeg, bytes, &err);
    if (st != TW_OK)
        tell_problem(writer, job, job->what, &err);
}

/* Put the still's captioned copy into its place. */
static tw_status add_caption(const twi_writer *writer, twi_job *job, tw_error *err)
{
    twi_caption *caption = NULL;
    uint8_t *jpeg = NULL;
    size_t bytes = 0;
    twi_caption_fields fields = caption_fields(writer, job->channel->camera,
                                               job->sighting.number, job->packet.wall_us);
    fields.activity_ppm = job->buffer->activity_ppm;
    tw_status st = twi_caption_new(job->channel->camera, &caption, err);
    if (st == TW_OK)
        st = twi_caption_jpeg(caption, &fields, job->packet.data, job->packet.size,
                              (int)job->channel->camera->still_quality, &jpeg, &bytes,
                              err);
    twi_caption_free(caption);
    return st == TW_OK ? replace_still(job, jpeg, bytes, err) : st;
}

static bool has_caption(const twi_channel *channel, int64_t on)
{
    return channel->camera->caption && channel->camera->caption[0] != '\0' &&
           (channel->camera->caption_on & on) != 0;
}

/* A raw picture is encoded here at last. */
static tw_status encode_still(twi_job *job, tw_error *err)
{
    uint8_t *jpeg = NULL;
    size_t bytes = 0;
    if (!job->buffer->planes.px[0])
        return TW_OK;
    const tw_status st =
        tw_picture_jpeg(&job->buffer->planes, (int)job->channel->camera->still_quality,
                        &jpeg, &bytes, err);
    return st == TW_OK ? replace_still(job, jpeg, bytes, err) : st;
}

/* A still, as it is and with its caption, as is wanted. */
static void do_stills(twi_writer *writer, twi_job *job)
{
    tw_error err = {0};
    const bool with =
        job->what == TW_KIND_STILL && has_caption(job->channel, TW_CAPTION_STILLS);
    if (encode_still(job, &err) != TW_OK) {
        tell_problem(writer, job, job->what, &err);
        return;
    }
    show_still(writer, job);
    if (!with || job->channel->camera->caption_clean)
        do_still(writer, job);
    if (!with)
        return;
    if (add_caption(writer, job, &err) == TW_OK) {
        job->what = TW_KIND_CAPTIONED_STILL;
        do_still(writer, job);
        return;
    }
    tell_problem(writer, job, TW_KIND_CAPTIONED_STILL, &err);
    if (!job->channel->camera->caption_clean) /* better without than not at all */
        do_still(writer, job);
}

/* ---- videos ---------------------------------------------------------------------- */

/* A clip plays as far as it is safe on the card: a power cut costs no more than this. */
enum {
    SYNC_EVERY_US = 1000000,
    HEADER_BYTES = 4096 /* without its header nothing of it plays: safe at once */
};

static tw_status write_video(void *ctx, const void *data, size_t bytes, tw_error *err)
{
    twi_recording *r = ctx;
    twi_writer *writer = r->writer;
    const bool in_header = r->file.bytes < HEADER_BYTES;
    const tw_status st = append(writer, &r->file, data, bytes, err);
    const int64_t now_us = now_of(writer);
    if (st != TW_OK || (!in_header && now_us - r->synced_us < SYNC_EVERY_US))
        return st;
    r->synced_us = now_us;
    return took(writer, now_us, twi_store_sync(&writer->store, &r->file, err));
}

bool twi_clip_must_encode(const twi_codecs *codecs, const tw_camera_settings *camera,
                          const tw_stream *stream)
{
    switch ((tw_clip_video)camera->clip_video) {
    case TW_VIDEO_COPY: return false;
    case TW_VIDEO_H264:
        return stream->codec != TW_CODEC_H264 || !tw_crop_is_whole(&camera->crop);
    case TW_VIDEO_MJPEG:
        if (stream->codec == TW_CODEC_MJPEG || stream->codec == TW_CODEC_RAW)
            return false;
        break;
    case TW_VIDEO_AUTO: break;
    }
    /* What browsers play as it is. */
    const bool plays = stream->codec == TW_CODEC_H264 || stream->codec == TW_CODEC_H265;
    return !plays || !tw_crop_is_whole(&camera->crop) || !codecs->clip_carries(stream);
}

static tw_status paint_caption(void *ctx, const twi_canvas *canvas, int64_t t_us,
                               uint32_t activity_ppm, tw_error *err)
{
    const twi_recording *r = ctx;
    twi_caption_fields fields = caption_fields(r->writer, r->camera, r->sighting.number,
                                               t_us + r->wall_offset_us);
    fields.activity_ppm = activity_ppm;
    return twi_caption_draw(r->caption, &fields, canvas, err);
}

tw_stream twi_clip_stream(const tw_stream *stream, bool encode)
{
    tw_stream s = *stream;
    if (s.codec == TW_CODEC_RAW && !encode) {
        s.codec = TW_CODEC_MJPEG;
        s.codec_name = "mjpeg";
    }
    return s;
}

static tw_status open_clip(const twi_job *job, tw_kind kind, twi_recording *r,
                           tw_error *err)
{
    char why[WHY_BYTES];
    r->encodes =
        r->caption || twi_clip_must_encode(r->codecs, job->channel->camera, &job->stream);
    r->source = job->stream;
    tw_stream stream = twi_clip_stream(&job->stream, r->encodes);
    stream.extra = job->buffer->data;
    const twi_clip_spec spec = {.stream = &stream,
                                .encode = r->encodes,
                                .quality = (int)job->channel->camera->clip_quality,
                                .view = twi_view_of(job->channel->camera, stream.turn),
                                .wall_us = r->stamp.unsure ? 0 : r->stamp.wall_us,
                                .why = tw_kind_of_sighting(kind)
                                           ? tw_why_began(&job->sighting, why, sizeof why)
                                           : NULL,
                                .sink = {write_video, r},
                                .painter = {r->caption ? paint_caption : NULL, r}};
    if (!spec.encode && !r->codecs->clip_carries(&stream))
        return tw_fail(err, TW_ENOTSUP, "clips cannot carry %s: use clip_video = auto",
                       stream.codec_name);
    return r->codecs->clip_open(&spec, &r->clip, err);
}

/* @return st. */
static tw_status give_up(twi_recording *r, tw_status st)
{
    twi_caption_free(r->caption);
    r->caption = NULL;
    twi_snapshot_release(r->snapshot);
    r->snapshot = NULL;
    return st;
}

static tw_status begin_video(twi_writer *writer, const twi_job *job, tw_kind kind,
                             tw_error *err)
{
    twi_recording *r = &job->channel->own[kind];
    r->writer = writer;
    r->camera = job->channel->camera;
    r->sighting = job->sighting;
    r->wall_offset_us = job->wall_offset_us;
    r->stamp = twi_writer_stamp(writer, job->packet.wall_us);
    r->codecs = twi_codecs_load(err);
    if (!r->codecs)
        return TW_ENOTSUP;
    tw_status st = TW_OK;
    if (kind == TW_KIND_CAPTIONED_CLIP)
        st = twi_caption_new(r->camera, &r->caption, err);
    const tw_name_fields name = name_for(writer, job, kind, &r->stamp);
    if (st == TW_OK)
        st = begin_file(writer, &name, &r->file, err);
    if (st == TW_OK) {
        st = open_clip(job, kind, r, err);
        if (st != TW_OK)
            twi_store_abandon(&writer->store, &r->file);
    }
    if (st != TW_OK)
        return give_up(r, st);
    if (job->channel->snapshot)
        r->snapshot = twi_snapshot_keep(job->channel->snapshot);
    return TW_OK;
}

/* Write what is still to be written of a clip, and release it. */
static tw_status close_clip(twi_recording *r, tw_error *err)
{
    const tw_status st = r->codecs->clip_close(r->clip, err);
    r->clip = NULL;
    return give_up(r, st);
}

static void drop_video(const twi_writer *writer, twi_recording *r)
{
    if (!r->clip)
        return;
    (void)close_clip(r, NULL);
    twi_store_abandon(&writer->store, &r->file);
}

tw_status twi_clip_frame(const twi_codecs *codecs, twi_clip *clip, bool encodes,
                         tw_stream *source, const tw_packet *packet, twi_buffer *buffer,
                         tw_error *err)
{
    const bool raw = buffer->planes.px[0] != NULL;
    twi_buffer *made = NULL;
    tw_packet own = *packet;
    tw_stream now = *source;
    tw_status st = TW_OK;
    if (raw || source->codec == TW_CODEC_RAW)
        twi_buffer_describe(buffer, &now);
    if (raw && !encodes)
        st = twi_buffer_jpeg(&buffer->planes, TWI_HELD_QUALITY, &made, err);
    else if (encodes && (now.codec != source->codec || now.pixels != source->pixels))
        st = codecs->clip_source(clip, &now, err);
    if (st == TW_OK) {
        twi_buffer *given = made ? made : buffer;
        *source = now;
        if (made)
            made->activity_ppm = buffer->activity_ppm;
        own.data = given->data;
        own.size = given->size;
        st = codecs->clip_packet(clip, &own, given, err);
    }
    twi_buffer_unref(made);
    return st;
}

static void do_packet(const twi_writer *writer, const twi_job *job, tw_kind kind)
{
    twi_recording *r = &job->channel->own[kind];
    tw_error err = {0};
    if (r->skip || !r->clip)
        return;
    if (twi_clip_frame(r->codecs, r->clip, r->encodes, &r->source, &job->packet,
                       job->buffer, &err) == TW_OK)
        return;
    r->skip = true;
    drop_video(writer, r);
    tell_problem(writer, job, kind, &err);
}

static void do_end(twi_writer *writer, const twi_job *job, tw_kind kind)
{
    twi_recording *r = &job->channel->own[kind];
    tw_error err = {0};
    if (r->skip || !r->clip)
        return;
    tw_status st = close_clip(r, &err);
    if (st == TW_OK)
        st = commit(writer, &r->file, &err);
    else
        twi_store_abandon(&writer->store, &r->file);
    if (st == TW_OK)
        tell_stored(writer, job, &r->file, kind, &r->stamp);
    else
        tell_problem(writer, job, kind, &err);
}

/* Whoever was to say that it is over has failed: it is kept as far as it goes. */
static void end_left_open(twi_writer *writer, twi_channel *channel, tw_kind kind)
{
    const twi_job over = {.kind = TWI_JOB_VIDEO_END,
                          .what = kind,
                          .channel = channel,
                          .sighting = channel->own[kind].sighting};
    do_end(writer, &over, kind);
}

static void end_channel(twi_writer *writer, twi_channel *channel)
{
    for (int k = 0; k < TW_KIND_COUNT; k++)
        end_left_open(writer, channel, (tw_kind)k);
}

void twi_writer_end_videos(twi_writer *writer)
{
    for (twi_channel *channel = writer->channels; channel; channel = channel->next)
        end_channel(writer, channel);
}

static void do_begin(twi_writer *writer, const twi_job *job, tw_kind kind)
{
    tw_error err = {0};
    end_left_open(writer, job->channel, kind);
    twi_recording *r = &job->channel->own[kind];
    r->skip = begin_video(writer, job, kind, &err) != TW_OK;
    if (r->skip)
        tell_problem(writer, job, kind, &err);
}

/* What becomes of a video: itself, or its captioned copy, or both. */
static void do_begins(twi_writer *writer, const twi_job *job)
{
    const bool with =
        job->what == TW_KIND_CLIP && has_caption(job->channel, TW_CAPTION_CLIPS);
    if (!with || job->channel->camera->caption_clean)
        do_begin(writer, job, job->what);
    if (with)
        do_begin(writer, job, TW_KIND_CAPTIONED_CLIP);
}

/* Which of them have begun is decided: the settings may have changed since. */
static void do_videos(twi_writer *writer, const twi_job *job)
{
    const tw_kind kinds[] = {job->what, TW_KIND_CAPTIONED_CLIP};
    const int count = job->what == TW_KIND_CLIP ? 2 : 1;
    for (int i = 0; i < count; i++) {
        if (job->kind == TWI_JOB_VIDEO_PACKET)
            do_packet(writer, job, kinds[i]);
        else
            do_end(writer, job, kinds[i]);
    }
}

void twi_writer_add_channel(twi_writer *writer, twi_channel *channel)
{
    twi_channel **end = &writer->channels;
    while (*end)
        end = &(*end)->next;
    *end = channel;
    channel->next = NULL;
}

/* With the next file. What has begun goes on as it began. */
static void take_settings(twi_writer *writer, const twi_job *job)
{
    twi_snapshot **at = job->channel ? &job->channel->snapshot : &writer->snapshot;
    twi_snapshot_release(*at);
    *at = job->snapshot;
    if (job->channel) {
        job->channel->camera = &job->snapshot->camera;
        return;
    }
    const tw_station_settings *station = &job->snapshot->station;
    writer->keep_free = (uint64_t)station->keep_free;
    writer->store.names = station->names;
}

static void remove_channel(twi_writer *writer, twi_channel *channel)
{
    for (twi_channel **at = &writer->channels; *at; at = &(*at)->next) {
        if (*at != channel)
            continue;
        *at = channel->next;
        break;
    }
    end_channel(writer, channel);
    twi_snapshot_release(channel->snapshot);
    channel->snapshot = NULL;
    atomic_store(&channel->gone, true); /* its owner may free it now */
}

void twi_writer_do(twi_writer *writer, twi_job *job)
{
    twi_upkeep_clock(writer);
    twi_writer_retry(writer);
    switch (job->kind) {
    case TWI_JOB_VIDEO_BEGIN: do_begins(writer, job); break;
    case TWI_JOB_VIDEO_PACKET:
    case TWI_JOB_VIDEO_END: do_videos(writer, job); break;
    case TWI_JOB_STILL: do_stills(writer, job); break;
    case TWI_JOB_BEGAN: (void)note_sighting(writer, job, false); break;
    case TWI_JOB_ENDED: (void)note_sighting(writer, job, true); break;
    case TWI_JOB_TRACE: note_trace(writer, job); break;
    case TWI_JOB_HAPPENED: add_log_entry(writer, job); break;
    case TWI_JOB_CHANNEL: twi_writer_add_channel(writer, job->channel); break;
    case TWI_JOB_SETTINGS: take_settings(writer, job); break;
    case TWI_JOB_CHANNEL_GONE: remove_channel(writer, job->channel); break;
    }
    twi_buffer_unref(job->buffer);
    job->buffer = NULL;
}

static bool do_at_once(void *ctx, twi_job *job, bool wait)
{
    (void)wait;
    twi_writer_do(ctx, job);
    return true;
}

twi_jobs twi_writer_jobs(twi_writer *writer)
{
    return (twi_jobs){do_at_once, writer};
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

/* @param path  Set; NULL where the card is no folder: the catalogue is in memory then. */
static tw_status find_catalogue(const tw_card *card, char path[PATH_BYTES],
                                const char **found, tw_error *err)
{
    const char *folder = card->ops->folder(card->ctx);
    *found = folder ? path : NULL;
    if (folder &&
        snprintf(path, PATH_BYTES, "%s/%s", folder, TW_CATALOGUE_FILE) >= PATH_BYTES)
        return tw_fail(err, TW_ESIZE, "%s: the name of the store is too long", folder);
    return TW_OK;
}

static void raise_number(twi_writer *writer, int64_t number)
{
    unsigned last = atomic_load(&writer->last_number);
    while (number > last && number < UINT32_MAX &&
           !atomic_compare_exchange_weak(&writer->last_number, &last, (unsigned)number))
        continue;
}

static bool raise_by_name(void *ctx, const char *name, uint64_t bytes)
{
    twi_writer *writer = ctx;
    tw_name_parts parts;
    (void)bytes;
    if (tw_name_read(writer->store.names, name, &parts) == TW_OK)
        raise_number(writer, parts.sighting);
    return true;
}

/* Numbers go on after those of the catalogue, or, where that was lost, of the files. */
static tw_status number_after(twi_writer *writer, tw_error *err)
{
    const tw_card *card = &writer->store.card;
    int64_t number = 0;
    const tw_status st = twi_catalogue_last_number(writer->catalogue, &number, err);
    raise_number(writer, number);
    if (st == TW_OK && number == 0)
        (void)card->ops->list(card->ctx, raise_by_name, writer, NULL);
    return st;
}

static tw_status open_for_run(twi_writer *writer, const char *path, tw_error *err)
{
    tw_status st = tw_catalogue_open(path, true, &writer->catalogue, err);
    if (st == TW_OK)
        st = twi_catalogue_begin_run(writer->catalogue,
                                     writer->clock.ops->wall_us(writer->clock.ctx), err);
    if (st == TW_OK)
        st = twi_catalogue_journal_read(writer->catalogue, err);
    if (st == TW_OK)
        st = number_after(writer, err);
    if (st != TW_OK) {
        tw_catalogue_close(writer->catalogue);
        writer->catalogue = NULL;
    }
    return st;
}

/* On a card that is so full that its catalogue cannot even be opened as usual. */
static bool make_first_room(twi_writer *writer, const char *path)
{
    if (!path || twi_catalogue_open_alone(path, &writer->catalogue, NULL) != TW_OK)
        return false;
    const bool made = twi_upkeep_make_room(writer, 1, ROOM_BYTES);
    tw_catalogue_close(writer->catalogue);
    writer->catalogue = NULL;
    return made;
}

static tw_status open_in(twi_writer *writer, const tw_card *card, tw_error *err)
{
    char place[PATH_BYTES];
    const char *path = NULL;
    tw_status st = find_catalogue(card, place, &path, err);
    if (st != TW_OK)
        return st;
    st = open_for_run(writer, path, err);
    if ((st == TW_ENOSPC || st == TW_EIO) && make_first_room(writer, path))
        st = open_for_run(writer, path, err);
    return st;
}
/* One that is damaged is moved aside, and a new one made: the files are still there. */
static void open_catalogue(twi_writer *writer, const tw_card *card)
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
        if (writer->callback)
            writer->callback(writer->ctx, &(tw_event){.kind = TW_EVENT_PROBLEM,
                                                      .status = TW_EDAMAGED,
                                                      .text = line.text});
        st = open_in(writer, card, &err);
    }
    if (st != TW_OK)
        tell_catalogue(writer, NULL, &err);
}

void twi_writer_retry(twi_writer *writer)
{
    tw_error err = {0};
    const int64_t now_us = now_of(writer);
    if (!writer->catalogue_failed || now_us < writer->retry_us)
        return;
    writer->retry_us = now_us + RETRY_US;
    tw_catalogue_close(writer->catalogue);
    writer->catalogue = NULL;
    if (open_in(writer, &writer->store.card, &err) != TW_OK)
        return;
    __atomic_store_n(&writer->catalogue_failed, false, __ATOMIC_RELAXED);
    if (writer->callback)
        writer->callback(writer->ctx,
                         &(tw_event){.kind = TW_EVENT_PROBLEM,
                                     .status = TW_OK,
                                     .text = "the catalogue is there again"});
    twi_upkeep_mend(writer);
}

tw_status tw_store_rebuild(const tw_card *card, const tw_station_settings *settings,
                           tw_clock clock, tw_event_fn callback, void *ctx, tw_error *err)
{
    char name[64];
    if (!card || !settings)
        return tw_fail(err, TW_EINVAL, "no store");
    twi_writer writer = {.clock = clock, .callback = callback, .ctx = ctx};
    tw_status st = card->ops->claim(card->ctx, err);
    if (st == TW_OK)
        st = move_aside(card, name, err);
    if (st == TW_ENOENT) /* it was lost */
        st = TW_OK;
    if (st == TW_OK)
        st = twi_store_open(&writer.store, card, settings, err);
    if (st == TW_OK)
        st = open_in(&writer, card, err);
    if (st == TW_OK)
        twi_upkeep_mend(&writer);
    twi_writer_close(&writer);
    return st;
}

/* @param newest_us  Of what the catalogue holds, 0: not known. */
static void begin_timing(twi_writer *writer, int64_t newest_us)
{
    const tw_clock *clock = &writer->clock;
    const int64_t wall_us = clock->ops->wall_us(clock->ctx);
    twi_timing_begin(&writer->timing, clock->ops->now_us(clock->ctx), wall_us,
                     clock->ops->trusted(clock->ctx, wall_us), newest_us);
}

tw_status twi_writer_open(twi_writer *writer, const tw_card *card,
                          const tw_station_settings *settings, tw_error *err)
{
    tw_status st = card->ops->claim(card->ctx, err);
    if (st == TW_OK)
        st = twi_store_open(&writer->store, card, settings, err);
    writer->keep_free = (uint64_t)settings->keep_free;
    begin_timing(writer, 0); /* what goes wrong below is told with a time, too */
    if (st == TW_OK) {
        open_catalogue(writer, card);
        begin_timing(writer, twi_catalogue_newest(writer->catalogue));
    }
    return st;
}

/* A card that is full, or cannot be written now, ends no watch: room is made, and what
 * comes is tried. */
void twi_writer_try_card(twi_writer *writer)
{
    const tw_card *card = &writer->store.card;
    tw_error err = {0}, line = {0};
    tw_status st = twi_store_probe(card, &err);
    if (st == TW_ENOSPC && make_room(writer, 1))
        st = note_room(writer, twi_store_probe(card, &err));
    if (st == TW_OK || !writer->callback)
        return;
    (void)tw_fail(&line, st, "%s; the station watches, and tries each capture", err.text);
    writer->callback(
        writer->ctx,
        &(tw_event){.kind = TW_EVENT_PROBLEM, .status = st, .text = line.text});
}

void twi_writer_close(twi_writer *writer)
{
    tw_catalogue_close(writer->catalogue);
    writer->catalogue = NULL;
    twi_snapshot_release(writer->snapshot);
    writer->snapshot = NULL;
}
