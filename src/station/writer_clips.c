/* Clips: begun, filled and completed. */
#include "../media/hide.h"
#include "../media/jpeg.h"
#include "../media/raw.h"
#include "writer_state.h"
#include "../core/naming.h"
#include "../core/view.h"
#include "../settings/sections.h"
#include "why.h"

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
    const tw_status st = twi_writer_append(writer, &r->file, data, bytes, err);
    const int64_t now_us = twi_writer_now(writer);
    if (st != TW_OK || (!in_header && now_us - r->synced_us < SYNC_EVERY_US))
        return st;
    r->synced_us = now_us;
    return twi_writer_took(writer, now_us, twi_store_sync(&writer->store, &r->file, err));
}

bool twi_clip_must_encode(const twi_codecs *codecs, const twi_camera_settings *camera,
                          const tw_stream *stream)
{
    const bool pictures =
        stream->codec == TW_CODEC_MJPEG || stream->codec == TW_CODEC_RAW;
    if (camera->private_count > 0 && !pictures)
        return true; /* nothing can be blackened in what depends on other pictures */
    switch ((twi_clip_video)camera->clip_video) {
    case TWI_VIDEO_COPY: return false;
    case TWI_VIDEO_H264:
        return stream->codec != TW_CODEC_H264 || !twi_crop_is_whole(&camera->crop);
    case TWI_VIDEO_MJPEG:
        if (pictures)
            return false;
        break;
    case TWI_VIDEO_AUTO: break;
    }
    /* What browsers play as it is. */
    const bool plays = stream->codec == TW_CODEC_H264 || stream->codec == TW_CODEC_H265;
    return !plays || !twi_crop_is_whole(&camera->crop) || !codecs->clip_carries(stream);
}

