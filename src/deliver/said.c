/* What is said of a sighting by an order. */
#include "said.h"

#include <jansson.h>
#include <stdbool.h>
#include <string.h>

enum { BYTES_MAX = 4096 };

/* A text, or nothing. @return false: it is something else. */
static bool text_of(const json_t *o, const char *key, const char **out)
{
    const json_t *value = json_object_get(o, key);
    *out = json_string_value(value);
    return !value || json_is_string(value);
}

static tw_status give_name(tw_catalogue *c, int64_t id, const json_t *o, int64_t now_us,
                           tw_error *err)
{
    const json_t *count = json_object_get(o, "count");
    tw_naming n = {.size = sizeof n, .at_us = now_us};
    if (!text_of(o, "name", &n.name) || !text_of(o, "note", &n.note) ||
        (count && !json_is_integer(count)) || json_integer_value(count) < 0 ||
        json_integer_value(count) > TW_COUNT_MAX)
        return TW_ESYNTAX;
    n.count = (uint32_t)json_integer_value(count);
    return tw_catalogue_name(c, id, &n, err);
}

static tw_status say(tw_catalogue *c, int64_t id, const json_t *o, int64_t now_us,
                     tw_error *err)
{
    const json_t *star = json_object_get(o, "star"), *mark = json_object_get(o, "mark");
    tw_mark which = TW_MARK_NONE;
    if (json_is_boolean(star))
        return tw_catalogue_star(c, id, json_is_true(star), err);
    if (json_is_string(mark) && tw_mark_find(json_string_value(mark), &which))
        return tw_catalogue_mark(c, id, which, err);
    return json_object_get(o, "name") ? give_name(c, id, o, now_us, err) : TW_ESYNTAX;
}

tw_status twi_said_take(tw_catalogue *c, const char *series, const void *text,
                        size_t bytes, int64_t now_us, twi_said *said, tw_error *err)
{
    json_t *o =
        bytes <= BYTES_MAX ? json_loadb(text, bytes, JSON_REJECT_DUPLICATES, NULL) : NULL;
    const char *what = json_string_value(json_object_get(o, "do")),
               *of = json_string_value(json_object_get(o, "series"));
    const json_int_t id = json_integer_value(json_object_get(o, "number"));
    tw_status st = TW_ENOTSUP;
    if (what && strcmp(what, "say") == 0)
        st = c && of && id > 0 && id <= UINT32_MAX ? TW_OK : TW_ESYNTAX;
    if (st == TW_OK && strcmp(of, series) != 0)
        st = TW_ENOENT;
    if (st == TW_OK)
        st = say(c, id, o, now_us, err);
    *said = (twi_said){
        .number = st == TW_OK ? (uint32_t)id : 0,
        .id = json_integer_value(json_object_get(o, "id")),
    };
    json_decref(o);
    return st;
}
