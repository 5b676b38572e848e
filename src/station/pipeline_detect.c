/* From frames to readings: what is decoded, and what the detector gets of it. */
#include "../core/chroma.h"
#include "../media/raw.h"
#include "../media/reserve.h"
#include "pipeline_state.h"
#include "../core/view.h"

enum { RECEIVE_MAX = 64 /* pictures that one packet can set free */ };

/* Whether it is time to look at a frame again: frames in between are only kept. Half a
 * frame early is in time, or a rate that just does not fit would skip every second one.
 */
static bool due(const twi_pipeline *p, int64_t t_us)
{
    const int64_t since = t_us - p->times.last_us;
    return p->camera->check_every_us == 0 || p->result.frames == 0 || since < 0 ||
           since + p->times.offered_step_us / 2 >= p->camera->check_every_us;
}

/* The same part of the chroma; without memory for it there is none. */
static void show_chroma(twi_pipeline *p, tw_chroma *chroma)
{
    const tw_chroma c = *chroma;
    if (!c.u)
        return;
    const twi_rect r = twi_view_rect(&p->detect.view, c.width, c.height, 1);
    const size_t plane = (size_t)r.width * r.height;
    *chroma = (tw_chroma){0};
    if (!twi_reserve(&p->detect.shown_chroma, &p->detect.shown_chroma_bytes, 2 * plane))
        return;
    const tw_luma u = {c.u, c.stride, c.width, c.height},
                  v = {c.v, c.stride, c.width, c.height};
    uint8_t *out = p->detect.shown_chroma;
    twi_view_plane(p->detect.view.turn, &u, &r, out, r.width);
    twi_view_plane(p->detect.view.turn, &v, &r, out + plane, r.width);
    *chroma = (tw_chroma){out, out + plane, r.width, r.width, r.height};
}

/* Turn and crop what the detector looks at. */
static tw_status show(twi_pipeline *p, twi_decoded *decoded, tw_error *err)
{
    tw_luma *luma = &decoded->luma;
    if (twi_view_is_plain(&p->detect.view))
        return TW_OK;
    show_chroma(p, &decoded->chroma);
    const twi_rect r = twi_view_rect(&p->detect.view, luma->width, luma->height, 1);
    if (!twi_reserve(&p->detect.shown, &p->detect.shown_bytes,
                     (size_t)r.width * r.height))
        return tw_fail(err, TW_ENOMEM, "out of memory");
    twi_view_plane(p->detect.view.turn, luma, &r, p->detect.shown, r.width);
    *luma = (tw_luma){p->detect.shown, r.width, r.width, r.height};
    return TW_OK;
}

static const tw_chroma *heeded_chroma(const twi_pipeline *p, const twi_decoded *decoded)
{
    return p->camera->colour && decoded->chroma.u ? &decoded->chroma : NULL;
}

static tw_status read_picture(twi_pipeline *p, twi_decoded *decoded, tw_error *err)
{
    if (!due(p, decoded->t_us))
        return TW_OK;
    tw_status st = show(p, decoded, err);
    if (st != TW_OK)
        return st;
    if (decoded->width != p->detect.width || decoded->height != p->detect.height ||
        decoded->luma.width != p->detect.luma_width ||
        decoded->luma.height != p->detect.luma_height)
        st = twi_pipeline_change_size(p, decoded, err);
    if (st == TW_OK)
        st = tw_detector_read_colour(p->detect.detector, &decoded->luma,
                                     heeded_chroma(p, decoded), decoded->t_us,
                                     &p->reading);
    if (st != TW_OK)
        return st;
    if (p->kept.buffer) /* made before anything was read of it, and not shared yet */
        p->kept.buffer->activity_ppm = p->reading.activity_ppm;
    p->luma = &decoded->luma;
    p->bad_in_a_row = 0;
    if (p->result.frames == 0)
        p->result.first_us = decoded->t_us;
    else
        p->times.step_us = decoded->t_us - p->times.last_us;
    p->times.last_us = decoded->t_us;
    p->result.frames++;
    twi_pipeline_decide(p);
    p->luma = NULL;
    return TW_OK;
}

/* Whether frames that come now go into the pre-event footage, or into a file. */
bool twi_pipeline_is_kept(const twi_pipeline *p)
{
    return p->kept.recorder &&
           (p->camera->pre_disarmed || p->watch.state != TW_IDLE ||
            p->camera->continuous || p->camera->timed_clip.every_us > 0);
}

