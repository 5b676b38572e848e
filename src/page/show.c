/* The station as it is: states of cameras and card; and orders to it. */
#include <string.h>

#include "../deliver/deliver.h"
#include "../json/json.h"
#include "../station/plan.h"
#include "page_state.h"
#include "../settings/sections.h"
#include "tawny/settings.h"

static json_t *describe_camera(const twi_page *p, const tw_camera_status *c)
{
    twi_camera_settings set;
    json_t *o = twi_json_camera(c, NULL);
    if (twi_settings_camera(p->settings, c->name, &set) == TW_OK) {
        (void)json_object_set_new(o, "start_at", json_real((double)set.start_ppm / 1e4));
        (void)json_object_set_new(o, "stay_at", json_real((double)set.stay_ppm / 1e4));
    }
    return o;
}

static json_t *stopped_destinations(twi_page *p)
{
    (void)pthread_mutex_lock(&p->store_lock);
    json_t *list = twi_json_all_stopped(twi_page_catalogue(p));
    (void)pthread_mutex_unlock(&p->store_lock);
    return list;
}

static bool sensor_at(twi_page *p, size_t index, tw_sensor_status *out)
{
    (void)pthread_mutex_lock(&p->station_lock);
    const bool there = p->station && tw_station_sensor(p->station, index, out) == TW_OK;
    (void)pthread_mutex_unlock(&p->station_lock);
    return there;
}

/* Sensors that are beyond their limits, or give no number. */
static json_t *sensors_amiss(twi_page *p)
{
    tw_sensor_status one;
    json_t *list = json_array();
    for (size_t i = 0; sensor_at(p, i, &one); i++)
        if (one.beyond || one.why[0])
            (void)json_array_append_new(list, twi_json_sensor(&one));
    return list;
}

void twi_show_status(twi_page *p, const twi_asked *r, const char *rest,
                     twi_web_answer *out)
{
    (void)rest;
    tw_camera_status camera;
    json_t *stopped = stopped_destinations(p);
    tw_store_status store;
    json_t *cameras = json_array();
    (void)pthread_mutex_lock(&p->station_lock);
    for (size_t i = 0; p->station && tw_station_camera(p->station, i, &camera) == TW_OK;
         i++)
        if (twi_may_see(r, camera.name))
            (void)json_array_append_new(cameras, describe_camera(p, &camera));
    const bool known = p->station && tw_station_store(p->station, &store) == TW_OK;
    json_t *all = twi_json_station(p->station_name, p->station ? "up" : "down", stopped,
                                   known ? &store : NULL);
    (void)pthread_mutex_unlock(&p->station_lock);
    (void)json_object_set_new(all, "cameras", cameras);
    if (r->cameras[0] == '\0')
        (void)json_object_set_new(all, "sensors", sensors_amiss(p));
    twi_answer_json(all, 200, out);
}

/* Without a camera it would be for all of them. */
static bool may_order(const twi_asked *r)
{
    json_t *asked = twi_body_of(r);
    const char *camera = json_string_value(json_object_get(asked, "camera"));
    const bool may = r->cameras[0] == '\0' || (camera && twi_may_see(r, camera));
    json_decref(asked);
    return may;
}

void twi_do_order(twi_page *p, const twi_asked *r, const char *rest, twi_web_answer *out)
{
    tw_error err = {0};
    (void)rest;
    if (!may_order(r)) {
        twi_answer_error(403, "this account is for some cameras alone: name one of them",
                         out);
        return;
    }
    (void)pthread_mutex_lock(&p->station_lock);
    const tw_status st =
        twi_deliver_order(p->station, r->body, r->bytes, r->who[0] ? r->who : NULL, &err);
    (void)pthread_mutex_unlock(&p->station_lock);
    if (st == TW_OK)
        twi_answer_json(json_pack("{ss}", "done", err.text), 200, out);
    else
        twi_answer_error(st == TW_ENOENT ? 404 : 400, err.text, out);
}

/* ---- forecasts -------------------------------------------------------------------- */

static json_t *describe_plan(const twi_plan *plan, double *day_bytes)
{
    json_t *list = json_array();
    for (size_t i = 0; i < plan->count; i++) {
        const twi_plan_rates rates = twi_plan_rates_of(&plan->cameras[i]);
        *day_bytes += rates.day;
        (void)json_array_append_new(list, twi_json_plan(&plan->cameras[i], &rates));
    }
    return list;
}

