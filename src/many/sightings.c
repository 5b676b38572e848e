/* Sightings of many stations. One is named "STATION/SERIES/NUMBER". */
#include <inttypes.h>
#include <stdlib.h>
#include <string.h>

#include "many_state.h"

enum { MOST = 5000 };

/* ---- one as the page has it ------------------------------------------------------- */

typedef struct telling {
    twi_many *many;
    json_t *list;
    bool brief, whole; /* whole: with its captures */
} telling;

static json_t *id_of(const twi_ledger_sighting *s)
{
    return json_sprintf("%s/%s/%" PRId64, s->station, s->series, s->number);
}

/* A capture is asked for below the name of its sighting. */
static json_t *describe_captures(const twi_ledger_sighting *s, const json_t *told)
{
    json_t *list = json_array(), *one = NULL;
    size_t i = 0;
    json_array_foreach(told, i, one)
    {
        const char *file = json_string_value(json_object_get(one, "file"));
        json_t *o = json_object();
        twi_copy_told(o, one, "kind", JSON_STRING);
        twi_copy_told(o, one, "start", JSON_STRING);
        twi_copy_told(o, one, "bytes", JSON_INTEGER);
        if (file && json_object_size(o) == 3) {
            (void)json_object_set_new(o, "file",
                                      json_sprintf("%s/%s/%" PRId64 "/%s", s->station,
                                                   s->series, s->number, file));
            (void)json_array_append_new(list, json_incref(o));
        }
        json_decref(o);
    }
    return list;
}

static size_t count_kind(const json_t *captures, const char *ending)
{
    size_t i = 0, n = 0;
    json_t *one = NULL;
    json_array_foreach(captures, i, one)
    {
        const char *file = json_string_value(json_object_get(one, "file"));
        const size_t length = file ? strlen(file) : 0, tail = strlen(ending);
        n += length > tail && strcmp(file + length - tail, ending) == 0;
    }
    return n;
}

/* What a board told is data: each member has the type that the page counts on. */
static json_t *describe(const twi_many *m, const twi_ledger_sighting *s, bool whole)
{
    static const struct {
        const char *key;
        json_type type;
    } told[] = {{"starred", JSON_TRUE},    {"unsure", JSON_TRUE},  {"seconds", JSON_REAL},
                {"frames", JSON_INTEGER},  {"why", JSON_STRING},   {"note", JSON_STRING},
                {"named_by", JSON_STRING}, {"named", JSON_STRING}, {"sure", JSON_REAL},
                {"bytes", JSON_INTEGER},   {"mark", JSON_STRING}};
    json_t *o =
        json_pack("{ss sb ss ss sI sI sI sf}", "type", "sighting", "starred", false,
                  "why", "", "mark", "none", "bytes", (json_int_t)0, "sent",
                  (json_int_t)0, "unsent", (json_int_t)0, "peak", s->peak_ppm / 1e4);
    json_t *from = json_loads(s->text, 0, NULL);
    for (size_t i = 0; i < sizeof told / sizeof *told; i++)
        twi_copy_told(o, from, told[i].key, told[i].type);
    (void)json_object_set_new(o, "number", id_of(s));
    (void)json_object_set_new(o, "station", json_string(s->station));
    (void)json_object_set_new(o, "series", json_string(s->series));
    (void)json_object_set_new(o, "own_number", json_integer(s->number));
    (void)json_object_set_new(o, "camera", json_sprintf("%s/%s", s->station, s->camera));
    twi_put_time(o, "start", s->start_us);
    twi_put_time(o, "end", s->end_us > 0 ? s->end_us : s->start_us);
    if (s->name[0])
        (void)json_object_set_new(o, "name", json_string(s->name));
    if (s->count > 0)
        (void)json_object_set_new(o, "count", json_integer(s->count));
    json_t *captures = m->media[0]
                           ? describe_captures(s, json_object_get(from, "captures"))
                           : json_array();
    (void)json_object_set_new(o, "stills",
                              json_integer((json_int_t)count_kind(captures, ".jpg")));
    (void)json_object_set_new(o, "clips",
                              json_integer((json_int_t)count_kind(captures, ".mp4")));
    if (whole)
        (void)json_object_set(o, "captures", captures);
    json_decref(captures);
    json_decref(from);
    return o;
}

static bool is_starred(const twi_ledger_sighting *s)
{
    json_t *o = json_loads(s->text, 0, NULL);
    const bool starred = json_is_true(json_object_get(o, "starred"));
    json_decref(o);
    return starred;
}

static void take(void *ctx, const twi_ledger_sighting *s)
{
    const telling *t = ctx;
    json_t *one = NULL;
    if (t->brief)
        one = json_pack("[o,o,I,I,b]", id_of(s),
                        json_sprintf("%s/%s", s->station, s->camera),
                        (json_int_t)(s->start_us / 1000), (json_int_t)(s->end_us / 1000),
                        is_starred(s));
    else
        one = describe(t->many, s, t->whole);
    (void)json_array_append_new(t->list, one);
}

/* ---- lists ------------------------------------------------------------------------ */

/* "north/kerb": that camera of that station. @return false: it is none. */
static bool split_camera(const char *text, char station[TWI_HEARD_NAME],
                         const char **camera)
{
    const char *slash = strrchr(text, '/');
    const size_t n = slash ? (size_t)(slash - text) : 0;
    if (n == 0 || n >= TWI_HEARD_NAME)
        return false;
    memcpy(station, text, n);
    station[n] = '\0';
    *camera = slash + 1;
    return true;
}

