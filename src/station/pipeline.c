/* One camera's pipeline. */
#include "pipeline_state.h"

#include <inttypes.h>
#include <stdlib.h>
#include <string.h>

#include "../core/brightness.h"
#include "../media/jpeg.h"
#include "../media/mask.h"
#include "../media/raw.h"
#include "../media/room.h"
#include "feed.h"

enum {
    BAD_TOLD_MAX = 5,   /* damaged frames that are told one by one */
    BAD_IN_A_ROW = 250, /* and after so many without a good one the camera is given up */
    RECEIVE_MAX = 64    /* pictures that one packet can set free */
};

static void tell(const tw_pipeline *p, tw_event event)
{
    event.camera = p->camera->name;
    event.state = p->watch.state;
    event.lost_frames = p->recorder ? tw_recorder_lost(p->recorder) : 0;
    if (event.t_us == 0)
        event.t_us = p->reading.t_us;
    event.wall_us = event.t_us + p->wall_offset_us;
    if (p->told)
        p->told(p->ctx, &event);
}

void tw_pipeline_problem(const tw_pipeline *p, tw_status st, const char *text)
{
    tell(p, (tw_event){.kind = TW_EVENT_PROBLEM, .status = st, .text = text});
}

/* ---- making ---------------------------------------------------------------------- */

tw_status tw_pipeline_new(const tw_camera_settings *camera, tw_clock clock,
                          const tw_stream *stream, const tw_stream *looked,
                          const tw_keep *keep, tw_event_fn told, void *ctx,
                          tw_pipeline **out, tw_error *err)
{
    tw_pipeline *p = calloc(1, sizeof *p);
    if (!p)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    p->camera = camera;
    p->clock = clock;
    p->armed_us = INT64_MIN;
    p->orders = keep ? keep->orders : NULL;
    p->arms = p->orders ? atomic_load(&p->orders->arms) : 0;
    p->wiring = (tw_wiring){.pins = keep ? keep->pins : NULL, .sensed_us = INT64_MIN};
    p->stream = *stream;
    p->looked_stream = looked ? *looked : *stream;
    p->apart = looked != NULL;
    p->kept_view = tw_view_of(camera, stream->turn);
    p->view = looked ? tw_view_of(camera, looked->turn) : p->kept_view;
    p->told = told;
    p->ctx = ctx;
    const tw_sighting_config config = tw_sighting_config_of(camera);
    tw_status st = tw_sighting_init(&p->watch, &config);
    if (st != TW_OK)
        st = tw_fail(err, st, "camera %s: start_at and stay_at contradict each other",
                     camera->name);
    p->numbers = keep ? keep->numbers : NULL;
    tw_sighting_number_after(&p->watch, keep ? keep->number : 0);
    if (st == TW_OK && camera->hours)
        st = tw_hours_parse(camera->hours, &p->hours, NULL);
    if (st == TW_OK && camera->mask[0] != '\0')
        st = tw_mask_read(camera->mask, &p->mask_picture, &p->mask_luma, err);
    if (st == TW_OK && p->looked_stream.codec != TW_CODEC_RAW)
        st = tw_decoder_open(&p->looked_stream, tw_pipeline_looked_ppm(&p->view),
                             &p->decoder, err);
    if (st == TW_OK && looked && stream->codec != TW_CODEC_RAW)
        st = tw_decoder_open(stream, 0, &p->keeper, err);
    if (st == TW_OK && keep)
        st = tw_recorder_new(camera, keep->lane, stream, keep->sink, &p->recorder, err);
    if (st == TW_OK) {
        *out = p;
        tell(p, (tw_event){.kind = TW_EVENT_OPENED, .stream = stream});
    } else {
        tw_pipeline_free(p);
    }
    return st;
}

void tw_pipeline_free(tw_pipeline *p)
{
    if (!p)
        return;
    tw_decoder_close(p->decoder);
    tw_decoder_close(p->keeper);
    tw_recorder_free(p->recorder);
    free(p->memory);
    free(p->mask_picture);
    tw_parcel_release(p->best.image);
    tw_parcel_release(p->parcel);
    free(p->luma_px);
    free(p->reduced);
    free(p->shown);
    free(p);
}

/* ---- the trace ------------------------------------------------------------------- */