static tw_status paint_caption(void *ctx, const twi_canvas *canvas, int64_t t_us,
                               uint32_t activity_ppm, tw_error *err)
{
    const twi_recording *r = ctx;
    twi_caption_fields fields = twi_writer_caption(
        r->writer, r->camera, r->sighting.number, t_us + r->wall_offset_us);
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

static tw_status open_clip(const twi_job *job, twi_kind kind, twi_recording *r,
                           tw_error *err)
{
    char why[TWI_WHY_BYTES];
    r->frames.encodes =
        r->caption ||
        twi_clip_must_encode(r->frames.codecs, job->channel->camera, &job->stream);
    r->frames.source = job->stream;
    r->frames.view = twi_view_of(job->channel->camera, job->stream.turn);
    tw_stream stream = twi_clip_stream(&job->stream, r->frames.encodes);
    stream.extra = job->buffer->data;
    const twi_clip_spec spec = {
        .stream = &stream,
        .encode = r->frames.encodes,
        .quality = (int)job->channel->camera->clip_quality,
        .view = r->frames.view,
        .wall_us = r->stamp.unsure ? 0 : r->stamp.wall_us,
        .why = twi_kind_of_sighting(kind) ? twi_why_began(&job->sighting, why, sizeof why)
                                          : NULL,
        .sink = {write_video, r},
        .painter = {r->caption ? paint_caption : NULL, r}};
    if (!spec.encode && !r->frames.codecs->clip_carries(&stream))
        return tw_fail(err, TW_ENOTSUP, "clips cannot carry %s: use clip_video = auto",
                       stream.codec_name);
    return r->frames.codecs->clip_open(&spec, &r->frames.clip, err);
}

/* @return st. */
static tw_status give_up(twi_recording *r, tw_status st)
{
    twi_caption_free(r->caption);
    r->caption = NULL;
    twi_hide_free(&r->frames.hide);
    twi_snapshot_release(r->snapshot);
    r->snapshot = NULL;
    return st;
}

static tw_status begin_video(twi_writer *writer, const twi_job *job, twi_kind kind,
                             tw_error *err)
{
    twi_recording *r = &job->channel->own[kind];
    r->writer = writer;
    r->camera = job->channel->camera;
    r->sighting = job->sighting;
    r->wall_offset_us = job->wall_offset_us;
    r->stamp = twi_writer_stamp(writer, job->packet.wall_us);
    r->frames.codecs = twi_codecs_load(err);
    if (!r->frames.codecs)
        return TW_ENOTSUP;
    tw_status st = TW_OK;
    if (kind == TWI_KIND_CAPTIONED_CLIP)
        st = twi_caption_new(r->camera, &r->caption, err);
    const twi_name_fields name = twi_writer_name(writer, job, kind, &r->stamp);
    if (st == TW_OK)
        st = twi_writer_begin_file(writer, &name, &r->file, err);
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
    const tw_status st = r->frames.codecs->clip_close(r->frames.clip, err);
    r->frames.clip = NULL;
    return give_up(r, st);
}

static void drop_video(const twi_writer *writer, twi_recording *r)
{
    if (!r->frames.clip)
        return;
    (void)close_clip(r, NULL);
    twi_store_abandon(&writer->store, &r->file);
}

/* A picture without what nobody may see, in place of one that is copied. */
static tw_status hide(twi_clip_frames *f, const twi_buffer *from, twi_buffer **made,
                      tw_error *err)
{
    uint8_t *jpeg = NULL;
    size_t bytes = 0;
    const twi_buffer *whole = *made ? *made : from;
    const tw_status st =
        twi_hide_jpeg(&f->hide, &f->view, whole->data, whole->size, &jpeg, &bytes, err);
    if (st != TW_OK)
        return st;
    twi_buffer *black = twi_buffer_adopt(jpeg, bytes);
    if (!black)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    twi_buffer_unref(*made);
    *made = black;
    return TW_OK;
}

tw_status twi_clip_frame(twi_clip_frames *f, const tw_packet *packet, twi_buffer *buffer,
                         tw_error *err)
{
    const twi_codecs *codecs = f->codecs;
    if (buffer->sound)
        return codecs->clip_sound(f->clip, packet, buffer, err);
    const bool raw = buffer->planes.px[0] != NULL;
    twi_buffer *made = NULL;
    tw_packet own = *packet;
    tw_stream now = f->source;
    tw_status st = TW_OK;
    if (raw || f->source.codec == TW_CODEC_RAW)
        twi_buffer_describe(buffer, &now);
    if (raw && !f->encodes)
        st = twi_buffer_jpeg(&buffer->planes, TWI_HELD_QUALITY, &made, err);
    else if (f->encodes &&
             (now.codec != f->source.codec || now.pixels != f->source.pixels))
        st = codecs->clip_source(f->clip, &now, err);
    const bool hides = st == TW_OK && !f->encodes && f->view.hidden_count > 0;
    if (hides)
        st = hide(f, buffer, &made, err);
    const bool left_out = hides && st == TW_EDAMAGED; /* it cannot be blackened */
    if (st == TW_OK) {
        twi_buffer *given = made ? made : buffer;
        f->source = now;
        if (made)
            made->activity_ppm = buffer->activity_ppm;
        own.data = given->data;
        own.size = given->size;
        st = codecs->clip_packet(f->clip, &own, given, err);
    }
    twi_buffer_unref(made);
    return left_out ? TW_OK : st;
}

static void do_packet(const twi_writer *writer, const twi_job *job, twi_kind kind)
{
    twi_recording *r = &job->channel->own[kind];
    tw_error err = {0};
    if (r->skip || !r->frames.clip)
        return;
    if (twi_clip_frame(&r->frames, &job->packet, job->buffer, &err) == TW_OK)
        return;
    r->skip = true;
    drop_video(writer, r);
    twi_writer_problem(writer, job, kind, &err);
}

static void do_end(twi_writer *writer, const twi_job *job, twi_kind kind)
{
    twi_recording *r = &job->channel->own[kind];
    tw_error err = {0};
    if (r->skip || !r->frames.clip)
        return;
    tw_status st = close_clip(r, &err);
    if (st == TW_OK)
        st = twi_writer_commit(writer, &r->file, &err);
    else
        twi_store_abandon(&writer->store, &r->file);
    if (st == TW_OK)
        twi_writer_stored(writer, job, &r->file, kind, &r->stamp);
    else
        twi_writer_problem(writer, job, kind, &err);
}

/* Whoever was to say that it is over has failed: it is kept as far as it goes. */
static void end_left_open(twi_writer *writer, twi_channel *channel, twi_kind kind)
{
    const twi_job over = {.kind = TWI_JOB_VIDEO_END,
                          .what = kind,
                          .channel = channel,
                          .sighting = channel->own[kind].sighting};
    do_end(writer, &over, kind);
}

void twi_writer_end_channel(twi_writer *writer, twi_channel *channel)
{
    for (int k = 0; k < TWI_KIND_COUNT; k++)
        end_left_open(writer, channel, (twi_kind)k);
}

void twi_writer_end_videos(twi_writer *writer)
{
    for (twi_channel *channel = writer->channels; channel; channel = channel->next)
        twi_writer_end_channel(writer, channel);
}

static void do_begin(twi_writer *writer, const twi_job *job, twi_kind kind)
{
    tw_error err = {0};
    end_left_open(writer, job->channel, kind);
    twi_recording *r = &job->channel->own[kind];
    r->skip = begin_video(writer, job, kind, &err) != TW_OK;
    if (r->skip)
        twi_writer_problem(writer, job, kind, &err);
}

/* What becomes of a video: itself, or its captioned copy, or both. */
void twi_writer_begin_clips(twi_writer *writer, const twi_job *job)
{
    const bool with = job->what == TWI_KIND_CLIP &&
                      twi_writer_has_caption(job->channel, TWI_CAPTION_CLIPS);
    if (!with || job->channel->camera->caption_clean)
        do_begin(writer, job, job->what);
    if (with)
        do_begin(writer, job, TWI_KIND_CAPTIONED_CLIP);
}

/* Which of them have begun is decided: the settings may have changed since. */
void twi_writer_clips(twi_writer *writer, const twi_job *job)
{
    const twi_kind kinds[] = {job->what, TWI_KIND_CAPTIONED_CLIP};
    const int count = job->what == TWI_KIND_CLIP ? 2 : 1;
    for (int i = 0; i < count; i++) {
        if (job->kind == TWI_JOB_VIDEO_PACKET)
            do_packet(writer, job, kinds[i]);
        else
            do_end(writer, job, kinds[i]);
    }
}
