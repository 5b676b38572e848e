/* One camera's pipeline. */
#include "pipeline_state.h"

#include <inttypes.h>
#include <stdlib.h>
#include <string.h>

#include "../core/brightness.h"
#include "../media/jpeg.h"
#include "../media/mask.h"
#include "../media/raw.h"
#include "../media/reserve.h"
#include "feed.h"

enum {
    BAD_TOLD_MAX = 5,   /* damaged frames that are told one by one */
    BAD_IN_A_ROW = 250, /* and after so many without a good one the camera is given up */
    RECEIVE_MAX = 64    /* pictures that one packet can set free */
};

static void tell(const twi_pipeline *p, tw_event event)
{
    event.camera = p->camera->name;
    event.state = p->watch.state;
    event.lost_frames = p->recorder ? twi_recorder_lost(p->recorder) : 0;
    if (event.t_us == 0)
        event.t_us = p->reading.t_us;
    event.wall_us = event.t_us + p->wall_offset_us;
    if (p->callback)
        p->callback(p->ctx, &event);
}

void twi_pipeline_problem(const twi_pipeline *p, tw_status st, const char *text)
{
    tell(p, (tw_event){.kind = TW_EVENT_PROBLEM, .status = st, .text = text});
}

/* ---- making ---------------------------------------------------------------------- */

tw_status twi_pipeline_new(const tw_camera_settings *camera, tw_clock clock,
                           const tw_stream *stream, const tw_stream *inspected,
                           const twi_sink *sink, tw_event_fn callback, void *ctx,
                           twi_pipeline **out, tw_error *err)
{
    twi_pipeline *p = calloc(1, sizeof *p);
    if (!p)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    p->camera = camera;
    p->clock = clock;
    p->armed_us = INT64_MIN;
    p->orders = sink ? sink->orders : NULL;
    p->arms = p->orders ? atomic_load(&p->orders->arms) : 0;
    p->gpio = (twi_gpio){.pins = sink ? sink->pins : NULL, .sensed_us = INT64_MIN};
    p->stream = *stream;
    p->detect_stream = inspected ? *inspected : *stream;
    p->apart = inspected != NULL;
    p->kept_view = twi_view_of(camera, stream->turn);
    p->view = inspected ? twi_view_of(camera, inspected->turn) : p->kept_view;
    p->callback = callback;
    p->ctx = ctx;
    const tw_sighting_config config = tw_sighting_config_of(camera);
    tw_status st = tw_sighting_init(&p->watch, &config);
    if (st != TW_OK)
        st = tw_fail(err, st, "camera %s: start_at and stay_at contradict each other",
                     camera->name);
    p->numbers = sink ? sink->numbers : NULL;
    tw_sighting_number_after(&p->watch, sink ? sink->number : 0);
    if (st == TW_OK && camera->hours)
        st = twi_hours_parse(camera->hours, &p->hours, NULL);
    if (st == TW_OK && camera->mask[0] != '\0')
        st = twi_mask_read(camera->mask, &p->mask_picture, &p->mask_luma, err);
    if (st == TW_OK && p->detect_stream.codec != TW_CODEC_RAW)
        st = twi_decoder_open(&p->detect_stream, twi_pipeline_inspected_ppm(&p->view),
                              &p->decoder, err);
    if (st == TW_OK && inspected && stream->codec != TW_CODEC_RAW)
        st = twi_decoder_open(stream, 0, &p->keeper, err);
    if (st == TW_OK && sink)
        st = twi_recorder_new(camera, sink->channel, stream, sink->sink, &p->recorder,
                              err);
    if (st == TW_OK) {
        *out = p;
        tell(p, (tw_event){.kind = TW_EVENT_OPENED, .stream = stream});
    } else {
        twi_pipeline_free(p);
    }
    return st;
}

void twi_pipeline_free(twi_pipeline *p)
{
    if (!p)
        return;
    twi_decoder_close(p->decoder);
    twi_decoder_close(p->keeper);
    twi_recorder_free(p->recorder);
    free(p->memory);
    free(p->mask_picture);
    twi_buffer_unref(p->best.image);
    twi_buffer_unref(p->buffer);
    free(p->luma_px);
    free(p->reduced);
    free(p->shown);
    free(p);
}

