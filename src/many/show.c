/* The stations, their cameras, and their nights. */
#include <stdlib.h>
#include <string.h>

#include "../core/civil.h"
#include "../gather/groups.h"
#include "../settings/sections.h"
#include "many_state.h"

enum {
    CAMERAS_SHOWN = 48, /* more are told by their stations alone */
    STATIONS_SHOWN = 2000,
    AMISS_SHOWN = 4, /* of a kind */
};

/* ---- what boards told ------------------------------------------------------------- */

void twi_copy_told(json_t *to, const json_t *from, const char *key, json_type type)
{
    json_t *value = json_object_get(from, key);
    const bool number = type == JSON_REAL && json_is_number(value);
    const bool flag = type == JSON_TRUE && json_is_boolean(value);
    if (value && (number || flag || json_typeof(value) == type))
        (void)json_object_set(to, key, value);
}

void twi_put_time(json_t *o, const char *key, int64_t time_us)
{
    char text[TWI_UTC_MAX];
    (void)json_object_set_new(o, key, json_string(twi_utc(time_us, text)));
}

/* What a station says of a camera holds as long as it is there. */
static json_t *describe_camera(const known_station *s, const known_camera *c)
{
    static const struct {
        const char *key;
        json_type type;
    } told[] = {{"activity", JSON_REAL},     {"fps", JSON_REAL},
                {"sightings", JSON_INTEGER}, {"last", JSON_STRING},
                {"lost", JSON_STRING},       {"lost_why", JSON_STRING},
                {"arming", JSON_STRING},     {"arming_until", JSON_STRING},
                {"ordered_by", JSON_STRING}, {"width", JSON_INTEGER},
                {"height", JSON_INTEGER},    {"not_stored", JSON_INTEGER}};
    json_t *o = json_object(), *from = json_loads(c->text, 0, NULL);
    (void)json_object_set_new(o, "camera", json_sprintf("%s/%s", s->name, c->name));
    (void)json_object_set_new(o, "state",
                              json_string(twi_known_is_away(s) ? "down" : c->state));
    for (size_t i = 0; i < sizeof told / sizeof *told; i++)
        twi_copy_told(o, from, told[i].key, told[i].type);
    json_decref(from);
    return o;
}

/* ---- the state of all ------------------------------------------------------------- */

/* Those that are asked for, the most urgent first. */
typedef struct listing {
    const known_station **all; /* owned */
    size_t count, amiss, cameras;
} listing;

static int by_urgency(const void *a, const void *b)
{
    const known_station *x = *(const known_station *const *)a,
                        *y = *(const known_station *const *)b;
    return x->wants != y->wants ? (int)y->wants - (int)x->wants
                                : strcmp(x->name, y->name);
}

/* @return false: out of memory. */
static bool list_scope(twi_many *m, const twi_asked *r, const known *k, listing *out)
{
    *out = (listing){.all = calloc(k->count + 1, sizeof(known_station *))};
    for (size_t i = 0; out->all && i < k->count; i++) {
        const known_station *s = &k->station[i];
        if (!twi_scope_has(m, r, s->name))
            continue;
        out->all[out->count++] = s;
        out->amiss += s->wants != WANTS_NOTHING && s->wants != WANTS_DOWN;
        out->cameras += s->cameras;
    }
    if (out->all)
        qsort(out->all, out->count, sizeof *out->all, by_urgency);
    return out->all != NULL;
}

static json_t *describe_cameras(const known *k, const listing *l)
{
    json_t *list = json_array();
    for (size_t i = 0; l->cameras <= CAMERAS_SHOWN && i < k->count; i++) {
        const known_station *s = &k->station[i];
        bool has = false;
        for (size_t j = 0; s->cameras > 0 && j < l->count && !has; j++)
            has = l->all[j] == s;
        for (size_t c = 0; has && c < s->cameras; c++)
            (void)json_array_append_new(list,
                                        describe_camera(s, &k->camera[s->first + c]));
    }
    return list;
}

/* Some of each kind. */
static json_t *describe_amiss(const listing *l)
{
    json_t *list = json_array();
    size_t of_kind = 0;
    for (size_t i = 0; i < l->amiss; i++) {
        const known_station *s = l->all[i];
        of_kind = i > 0 && s->wants == l->all[i - 1]->wants ? of_kind + 1 : 1;
        if (of_kind > AMISS_SHOWN)
            continue;
        json_t *o =
            json_pack("{ss ss}", "station", s->name, "wants", twi_wants_word(s->wants));
        twi_put_time(o, "heard", s->heard_us);
        (void)json_array_append_new(list, o);
    }
    return list;
}

/* How many there are of each kind, the most urgent first. */
static json_t *count_amiss(const listing *l)
{
    json_t *o = json_object();
    for (size_t i = 0, first = 0; i < l->amiss; i++)
        if (i + 1 == l->amiss || l->all[i + 1]->wants != l->all[i]->wants) {
            (void)json_object_set_new(o, twi_wants_word(l->all[i]->wants),
                                      json_integer((json_int_t)(i + 1 - first)));
            first = i + 1;
        }
    return o;
}

/* Answer with what is known, or say why nothing is. */
static const known *take_known(twi_many *m, const twi_asked *r, listing *l,
                               twi_web_answer *out)
{
    tw_error err = {0};
    const known *k = twi_known_take(m, &err);
    if (!k) {
        twi_answer_error(503, err.text, out);
        return NULL;
    }
    if (list_scope(m, r, k, l))
        return k;
    twi_known_done(m);
    twi_answer_error(500, "out of memory", out);
    return NULL;
}