static void hand_over_trace(tw_pipeline *p, bool ends)
{
    tw_trace_minute minute;
    const int64_t wall_us = p->reading.t_us + p->wall_offset_us;
    const bool done =
        ends ? tw_trace_end(&p->trace, &minute)
             : tw_trace_add(&p->trace, wall_us, p->reading.activity_ppm, &minute);
    if (done)
        tw_recorder_trace(p->recorder, &minute);
}

/* ---- frames ---------------------------------------------------------------------- */

static void ended(tw_pipeline *p, bool last_too)
{
    const tw_sighting *s = &p->watch.ended;
    p->result.sightings++;
    if (p->recorder) {
        tw_stills_ended(p, s);
        tw_recorder_ended(p->recorder, s, last_too);
    }
    tw_wiring_ended(p);
    tell(p, (tw_event){.kind = TW_EVENT_ENDED, .sighting = s});
}

static bool within_hours(const tw_pipeline *p, int64_t wall_us)
{
    const tw_camera_settings *c = p->camera;
    const tw_hours_place place = {c->latitude, c->longitude,
                                  c->latitude != TW_NOWHERE &&
                                      c->longitude != TW_NOWHERE};
    return tw_hours_within(&p->hours, wall_us,
                           p->clock.ops->offset_s(p->clock.ctx, wall_us), &place);
}

/* What decides whether motion may begin a sighting now. */
static tw_arming arming_at(const tw_pipeline *p, int64_t t_us)
{
    const tw_camera_settings *c = p->camera;
    const int asked = p->orders ? atomic_load(&p->orders->armed) : TW_AS_SET;
    if (asked == 0)
        return TW_DISARMED_BY_ORDER;
    if (asked == TW_AS_SET && !c->armed)
        return TW_DISARMED_BY_SETTING;
    if (t_us - p->armed_us < c->arm_delay_us)
        return TW_DISARMED_BY_DELAY;
    if (asked != TW_AS_SET)
        return TW_ARMED_BY_ORDER;
    return within_hours(p, t_us + p->wall_offset_us) ? TW_ARMED_BY_SETTING
                                                     : TW_DISARMED_BY_HOURS;
}

static bool is_armed(const tw_pipeline *p, int64_t t_us)
{
    const tw_arming arming = arming_at(p, t_us);
    return arming == TW_ARMED_BY_SETTING || arming == TW_ARMED_BY_ORDER;
}

/* When the hours begin next, by the wall; 0: not within a week. */
static int64_t next_hours(const tw_pipeline *p, int64_t wall_us)
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
static void note_arming(tw_pipeline *p, int64_t t_us)
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
static void take_number(tw_pipeline *p)
{
    if (p->numbers)
        p->watch.now.number = atomic_fetch_add(p->numbers, 1) + 1;
}

/* The picture at hand, turned and cropped. */
static tw_status shown_still(tw_pipeline *p, uint8_t **out, size_t *bytes, tw_error *err)
{
    const tw_view *view = &p->kept_view;
    uint8_t *whole = NULL;
    uint16_t width = 0, height = 0;
    if (tw_view_is_plain(view))
        return tw_stills_picture(p, out, bytes, err);
    tw_status st = tw_stills_picture(p, &whole, bytes, err);
    if (st == TW_OK)
        st = tw_jpeg_view(whole, *bytes, view, out, bytes, &width, &height, err);
    free(whole);
    return st;
}

static tw_status shown_picture(void *ctx, uint8_t **out, size_t *bytes, tw_error *err)
{
    return shown_still(ctx, out, bytes, err);
}

static void decide(tw_pipeline *p)
{
    tw_wiring_look(p);
    note_arming(p, p->reading.t_us);
    const bool armed = is_armed(p, p->reading.t_us);
    tw_sighting_arm(&p->watch, armed && tw_wiring_allows(p));
    unsigned what = tw_sighting_step(&p->watch, &p->reading);
    const bool asked = p->orders && take_order(&p->orders->trigger);
    if (asked || (armed && tw_wiring_starts(p)))
        what |= tw_sighting_trigger(&p->watch);
    if (what & TW_SIGHTING_ENDED)
        ended(p, false);
    if (what & TW_SIGHTING_BEGAN) {
        take_number(p);
        tell(p, (tw_event){.kind = TW_EVENT_BEGAN,
                           .sighting = &p->watch.now,
                           .reading = &p->reading});
        tw_wiring_began(p);
        if (p->recorder) {
            tw_recorder_began(p->recorder, &p->watch.now);
            tw_stills_began(p);
        }
    }
    const bool running = p->watch.state == TW_SIGHTING;
    const struct tw_event_frame shown = {shown_picture, p};
    if (running && p->recorder)
        tw_stills_while(p);
    tell(p, (tw_event){.kind = TW_EVENT_READING,
                       .frame = &shown,
                       .reading = &p->reading,
                       .luma = p->luma,
                       .sighting = running ? &p->watch.now : NULL});
}