/* ---- the trace ------------------------------------------------------------------- */

static void hand_over_trace(twi_pipeline *p, bool ends)
{
    twi_trace_minute minute;
    const int64_t wall_us = p->reading.t_us + p->wall_offset_us;
    const bool done =
        ends ? twi_trace_end(&p->trace, &minute)
             : twi_trace_add(&p->trace, wall_us, p->reading.activity_ppm, &minute);
    if (done)
        twi_recorder_trace(p->recorder, &minute);
}

/* ---- frames ---------------------------------------------------------------------- */

static void ended(twi_pipeline *p, bool last_too)
{
    const tw_sighting *s = &p->watch.ended;
    p->result.sightings++;
    if (p->recorder) {
        twi_stills_ended(p, s);
        twi_recorder_ended(p->recorder, s, last_too);
    }
    twi_gpio_ended(p);
    tell(p, (tw_event){.kind = TW_EVENT_ENDED, .sighting = s});
}

static bool within_hours(const twi_pipeline *p, int64_t wall_us)
{
    const tw_camera_settings *c = p->camera;
    const twi_hours_place place = {c->latitude, c->longitude,
                                   c->latitude != TW_NOWHERE &&
                                       c->longitude != TW_NOWHERE};
    return twi_hours_within(&p->hours, wall_us,
                            p->clock.ops->offset_s(p->clock.ctx, wall_us), &place);
}

/* What decides whether motion may begin a sighting now. */
static tw_arming arming_at(const twi_pipeline *p, int64_t t_us)
{
    const tw_camera_settings *c = p->camera;
    const int asked = p->orders ? atomic_load(&p->orders->armed) : TWI_AS_SET;
    if (asked == 0)
        return TW_DISARMED_BY_ORDER;
    if (asked == TWI_AS_SET && !c->armed)
        return TW_DISARMED_BY_SETTING;
    if (t_us - p->armed_us < c->arm_delay_us)
        return TW_DISARMED_BY_DELAY;
    if (asked != TWI_AS_SET)
        return TW_ARMED_BY_ORDER;
    return within_hours(p, t_us + p->wall_offset_us) ? TW_ARMED_BY_SETTING
                                                     : TW_DISARMED_BY_HOURS;
}

static bool is_armed(const twi_pipeline *p, int64_t t_us)
{
    const tw_arming arming = arming_at(p, t_us);
    return arming == TW_ARMED_BY_SETTING || arming == TW_ARMED_BY_ORDER;
}

/* When the hours begin next, by the wall; 0: not within a week. */
static int64_t next_hours(const twi_pipeline *p, int64_t wall_us)
{
    const int64_t minute_us = INT64_C(60000000), step = 5, week = 7 * 24 * 60;
    const int64_t from_us = wall_us - wall_us % minute_us;
    for (int64_t m = step; m <= week; m += step) {
        if (!within_hours(p, from_us + m * minute_us))
            continue;
        while (m > 1 && within_hours(p, from_us + (m - 1) * minute_us))
            m--;
        return from_us + m * minute_us;
    }
    return 0;
}

/* Looked at with each frame; when it ends is worked out when it begins. */
static void note_arming(twi_pipeline *p, int64_t t_us)
{
    const unsigned arms = p->orders ? atomic_load(&p->orders->arms) : 0;
    if (arms != p->arms) { /* time to get out of the picture, once more */
        p->arms = arms;
        p->armed_us = t_us;
    }
    const tw_arming arming = arming_at(p, t_us);
    if (arming == p->arming && arming != TW_DISARMED_BY_DELAY && p->arming_known)
        return;
    p->arming = arming;
    p->arming_known = true;
    p->arming_until_us = arming == TW_DISARMED_BY_DELAY
                             ? p->armed_us + p->camera->arm_delay_us + p->wall_offset_us
                         : arming == TW_DISARMED_BY_HOURS
                             ? next_hours(p, t_us + p->wall_offset_us)
                             : 0;
}

