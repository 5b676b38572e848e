/* The sighting state machine: hysteresis, k of n frames, rest, and the longest clip. */
#include "tawny/sighting.h"

#include <string.h>

#include "sized.h"

static bool valid(const tw_sighting_config *c)
{
    if (c->own_count > TW_OWN_LIMITS_MAX)
        return false;
    for (int i = 0; i < c->own_count; i++)
        if (c->own[i].stay_ppm == 0 || c->own[i].stay_ppm > c->own[i].start_ppm)
            return false;
    return c->start_ppm > 0 && c->stay_ppm > 0 && c->stay_ppm <= c->start_ppm &&
           c->confirm_k >= 1 && c->confirm_k <= c->confirm_n &&
           c->confirm_n <= TW_CONFIRM_MAX && c->settle_us >= 0 && c->pre_us >= 0 &&
           c->post_us >= 0 && c->rest_us >= 0 && c->longest_us > 0;
}

void tw_sighting_defaults_sized(tw_sighting_config *config, size_t size)
{
    const tw_sighting_config usual = {.start_ppm = 500,
                                      .stay_ppm = 500,
                                      .confirm_k = 2,
                                      .confirm_n = 3,
                                      .armed = true,
                                      .settle_us = 8000000,
                                      .pre_us = 5000000,
                                      .post_us = 8000000,
                                      .longest_us = 300000000};
    if (config)
        twi_sized_give(config, size, &usual, sizeof usual);
}

/* @return whether there is a configuration, and it is valid. @param own  Set to it. */
static bool take_config(const tw_sighting_config *config, tw_sighting_config *own)
{
    if (!config)
        return false;
    TWI_TAKE(*own, config);
    return valid(own);
}

tw_status tw_sighting_init_sized(tw_sighting_watch *watch,
                                 const tw_sighting_config *config, size_t size)
{
    tw_sighting_config own;
    if (!watch || !take_config(config, &own))
        return TW_EINVAL;
    if (size < sizeof *watch)
        return TW_ESIZE;
    memset(watch, 0, size);
    watch->config = own;
    watch->state = TW_IDLE;
    return TW_OK;
}

tw_status tw_sighting_adjust(tw_sighting_watch *watch, const tw_sighting_config *config)
{
    tw_sighting_config own;
    if (!watch || !take_config(config, &own))
        return TW_EINVAL;
    const bool armed = watch->config.armed;
    watch->config = own;
    watch->config.armed = armed;
    if (watch->own.seen > own.confirm_n)
        watch->own.seen = own.confirm_n;
    return TW_OK;
}

const char *tw_watch_state_name(tw_watch_state state)
{
    static const char *const names[] = {"idle", "settling", "armed", "sighting",
                                        "resting"};
    return (uint32_t)state <= TW_RESTING ? names[state] : "?";
}

static void forget_hits(tw_sighting_watch *watch)
{
    watch->own.seen = 0;
    memset(watch->own.hit, 0, sizeof watch->own.hit);
}

/* The area that reaches its limit, -1: none. */
static int reaching(const tw_sighting_config *c, const tw_reading *r, bool stay)
{
    const uint32_t rest = c->own_count > 0 ? r->area_ppm[0] : r->activity_ppm;
    if (rest >= (stay ? c->stay_ppm : c->start_ppm))
        return 0;
    for (int i = 0; i < c->own_count; i++)
        if (r->area_ppm[1 + i] >= (stay ? c->own[i].stay_ppm : c->own[i].start_ppm))
            return 1 + i;
    return -1;
}

/* Shift one frame into the window of the last n. */
static void remember(tw_sighting_watch *watch, const tw_reading *reading)
{
    const size_t keep = (size_t)watch->config.confirm_n - 1;
    memmove(watch->own.hit + 1, watch->own.hit, keep * sizeof watch->own.hit[0]);
    memmove(watch->own.stay + 1, watch->own.stay, keep * sizeof watch->own.stay[0]);
    memmove(watch->own.at + 1, watch->own.at, keep * sizeof watch->own.at[0]);
    memmove(watch->own.level + 1, watch->own.level, keep * sizeof watch->own.level[0]);
    watch->own.hit[0] = reaching(&watch->config, reading, false) >= 0;
    watch->own.stay[0] = reaching(&watch->config, reading, true) >= 0;
    watch->own.at[0] = reading->t_us;
    watch->own.level[0] = reading->activity_ppm;
    if (watch->own.seen < watch->config.confirm_n)
        watch->own.seen++;
}

/* Oldest hit of the window if there are k of them, else -1. */
static int confirming(const tw_sighting_watch *watch)
{
    int oldest = -1, hits = 0;
    for (int i = 0; i < watch->own.seen; i++) {
        if (watch->own.hit[i]) {
            hits++;
            oldest = i;
        }
    }
    return hits >= watch->config.confirm_k ? oldest : -1;
}

static int64_t later(int64_t a, int64_t b)
{
    return a > b ? a : b;
}

static void note_peak(tw_sighting *now, uint32_t activity_ppm, int64_t t_us)
{
    if (activity_ppm <= now->peak_ppm)
        return;
    now->peak_ppm = activity_ppm;
    now->peak_us = t_us;
}

