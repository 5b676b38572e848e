/* Activity that is past, and what other settings would have made of it. */
#include <jansson.h>
#include <stdlib.h>
#include <string.h>

#include "../core/tryout.h"
#include "page_state.h"
#include "../settings/sections.h"
#include "../station/why.h"
#include "tawny/settings.h"

#define SECOND_US INT64_C(1000000)
#define SPAN_MAX_US (31 * INT64_C(86400) * SECOND_US)

enum { POINTS_MAX = 3000, POINTS = 720, SPANS_MAX = 1000, NEWEST = 200 };

/* ---- second by second ------------------------------------------------------------- */

/* Between the two sources: where the first has ended. */
typedef struct walking {
    int64_t last_us, until_us;
    bool (*visit)(void *ctx, const tw_trace_point *point);
    void *ctx;
} walking;

static bool pass_on(void *ctx, const tw_trace_point *point)
{
    walking *w = ctx;
    if (point->t_us >= w->until_us)
        return false;
    if (point->t_us <= w->last_us) /* the other one had it */
        return true;
    w->last_us = point->t_us;
    return w->visit(w->ctx, point);
}

/* Of the catalogue, and then of the time that it does not have yet. */
static void past_walk(twi_page *p, const char *camera, int64_t from_us, int64_t until_us,
                      bool (*visit)(void *ctx, const tw_trace_point *point), void *ctx)
{
    walking w = {.last_us = INT64_MIN, .until_us = until_us, .visit = visit, .ctx = ctx};
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    if (c)
        (void)tw_catalogue_trace(c, camera, from_us, until_us, pass_on, &w, NULL);
    (void)pthread_mutex_unlock(&p->store_lock);
    twi_moments_seconds(&p->moments, camera, from_us, pass_on, &w);
}

/* @return whether a span is one. An end that is not said is now. */
static bool is_span(const twi_page *p, int64_t from_us, int64_t *until_us)
{
    if (*until_us == 0)
        *until_us = twi_page_wall(p) + SECOND_US;
    return from_us > 0 && *until_us > from_us && *until_us - from_us <= SPAN_MAX_US;
}

/* ---- the trace -------------------------------------------------------------------- */

/* Seconds gathered into so many points. */
typedef struct gathering {
    int64_t from_us, step_us;
    size_t count;
    int64_t highest_ppm[POINTS_MAX]; /* -1: no frame came */
} gathering;

static bool gather(void *ctx, const tw_trace_point *point)
{
    gathering *g = ctx;
    const int64_t at = (point->t_us - g->from_us) / g->step_us;
    if (at >= 0 && at < (int64_t)g->count && g->highest_ppm[at] < (int64_t)point->max_ppm)
        g->highest_ppm[at] = point->max_ppm;
    return true;
}

static size_t points_of(twi_page *p, const twi_asked *r)
{
    const char *text = p->web->query(r->call, "points");
    const long n = text ? strtol(text, NULL, 10) : POINTS;
    return n < 1 ? POINTS : n > POINTS_MAX ? POINTS_MAX : (size_t)n;
}

static void show_span(twi_page *p, const char *camera, int64_t from_us, int64_t until_us,
                      size_t points, twi_web_answer *out)
{
    gathering *g = malloc(sizeof *g);
    json_t *list = json_array();
    if (!g) {
        json_decref(list);
        return;
    }
    const int64_t seconds = (until_us - from_us + SECOND_US - 1) / SECOND_US;
    const int64_t step = (seconds + (int64_t)points - 1) / (int64_t)points;
    g->from_us = from_us - from_us % SECOND_US;
    g->step_us = step * SECOND_US;
    g->count = (size_t)((seconds + step - 1) / step);
    for (size_t i = 0; i < g->count; i++)
        g->highest_ppm[i] = -1;
    past_walk(p, camera, g->from_us, until_us, gather, g);
    for (size_t i = 0; i < g->count; i++)
        (void)json_array_append_new(list, json_integer(g->highest_ppm[i]));
    twi_answer_json(json_pack("{sI sI so}", "from", (json_int_t)(g->from_us / 1000),
                              "step_s", (json_int_t)step, "ppm", list),
                    200, out);
    free(g);
}

void twi_show_trace(twi_page *p, const twi_asked *r, const char *camera,
                    twi_web_answer *out)
{
    const int64_t from_us = twi_time_of(p, r, "from");
    int64_t until_us = twi_time_of(p, r, "until");
    if (!twi_page_has_camera(p, camera))
        twi_answer_error(404, "there is no such camera", out);
    else if (!is_span(p, from_us, &until_us))
        twi_answer_error(400, "from and until are milliseconds, at most 31 days apart",
                         out);
    else
        show_span(p, camera, from_us, until_us, points_of(p, r), out);
}

/* ---- trying ----------------------------------------------------------------------- */

/* Settings that are tried: as they are, or as they would be. */
typedef struct trying {
    twi_tryout tryout;
    bool good;
    json_t *spans;          /* what would have been kept: [from, until] */
    json_t *levels, *times; /* of frames; NULL: not asked for */
} trying;

static void note_span(trying *t, unsigned news)
{
    if ((news & TW_SIGHTING_ENDED) && json_array_size(t->spans) < SPANS_MAX)
        (void)json_array_append_new(
            t->spans,
            json_pack("[II]", (json_int_t)(t->tryout.ended.clip_start_us / 1000),
                      (json_int_t)(t->tryout.ended.clip_end_us / 1000)));
}

