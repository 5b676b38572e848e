/* The station as it is: states of cameras and card; and orders to it. */
#include <jansson.h>

#include "page.h"

static json_t *describe_camera(const tw_page *p, const tw_camera_status *c)
{
    char last[TW_UTC_MAX];
    tw_camera_settings set;
    json_t *o = json_pack(
        "{ss sb ss sf sf si si sI si si ss}", "name", c->name, "open", c->open, "state",
        c->lost_us > 0 ? "lost" : tw_watch_state_name(c->state), "activity",
        c->activity_ppm / 1e4, "fps", c->real_milli / 1e3, "sightings", (int)c->sightings,
        "stored", (int)c->stored, "stored_bytes", (json_int_t)c->stored_bytes, "width",
        c->width, "height", c->height, "lost_why", c->lost_us > 0 ? c->lost_why : "");
    if (c->last_us > 0)
        (void)json_object_set_new(o, "last", json_string(tw_utc(c->last_us, last)));
    if (tw_settings_camera(p->settings, c->name, &set) == TW_OK) {
        (void)json_object_set_new(o, "start_at", json_real((double)set.start_ppm / 1e4));
        (void)json_object_set_new(o, "stay_at", json_real((double)set.stay_ppm / 1e4));
    }
    return o;
}

void tw_show_status(tw_page *p, tw_web_answer *out)
{
    tw_camera_status camera;
    tw_store_status store;
    json_t *cameras = json_array(), *all = NULL;
    (void)pthread_mutex_lock(&p->station_lock);
    for (size_t i = 0; p->station && tw_station_camera(p->station, i, &camera) == TW_OK;
         i++)
        (void)json_array_append_new(cameras, describe_camera(p, &camera));
    all = json_pack("{ss so sb}", "station", p->station_name, "cameras", cameras, "up",
                    p->station != NULL);
    if (p->station && tw_station_store(p->station, &store) == TW_OK)
        (void)json_object_set_new(
            all, "store",
            json_pack("{sI sI sI si}", "free_bytes", (json_int_t)store.free_bytes,
                      "total_bytes", (json_int_t)store.total_bytes, "waiting_bytes",
                      (json_int_t)store.waiting_bytes, "problems", (int)store.problems));
    (void)pthread_mutex_unlock(&p->station_lock);
    tw_answer_json(all, 200, out);
}

void tw_do_order(tw_page *p, const tw_web_request *r, tw_web_answer *out)
{
    enum { MOST_S = 30 * 86400 };
    json_t *o = json_loadb(r->body, r->bytes, JSON_REJECT_DUPLICATES, NULL);
    const char *what = json_string_value(json_object_get(o, "do"));
    const char *camera = json_string_value(json_object_get(o, "camera"));
    const double for_s = json_number_value(json_object_get(o, "for_s"));
    tw_status st = TW_ENOTSUP;
    (void)pthread_mutex_lock(&p->station_lock);
    if (what && p->station && for_s >= 0 && for_s <= MOST_S)
        st = tw_station_order(p->station, what, camera, (int64_t)(for_s * 1e6));
    (void)pthread_mutex_unlock(&p->station_lock);
    if (st == TW_OK)
        tw_answer_json(json_pack("{ss}", "done", what), 200, out);
    else if (st == TW_ENOENT)
        tw_answer_error(404, "there is no such camera", out);
    else
        tw_answer_error(400, "an order is arm, disarm, as-set, trigger or snap", out);
    json_decref(o);
}