/* Read every picture that the decoder has ready. */
static tw_status read_ready(twi_pipeline *p, const tw_packet *packet, bool *bad,
                            tw_error *err)
{
    for (int i = 0; i < RECEIVE_MAX; i++) {
        twi_decoded decoded;
        tw_error why = {0};
        tw_status st = twi_decoder_receive(p->detect.decoder, &decoded, &why);
        if (st == TW_EAGAIN || st == TW_EEND)
            return TW_OK;
        if (st == TW_EDAMAGED || st == TW_ESIZE) {
            *bad = true;
            st = twi_pipeline_bad_picture(p, packet, &why, err);
        } else if (st == TW_OK) {
            p->result.decoded++;
            st = read_picture(p, &decoded, err);
        } else if (err) {
            *err = why;
        }
        if (st != TW_OK)
            return st;
    }
    return TW_OK;
}

/* While disarmed a frame a second keeps the place known. What is asked for is seen to at
 * once. */
static bool rests(twi_pipeline *p, const tw_packet *packet)
{
    enum { POLL_EVERY_US = 1000000 };
    if (p->watch.state != TW_IDLE || p->result.frames == 0 ||
        packet->t_us - p->times.last_us >= POLL_EVERY_US ||
        twi_arming_allows(p, packet->t_us))
        return false;
    return !p->orders ||
           (!atomic_load(&p->orders->trigger) && !atomic_load(&p->orders->snap));
}

static void note_times(twi_pipeline *p, const tw_packet *packet)
{
    if (packet->dts_us > p->times.offered_us)
        p->times.offered_step_us = packet->dts_us - p->times.offered_us;
    p->times.offered_us = packet->dts_us;
    if (!packet->key)
        return;
    p->times.key_step_us = p->result.frames > 0 ? packet->t_us - p->times.key_us : 0;
    p->times.key_us = packet->t_us;
}

/* Whether looking at key frames alone is often enough; they are decoded by themselves. */
static bool only_keys(const twi_pipeline *p)
{
    return p->times.key_step_us > p->times.offered_step_us &&
           p->times.key_step_us <= p->camera->check_every_us;
}

/* Whether the picture of a packet need not be looked at. Packets come in another order
 * than their pictures, so this keeps to a grid, of which due() takes what comes. */
static bool is_between(const twi_pipeline *p, const tw_packet *packet)
{
    const int64_t every_us = p->camera->check_every_us,
                  step_us = p->times.offered_step_us;
    const int64_t since_us = packet->t_us - p->result.first_us + step_us / 2;
    return every_us > 0 && p->result.frames > 0 && since_us >= 0 &&
           since_us % every_us >= step_us;
}

/* Whether a packet is left out of the decoder: it rests, or key frames are enough, and it
 * begins again with a picture that needs no other. */
static bool leaves_out(twi_pipeline *p, const tw_packet *packet)
{
    if (!packet)
        return false;
    twi_decoder_skim(p->detect.decoder, is_between(p, packet));
    if (rests(p, packet) || (only_keys(p) && !packet->key) ||
        (p->times.waits_for_key && !packet->key)) {
        p->times.waits_for_key = true;
        return true;
    }
    p->times.waits_for_key = false;
    return false;
}

tw_status twi_detect_packet(twi_pipeline *p, const tw_packet *packet, bool *bad,
                            tw_error *err)
{
    tw_error why = {0};
    if (leaves_out(p, packet))
        return TW_OK;
    if (packet && p->detect.stream.codec == TW_CODEC_MJPEG && !due(p, packet->t_us))
        return TW_OK; /* each is a picture of its own, and needs no decoding */
    const tw_status st = twi_decoder_send(p->detect.decoder, packet, &why);
    if (st == TW_OK)
        return read_ready(p, packet, bad, err);
    *bad = true;
    return twi_pipeline_bad_picture(p, packet, &why, err);
}

/* Brightness of a raw picture. Where it does not lie in rows the planes that are kept
 * anyway have it. */
