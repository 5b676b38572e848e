/* The station as it is: states of cameras and card; and orders to it. */
#include <jansson.h>
#include <string.h>

#include "page.h"
#include "tawny/deliver.h"
#include "tawny/plan.h"

static json_t *describe_camera(const tw_page *p, const tw_camera_status *c)
{
    char last[TW_UTC_MAX];
    tw_camera_settings set;
    json_t *o = json_pack(
        "{ss sb ss sf sf si si sI si si ss sf sf sf}", "name", c->name, "open", c->open,
        "state", c->lost_us > 0 ? "lost" : tw_watch_state_name(c->state), "activity",
        c->activity_ppm / 1e4, "fps", c->real_milli / 1e3, "sightings", (int)c->sightings,
        "stored", (int)c->stored, "stored_bytes", (json_int_t)c->stored_bytes, "width",
        c->width, "height", c->height, "lost_why", c->lost_us > 0 ? c->lost_why : "",
        "busy", c->busy_ppm / 1e4, "light", c->light_ppm / 1e4, "noise", c->noise / 16.0);
    if (c->last_us > 0)
        (void)json_object_set_new(o, "last", json_string(tw_utc(c->last_us, last)));
    if (tw_settings_camera(p->settings, c->name, &set) == TW_OK) {
        (void)json_object_set_new(o, "start_at", json_real((double)set.start_ppm / 1e4));
        (void)json_object_set_new(o, "stay_at", json_real((double)set.stay_ppm / 1e4));
    }
    return o;
}

static void add_stopped(void *ctx, const char *name, int64_t since_us, const char *why)
{
    char since[TW_UTC_MAX];
    (void)json_array_append_new(ctx, json_pack("{ss ss ss}", "name", name, "since",
                                               tw_utc(since_us, since), "why", why));
}

static json_t *stopped_destinations(tw_page *p)
{
    json_t *list = json_array();
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = tw_page_catalogue(p);
    if (c)
        (void)tw_outbox_stopped(c, add_stopped, list, NULL);
    (void)pthread_mutex_unlock(&p->store_lock);
    return list;
}

void tw_show_status(tw_page *p, const tw_web_request *r, const char *rest,
                    tw_web_answer *out)
{
    (void)r;
    (void)rest;
    tw_camera_status camera;
    json_t *stopped = stopped_destinations(p);
    tw_store_status store;
    json_t *cameras = json_array(), *all = NULL;
    (void)pthread_mutex_lock(&p->station_lock);
    for (size_t i = 0; p->station && tw_station_camera(p->station, i, &camera) == TW_OK;
         i++)
        (void)json_array_append_new(cameras, describe_camera(p, &camera));
    all = json_pack("{ss so sb so}", "station", p->station_name, "cameras", cameras, "up",
                    p->station != NULL, "stopped", stopped);
    if (p->station && tw_station_store(p->station, &store) == TW_OK)
        (void)json_object_set_new(
            all, "store",
            json_pack("{sI sI sI si}", "free_bytes", (json_int_t)store.free_bytes,
                      "total_bytes", (json_int_t)store.total_bytes, "waiting_bytes",
                      (json_int_t)store.waiting_bytes, "problems", (int)store.problems));
    (void)pthread_mutex_unlock(&p->station_lock);
    tw_answer_json(all, 200, out);
}

void tw_do_order(tw_page *p, const tw_web_request *r, const char *rest,
                 tw_web_answer *out)
{
    tw_error err = {0};
    (void)rest;
    (void)pthread_mutex_lock(&p->station_lock);
    const tw_status st = tw_deliver_order(p->station, r->body, r->bytes, &err);
    (void)pthread_mutex_unlock(&p->station_lock);
    if (st == TW_OK)
        tw_answer_json(json_pack("{ss}", "done", err.text), 200, out);
    else
        tw_answer_error(st == TW_ENOENT ? 404 : 400, err.text, out);
}

/* ---- forecasts -------------------------------------------------------------------- */

static json_t *describe_plan(const tw_plan *plan, double *day_bytes)
{
    json_t *list = json_array();
    for (size_t i = 0; i < plan->count; i++) {
        const tw_plan_rates rates = tw_plan_rates_of(&plan->cameras[i]);
        *day_bytes += rates.day;
        (void)json_array_append_new(
            list, json_pack("{ss si sf sf sf sf sf}", "camera", plan->cameras[i].name,
                            "sightings", (int)plan->cameras[i].sightings,
                            "bytes_an_hour_of_sightings", rates.sighting_hour,
                            "bytes_an_hour_of_recording", rates.recorded_hour,
                            "bytes_a_day", rates.day, "uplink_bits", rates.uplink,
                            "uplink_peak_bits", rates.uplink_peak));
    }
    return list;
}

void tw_show_plan(tw_page *p, const tw_web_request *r, const char *rest,
                  tw_web_answer *out)
{
    tw_plan plan = {0};
    tw_store_status store;
    tw_station_settings station;
    tw_settings *s = tw_page_settings(p);
    double day_bytes = 0;
    (void)r;
    (void)rest;
    memset(&store, 0, sizeof store);
    if (!s) {
        tw_answer_error(500, "out of memory", out);
        return;
    }
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = tw_page_catalogue(p);
    if (c)
        (void)tw_plan_read(c, s, &plan, NULL);
    (void)pthread_mutex_unlock(&p->store_lock);
    (void)pthread_mutex_lock(&p->station_lock);
    if (p->station)
        (void)tw_station_store(p->station, &store);
    (void)pthread_mutex_unlock(&p->station_lock);
    tw_settings_station(s, &station);
    json_t *cameras = describe_plan(&plan, &day_bytes);
    tw_answer_json(
        json_pack("{so sf sI sI sf sf}", "cameras", cameras, "history_days",
                  (double)(plan.last_us - plan.first_us) / 864e8, "free_bytes",
                  (json_int_t)store.free_bytes, "total_bytes",
                  (json_int_t)store.total_bytes, "bytes_a_day", day_bytes, "days",
                  tw_plan_days(store.free_bytes, station.keep_free, day_bytes)),
        200, out);
    tw_plan_free(&plan);
    tw_settings_free(s);
}

/* ---- what happened ---------------------------------------------------------------- */

enum { HAPPENINGS = 200 };

static bool take_happening(void *ctx, const tw_happening *h)
{
    char at[TW_UTC_MAX];
    (void)json_array_append_new(ctx, json_pack("{ss ss? ss ss}", "at",
                                               tw_utc(h->at_us, at), "camera", h->camera,
                                               "what", h->what, "text", h->text));
    if (json_array_size(ctx) > HAPPENINGS) /* the newest are of interest */
        (void)json_array_remove(ctx, 0);
    return true;
}

void tw_show_happenings(tw_page *p, const tw_web_request *r, const char *rest,
                        tw_web_answer *out)
{
    json_t *list = json_array();
    (void)rest;
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = tw_page_catalogue(p);
    if (c)
        (void)tw_catalogue_happenings(c, NULL, tw_time_of(p, r, "from"),
                                      tw_time_of(p, r, "until"), take_happening, list,
                                      NULL);
    (void)pthread_mutex_unlock(&p->store_lock);
    tw_answer_json(json_pack("{so}", "happenings", list), 200, out);
}