static const char *some(const char *text)
{
    return text && text[0] ? text : NULL;
}

/* The newest came first; the page has them in the order in which they began. */
static json_t *in_order(json_t *list)
{
    json_t *turned = json_array();
    for (size_t i = json_array_size(list); i > 0; i--)
        (void)json_array_append(turned, json_array_get(list, i - 1));
    json_decref(list);
    return turned;
}

static tw_status ask(twi_many *m, const twi_ledger_filter *filter, telling *t,
                     tw_error *err)
{
    twi_ledger *l = twi_many_take(m, err);
    if (!l)
        return TW_EAGAIN;
    const tw_status st = m->kind->sightings(l, filter, take, t, err);
    twi_many_give(m, l, st);
    return st;
}

/* The stations of a filter: those of the query, or the camera's own.
 * @return false: what is wrong is answered. */
static bool find_stations(twi_many *m, const twi_asked *r, const char *of, char **list,
                          twi_web_answer *out)
{
    tw_error err = {0};
    if (of[0]) {
        const char *const one[] = {of};
        *list = twi_ledger_names(one, twi_scope_has(m, r, of) ? 1 : 0);
        if (!*list)
            twi_answer_error(500, "out of memory", out);
        return *list != NULL;
    }
    const known *k = twi_known_take(m, &err);
    const bool good = k && twi_scope_names(m, r, k, list);
    if (k)
        twi_known_done(m);
    if (!good)
        twi_answer_error(503, k ? "out of memory" : err.text, out);
    return good;
}

void twi_many_sightings(twi_page *p, const twi_asked *r, const char *rest,
                        twi_web_answer *out)
{
    twi_many *m = twi_page_ctx(p);
    const char *camera = some(twi_query_of(p, r, "camera")),
               *most = twi_query_of(p, r, "most");
    const long n = most ? strtol(most, NULL, 10) : MOST;
    char station[TWI_HEARD_NAME] = "", *list = NULL;
    tw_error err = {0};
    (void)rest;
    if (camera && !split_camera(camera, station, &camera)) {
        twi_answer_error(400, "a camera is STATION/CAMERA here", out);
        return;
    }
    if (!find_stations(m, r, station, &list, out))
        return;
    const twi_ledger_filter filter = {.stations = list,
                                      .camera = some(camera),
                                      .has_name = some(twi_query_of(p, r, "name")),
                                      .mark = some(twi_query_of(p, r, "mark")),
                                      .least_peak_ppm = twi_share_of(p, r, "larger"),
                                      .from_us = twi_time_of(p, r, "from"),
                                      .until_us = twi_time_of(p, r, "until"),
                                      .newest = true,
                                      .most = n > 0 && n < MOST ? (uint32_t)n : MOST};
    telling t = {
        .many = m, .list = json_array(), .brief = twi_query_of(p, r, "brief") != NULL};
    const tw_status st = ask(m, &filter, &t, &err);
    t.list = in_order(t.list);
    free(list);
    if (st == TW_OK)
        twi_answer_json(json_pack("{sO}", "sightings", t.list), 200, out);
    else
        twi_answer_error(503, err.text, out);
    json_decref(t.list);
}

/* ---- one -------------------------------------------------------------------------- */

/* @return false: it is no name of a sighting. */
static bool read_path(const char *path, char station[TWI_HEARD_NAME],
                      char series[TWI_HEARD_SERIES], int64_t *number, const char **rest)
{
    char *end = NULL;
    const size_t a = strcspn(path, "/"), b = path[a] ? strcspn(path + a + 1, "/") : 0;
    if (a == 0 || a >= TWI_HEARD_NAME || b == 0 || b >= TWI_HEARD_SERIES ||
        path[a + 1 + b] != '/')
        return false;
    memcpy(station, path, a);
    station[a] = '\0';
    memcpy(series, path + a + 1, b);
    series[b] = '\0';
    const char *digits = path + a + b + 2;
    *number = strtoll(digits, &end, 10);
    *rest = *end == '/' ? end + 1 : end;
    return end != digits && (*end == '\0' || *end == '/') && *number > 0;
}

json_t *twi_many_record(twi_many *m, const twi_asked *r, const char *path,
                        const char **rest, tw_error *err)
{
    char station[TWI_HEARD_NAME], series[TWI_HEARD_SERIES];
    int64_t number = 0;
    if (!read_path(path, station, series, &number, rest) || !twi_scope_has(m, r, station))
        return NULL;
    const char *const one[] = {station};
    char *list = twi_ledger_names(one, 1);
    const twi_ledger_filter filter = {
        .stations = list ? list : "[]", .series = series, .number = number, .most = 1};
    telling t = {.many = m, .list = json_array(), .whole = true};
    (void)ask(m, &filter, &t, err);
    json_t *found = json_incref(json_array_get(t.list, 0));
    json_decref(t.list);
    free(list);
    return found;
}

void twi_many_sighting(twi_page *p, const twi_asked *r, const char *path,
                       twi_web_answer *out)
{
    const char *rest = "";
    tw_error err = {0};
    json_t *one = twi_many_record(twi_page_ctx(p), r, path, &rest, &err);
    if (one && !rest[0])
        twi_answer_json(json_incref(one), 200, out);
    else if (err.text[0])
        twi_answer_error(503, err.text, out);
    else
        twi_answer_error(404, "there is no such sighting", out);
    json_decref(one);
}