void twi_show_plan(twi_page *p, const twi_asked *r, const char *rest, twi_web_answer *out)
{
    twi_plan plan = {0};
    tw_store_status store;
    twi_station_settings station;
    tw_settings *s = twi_page_settings(p);
    double day_bytes = 0;
    (void)r;
    (void)rest;
    memset(&store, 0, sizeof store);
    if (!s) {
        twi_answer_error(500, "out of memory", out);
        return;
    }
    /* All of it is read, which takes long where much was seen: nobody else waits for
     * that. */
    tw_catalogue *c = twi_page_catalogue_own(p);
    if (c)
        (void)twi_plan_read(c, s, &plan, NULL);
    tw_catalogue_close(c);
    (void)pthread_mutex_lock(&p->station_lock);
    if (p->station)
        (void)tw_station_store(p->station, &store);
    (void)pthread_mutex_unlock(&p->station_lock);
    twi_settings_station(s, &station);
    json_t *cameras = describe_plan(&plan, &day_bytes);
    twi_answer_json(
        json_pack("{so sf sI sI sf sf}", "cameras", cameras, "history_days",
                  (double)(plan.last_us - plan.first_us) / 864e8, "free_bytes",
                  (json_int_t)store.free_bytes, "total_bytes",
                  (json_int_t)store.total_bytes, "bytes_a_day", day_bytes, "days",
                  twi_plan_days(store.free_bytes, station.keep_free, day_bytes)),
        200, out);
    twi_plan_free(&plan);
    tw_settings_free(s);
}

/* ---- what happened ---------------------------------------------------------------- */

enum { LOG_ENTRIES = 200 };

static bool take_log_entry(void *ctx, const tw_log_entry *h)
{
    (void)json_array_append_new(ctx, twi_json_log_entry(h));
    if (json_array_size(ctx) > LOG_ENTRIES) /* the newest are of interest */
        (void)json_array_remove(ctx, 0);
    return true;
}

void twi_show_log(twi_page *p, const twi_asked *r, const char *rest, twi_web_answer *out)
{
    json_t *list = json_array();
    (void)rest;
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    if (c)
        (void)tw_catalogue_log(c, NULL, twi_time_of(p, r, "from"),
                               twi_time_of(p, r, "until"), take_log_entry, list, NULL);
    (void)pthread_mutex_unlock(&p->store_lock);
    twi_answer_json(json_pack("{so}", "entries", list), 200, out);
}

/* ---- sensors ---------------------------------------------------------------------- */

enum { VALUES = 2000 }; /* of one sensor, at most */

/* Where values go, as [milliseconds, value]. */
typedef struct plotting {
    json_t *points;
    uint32_t every, seen; /* of so many values one is taken */
} plotting;

static bool count_value(void *ctx, const tw_sensor_value *v)
{
    (void)v;
    ++*(uint32_t *)ctx;
    return true;
}

static bool take_value(void *ctx, const tw_sensor_value *v)
{
    plotting *g = ctx;
    if (g->seen++ % g->every == 0)
        (void)json_array_append_new(
            g->points,
            json_pack("[If]", (json_int_t)(v->at_us / 1000), (double)v->value / 1e6));
    return true;
}

/* @return its values, a new array. */
static json_t *values_of(twi_page *p, const char *sensor, int64_t from_us,
                         int64_t until_us)
{
    uint32_t count = 0;
    plotting g = {.points = json_array()};
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    if (c)
        (void)tw_catalogue_values(c, sensor, from_us, until_us, count_value, &count,
                                  NULL);
    g.every = 1 + count / VALUES;
    if (c)
        (void)tw_catalogue_values(c, sensor, from_us, until_us, take_value, &g, NULL);
    (void)pthread_mutex_unlock(&p->store_lock);
    return g.points;
}

static void put_limit(json_t *o, const char *key, int64_t value)
{
    if (value != TWI_NO_NUMBER)
        (void)json_object_set_new(o, key, json_real((double)value / 1e6));
}

void twi_show_sensors(twi_page *p, const twi_asked *r, const char *rest,
                      twi_web_answer *out)
{
    tw_settings *s = twi_page_settings(p);
    json_t *list = json_array();
    tw_sensor_status status;
    (void)rest;
    for (size_t i = 0; sensor_at(p, i, &status); i++) {
        twi_sensor_settings set;
        json_t *o = twi_json_sensor(&status);
        if (s && twi_settings_sensor(s, status.name, &set) == TW_OK) {
            put_limit(o, "alarm_above", set.above);
            put_limit(o, "alarm_below", set.below);
        }
        (void)json_object_set_new(o, "points",
                                  values_of(p, status.name, twi_time_of(p, r, "from"),
                                            twi_time_of(p, r, "until")));
        (void)json_array_append_new(list, o);
    }
    tw_settings_free(s);
    twi_answer_json(json_pack("{so}", "sensors", list), 200, out);
}
