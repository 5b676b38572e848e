/* The stations, read out of the ledger not more often than it is worth: what each is, and
 * what of it wants somebody to go there. */
#include <stdlib.h>
#include <string.h>

#include "../base/thread.h"
#include "../gather/words.h"
#include "many_state.h"

/* What was read holds so long, and twenty times what that took. */
#define HOLDS_US INT64_C(1000000)
/* What takes longer is read while the views have what was there before, */
#define LONG_US INT64_C(50000)
/* unless that has held for so much longer. */
#define OLD_US INT64_C(20000000)
#define NEARLY_FULL 20 /* less than a twentieth of a card is free */

/* ---- reading ---------------------------------------------------------------------- */

typedef struct reading {
    known *to;
    size_t station_room, camera_room, at; /* at: the station of the last camera */
    bool full;                            /* out of memory */
} reading;

/* @return false: out of memory. */
static bool make_room(void **all, size_t *room, size_t count, size_t bytes)
{
    if (count < *room)
        return true;
    const size_t more = *room ? 2 * *room : 64;
    void *larger = realloc(*all, more * bytes);
    if (!larger)
        return false;
    *all = larger;
    *room = more;
    return true;
}

static int64_t count_of(const json_t *o, const char *key)
{
    const json_t *n = json_object_get(o, key);
    return json_is_integer(n) ? json_integer_value(n) : -1;
}

/* A value that is beyond its limits, or is not given any more. */
static bool has_amiss_sensor(const json_t *sensors)
{
    size_t i = 0;
    json_t *one = NULL;
    json_array_foreach(sensors, i,
                       one) if (json_is_true(json_object_get(one, "beyond")) ||
                                json_is_string(json_object_get(one, "why"))) return true;
    return false;
}

static wants wants_of(const known_station *s, const json_t *o, bool silent)
{
    const json_t *store = json_object_get(o, "store");
    if (silent)
        return WANTS_SILENT;
    if (strcmp(s->state, "dead") == 0)
        return WANTS_DEAD;
    if (strcmp(s->state, "down") == 0)
        return WANTS_DOWN;
    if (json_is_false(json_object_get(store, "card")))
        return WANTS_CARD;
    if (s->total_bytes > 0 && s->free_bytes >= 0 &&
        s->free_bytes < s->total_bytes / NEARLY_FULL)
        return WANTS_ROOM;
    if (json_array_size(json_object_get(o, "stopped")) > 0)
        return WANTS_STOPPED;
    return has_amiss_sensor(s->sensors) ? WANTS_SENSOR : WANTS_NOTHING;
}

static void take_station(void *ctx, const twi_ledger_station *from)
{
    reading *r = ctx;
    known *k = r->to;
    if (r->full || !make_room((void **)&k->station, &r->station_room, k->count,
                              sizeof *k->station)) {
        r->full = true;
        return;
    }
    known_station *s = &k->station[k->count++];
    json_t *o = json_loads(from->text, 0, NULL);
    const json_t *store = json_object_get(o, "store"),
                 *version = json_object_get(o, "version"),
                 *sensors = json_object_get(o, "sensors");
    *s = (known_station){.heard_us = from->heard_us,
                         .usual_us = from->usual_us,
                         .free_bytes = count_of(store, "free_bytes"),
                         .total_bytes = count_of(store, "total_bytes"),
                         .sensors =
                             json_is_array(sensors) ? json_deep_copy(sensors) : NULL};
    (void)snprintf(s->name, sizeof s->name, "%s", from->name);
    (void)snprintf(s->state, sizeof s->state, "%s", from->state);
    (void)snprintf(s->version, sizeof s->version, "%s",
                   json_is_string(version) ? json_string_value(version) : "");
    const json_t *settings = json_object_get(o, "settings");
    (void)snprintf(s->settings, sizeof s->settings, "%s",
                   json_is_string(settings) ? json_string_value(settings) : "");
    s->changeable = json_is_true(json_object_get(o, "changeable"));
    s->wants = wants_of(s, o, from->silent);
    json_decref(o);
}

static void take_place(known_station *s, const char *text)
{
    json_t *o = json_loads(text, 0, NULL);
    int64_t latitude = 0, longitude = 0;
    if (twi_heard_place(o, &latitude, &longitude)) {
        s->placed = true;
        s->latitude = latitude;
        s->longitude = longitude;
    }
    json_decref(o);
}

/* They come by the names of their stations, as those have. */
static void take_camera(void *ctx, const twi_ledger_camera *from)
{
    reading *r = ctx;
    known *k = r->to;
    while (r->at < k->count && strcmp(k->station[r->at].name, from->station) < 0)
        r->at++;
    if (r->full || r->at == k->count ||
        strcmp(k->station[r->at].name, from->station) != 0)
        return;
    if (!make_room((void **)&k->camera, &r->camera_room, k->camera_count,
                   sizeof *k->camera)) {
        r->full = true;
        return;
    }
    known_station *s = &k->station[r->at];
    known_camera *c = &k->camera[k->camera_count];
    *c = (known_camera){.text = strdup(from->text)};
    (void)snprintf(c->name, sizeof c->name, "%s", from->name);
    (void)snprintf(c->state, sizeof c->state, "%s", from->state);
    if (s->cameras++ == 0)
        s->first = k->camera_count;
    k->camera_count++;
    if (!s->placed)
        take_place(s, from->text);
    if (strcmp(c->state, "lost") == 0 && s->wants < WANTS_CAMERA)
        s->wants = WANTS_CAMERA;
}