/* End what is running; what comes next is another footage. */
static void close_footage(tw_pipeline *p)
{
    if (tw_sighting_finish(&p->watch) & TW_SIGHTING_ENDED)
        ended(p, true);
    if (p->recorder) {
        hand_over_trace(p, true);
        tw_recorder_flush(p->recorder);
    }
    tw_sighting_settle_again(&p->watch);
}

/* The size of what is kept. */
static void keep_size(tw_pipeline *p, uint16_t width, uint16_t height)
{
    p->kept_width = width;
    p->kept_height = height;
    if (p->recorder)
        tw_recorder_size(p->recorder, width, height);
}

static tw_status change_size(tw_pipeline *p, const tw_decoded *decoded, tw_error *err)
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
        tw_pipeline_problem(p, TW_OK, line.text);
        close_footage(p);
    }
    p->width = decoded->width;
    p->height = decoded->height;
    if (!p->apart)
        keep_size(p, p->width, p->height);
    return tw_pipeline_make_detector(p, decoded->luma.width, decoded->luma.height, err);
}

/* Whether it is time to look at a frame again: frames in between are only kept. Half a
 * frame early is in time, or a rate that just does not fit would skip every second one.
 */
static bool due(const tw_pipeline *p, int64_t t_us)
{
    const int64_t since = t_us - p->last_us;
    return p->camera->check_every_us == 0 || p->result.frames == 0 || since < 0 ||
           since + p->offered_step_us / 2 >= p->camera->check_every_us;
}

/* Turn and crop what the detector looks at. */
static tw_status show(tw_pipeline *p, tw_luma *luma, tw_error *err)
{
    if (tw_view_is_plain(&p->view))
        return TW_OK;
    const tw_rect r = tw_view_rect(&p->view, luma->width, luma->height, 1);
    if (!tw_make_room(&p->shown, &p->shown_bytes, (size_t)r.width * r.height))
        return tw_fail(err, TW_ENOMEM, "out of memory");
    tw_view_plane(p->view.turn, luma, &r, p->shown, r.width);
    *luma = (tw_luma){p->shown, r.width, r.width, r.height};
    return TW_OK;
}

static tw_status read_picture(tw_pipeline *p, tw_decoded *decoded, tw_error *err)
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
    if (p->parcel) /* made before anything was read of it, and not shared yet */
        p->parcel->activity_ppm = p->reading.activity_ppm;
    p->luma = &decoded->luma;
    p->bad_in_a_row = 0;
    if (p->result.frames == 0)
        p->result.first_us = decoded->t_us;
    else
        p->step_us = decoded->t_us - p->last_us;
    p->last_us = decoded->t_us;
    p->result.frames++;
    if (p->recorder)
        tw_recorder_hold(p->recorder, p->reading.earliest_us);
    decide(p);
    if (p->recorder) {
        tw_stills_timed(p);
        if (p->orders && take_order(&p->orders->snap))
            tw_stills_store(p, TW_KIND_SNAP, 0);
        hand_over_trace(p, false);
    }
    p->luma = NULL;
    return TW_OK;
}

tw_status tw_pipeline_bad_frame(tw_pipeline *p, const tw_error *why, tw_error *err)
{
    p->result.bad_frames++;
    p->bad_in_a_row++;
    if (p->result.bad_frames <= BAD_TOLD_MAX)
        tw_pipeline_problem(p, TW_EDAMAGED, why->text);
    if (p->result.bad_frames == BAD_TOLD_MAX)
        tw_pipeline_problem(p, TW_EDAMAGED,
                            "more damaged frames are only counted from here on");
    if (p->bad_in_a_row < BAD_IN_A_ROW)
        return TW_OK;
    return tw_fail(err, TW_EDAMAGED, "camera %s: %d damaged frames in a row, giving up",
                   p->camera->name, BAD_IN_A_ROW);
}