/* Whether something was ordered; it is done with then. */
static bool take_order(atomic_bool *order)
{
    return atomic_load_explicit(order, memory_order_relaxed) &&
           atomic_exchange(order, false);
}

/* One number for good, by which the catalogue, names, pages and messages know it. */
static void take_number(twi_pipeline *p)
{
    if (p->numbers)
        p->watch.now.number = atomic_fetch_add(p->numbers, 1) + 1;
}

/* The picture at hand, turned and cropped. */
static tw_status shown_still(twi_pipeline *p, uint8_t **out, size_t *bytes, tw_error *err)
{
    const tw_view *view = &p->kept_view;
    uint8_t *whole = NULL;
    uint16_t width = 0, height = 0;
    if (tw_view_is_plain(view))
        return twi_stills_picture(p, out, bytes, err);
    tw_status st = twi_stills_picture(p, &whole, bytes, err);
    if (st == TW_OK)
        st = twi_jpeg_view(whole, *bytes, view, out, bytes, &width, &height, err);
    free(whole);
    return st;
}

static tw_status shown_picture(void *ctx, uint8_t **out, size_t *bytes, tw_error *err)
{
    return shown_still(ctx, out, bytes, err);
}

static void decide(twi_pipeline *p)
{
    twi_gpio_read(p);
    note_arming(p, p->reading.t_us);
    const bool armed = is_armed(p, p->reading.t_us);
    tw_sighting_arm(&p->watch, armed && twi_gpio_allows(p));
    unsigned what = tw_sighting_step(&p->watch, &p->reading);
    const bool asked = p->orders && take_order(&p->orders->trigger);
    if (asked || (armed && twi_gpio_starts(p)))
        what |= tw_sighting_trigger(&p->watch);
    if (what & TW_SIGHTING_ENDED)
        ended(p, false);
    if (what & TW_SIGHTING_BEGAN) {
        take_number(p);
        tell(p, (tw_event){.kind = TW_EVENT_BEGAN,
                           .sighting = &p->watch.now,
                           .reading = &p->reading});
        twi_gpio_began(p);
        if (p->recorder) {
            twi_recorder_began(p->recorder, &p->watch.now);
            twi_stills_began(p);
        }
    }
    const bool running = p->watch.state == TW_SIGHTING;
    const struct tw_event_frame shown = {shown_picture, p};
    if (running && p->recorder)
        twi_stills_while(p);
    tell(p, (tw_event){.kind = TW_EVENT_READING,
                       .frame = &shown,
                       .reading = &p->reading,
                       .luma = p->luma,
                       .sighting = running ? &p->watch.now : NULL});
}

/* End what is running; what comes next is another footage. */
static void close_footage(twi_pipeline *p)
{
    if (tw_sighting_finish(&p->watch) & TW_SIGHTING_ENDED)
        ended(p, true);
    if (p->recorder) {
        hand_over_trace(p, true);
        twi_recorder_flush(p->recorder);
    }
    tw_sighting_settle_again(&p->watch);
}

/* The size of what is kept. */
static void keep_size(twi_pipeline *p, uint16_t width, uint16_t height)
{
    p->kept_width = width;
    p->kept_height = height;
    if (p->recorder)
        twi_recorder_size(p->recorder, width, height);
}

static tw_status change_size(twi_pipeline *p, const twi_decoded *decoded, tw_error *err)
{
    const bool first = p->width == 0;
    if (!first) {
        tw_error line = {0};
        (void)tw_fail(
            &line, TW_OK,
            "the picture changed from %u x %u to %u x %u at %.3f s: learning the "
            "place anew",
            p->width, p->height, decoded->width, decoded->height,
            (double)(decoded->t_us - p->result.first_us) / 1e6);
        twi_pipeline_problem(p, TW_OK, line.text);
        close_footage(p);
    }
    p->width = decoded->width;
    p->height = decoded->height;
    if (!p->apart)
        keep_size(p, p->width, p->height);
    return twi_pipeline_make_detector(p, decoded->luma.width, decoded->luma.height, err);
}