static int by_name(const void *name, const void *station)
{
    return strcmp(name, ((const known_station *)station)->name);
}

static void take_waiting(void *ctx, const char *station, int64_t waiting)
{
    const known *k = ((const reading *)ctx)->to;
    known_station *s = k->count == 0 ? NULL
                                     : bsearch(station, k->station, k->count,
                                               sizeof *k->station, by_name);
    if (s)
        s->waiting = waiting;
}

static tw_status read_all(twi_many *m, known *to, tw_error *err)
{
    reading r = {.to = to};
    twi_ledger *l = twi_many_take(m, err);
    if (!l)
        return TW_EAGAIN;
    tw_status st = m->kind->stations(l, false, take_station, &r, err);
    if (st == TW_OK)
        st = m->kind->cameras(l, take_camera, &r, err);
    if (st == TW_OK)
        st = twi_words_waiting(m->kind, l, take_waiting, &r, err);
    twi_many_give(m, l, st);
    return r.full ? tw_fail(err, TW_ENOMEM, "out of memory") : st;
}

/* ---- keeping ---------------------------------------------------------------------- */

static void clear(known *k)
{
    for (size_t i = 0; i < k->count; i++)
        json_decref(k->station[i].sensors);
    for (size_t i = 0; i < k->camera_count; i++)
        free(k->camera[i].text);
    free(k->station);
    free(k->camera);
    *k = (known){0};
}

static int64_t now_of(const twi_many *m)
{
    const tw_clock *clock = &m->spec.clock;
    return clock->ops->now_us(clock->ctx);
}

static tw_status read_anew(twi_many *m, known *anew, tw_error *err)
{
    const int64_t before_us = now_of(m);
    const tw_status st = read_all(m, anew, err);
    anew->read_us = now_of(m);
    anew->cost_us = anew->read_us - before_us;
    return st;
}

/* Under the lock. Takes anew over. */
static void put(twi_many *m, known *anew)
{
    clear(&m->known);
    m->known = *anew;
}

/* @return how long it has not held any more; negative: it does. */
static int64_t overdue_us(const twi_many *m)
{
    const known *k = &m->known;
    return now_of(m) - k->read_us - HOLDS_US - 20 * k->cost_us;
}

/* Under the lock. */
static bool is_read_meanwhile(const twi_many *m)
{
    return m->reader.started && m->known.cost_us >= LONG_US && overdue_us(m) < OLD_US;
}

static void *read_meanwhile(void *ctx)
{
    twi_many *m = ctx;
    known_reader *r = &m->reader;
    (void)pthread_mutex_lock(&m->known_lock);
    while (!r->ending) {
        known anew = {0};
        if (!r->wanted) {
            (void)pthread_cond_wait(&r->cond, &m->known_lock);
            continue;
        }
        (void)pthread_mutex_unlock(&m->known_lock);
        const tw_status st = read_anew(m, &anew, NULL);
        (void)pthread_mutex_lock(&m->known_lock);
        if (st == TW_OK)
            put(m, &anew);
        else /* who takes it next asks again, or reads it and says why not */
            clear(&anew);
        r->wanted = false;
    }
    (void)pthread_mutex_unlock(&m->known_lock);
    return NULL;
}

tw_status twi_known_begin(twi_many *m, tw_error *err)
{
    known_reader *r = &m->reader;
    twi_cond_init(&r->cond);
    r->started = twi_thread_start(&r->thread, read_meanwhile, m);
    return r->started ? TW_OK : tw_fail(err, TW_ENOMEM, "no thread can be started");
}

void twi_known_end(twi_many *m)
{
    known_reader *r = &m->reader;
    if (r->started) {
        (void)pthread_mutex_lock(&m->known_lock);
        r->ending = true;
        (void)pthread_cond_signal(&r->cond);
        (void)pthread_mutex_unlock(&m->known_lock);
        (void)pthread_join(r->thread, NULL);
        (void)pthread_cond_destroy(&r->cond);
    }
    clear(&m->known);
}

const known *twi_known_take(twi_many *m, tw_error *err)
{
    known anew = {0};
    (void)pthread_mutex_lock(&m->known_lock);
    if (m->known.read_us != 0 && overdue_us(m) < 0)
        return &m->known;
    if (m->known.read_us != 0 && is_read_meanwhile(m)) {
        m->reader.wanted = true;
        (void)pthread_cond_signal(&m->reader.cond);
        return &m->known;
    }
    if (read_anew(m, &anew, err) != TW_OK) {
        clear(&anew);
        (void)pthread_mutex_unlock(&m->known_lock);
        return NULL;
    }
    put(m, &anew);
    return &m->known;
}

void twi_known_done(twi_many *m)
{
    (void)pthread_mutex_unlock(&m->known_lock);
}

bool twi_known_is_away(const known_station *s)
{
    return s->wants >= WANTS_DEAD || s->wants == WANTS_DOWN;
}

const char *twi_wants_word(wants w)
{
    static const char *const words[] = {
        [WANTS_NOTHING] = "nothing", [WANTS_DOWN] = "down",
        [WANTS_SENSOR] = "sensor",   [WANTS_STOPPED] = "stopped",
        [WANTS_CAMERA] = "camera",   [WANTS_ROOM] = "room",
        [WANTS_CARD] = "card",       [WANTS_DEAD] = "dead",
        [WANTS_SILENT] = "silent"};
    return words[w];
}