/* A subject may have been followed for a while before it was known to be one. */
static int64_t began(const tw_sighting_watch *watch, const tw_reading *reading,
                     int64_t first_hit_us)
{
    if (reading->subjects == 0 || reading->since_us >= first_hit_us)
        return first_hit_us;
    return later(reading->since_us, watch->own.free_us);
}

/* About how many frames there were from a start that is dated back to the first hit. */
static uint32_t frames_between(const tw_sighting_watch *watch, int64_t start_us,
                               int oldest)
{
    const int64_t back = watch->own.at[oldest] - start_us;
    if (back <= 0 || watch->own.step_us <= 0)
        return 0;
    return (uint32_t)((back + watch->own.step_us / 2) / watch->own.step_us);
}

static tw_cause cause_of(const tw_sighting_watch *watch, const tw_reading *reading)
{
    tw_cause cause = {.activity_ppm = reading->activity_ppm,
                      .start_ppm = watch->config.start_ppm,
                      .of = watch->config.confirm_n};
    const int area = reaching(&watch->config, reading, false);
    if (area > 0) {
        cause.area = (uint8_t)area;
        cause.activity_ppm = reading->area_ppm[area];
        cause.start_ppm = watch->config.own[area - 1].start_ppm;
    }
    for (int i = 0; i < watch->own.seen; i++)
        cause.hits = (uint8_t)(cause.hits + watch->own.hit[i]);
    for (uint16_t i = reading->blob_count; i > 0; i--) { /* largest last */
        const tw_blob *blob = &reading->blob[i - 1];
        if (!blob->counted)
            continue;
        cause.blobs++;
        cause.size_ppm = blob->size_ppm;
        cause.x_ppm = blob->x_ppm;
        cause.y_ppm = blob->y_ppm;
    }
    return cause;
}

/* The frames from the first confirming one to now were not known to be a sighting's. */
static void begin(tw_sighting_watch *watch, const tw_reading *reading, int oldest)
{
    tw_sighting *now = &watch->now;
    const uint32_t number = now->number + 1;
    memset(now, 0, sizeof *now);
    now->number = number;
    now->part = 1;
    now->start_us = began(watch, reading, watch->own.at[oldest]);
    now->confirmed_us = watch->own.at[0];
    now->cause = cause_of(watch, reading);
    now->clip_start_us = later(now->start_us - watch->config.pre_us, watch->own.free_us);
    watch->own.frames_since_start = frames_between(watch, now->start_us, oldest);
    for (int i = oldest; i >= 0; i--) {
        watch->own.frames_since_start++;
        if (watch->own.stay[i]) {
            now->end_us = watch->own.at[i];
            now->frames = watch->own.frames_since_start;
        }
        note_peak(now, watch->own.level[i], watch->own.at[i]);
    }
    forget_hits(watch);
    watch->state = TW_SIGHTING;
}

static void end(tw_sighting_watch *watch, tw_sighting_why why, int64_t clip_end_us)
{
    watch->now.why = why;
    watch->now.clip_end_us = clip_end_us;
    watch->ended = watch->now;
    watch->own.free_us = clip_end_us;
}

/* Split a sighting that has become too long: the next part goes on without a gap. */
static unsigned split(tw_sighting_watch *watch, const tw_reading *reading)
{
    end(watch, TW_END_LONGEST, reading->t_us);
    tw_sighting *now = &watch->now;
    now->part++;
    now->start_us = now->confirmed_us = now->end_us = reading->t_us;
    now->clip_start_us = reading->t_us;
    now->clip_end_us = 0;
    now->peak_ppm = reading->activity_ppm;
    now->peak_us = reading->t_us;
    now->frames = watch->own.frames_since_start = 1;
    now->why = TW_END_QUIET;
    return TW_SIGHTING_ENDED | TW_SIGHTING_BEGAN;
}

/* Whether the place is known well enough. */
static bool has_settled(const tw_sighting_watch *watch)
{
    return watch->own.last_us - watch->own.learnt_us >= watch->config.settle_us;
}

/* Where a sighting may begin, unless the place is being learnt again. */
static tw_watch_state ready(tw_sighting_watch *watch)
{
    watch->own.anew = watch->own.anew && !has_settled(watch);
    return watch->own.anew ? TW_SETTLING : TW_ARMED;
}

static void rest(tw_sighting_watch *watch)
{
    forget_hits(watch);
    watch->own.rest_until_us = watch->own.free_us + watch->config.rest_us;
    watch->state = !watch->config.armed        ? TW_IDLE
                   : watch->config.rest_us > 0 ? TW_RESTING
                                               : ready(watch);
}