static void begin_try(trying *t, const twi_camera_settings *camera, bool seconds)
{
    tw_sighting_config config = twi_sighting_config_of(camera);
    if (seconds)
        config.own_count = 0; /* a trace does not say in which zone it was */
    t->spans = json_array();
    t->good = twi_tryout_begin(&t->tryout, &config, seconds) == TW_OK;
}

static bool try_second(void *ctx, const tw_trace_point *point)
{
    trying *t = ctx; /* two of them */
    const tw_reading reading = {.t_us = point->t_us, .activity_ppm = point->max_ppm};
    for (int i = 0; i < 2; i++)
        if (t[i].good)
            note_span(&t[i], twi_tryout_step(&t[i].tryout, &reading));
    return true;
}

static void try_frame(void *ctx, const tw_reading *reading)
{
    trying *t = ctx;
    if (t->good)
        (void)twi_tryout_step(&t->tryout, reading);
    (void)json_array_append_new(t->levels, json_integer(reading->activity_ppm));
    (void)json_array_append_new(t->times, json_integer(reading->t_us / 1000));
}

/* What the newest sightings of a camera have taken. */
typedef struct taken {
    double bytes, seconds;
    double around_s; /* pre- and post-event time of each */
} taken;

static bool add_taken(void *ctx, const tw_sighting_record *r)
{
    taken *t = ctx;
    t->bytes += (double)r->bytes;
    t->seconds += t->around_s;
    if (r->end_us > r->start_us)
        t->seconds += (double)(r->end_us - r->start_us) / 1e6;
    return true;
}

/* Bytes that a second of footage takes; 0: not known. Of the newest sightings, as it is
 * asked for while a limit is being dragged. */
static double bytes_a_second(twi_page *p, const twi_camera_settings *camera)
{
    const tw_sighting_filter newest = {.camera = camera->name, .most = NEWEST};
    taken t = {.around_s = (double)(camera->pre_us + camera->post_us) / 1e6};
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    if (c)
        (void)tw_catalogue_sightings(c, &newest, add_taken, &t, NULL);
    (void)pthread_mutex_unlock(&p->store_lock);
    return t.seconds > 0 ? t.bytes / t.seconds : 0;
}

static json_t *describe_try(trying *t, double rate)
{
    if (t->good)
        note_span(t, twi_tryout_end(&t->tryout));
    const double seconds = (double)t->tryout.kept_us / 1e6;
    json_t *o = json_pack("{si sf so}", "sightings", (int)t->tryout.sightings, "seconds",
                          seconds, "spans", t->spans);
    if (rate > 0)
        (void)json_object_set_new(o, "bytes", json_integer((json_int_t)(seconds * rate)));
    return o;
}

/* What a camera would have made of its trace, now and changed. */
static json_t *try_trace(twi_page *p, const twi_camera_settings *now,
                         const twi_camera_settings *changed, int64_t from_us,
                         int64_t until_us)
{
    trying t[2];
    memset(t, 0, sizeof t);
    begin_try(&t[0], now, true);
    begin_try(&t[1], changed, true);
    past_walk(p, now->name, from_us, until_us, try_second, t);
    const double rate = bytes_a_second(p, now);
    return json_pack("{so so}", "now", describe_try(&t[0], rate), "changed",
                     describe_try(&t[1], rate));
}

/* The same of the frames of the last minute, zones included. */
static json_t *try_minute(twi_page *p, const twi_camera_settings *camera)
{
    trying t = {.levels = json_array(), .times = json_array()};
    begin_try(&t, camera, false);
    const size_t frames = twi_moments_walk(&p->moments, camera, try_frame, &t);
    if (t.good)
        (void)twi_tryout_end(&t.tryout);
    json_decref(t.spans);
    return json_pack("{si si so so}", "frames", (int)frames, "sightings",
                     (int)t.tryout.sightings, "ppm", t.levels, "at", t.times);
}

static void answer_try(twi_page *p, tw_settings *now, tw_settings *changed,
                       const json_t *asked, const char *name, twi_web_answer *out)
{
    twi_camera_settings a, b;
    const int64_t from_us = twi_us_of(json_integer_value(json_object_get(asked, "from")));
    int64_t until_us = twi_us_of(json_integer_value(json_object_get(asked, "until")));
    if (twi_settings_camera(now, name, &a) != TW_OK ||
        twi_settings_camera(changed, name, &b) != TW_OK) {
        twi_answer_error(404, "there is no such camera", out);
        return;
    }
    json_t *o = json_object();
    if (from_us > 0 && is_span(p, from_us, &until_us))
        (void)json_object_set_new(o, "trace", try_trace(p, &a, &b, from_us, until_us));
    if (json_is_true(json_object_get(asked, "minute")))
        (void)json_object_set_new(
            o, "minute",
            json_pack("{so so}", "now", try_minute(p, &a), "changed", try_minute(p, &b)));
    twi_answer_json(o, 200, out);
}

void twi_try_changes(twi_page *p, const twi_asked *r, const char *rest,
                     twi_web_answer *out)
{
    json_t *asked = twi_body_of(r);
    twi_draft *draft = NULL;
    tw_settings *changed = NULL, *now = twi_page_settings(p);
    const char *name = json_string_value(json_object_get(asked, "camera"));
    (void)rest;
    if (!now || !name)
        twi_answer_error(400, "camera is the name of one", out);
    else if (twi_draft_of(p, json_object_get(asked, "changes"), &draft, &changed, out) ==
             TW_OK)
        answer_try(p, now, changed, asked, name, out);
    twi_draft_free(draft);
    tw_settings_free(changed);
    tw_settings_free(now);
    json_decref(asked);
}