/* Whether it is time to look at a frame again: frames in between are only kept. Half a
 * frame early is in time, or a rate that just does not fit would skip every second one.
 */
static bool due(const twi_pipeline *p, int64_t t_us)
{
    const int64_t since = t_us - p->last_us;
    return p->camera->check_every_us == 0 || p->result.frames == 0 || since < 0 ||
           since + p->offered_step_us / 2 >= p->camera->check_every_us;
}

/* Turn and crop what the detector looks at. */
static tw_status show(twi_pipeline *p, tw_luma *luma, tw_error *err)
{
    if (tw_view_is_plain(&p->view))
        return TW_OK;
    const tw_rect r = tw_view_rect(&p->view, luma->width, luma->height, 1);
    if (!twi_reserve(&p->shown, &p->shown_bytes, (size_t)r.width * r.height))
        return tw_fail(err, TW_ENOMEM, "out of memory");
    tw_view_plane(p->view.turn, luma, &r, p->shown, r.width);
    *luma = (tw_luma){p->shown, r.width, r.width, r.height};
    return TW_OK;
}

static tw_status read_picture(twi_pipeline *p, twi_decoded *decoded, tw_error *err)
{
    if (!due(p, decoded->t_us))
        return TW_OK;
    tw_status st = show(p, &decoded->luma, err);
    if (st != TW_OK)
        return st;
    if (decoded->width != p->width || decoded->height != p->height ||
        decoded->luma.width != p->luma_width || decoded->luma.height != p->luma_height)
        st = change_size(p, decoded, err);
    if (st == TW_OK)
        st = tw_detector_read(p->detector, &decoded->luma, decoded->t_us, &p->reading);
    if (st != TW_OK)
        return st;
    if (p->buffer) /* made before anything was read of it, and not shared yet */
        p->buffer->activity_ppm = p->reading.activity_ppm;
    p->luma = &decoded->luma;
    p->bad_in_a_row = 0;
    if (p->result.frames == 0)
        p->result.first_us = decoded->t_us;
    else
        p->step_us = decoded->t_us - p->last_us;
    p->last_us = decoded->t_us;
    p->result.frames++;
    if (p->recorder)
        twi_recorder_hold(p->recorder, p->reading.earliest_us);
    decide(p);
    if (p->recorder) {
        twi_stills_timed(p);
        if (p->orders && take_order(&p->orders->snap))
            twi_stills_store(p, TW_KIND_SNAP, 0);
        hand_over_trace(p, false);
    }
    p->luma = NULL;
    return TW_OK;
}

tw_status twi_pipeline_bad_frame(twi_pipeline *p, const tw_error *why, tw_error *err)
{
    p->result.bad_frames++;
    p->bad_in_a_row++;
    if (p->result.bad_frames <= BAD_TOLD_MAX)
        twi_pipeline_problem(p, TW_EDAMAGED, why->text);
    if (p->result.bad_frames == BAD_TOLD_MAX)
        twi_pipeline_problem(p, TW_EDAMAGED,
                             "more damaged frames are only counted from here on");
    if (p->bad_in_a_row < BAD_IN_A_ROW)
        return TW_OK;
    return tw_fail(err, TW_EDAMAGED, "camera %s: %d damaged frames in a row, giving up",
                   p->camera->name, BAD_IN_A_ROW);
}

/* Word what is wrong with the frame at hand: which one, and when. */
static tw_status bad_picture(twi_pipeline *p, const tw_packet *packet,
                             const tw_error *why, tw_error *err)
{
    tw_error line = {0};
    const uint64_t number = p->result.frames + p->result.bad_frames + 1;
    const int64_t since = packet ? packet->t_us - p->result.first_us : 0;
    (void)tw_fail(&line, TW_EDAMAGED, "frame %" PRIu64 " at %.3f s left out: %s", number,
                  (double)since / 1e6, why->text);
    return twi_pipeline_bad_frame(p, &line, err);
}