static unsigned go_on(tw_sighting_watch *watch, const tw_reading *reading)
{
    tw_sighting *now = &watch->now;
    watch->own.frames_since_start++;
    const bool moving = reaching(&watch->config, reading, true) >= 0 || watch->own.sensed;
    if (moving) {
        now->end_us = reading->t_us;
        now->frames = watch->own.frames_since_start;
        note_peak(now, reading->activity_ppm, reading->t_us);
    }
    const bool quiet = !moving && !reading->whole_picture;
    const int64_t length = reading->t_us - now->clip_start_us;
    if (quiet && reading->t_us - now->end_us >= watch->config.post_us) {
        end(watch, TW_END_QUIET, now->end_us + watch->config.post_us);
        rest(watch);
        return TW_SIGHTING_ENDED;
    }
    if (moving && length >= watch->config.longest_us)
        return split(watch, reading);
    /* Its post-event time may run over, but a picture that never calms down may not. */
    if (length >= watch->config.longest_us + watch->config.post_us) {
        end(watch, TW_END_LONGEST, reading->t_us);
        rest(watch);
        return TW_SIGHTING_ENDED;
    }
    return 0;
}

static unsigned wait_for_motion(tw_sighting_watch *watch, const tw_reading *reading)
{
    if (reading->whole_picture)
        return 0;
    remember(watch, reading);
    const int oldest = confirming(watch);
    if (oldest < 0)
        return 0;
    begin(watch, reading, oldest);
    return TW_SIGHTING_BEGAN;
}

unsigned tw_sighting_step(tw_sighting_watch *watch, const tw_reading *reading)
{
    if (!watch || !reading)
        return 0;
    if (!watch->own.any) {
        watch->own.any = true;
        watch->own.learnt_us = reading->t_us;
        watch->own.free_us = reading->t_us;
        watch->state = watch->config.armed ? TW_SETTLING : TW_IDLE;
    }
    watch->own.step_us = reading->t_us - watch->own.last_us;
    watch->own.last_us = reading->t_us;
    if (watch->state == TW_RESTING && reading->t_us >= watch->own.rest_until_us)
        watch->state = ready(watch);
    if (watch->state == TW_SETTLING && has_settled(watch))
        watch->state = ready(watch);
    switch ((enum tw_watch_state_values)watch->state) {
    case TW_ARMED: return wait_for_motion(watch, reading);
    case TW_SIGHTING: return go_on(watch, reading);
    case TW_IDLE:
    case TW_SETTLING:
    case TW_RESTING: break;
    }
    return 0;
}

void tw_sighting_arm(tw_sighting_watch *watch, bool armed)
{
    if (!watch || watch->config.armed == armed)
        return;
    watch->config.armed = armed;
    if (watch->state == TW_SIGHTING || !watch->own.any)
        return;
    forget_hits(watch);
    watch->state = armed ? TW_SETTLING : TW_IDLE; /* for as long as is left of it */
}

/* One that no motion begins; or the running one goes on. */
static unsigned begin_by(tw_sighting_watch *watch, uint8_t by)
{
    if (!watch->own.any)
        return 0;
    tw_sighting *now = &watch->now;
    const int64_t t_us = watch->own.last_us;
    if (watch->state == TW_SIGHTING) {
        now->end_us = t_us;
        now->frames = watch->own.frames_since_start;
        return 0;
    }
    const uint32_t number = now->number + 1;
    memset(now, 0, sizeof *now);
    now->number = number;
    now->part = 1;
    now->start_us = now->confirmed_us = now->end_us = now->peak_us = t_us;
    now->clip_start_us = later(t_us - watch->config.pre_us, watch->own.free_us);
    now->frames = watch->own.frames_since_start = 1;
    now->cause.by = by;
    forget_hits(watch);
    watch->state = TW_SIGHTING;
    return TW_SIGHTING_BEGAN;
}

unsigned tw_sighting_trigger(tw_sighting_watch *watch)
{
    return watch ? begin_by(watch, TW_CAUSE_ORDER) : 0;
}

unsigned tw_sighting_sense(tw_sighting_watch *watch, bool something_is_there)
{
    if (!watch)
        return 0;
    const bool anew = something_is_there && !watch->own.sensed;
    watch->own.sensed = something_is_there;
    return anew ? begin_by(watch, TW_CAUSE_SENSOR) : 0;
}

void tw_sighting_number_after(tw_sighting_watch *watch, uint32_t number)
{
    if (watch && !watch->own.any)
        watch->now.number = number;
}

unsigned tw_sighting_finish(tw_sighting_watch *watch)
{
    if (!watch || watch->state != TW_SIGHTING)
        return 0;
    const int64_t full = watch->now.end_us + watch->config.post_us;
    end(watch, TW_END_FINISHED, full < watch->own.last_us ? full : watch->own.last_us);
    rest(watch);
    return TW_SIGHTING_ENDED;
}

void tw_sighting_settle_again(tw_sighting_watch *watch)
{
    if (!watch)
        return;
    forget_hits(watch);
    watch->own.any = false;
    watch->state = TW_IDLE;
}

void tw_sighting_learns_anew(tw_sighting_watch *watch)
{
    if (!watch || !watch->own.any)
        return;
    forget_hits(watch);
    watch->own.learnt_us = watch->own.last_us;
    watch->own.anew = true;
    if (watch->state == TW_ARMED)
        watch->state = TW_SETTLING;
}