void twi_many_status(twi_page *p, const twi_asked *r, const char *rest,
                     twi_web_answer *out)
{
    twi_many *m = twi_page_ctx(p);
    twi_station_settings set;
    listing l;
    (void)rest;
    twi_settings_station(m->settings, &set);
    const known *k = take_known(m, r, &l, out);
    if (!k)
        return;
    json_t *o =
        json_pack("{ss ss ss sb so so so s{sI sI sI so}}", "type", "station", "station",
                  set.name, "state", "up", "many", true, "groups", twi_scope_groups(m, r),
                  "cameras", describe_cameras(k, &l), "amiss", describe_amiss(&l),
                  "stations", "all", (json_int_t)l.count, "amiss", (json_int_t)l.amiss,
                  "cameras", (json_int_t)l.cameras, "wants", count_amiss(&l));
    twi_known_done(m);
    free(l.all);
    twi_put_time(o, "time", twi_page_wall(p));
    twi_answer_json(o, 200, out);
}

/* ---- boards ----------------------------------------------------------------------- */

static json_t *groups_of(const twi_many *m, const twi_asked *r, const char *station)
{
    char name[TWI_GROUP_NAME];
    json_t *list = json_array();
    for (size_t i = 0; twi_groups_at(m->groups, i, name); i++)
        if (twi_may_see(r, name) && twi_groups_have(m->groups, name, station))
            (void)json_array_append_new(list, json_string(name));
    return list;
}

static json_t *describe_sensors(const json_t *told)
{
    json_t *list = json_array(), *one = NULL;
    size_t i = 0;
    json_array_foreach(told, i, one)
    {
        json_t *o = json_object();
        twi_copy_told(o, one, "sensor", JSON_STRING);
        twi_copy_told(o, one, "unit", JSON_STRING);
        twi_copy_told(o, one, "value", JSON_REAL);
        twi_copy_told(o, one, "beyond", JSON_TRUE);
        (void)json_array_append_new(list, o);
    }
    return list;
}

static size_t count_watching(const known *k, const known_station *s)
{
    size_t n = 0;
    for (size_t c = 0; c < s->cameras && !twi_known_is_away(s); c++) {
        const char *state = k->camera[s->first + c].state;
        n += strcmp(state, "armed") == 0 || strcmp(state, "sighting") == 0 ||
             strcmp(state, "resting") == 0;
    }
    return n;
}

static json_t *describe_station(const twi_many *m, const twi_asked *r, const known *k,
                                const known_station *s)
{
    json_t *o = json_pack(
        "{ss ss ss ss sI sI so so}", "station", s->name, "state", s->state, "wants",
        twi_wants_word(s->wants), "version", s->version, "cameras",
        (json_int_t)s->cameras, "watching", (json_int_t)count_watching(k, s), "sensors",
        describe_sensors(s->sensors), "groups", groups_of(m, r, s->name));
    (void)json_object_set_new(o, "waiting", json_integer(s->waiting));
    if (s->settings[0])
        (void)json_object_set_new(o, "settings", json_string(s->settings));
    twi_put_time(o, "heard", s->heard_us);
    (void)json_object_set_new(o, "usual_s", json_real((double)s->usual_us / 1e6));
    if (s->free_bytes >= 0)
        (void)json_object_set_new(o, "free_bytes", json_integer(s->free_bytes));
    if (s->placed) {
        (void)json_object_set_new(o, "latitude", json_real((double)s->latitude / 1e6));
        (void)json_object_set_new(o, "longitude", json_real((double)s->longitude / 1e6));
    }
    return o;
}

void twi_many_stations(twi_page *p, const twi_asked *r, const char *rest,
                       twi_web_answer *out)
{
    twi_many *m = twi_page_ctx(p);
    listing l;
    (void)rest;
    const known *k = take_known(m, r, &l, out);
    if (!k)
        return;
    json_t *list = json_array();
    for (size_t i = 0; i < l.count && i < STATIONS_SHOWN; i++)
        (void)json_array_append_new(list, describe_station(m, r, k, l.all[i]));
    twi_known_done(m);
    free(l.all);
    twi_answer_json(json_pack("{so sI sI}", "stations", list, "all", (json_int_t)l.count,
                              "amiss", (json_int_t)l.amiss),
                    200, out);
}

/* ---- nights ----------------------------------------------------------------------- */

void twi_many_nights(twi_page *p, const twi_asked *r, const char *rest,
                     twi_web_answer *out)
{
    twi_many *m = twi_page_ctx(p);
    listing l;
    twi_hours_place place = {0};
    (void)rest;
    const known *k = take_known(m, r, &l, out);
    if (!k)
        return;
    for (size_t i = 0; i < l.count && !place.known; i++)
        place =
            (twi_hours_place){l.all[i]->latitude, l.all[i]->longitude, l.all[i]->placed};
    twi_known_done(m);
    free(l.all);
    twi_answer_nights(&place, twi_time_of(p, r, "from"), twi_time_of(p, r, "until"), out);
}

void twi_many_visit(twi_page *p, const twi_asked *r, const char *rest,
                    twi_web_answer *out)
{
    twi_many *m = twi_page_ctx(p);
    int64_t since_us = 0;
    tw_error err = {0};
    (void)rest;
    twi_ledger *l = twi_many_take(m, &err);
    const tw_status st =
        l ? m->kind->visit(l, r->who, twi_page_wall(p), &since_us, &err) : TW_EAGAIN;
    if (l)
        twi_many_give(m, l, st);
    if (st == TW_OK)
        twi_answer_json(json_pack("{sI}", "since", (json_int_t)(since_us / 1000)), 200,
                        out);
    else
        twi_answer_error(503, err.text, out);
}