/* Word what is wrong with the frame at hand: which one, and when. */
static tw_status bad_picture(tw_pipeline *p, const tw_packet *packet, const tw_error *why,
                             tw_error *err)
{
    tw_error line = {0};
    const uint64_t number = p->result.frames + p->result.bad_frames + 1;
    const int64_t since = packet ? packet->t_us - p->result.first_us : 0;
    (void)tw_fail(&line, TW_EDAMAGED, "frame %" PRIu64 " at %.3f s left out: %s", number,
                  (double)since / 1e6, why->text);
    return tw_pipeline_bad_frame(p, &line, err);
}

/* Whether frames that come now go into the pre-event footage, or into a file. */
static bool is_kept(const tw_pipeline *p)
{
    return p->recorder && (p->camera->pre_disarmed || p->watch.state != TW_IDLE ||
                           p->camera->continuous || p->camera->timed_clip.every_us > 0);
}

/* Read every picture that the decoder has ready. */
static tw_status read_ready(tw_pipeline *p, const tw_packet *packet, bool *bad,
                            tw_error *err)
{
    for (int i = 0; i < RECEIVE_MAX; i++) {
        tw_decoded decoded;
        tw_error why = {0};
        tw_status st = tw_decoder_receive(p->decoder, &decoded, &why);
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
static bool rests(tw_pipeline *p, const tw_packet *packet)
{
    enum { LOOK_EVERY_US = 1000000 };
    if (p->watch.state != TW_IDLE || p->result.frames == 0 ||
        packet->t_us - p->last_us >= LOOK_EVERY_US || is_armed(p, packet->t_us))
        return false;
    return !p->orders ||
           (!atomic_load(&p->orders->trigger) && !atomic_load(&p->orders->snap));
}

static void note_times(tw_pipeline *p, const tw_packet *packet)
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
static bool only_keys(const tw_pipeline *p)
{
    return p->key_step_us > p->offered_step_us &&
           p->key_step_us <= p->camera->check_every_us;
}

/* Whether the picture of a packet need not be looked at. Packets come in another order
 * than their pictures, so this keeps to a grid, of which due() takes what comes. */
static bool is_between(const tw_pipeline *p, const tw_packet *packet)
{
    const int64_t every_us = p->camera->check_every_us, step_us = p->offered_step_us;
    const int64_t since_us = packet->t_us - p->result.first_us + step_us / 2;
    return every_us > 0 && p->result.frames > 0 && since_us >= 0 &&
           since_us % every_us >= step_us;
}

/* Whether a packet is left out of the decoder: it rests, or key frames are enough, and it
 * begins again with a picture that needs no other. */
static bool leaves_out(tw_pipeline *p, const tw_packet *packet)
{
    if (!packet)
        return false;
    tw_decoder_skim(p->decoder, is_between(p, packet));
    if (rests(p, packet) || (only_keys(p) && !packet->key) ||
        (p->waits_for_key && !packet->key)) {
        p->waits_for_key = true;
        return true;
    }
    p->waits_for_key = false;
    return false;
}

static tw_status decode(tw_pipeline *p, const tw_packet *packet, bool *bad, tw_error *err)
{
    tw_error why = {0};
    if (leaves_out(p, packet))
        return TW_OK;
    if (packet && p->looked_stream.codec == TW_CODEC_MJPEG && !due(p, packet->t_us))
        return TW_OK; /* each is a picture of its own, and needs no decoding */
    const tw_status st = tw_decoder_send(p->decoder, packet, &why);
    if (st == TW_OK)
        return read_ready(p, packet, bad, err);
    *bad = true;
    return bad_picture(p, packet, &why, err);
}

/* Brightness of a raw picture. Where it does not lie in rows the planes that are kept
 * anyway have it. */
static tw_status raw_luma(tw_pipeline *p, const tw_frame *frame, tw_luma *out)
{
    const tw_picture *picture = &frame->picture;
    if (tw_picture_luma(picture, NULL, 0, out) == TW_OK)
        return TW_OK;
    if (!p->apart && is_kept(p) && tw_stills_frame(p))
        return tw_picture_luma(&p->parcel->planes, NULL, 0, out);
    if (!tw_make_room(&p->luma_px, &p->luma_bytes,
                      (size_t)picture->width * picture->height))
        return TW_ENOMEM;
    return tw_picture_luma(picture, p->luma_px, p->luma_bytes, out);
}

/* The frame is pixels: no decoding. */
static tw_status read_pixels(tw_pipeline *p, const tw_frame *frame, tw_error *err)
{
    tw_luma luma;
    if (!due(p, frame->packet.t_us) || rests(p, &frame->packet))
        return TW_OK;
    const tw_status st = raw_luma(p, frame, &luma);
    if (st != TW_OK)
        return tw_fail(err, st, "camera %s: %s", p->camera->name, tw_status_text(st));
    const uint16_t factor = tw_factor_for(luma.width, tw_pipeline_looked_ppm(&p->view));
    tw_decoded decoded = {luma, frame->packet.t_us, luma.width, luma.height};
    if (factor > 1) {
        const size_t need = (size_t)(luma.width / factor) * (luma.height / factor);
        if (need == 0 || !tw_make_room(&p->reduced, &p->reduced_bytes, need) ||
            tw_reduce_whole(&luma, factor, p->reduced, p->reduced_bytes, &decoded.luma) !=
                TW_OK)
            return tw_fail(err, TW_ESIZE,
                           "camera %s: a picture of %u x %u cannot be watched",
                           p->camera->name, luma.width, luma.height);
    }
    return read_picture(p, &decoded, err);
}

static void tell_lost(tw_pipeline *p)
{
    const uint64_t lost = tw_recorder_lost(p->recorder);
    if (lost == p->lost_told)
        return;
    if (p->lost_told == 0)
        tw_pipeline_problem(
            p, TW_ENOSPC, "the card is too slow: footage of this sighting is being lost");
    p->lost_told = lost;
}

/* What the recorder gets of the frame at hand: its packet; or its planes, or those as
 * JPEG. @return with one holder; NULL: err says why. */
static tw_parcel *parcel_to_hold(tw_pipeline *p, tw_error *err)
{
    const tw_picture *picture = &p->frame.picture;
    tw_parcel *made = NULL;
    p->held_raw =
        picture->px[0] && tw_recorder_holds_raw(p->recorder, p->frame.packet.size);
    if (!picture->px[0] || p->held_raw) {
        made = tw_stills_frame(p);
        p->parcel = NULL;
        if (!made)
            (void)tw_fail(err, TW_ENOMEM, "out of memory: a frame is not kept");
        return made;
    }
    if (tw_parcel_jpeg(p->parcel ? &p->parcel->planes : picture, TW_HELD_QUALITY, &made,
                       err) != TW_OK)
        return NULL;
    made->activity_ppm = p->reading.activity_ppm;
    return made;
}

/* Hand the frame at hand to the recorder. */
static void record(tw_pipeline *p)
{
    tw_error why = {0};
    tw_parcel *parcel = parcel_to_hold(p, &why);
    if (!parcel) {
        tw_pipeline_problem(p, why.status, why.text);
        return;
    }
    if (tw_recorder_packet(p->recorder, &p->frame.packet, parcel, &why) != TW_OK)
        tw_pipeline_problem(p, why.status, why.text);
    tell_lost(p);
}

/* What is kept, where something else is looked at: its size, and what stills are made of.
 */
static void keep_apart(tw_pipeline *p, const tw_frame *frame)
{
    uint16_t width = p->stream.width, height = p->stream.height;
    if (frame->picture.px[0]) {
        width = frame->picture.width;
        height = frame->picture.height;
    } else if (p->stream.codec == TW_CODEC_MJPEG) {
        (void)tw_brightness_size(frame->packet.data, frame->packet.size, &width, &height);
    }
    if (width != p->kept_width || height != p->kept_height)
        keep_size(p, width, height);
    if (p->keeper)
        (void)tw_decoder_send(p->keeper, &frame->packet, NULL);
}

/* Whether a frame holds what its stream promises: another's camera may be wrong. */
static bool is_whole(const tw_stream *stream, const tw_frame *frame)
{
    return stream->codec == TW_CODEC_RAW
               ? tw_picture_check(&frame->picture) == TW_OK
               : frame->packet.data && frame->packet.size > 0 && !frame->picture.px[0];
}

static tw_status bad_form(tw_pipeline *p, const tw_frame *frame, tw_error *err)
{
    static const tw_error empty = {TW_EDAMAGED, "it holds neither pixels nor a packet"};
    static const tw_error mixed = {TW_EDAMAGED, "its pixels or its packet are not what "
                                                "the camera said that it gives"};
    const bool any = frame->packet.data || frame->picture.px[0];
    return bad_picture(p, &frame->packet, any ? &mixed : &empty, err);
}

static tw_status look(tw_pipeline *p, const tw_frame *frame, bool *bad, tw_error *err)
{
    note_times(p, &frame->packet);
    return frame->picture.px[0] ? read_pixels(p, frame, err)
                                : decode(p, &frame->packet, bad, err);
}

tw_status tw_pipeline_look(tw_pipeline *p, const tw_frame *frame, tw_error *err)
{
    bool bad = false;
    if (!p->any) /* there is nothing yet that could be kept */
        return TW_OK;
    if (!is_whole(&p->looked_stream, frame))
        return bad_form(p, frame, err);
    tw_frame own = *frame;
    tw_frame_complete(&own);
    const tw_status st = look(p, &own, &bad, err);
    tw_parcel_release(p->parcel);
    p->parcel = NULL;
    return st;
}

static void take_frame(tw_pipeline *p, const tw_frame *frame)
{
    const tw_packet *packet = &p->frame.packet;
    p->frame = *frame;
    tw_frame_complete(&p->frame);
    p->any = true;
    if (p->armed_us == INT64_MIN)
        p->armed_us = packet->t_us;
    p->result.packet_bytes += packet->size;
    p->wall_offset_us = packet->wall_us - packet->t_us;
}

tw_status tw_pipeline_frame(tw_pipeline *p, const tw_frame *frame, tw_error *err)
{
    if (!is_whole(&p->stream, frame))
        return bad_form(p, frame, err);
    take_frame(p, frame);
    bool bad = false;
    tw_status st = TW_OK;
    if (p->apart)
        keep_apart(p, &p->frame);
    else
        st = look(p, &p->frame, &bad, err);
    /* A damaged JPEG would spoil a clip; a damaged packet of another codec may be needed
     * by those after it. */
    const bool keep = !bad || p->stream.codec != TW_CODEC_MJPEG;
    if (st == TW_OK && keep && is_kept(p))
        record(p);
    tw_parcel_release(p->parcel); /* where nobody has taken it over */
    p->parcel = NULL;
    return st;
}

void tw_pipeline_finish(tw_pipeline *p)
{
    bool bad = false;
    if (p->decoder && p->looked_stream.codec != TW_CODEC_MJPEG)
        (void)decode(p, NULL, &bad, NULL);
    close_footage(p);
    if (p->result.frames > 0)
        p->result.length_us = p->last_us + p->step_us - p->result.first_us;
}

uint32_t tw_pipeline_number(const tw_pipeline *p)
{
    return p->watch.now.number;
}

void tw_pipeline_health(const tw_pipeline *p, tw_health *out)
{
    const tw_rect shown =
        p->kept_width > 0 ? tw_view_rect(&p->kept_view, p->kept_width, p->kept_height, 1)
                          : (tw_rect){0, 0, 0, 0};
    *out = (tw_health){.width = shown.width,
                       .height = shown.height,
                       .damaged = p->result.bad_frames,
                       .kept_bytes = p->recorder ? tw_recorder_held(p->recorder) : 0,
                       .kept_raw = p->held_raw,
                       .arming = p->arming,
                       .arming_until_us = p->arming_until_us};
    if (p->detector)
        tw_detector_conditions(p->detector, &out->light_ppm, &out->noise);
}

bool tw_pipeline_in_sighting(const tw_pipeline *p)
{
    return p->watch.state == TW_SIGHTING;
}

int64_t tw_pipeline_watched(const tw_pipeline *p)
{
    return p->result.frames > 0 ? p->last_us - p->result.first_us : -1;
}

int64_t tw_pipeline_wall_offset(const tw_pipeline *p)
{
    return p->wall_offset_us;
}

void tw_pipeline_result(const tw_pipeline *p, tw_rehearsal_result *out)
{
    *out = p->result;
}

tw_status tw_pipeline_still(tw_pipeline *p, uint8_t **jpeg, size_t *bytes,
                            tw_reading *reading, tw_watch_state *state, tw_error *err)
{
    if (p->result.frames == 0)
        return tw_fail(err, TW_ENOENT, "camera %s: no frame could be read",
                       p->camera->name);
    *reading = p->reading;
    *state = p->watch.state;
    return shown_still(p, jpeg, bytes, err);
}
