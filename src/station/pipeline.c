/* One camera's pipeline. */
#include "pipeline.h"

#include <inttypes.h>
#include <stdlib.h>
#include <string.h>

#include "../media/decoder.h"
#include "../media/mask.h"
#include "tawny/best.h"
#include "tawny/hours.h"
#include "tawny/interval.h"

enum {
    BAD_TOLD_MAX = 5,   /* damaged frames that are told one by one */
    BAD_IN_A_ROW = 250, /* and after so many without a good one the camera is given up */
    RECEIVE_MAX = 64    /* pictures that one packet can set free */
};

/* The still that waits for the end of its sighting. */
typedef struct best_still {
    tw_parcel *jpeg; /* NULL: none */
    tw_best rank;
    tw_packet times;
} best_still;

struct tw_pipeline {
    const tw_camera_settings *camera;
    tw_stream stream;
    tw_decoder *decoder;
    tw_detector *detector;
    void *memory; /* of the detector */
    uint8_t *mask;
    uint8_t *mask_picture;            /* of mask = FILE; NULL: none */
    tw_luma mask_luma;                /* a view of it */
    uint16_t width, height;           /* of whole pictures; 0 before the first */
    uint16_t luma_width, luma_height; /* of what the detector reads */
    tw_sighting_watch watch;
    tw_clock clock;
    tw_hours hours;
    tw_orders *orders;     /* NULL: none */
    int64_t begun_us;      /* the first frame of all; arm_delay counts from it */
    bool waits_for_key;    /* packets were left out: the next picture needs a key frame */
    tw_recorder *recorder; /* NULL: nothing is stored */
    tw_reading reading;
    const tw_luma *luma; /* of the frame that is being decided on */
    best_still best;
    int64_t next_still_us;
    int64_t
        every_from_us;   /* when the last still of TW_STILLS_EVERY, or its burst, began */
    uint32_t stills;     /* of this sighting so far, where they are numbered */
    uint32_t burst_left; /* frames in a row that are stills too */
    tw_interval timed;   /* of timed stills */
    tw_trace trace;
    tw_packet packet;         /* at hand, the camera's */
    tw_parcel *parcel;        /* of it; NULL: not made yet */
    int64_t wall_offset_us;   /* wall time less capture time, of the newest packet */
    int64_t last_us, step_us; /* of the frames that were read */
    int64_t offered_us, offered_step_us; /* of all */
    uint64_t lost_told;
    uint32_t bad_in_a_row;
    uint8_t *reduced;
    size_t reduced_bytes;
    tw_rehearsal_result result;
    tw_event_fn told;
    void *ctx;
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

static void tell_problem(const tw_pipeline *p, tw_status st, const char *text)
{
    tell(p, (tw_event){.kind = TW_EVENT_PROBLEM, .status = st, .text = text});
}

/* ---- making ---------------------------------------------------------------------- */

tw_sighting_config tw_sighting_config_of(const tw_camera_settings *c)
{
    tw_sighting_config config = (tw_sighting_config){.start_ppm = (uint32_t)c->start_ppm,
                                                     .stay_ppm = (uint32_t)c->stay_ppm,
                                                     .confirm_k = c->confirm.k,
                                                     .confirm_n = c->confirm.n,
                                                     .armed = c->armed,
                                                     .settle_us = c->settle_us,
                                                     .pre_us = c->pre_us,
                                                     .post_us = c->post_us,
                                                     .rest_us = c->rest_us,
                                                     .longest_us = c->longest_us};
    for (size_t i = 0; i < c->zone_count && config.own_count < TW_OWN_LIMITS_MAX; i++)
        if (c->zones[i].start_ppm > 0)
            config.own[config.own_count++] =
                (tw_own_limits){c->zones[i].start_ppm, c->zones[i].stay_ppm};
    return config;
}

static tw_detector_config detector_config(const tw_camera_settings *c, uint16_t width,
                                          uint16_t height)
{
    tw_detector_config config;
    tw_detector_defaults(&config, width, height);
    config.difference = (uint16_t)c->difference;
    config.noise_margin_pct = (uint16_t)c->noise_margin_pct;
    config.smallest_ppm = (uint32_t)c->smallest_ppm;
    config.largest_ppm = (uint32_t)c->largest_ppm;
    config.travel_ppm = (uint32_t)c->travel_ppm;
    config.memory_us = c->memory_us;
    config.light_guard = c->light_guard;
    config.sway_guard = c->sway_guard;
    config.shake_guard = c->shake_guard;
    return config;
}

static tw_status watch_zones(tw_pipeline *p, tw_error *err)
{
    const tw_grid grid = tw_detector_grid(p->detector);
    free(p->mask);
    p->mask = malloc((size_t)grid.columns * grid.rows);
    if (!p->mask)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    tw_status st = tw_zones_mark(&grid, p->camera->zones, p->camera->zone_count, p->mask);
    if (st == TW_OK && p->mask_picture)
        st = tw_mask_mark(&grid, &p->mask_luma, p->mask);
    if (st == TW_OK)
        st = tw_detector_watch_cells(p->detector, p->mask);
    if (st != TW_OK)
        return tw_fail(err, TW_EINVAL, "camera %s: its %s leave nothing to watch",
                       p->camera->name, p->mask_picture ? "zones and mask" : "zones");
    return TW_OK;
}

static tw_status make_detector(tw_pipeline *p, uint16_t width, uint16_t height,
                               tw_error *err)
{
    const tw_detector_config config = detector_config(p->camera, width, height);
    size_t bytes = 0;
    if (tw_detector_bytes(&config, &bytes) != TW_OK)
        return tw_fail(err, TW_ESIZE, "camera %s: a picture of %u x %u cannot be watched",
                       p->camera->name, p->width, p->height);
    free(p->memory);
    p->memory = malloc(bytes);
    if (!p->memory || tw_detector_init(&config, p->memory, bytes, &p->detector) != TW_OK)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    p->luma_width = width;
    p->luma_height = height;
    return watch_zones(p, err);
}

tw_status tw_pipeline_new(const tw_camera_settings *camera, tw_clock clock,
                          const tw_stream *stream, const tw_keep *keep, tw_event_fn told,
                          void *ctx, tw_pipeline **out, tw_error *err)
{
    tw_pipeline *p = calloc(1, sizeof *p);
    if (!p)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    p->camera = camera;
    p->clock = clock;
    p->begun_us = INT64_MIN;
    p->orders = keep ? keep->orders : NULL;
    p->stream = *stream;
    p->told = told;
    p->ctx = ctx;
    const tw_sighting_config config = tw_sighting_config_of(camera);
    tw_status st = tw_sighting_init(&p->watch, &config);
    if (st != TW_OK)
        st = tw_fail(err, st, "camera %s: start_at and stay_at contradict each other",
                     camera->name);
    tw_sighting_number_after(&p->watch, keep ? keep->number : 0);
    if (st == TW_OK && camera->hours)
        st = tw_hours_parse(camera->hours, &p->hours, NULL);
    if (st == TW_OK && camera->mask[0] != '\0')
        st = tw_mask_read(camera->mask, &p->mask_picture, &p->mask_luma, err);
    if (st == TW_OK)
        st = tw_decoder_open(stream, &p->decoder, err);
    if (st == TW_OK && keep)
        st = tw_recorder_new(keep->lane, stream, keep->sink, &p->recorder, err);
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
    tw_recorder_free(p->recorder);
    free(p->memory);
    free(p->mask);
    free(p->mask_picture);
    tw_parcel_release(p->best.jpeg);
    tw_parcel_release(p->parcel);
    free(p->reduced);
    free(p);
}

/* ---- stills ---------------------------------------------------------------------- */

static tw_packet times_at(const tw_pipeline *p, int64_t t_us)
{
    return (tw_packet){.t_us = t_us, .dts_us = t_us, .wall_us = t_us + p->wall_offset_us};
}

/* The packet at hand, copied from the camera when it is first wanted; NULL: out of
 * memory. */
static tw_parcel *packet_at_hand(tw_pipeline *p)
{
    if (p->parcel)
        return p->parcel;
    p->parcel = tw_parcel_copy(p->packet.data, p->packet.size);
    if (p->parcel)
        p->parcel->activity_ppm = p->reading.activity_ppm;
    return p->parcel;
}

/* The picture at hand as a JPEG: as it came, or encoded. @return NULL: err says why. */
static tw_parcel *take_still(tw_pipeline *p, tw_error *err)
{
    uint8_t *jpeg = NULL;
    size_t bytes = 0;
    if (p->stream.codec == TW_CODEC_MJPEG && packet_at_hand(p))
        return tw_parcel_keep(p->parcel);
    if (tw_decoder_still(p->decoder, (int)p->camera->still_quality, &jpeg, &bytes, err) !=
        TW_OK)
        return NULL;
    tw_parcel *taken = tw_parcel_take(jpeg, bytes);
    if (!taken)
        (void)tw_fail(err, TW_ENOMEM, "out of memory");
    else
        taken->activity_ppm = p->reading.activity_ppm;
    return taken;
}

static void store_still(tw_pipeline *p, tw_kind kind, uint32_t n)
{
    tw_error err = {0};
    const tw_still still = {.kind = kind,
                            .sighting = kind == TW_KIND_STILL ? &p->watch.now : NULL,
                            .jpeg = take_still(p, &err),
                            .times = times_at(p, p->reading.t_us),
                            .n = n,
                            .width = p->width,
                            .height = p->height};
    if (still.jpeg)
        tw_recorder_still(p->recorder, &still);
    else
        tell_problem(p, err.status, err.text);
}

/* The first confirming frame, where its packet is a picture of its own; else the one at
 * hand, by which it was confirmed. */
static void store_first(tw_pipeline *p)
{
    tw_still still = {.kind = TW_KIND_STILL,
                      .sighting = &p->watch.now,
                      .n =
                          p->camera->burst > 1 ? ++p->stills : 0, /* one alone has none */
                      .width = p->width,
                      .height = p->height};
    if (p->stream.codec != TW_CODEC_MJPEG ||
        tw_recorder_find(p->recorder, p->watch.now.start_us, &still.times, &still.jpeg) !=
            TW_OK) {
        store_still(p, TW_KIND_STILL, still.n);
        return;
    }
    (void)tw_parcel_keep(still.jpeg);
    tw_recorder_still(p->recorder, &still);
}

/* Encoding a still is dear where the camera sends no JPEG: only for clearly better ones.
 */
static void keep_if_better(tw_pipeline *p)
{
    const uint32_t dear_pct = p->stream.codec == TW_CODEC_MJPEG ? 4 : 12;
    tw_best rank = p->best.jpeg ? p->best.rank : (tw_best){0};
    if (!tw_best_take(&rank, &p->reading, p->luma, dear_pct))
        return;
    tw_parcel *jpeg = take_still(p, NULL);
    if (!jpeg)
        return;
    tw_parcel_release(p->best.jpeg);
    p->best = (best_still){jpeg, rank, times_at(p, p->reading.t_us)};
}

static void store_best(tw_pipeline *p, const tw_sighting *sighting)
{
    const tw_still still = {.kind = TW_KIND_STILL,
                            .sighting = sighting,
                            .jpeg = p->best.jpeg,
                            .times = p->best.times,
                            .width = p->width,
                            .height = p->height};
    if (!still.jpeg)
        return;
    tw_recorder_still(p->recorder, &still);
    p->best = (best_still){0};
}

static void stills_began(tw_pipeline *p)
{
    p->stills = 0;
    p->burst_left = 0;
    p->next_still_us = p->reading.t_us;
    /* Where nothing moves there is no best frame: the one that it was asked for with. */
    if (p->camera->stills.which == TW_STILLS_BEST && p->watch.now.cause.of == 0) {
        tw_parcel_release(p->best.jpeg);
        p->best = (best_still){take_still(p, NULL), {0}, times_at(p, p->reading.t_us)};
    }
    if (p->camera->stills.which != TW_STILLS_FIRST)
        return;
    store_first(p);
    p->burst_left = (uint32_t)p->camera->burst - 1;
    p->next_still_us = p->reading.t_us + 1; /* the burst goes on with the next frame */
}

static void stills_while(tw_pipeline *p)
{
    if (p->camera->stills.which == TW_STILLS_BEST)
        keep_if_better(p);
    if (p->reading.t_us < p->next_still_us)
        return;
    if (p->burst_left > 0) {
        p->burst_left--;
        store_still(p, TW_KIND_STILL, ++p->stills);
    } else if (p->camera->stills.which == TW_STILLS_EVERY) {
        store_still(p, TW_KIND_STILL, ++p->stills);
        p->burst_left = (uint32_t)p->camera->burst - 1;
        p->every_from_us = p->reading.t_us;
    }
    if (p->burst_left == 0 && p->camera->stills.which == TW_STILLS_EVERY)
        p->next_still_us = p->every_from_us + p->camera->stills.every_us;
}

static void store_timed(tw_pipeline *p)
{
    if (tw_interval_due(&p->timed, p->reading.t_us + p->wall_offset_us,
                        p->camera->timed_still_us))
        store_still(p, TW_KIND_TIMED_STILL, 0);
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
        store_best(p, s);
        tw_recorder_ended(p->recorder, s, last_too);
    }
    tell(p, (tw_event){.kind = TW_EVENT_ENDED, .sighting = s});
}

