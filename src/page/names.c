/* Names: the user's own list of who comes there, and those that were given of late. */
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../settings/sections.h"
#include "page_state.h"

enum { LINE_BYTES = 1024, LIST_MOST = 1000, COLUMNS = 3 };

/* Take one field of a line of CSV off it, in place: "..." keeps commas, "" is a quote. */
static char *next_field(char **rest)
{
    char *from = *rest, *to = *rest, *field = *rest;
    const bool quoted = *from == '"';
    from += quoted;
    while (*from && (quoted || *from != ',')) {
        if (quoted && *from == '"') {
            if (from[1] != '"')
                break;
            from++;
        }
        *to++ = *from++;
    }
    from += quoted && *from == '"';
    *rest = *from == ',' ? from + 1 : from + strlen(from);
    *to = '\0';
    return field;
}

/* name,common,key: a heading is left out, and so is what has no name. */
static void add_line(json_t *list, char *line)
{
    char *field[COLUMNS];
    line[strcspn(line, "\r\n")] = '\0';
    for (int i = 0; i < COLUMNS; i++)
        field[i] = next_field(&line);
    if (field[0][0] == '\0' || field[0][0] == '#' || strcmp(field[0], "name") == 0)
        return;
    json_t *o = json_pack("{ss si}", "name", field[0], "named", 0);
    if (!o) /* it is no text */
        return;
    if (field[1][0])
        (void)json_object_set_new(o, "common", json_string(field[1]));
    if (field[2][0] && field[2][1] == '\0')
        (void)json_object_set_new(o, "key", json_string(field[2]));
    (void)json_array_append_new(list, o);
}

static void add_own(twi_page *p, json_t *list)
{
    tw_settings *s = twi_page_settings(p);
    twi_station_settings station = {.species = ""};
    char line[LINE_BYTES];
    if (s)
        twi_settings_station(s, &station);
    FILE *file = station.species[0] ? fopen(station.species, "re") : NULL;
    for (int i = 0; file && i < LIST_MOST && fgets(line, sizeof line, file); i++)
        add_line(list, line);
    if (file)
        (void)fclose(file);
    tw_settings_free(s);
}

static bool add_given(void *ctx, const char *name, uint32_t named)
{
    json_t *list = ctx, *known = NULL;
    for (size_t i = 0; i < json_array_size(list); i++) {
        json_t *one = json_array_get(list, i);
        if (strcmp(json_string_value(json_object_get(one, "name")), name) == 0)
            known = one;
    }
    if (known)
        (void)json_object_set_new(known, "named", json_integer(named));
    else
        (void)json_array_append_new(
            list, json_pack("{ss si}", "name", name, "named", (int)named));
    return json_array_size(list) < 2 * LIST_MOST;
}

void twi_show_names(twi_page *p, const twi_asked *r, const char *rest,
                    twi_web_answer *out)
{
    json_t *list = json_array();
    tw_status st = TW_OK;
    (void)rest;
    add_own(p, list);
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    if (c && r->cameras[0] == '\0') /* given before any camera */
        st = tw_catalogue_names(c, add_given, list, NULL);
    (void)pthread_mutex_unlock(&p->store_lock);
    if (st == TW_OK)
        twi_answer_json(json_pack("{sO}", "names", list), 200, out);
    else
        twi_answer_error(500, "the catalogue cannot be read", out);
    json_decref(list);
}

tw_status twi_name_sighting(twi_page *p, int64_t id, const void *asked, tw_error *err)
{
    const json_t *o = asked, *count = json_object_get(o, "count"),
                 *note = json_object_get(o, "note");
    if ((count && !json_is_integer(count)) || (note && !json_is_string(note)) ||
        json_integer_value(count) < 0 || json_integer_value(count) > TW_COUNT_MAX)
        return tw_fail(err, TW_EINVAL, "count is a number, note a text");
    const tw_naming n = {.size = sizeof n,
                         .name = json_string_value(json_object_get(o, "name")),
                         .count = (uint32_t)json_integer_value(count),
                         .note = json_string_value(note),
                         .at_us = twi_page_wall(p)};
    tw_status st = TW_ENOENT;
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    if (c)
        st = tw_catalogue_name(c, id, &n, err);
    (void)pthread_mutex_unlock(&p->store_lock);
    return st;
}