static tw_status raw_luma(twi_pipeline *p, const tw_frame *frame, tw_luma *out)
{
    const tw_picture *picture = &frame->picture;
    if (tw_picture_luma(picture, NULL, 0, out) == TW_OK)
        return TW_OK;
    if (!p->kept.apart && twi_pipeline_is_kept(p) && twi_stills_frame(p))
        return tw_picture_luma(&p->kept.buffer->planes, NULL, 0, out);
    if (!twi_reserve(&p->detect.px, &p->detect.px_bytes,
                     (size_t)picture->width * picture->height))
        return TW_ENOMEM;
    return tw_picture_luma(picture, p->detect.px, p->detect.px_bytes, out);
}

/* Chroma of a raw picture; without memory for it there is none. */
static tw_chroma raw_chroma(twi_pipeline *p, const tw_picture *picture)
{
    const uint32_t inspected_ppm = twi_pipeline_inspected_ppm(&p->detect.view);
    tw_chroma out = {0};
    size_t bytes = 0;
    if (!p->camera->colour)
        return out;
    if (twi_picture_chroma(picture, inspected_ppm, NULL, 0, &bytes, NULL) == TW_OK &&
        bytes > 0 && twi_reserve(&p->detect.chroma, &p->detect.chroma_bytes, bytes))
        (void)twi_picture_chroma(picture, inspected_ppm, p->detect.chroma, bytes, &bytes,
                                 &out);
    return out;
}

/* The frame is pixels: no decoding. */
static tw_status read_pixels(twi_pipeline *p, const tw_frame *frame, tw_error *err)
{
    tw_luma luma;
    if (!due(p, frame->packet.t_us) || rests(p, &frame->packet))
        return TW_OK;
    const tw_status st = raw_luma(p, frame, &luma);
    if (st != TW_OK)
        return tw_fail(err, st, "camera %s: %s", p->camera->name, tw_status_text(st));
    const uint16_t factor =
        twi_factor_for(luma.width, twi_pipeline_inspected_ppm(&p->detect.view));
    twi_decoded decoded = {luma, raw_chroma(p, &frame->picture), frame->packet.t_us,
                           luma.width, luma.height};
    if (factor > 1) {
        const size_t need = (size_t)(luma.width / factor) * (luma.height / factor);
        if (need == 0 ||
            !twi_reserve(&p->detect.reduced, &p->detect.reduced_bytes, need) ||
            twi_reduce_whole(&luma, factor, p->detect.reduced, p->detect.reduced_bytes,
                             &decoded.luma) != TW_OK)
            return tw_fail(err, TW_ESIZE,
                           "camera %s: a picture of %u x %u cannot be watched",
                           p->camera->name, luma.width, luma.height);
    }
    return read_picture(p, &decoded, err);
}

/* Whether a frame holds what its stream promises: another's camera may be wrong. */
bool twi_detect_is_whole(const tw_stream *stream, const tw_frame *frame)
{
    return stream->codec == TW_CODEC_RAW
               ? tw_picture_check(&frame->picture) == TW_OK
               : frame->packet.data && frame->packet.size > 0 && !frame->picture.px[0];
}

tw_status twi_detect_bad_form(twi_pipeline *p, const tw_frame *frame, tw_error *err)
{
    static const tw_error empty = {TW_EDAMAGED, "it holds neither pixels nor a packet"};
    static const tw_error mixed = {TW_EDAMAGED, "its pixels or its packet are not what "
                                                "the camera said that it gives"};
    const bool any = frame->packet.data || frame->picture.px[0];
    return twi_pipeline_bad_picture(p, &frame->packet, any ? &mixed : &empty, err);
}

tw_status twi_detect_frame(twi_pipeline *p, const tw_frame *frame, bool *bad,
                           tw_error *err)
{
    note_times(p, &frame->packet);
    return frame->picture.px[0] ? read_pixels(p, frame, err)
                                : twi_detect_packet(p, &frame->packet, bad, err);
}

tw_status twi_pipeline_detect(twi_pipeline *p, const tw_frame *frame, tw_error *err)
{
    bool bad = false;
    if (!p->kept.any) /* there is nothing yet that could be kept */
        return TW_OK;
    if (!twi_detect_is_whole(&p->detect.stream, frame))
        return twi_detect_bad_form(p, frame, err);
    tw_frame own = *frame;
    twi_frame_complete(&own);
    const tw_status st = twi_detect_frame(p, &own, &bad, err);
    twi_buffer_unref(p->kept.buffer);
    p->kept.buffer = NULL;
    return st;
}