/* Whether motion may begin a sighting now. */
static bool is_armed(const tw_pipeline *p, int64_t t_us)
{
    const tw_camera_settings *c = p->camera;
    const int asked = p->orders ? atomic_load(&p->orders->armed) : TW_AS_SET;
    if (asked != TW_AS_SET)
        return asked != 0;
    if (!c->armed || t_us - p->begun_us < c->arm_delay_us)
        return false;
    const int64_t wall_us = t_us + p->wall_offset_us;
    const tw_hours_place place = {c->latitude, c->longitude,
                                  c->latitude != TW_NOWHERE &&
                                      c->longitude != TW_NOWHERE};
    return tw_hours_within(&p->hours, wall_us,
                           p->clock.ops->offset_s(p->clock.ctx, wall_us), &place);
}

/* Whether something was ordered; it is done with then. */
static bool take_order(atomic_bool *order)
{
    return atomic_load_explicit(order, memory_order_relaxed) &&
           atomic_exchange(order, false);
}

static void decide(tw_pipeline *p)
{
    tw_sighting_arm(&p->watch, is_armed(p, p->reading.t_us));
    unsigned what = tw_sighting_step(&p->watch, &p->reading);
    if (p->orders && take_order(&p->orders->trigger))
        what |= tw_sighting_trigger(&p->watch);
    if (what & TW_SIGHTING_ENDED)
        ended(p, false);
    if (what & TW_SIGHTING_BEGAN) {
        tell(p, (tw_event){.kind = TW_EVENT_BEGAN,
                           .sighting = &p->watch.now,
                           .reading = &p->reading});
        if (p->recorder) {
            tw_recorder_began(p->recorder, &p->watch.now);
            stills_began(p);
        }
    }
    const bool running = p->watch.state == TW_SIGHTING;
    if (running && p->recorder)
        stills_while(p);
    tell(p, (tw_event){.kind = TW_EVENT_READING,
                       .frame = p,
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
        tell_problem(p, TW_OK, line.text);
        close_footage(p);
    }
    p->width = decoded->width;
    p->height = decoded->height;
    if (p->recorder)
        tw_recorder_size(p->recorder, p->width, p->height);
    return make_detector(p, decoded->luma.width, decoded->luma.height, err);
}

/* Whether it is time to look at a frame again: frames in between are only kept. Half a
 * frame early is in time, or a rate that just does not fit would skip every second one.
 */
static bool due(tw_pipeline *p, int64_t t_us)
{
    const int64_t since = t_us - p->last_us;
    if (t_us > p->offered_us)
        p->offered_step_us = t_us - p->offered_us;
    p->offered_us = t_us;
    return p->camera->check_every_us == 0 || p->result.frames == 0 || since < 0 ||
           since + p->offered_step_us / 2 >= p->camera->check_every_us;
}

static tw_status read_picture(tw_pipeline *p, const tw_decoded *decoded, tw_error *err)
{
    tw_status st = TW_OK;
    if (!due(p, decoded->t_us))
        return TW_OK;
    if (decoded->width != p->width || decoded->height != p->height ||
        decoded->luma.width != p->luma_width || decoded->luma.height != p->luma_height)
        st = change_size(p, decoded, err);
    if (st == TW_OK)
        st = tw_detector_read(p->detector, &decoded->luma, decoded->t_us, &p->reading);
    if (st != TW_OK)
        return st;
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
        store_timed(p);
        if (p->orders && take_order(&p->orders->snap))
            store_still(p, TW_KIND_SNAP, 0);
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
        tell_problem(p, TW_EDAMAGED, why->text);
    if (p->result.bad_frames == BAD_TOLD_MAX)
        tell_problem(p, TW_EDAMAGED, "more damaged frames are only counted from here on");
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

/* Whether a packet is left out of the decoder: it rests, and begins again with a picture
 * that needs no other. */
static bool leaves_out(tw_pipeline *p, const tw_packet *packet)
{
    if (!packet)
        return false;
    if (rests(p, packet) || (p->waits_for_key && !packet->key)) {
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
    if (packet && p->stream.codec == TW_CODEC_MJPEG && !due(p, packet->t_us))
        return TW_OK; /* each is a picture of its own, and needs no decoding */
    const tw_status st = tw_decoder_send(p->decoder, packet, &why);
    if (st == TW_OK)
        return read_ready(p, packet, bad, err);
    *bad = true;
    return bad_picture(p, packet, &why, err);
}

/* The camera has the luma plane already: no decoding. The packet is kept for stills. */
static tw_status read_plane(tw_pipeline *p, const tw_frame *frame, tw_error *err)
{
    if (!due(p, frame->packet.t_us) || rests(p, &frame->packet))
        return TW_OK;
    const tw_luma *luma = &frame->luma;
    const uint16_t factor = tw_luma_factor(luma->width);
    tw_decoded decoded = {*luma, frame->packet.t_us, luma->width, luma->height};
    if (factor > 1) {
        const size_t need = (size_t)(luma->width / factor) * (luma->height / factor);
        if (p->reduced_bytes < need) {
            free(p->reduced);
            p->reduced = malloc(need);
            p->reduced_bytes = p->reduced ? need : 0;
        }
        if (need == 0 || tw_luma_reduce(luma, factor, p->reduced, p->reduced_bytes,
                                        &decoded.luma) != TW_OK)
            return tw_fail(err, TW_ESIZE,
                           "camera %s: a picture of %u x %u cannot be watched",
                           p->camera->name, luma->width, luma->height);
    }
    (void)tw_decoder_send(p->decoder, &frame->packet, NULL);
    return read_picture(p, &decoded, err);
}

static void tell_lost(tw_pipeline *p)
{
    const uint64_t lost = tw_recorder_lost(p->recorder);
    if (lost == p->lost_told)
        return;
    if (p->lost_told == 0)
        tell_problem(p, TW_ENOSPC,
                     "the card is too slow: footage of this sighting is being lost");
    p->lost_told = lost;
}

/* Hand the packet at hand to the recorder. */
static void record(tw_pipeline *p)
{
    tw_error why = {0};
    tw_parcel *parcel = packet_at_hand(p);
    if (!parcel) {
        tell_problem(p, TW_ENOMEM, "out of memory: a frame is not kept");
        return;
    }
    p->parcel = NULL;
    if (tw_recorder_packet(p->recorder, &p->packet, parcel, &why) != TW_OK)
        tell_problem(p, why.status, why.text);
    tell_lost(p);
}

tw_status tw_pipeline_frame(tw_pipeline *p, const tw_frame *frame, tw_error *err)
{
    p->packet = frame->packet;
    if (p->begun_us == INT64_MIN)
        p->begun_us = frame->packet.t_us;
    p->result.packet_bytes += frame->packet.size;
    p->wall_offset_us = frame->packet.wall_us - frame->packet.t_us;
    bool bad = false;
    const tw_status st =
        frame->luma.px ? read_plane(p, frame, err) : decode(p, &frame->packet, &bad, err);
    /* A damaged JPEG would spoil a clip; a damaged packet of another codec may be needed
     * by those after it. */
    const bool keep = !bad || p->stream.codec != TW_CODEC_MJPEG;
    const bool kept = p->camera->pre_disarmed || p->watch.state != TW_IDLE ||
                      p->camera->continuous || p->camera->timed_clip.every_us > 0;
    if (st == TW_OK && p->recorder && keep && kept)
        record(p);
    tw_parcel_release(p->parcel); /* where nobody has taken it over */
    p->parcel = NULL;
    return st;
}

void tw_pipeline_finish(tw_pipeline *p)
{
    bool bad = false;
    if (p->stream.codec != TW_CODEC_MJPEG)
        (void)decode(p, NULL, &bad, NULL);
    close_footage(p);
    if (p->result.frames > 0)
        p->result.length_us = p->last_us + p->step_us - p->result.first_us;
}

uint32_t tw_pipeline_number(const tw_pipeline *p)
{
    return p->watch.now.number;
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
    return tw_decoder_still(p->decoder, (int)p->camera->still_quality, jpeg, bytes, err);
}

tw_status tw_event_picture(const tw_event *event, uint8_t **out, size_t *bytes,
                           tw_error *err)
{
    if (!event || !event->frame || !out || !bytes)
        return tw_fail(err, TW_EINVAL, "this event has no picture");
    tw_pipeline *p = event->frame;
    return tw_decoder_still(p->decoder, (int)p->camera->still_quality, out, bytes, err);
}

/* ---- running --------------------------------------------------------------------- */

tw_camera_request tw_request_of(const tw_board *board, const tw_camera_settings *camera)
{
    return (tw_camera_request){.name = camera->name,
                               .source = camera->source,
                               .fps = (uint32_t)camera->fps,
                               .width = camera->size.width,
                               .height = camera->size.height,
                               .format = tw_format_name(camera->format),
                               .controls = camera->controls,
                               .udp = camera->transport == 1,
                               .clock = board->clock};
}

tw_status tw_run_open(tw_run *run, const tw_board *board,
                      const tw_camera_settings *camera, bool pace, bool loop,
                      const tw_keep *keep, tw_event_fn told, void *ctx, tw_error *err)
{
    memset(run, 0, sizeof *run);
    tw_camera_request request = tw_request_of(board, camera);
    request.loop = loop;
    request.pace = pace;
    tw_status st = tw_camera_make(board->makers, &request, &run->camera, err);
    if (st != TW_OK)
        return st;
    tw_stream stream;
    st = run->camera.ops->open(run->camera.ctx, &stream, err);
    if (st == TW_OK)
        st = tw_pipeline_new(camera, board->clock, &stream, keep, told, ctx,
                             &run->pipeline, err);
    return st;
}

tw_status tw_run_step(tw_run *run, tw_error *err)
{
    tw_frame frame;
    tw_error why = {0};
    const tw_status st = run->camera.ops->next(run->camera.ctx, &frame, &why);
    run->frames += st == TW_OK || st == TW_EDAMAGED;
    if (st == TW_OK)
        return tw_pipeline_frame(run->pipeline, &frame, err);
    if (st == TW_EAGAIN)
        return TW_OK;
    if (st == TW_EDAMAGED)
        return tw_pipeline_bad_frame(run->pipeline, &why, err);
    if (err)
        *err = why;
    return st;
}

void tw_run_close(tw_run *run)
{
    if (run->pipeline) {
        tw_pipeline_finish(run->pipeline);
        tw_pipeline_free(run->pipeline);
    }
    if (run->camera.ops)
        run->camera.ops->destroy(run->camera.ctx);
    memset(run, 0, sizeof *run);
}