/* Whether frames that come now go into the pre-event footage, or into a file. */
static bool is_kept(const twi_pipeline *p)
{
    return p->recorder && (p->camera->pre_disarmed || p->watch.state != TW_IDLE ||
                           p->camera->continuous || p->camera->timed_clip.every_us > 0);
}

/* Read every picture that the decoder has ready. */
static tw_status read_ready(twi_pipeline *p, const tw_packet *packet, bool *bad,
                            tw_error *err)
{
    for (int i = 0; i < RECEIVE_MAX; i++) {
        twi_decoded decoded;
        tw_error why = {0};
        tw_status st = twi_decoder_receive(p->decoder, &decoded, &why);
        if (st == TW_EAGAIN || st == TW_EEND)
            return TW_OK;
        if (st == TW_EDAMAGED || st == TW_ESIZE) {
            *bad = true;
            st = bad_picture(p, packet, &why, err);
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
        packet->t_us - p->last_us >= POLL_EVERY_US || is_armed(p, packet->t_us))
        return false;
    return !p->orders ||
           (!atomic_load(&p->orders->trigger) && !atomic_load(&p->orders->snap));
}

static void note_times(twi_pipeline *p, const tw_packet *packet)
{
    if (packet->dts_us > p->offered_us)
        p->offered_step_us = packet->dts_us - p->offered_us;
    p->offered_us = packet->dts_us;
    if (!packet->key)
        return;
    p->key_step_us = p->result.frames > 0 ? packet->t_us - p->key_us : 0;
    p->key_us = packet->t_us;
}

/* Whether looking at key frames alone is often enough; they are decoded by themselves. */
static bool only_keys(const twi_pipeline *p)
{
    return p->key_step_us > p->offered_step_us &&
           p->key_step_us <= p->camera->check_every_us;
}

/* Whether the picture of a packet need not be looked at. Packets come in another order
 * than their pictures, so this keeps to a grid, of which due() takes what comes. */
static bool is_between(const twi_pipeline *p, const tw_packet *packet)
{
    const int64_t every_us = p->camera->check_every_us, step_us = p->offered_step_us;
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
    twi_decoder_skim(p->decoder, is_between(p, packet));
    if (rests(p, packet) || (only_keys(p) && !packet->key) ||
        (p->waits_for_key && !packet->key)) {
        p->waits_for_key = true;
        return true;
    }
    p->waits_for_key = false;
    return false;
}

static tw_status decode(twi_pipeline *p, const tw_packet *packet, bool *bad,
                        tw_error *err)
{
    tw_error why = {0};
    if (leaves_out(p, packet))
        return TW_OK;
    if (packet && p->detect_stream.codec == TW_CODEC_MJPEG && !due(p, packet->t_us))
        return TW_OK; /* each is a picture of its own, and needs no decoding */
    const tw_status st = twi_decoder_send(p->decoder, packet, &why);
    if (st == TW_OK)
        return read_ready(p, packet, bad, err);
    *bad = true;
    return bad_picture(p, packet, &why, err);
}

/* Brightness of a raw picture. Where it does not lie in rows the planes that are kept
 * anyway have it. */
static tw_status raw_luma(twi_pipeline *p, const tw_frame *frame, tw_luma *out)
{
    const tw_picture *picture = &frame->picture;
    if (tw_picture_luma(picture, NULL, 0, out) == TW_OK)
        return TW_OK;
    if (!p->apart && is_kept(p) && twi_stills_frame(p))
        return tw_picture_luma(&p->buffer->planes, NULL, 0, out);
    if (!twi_reserve(&p->luma_px, &p->luma_bytes,
                     (size_t)picture->width * picture->height))
        return TW_ENOMEM;
    return tw_picture_luma(picture, p->luma_px, p->luma_bytes, out);
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
        twi_factor_for(luma.width, twi_pipeline_inspected_ppm(&p->view));
    twi_decoded decoded = {luma, frame->packet.t_us, luma.width, luma.height};
    if (factor > 1) {
        const size_t need = (size_t)(luma.width / factor) * (luma.height / factor);
        if (need == 0 || !twi_reserve(&p->reduced, &p->reduced_bytes, need) ||
            twi_reduce_whole(&luma, factor, p->reduced, p->reduced_bytes,
                             &decoded.luma) != TW_OK)
            return tw_fail(err, TW_ESIZE,
                           "camera %s: a picture of %u x %u cannot be watched",
                           p->camera->name, luma.width, luma.height);
    }
    return read_picture(p, &decoded, err);
}

static void tell_lost(twi_pipeline *p)
{
    const uint64_t lost = twi_recorder_lost(p->recorder);
    if (lost == p->lost_reported)
        return;
    if (p->lost_reported == 0)
        twi_pipeline_problem(
            p, TW_ENOSPC, "the card is too slow: footage of this sighting is being lost");
    p->lost_reported = lost;
}

/* What the recorder gets of the frame at hand: its packet; or its planes, or those as
 * JPEG. @return with one holder; NULL: err says why. */
static twi_buffer *buffer_to_hold(twi_pipeline *p, tw_error *err)
{
    const tw_picture *picture = &p->frame.picture;
    twi_buffer *made = NULL;
    p->held_raw =
        picture->px[0] && twi_recorder_holds_raw(p->recorder, p->frame.packet.size);
    if (!picture->px[0] || p->held_raw) {
        made = twi_stills_frame(p);
        p->buffer = NULL;
        if (!made)
            (void)tw_fail(err, TW_ENOMEM, "out of memory: a frame is not kept");
        return made;
    }
    if (twi_buffer_jpeg(p->buffer ? &p->buffer->planes : picture, TWI_HELD_QUALITY, &made,
                        err) != TW_OK)
        return NULL;
    made->activity_ppm = p->reading.activity_ppm;
    return made;
}

/* Hand the frame at hand to the recorder. */
static void record(twi_pipeline *p)
{
    tw_error why = {0};
    twi_buffer *buffer = buffer_to_hold(p, &why);
    if (!buffer) {
        twi_pipeline_problem(p, why.status, why.text);
        return;
    }
    if (twi_recorder_packet(p->recorder, &p->frame.packet, buffer, &why) != TW_OK)
        twi_pipeline_problem(p, why.status, why.text);
    tell_lost(p);
}

/* What is kept, where something else is looked at: its size, and what stills are made of.
 */
static void keep_apart(twi_pipeline *p, const tw_frame *frame)
{
    uint16_t width = p->stream.width, height = p->stream.height;
    if (frame->picture.px[0]) {
        width = frame->picture.width;
        height = frame->picture.height;
    } else if (p->stream.codec == TW_CODEC_MJPEG) {
        (void)twi_brightness_size(frame->packet.data, frame->packet.size, &width,
                                  &height);
    }
    if (width != p->kept_width || height != p->kept_height)
        keep_size(p, width, height);
    if (p->keeper)
        (void)twi_decoder_send(p->keeper, &frame->packet, NULL);
}

/* Whether a frame holds what its stream promises: another's camera may be wrong. */
static bool is_whole(const tw_stream *stream, const tw_frame *frame)
{
    return stream->codec == TW_CODEC_RAW
               ? tw_picture_check(&frame->picture) == TW_OK
               : frame->packet.data && frame->packet.size > 0 && !frame->picture.px[0];
}

static tw_status bad_form(twi_pipeline *p, const tw_frame *frame, tw_error *err)
{
    static const tw_error empty = {TW_EDAMAGED, "it holds neither pixels nor a packet"};
    static const tw_error mixed = {TW_EDAMAGED, "its pixels or its packet are not what "
                                                "the camera said that it gives"};
    const bool any = frame->packet.data || frame->picture.px[0];
    return bad_picture(p, &frame->packet, any ? &mixed : &empty, err);
}

static tw_status detect(twi_pipeline *p, const tw_frame *frame, bool *bad, tw_error *err)
{
    note_times(p, &frame->packet);
    return frame->picture.px[0] ? read_pixels(p, frame, err)
                                : decode(p, &frame->packet, bad, err);
}

tw_status twi_pipeline_detect(twi_pipeline *p, const tw_frame *frame, tw_error *err)
{
    bool bad = false;
    if (!p->any) /* there is nothing yet that could be kept */
        return TW_OK;
    if (!is_whole(&p->detect_stream, frame))
        return bad_form(p, frame, err);
    tw_frame own = *frame;
    twi_frame_complete(&own);
    const tw_status st = detect(p, &own, &bad, err);
    twi_buffer_unref(p->buffer);
    p->buffer = NULL;
    return st;
}

static void take_frame(twi_pipeline *p, const tw_frame *frame)
{
    const tw_packet *packet = &p->frame.packet;
    p->frame = *frame;
    twi_frame_complete(&p->frame);
    p->any = true;
    if (p->armed_us == INT64_MIN)
        p->armed_us = packet->t_us;
    p->result.packet_bytes += packet->size;
    p->wall_offset_us = packet->wall_us - packet->t_us;
}

tw_status twi_pipeline_frame(twi_pipeline *p, const tw_frame *frame, tw_error *err)
{
    if (!is_whole(&p->stream, frame))
        return bad_form(p, frame, err);
    take_frame(p, frame);
    bool bad = false;
    tw_status st = TW_OK;
    if (p->apart)
        keep_apart(p, &p->frame);
    else
        st = detect(p, &p->frame, &bad, err);
    /* A damaged JPEG would spoil a clip; a damaged packet of another codec may be needed
     * by those after it. */
    const bool sink = !bad || p->stream.codec != TW_CODEC_MJPEG;
    if (st == TW_OK && sink && is_kept(p))
        record(p);
    twi_buffer_unref(p->buffer); /* where nobody has taken it over */
    p->buffer = NULL;
    return st;
}

void twi_pipeline_finish(twi_pipeline *p)
{
    bool bad = false;
    if (p->decoder && p->detect_stream.codec != TW_CODEC_MJPEG)
        (void)decode(p, NULL, &bad, NULL);
    close_footage(p);
    if (p->result.frames > 0)
        p->result.length_us = p->last_us + p->step_us - p->result.first_us;
}

uint32_t twi_pipeline_number(const twi_pipeline *p)
{
    return p->watch.now.number;
}

void twi_pipeline_health(const twi_pipeline *p, twi_health *out)
{
    const tw_rect shown =
        p->kept_width > 0 ? tw_view_rect(&p->kept_view, p->kept_width, p->kept_height, 1)
                          : (tw_rect){0, 0, 0, 0};
    *out = (twi_health){.width = shown.width,
                        .height = shown.height,
                        .damaged = p->result.bad_frames,
                        .kept_bytes = p->recorder ? twi_recorder_held(p->recorder) : 0,
                        .kept_raw = p->held_raw,
                        .arming = p->arming,
                        .arming_until_us = p->arming_until_us};
    if (p->detector)
        tw_detector_conditions(p->detector, &out->light_ppm, &out->noise);
}

bool twi_pipeline_in_sighting(const twi_pipeline *p)
{
    return p->watch.state == TW_SIGHTING;
}

int64_t twi_pipeline_watched(const twi_pipeline *p)
{
    return p->result.frames > 0 ? p->last_us - p->result.first_us : -1;
}

int64_t twi_pipeline_wall_offset(const twi_pipeline *p)
{
    return p->wall_offset_us;
}

void twi_pipeline_result(const twi_pipeline *p, tw_rehearsal_result *out)
{
    *out = p->result;
}

tw_status twi_pipeline_still(twi_pipeline *p, uint8_t **jpeg, size_t *bytes,
                             tw_reading *reading, tw_watch_state *state, tw_error *err)
{
    if (p->result.frames == 0)
        return tw_fail(err, TW_ENOENT, "camera %s: no frame could be read",
                       p->camera->name);
    *reading = p->reading;
    *state = p->watch.state;
    return shown_still(p, jpeg, bytes, err);
}
