/* Messages of stations: from a topic and JSON to what is kept. */
#include "heard.h"

#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../core/civil.h"
#include "../net/topic.h"

/* ---- topics ---------------------------------------------------------------------- */

/* The next part of a topic. @return what is behind it; NULL: it is the last, or bad. */
static const char *next_part(const char *at, char out[TWI_HEARD_NAME], bool *good)
{
    const size_t n = strcspn(at, "/");
    *good = *good && n > 0 && n < TWI_HEARD_NAME;
    if (!*good)
        return NULL;
    memcpy(out, at, n);
    out[n] = '\0';
    return at[n] == '/' ? at + n + 1 : NULL;
}

/* "tawny/hollin/kerb/sighting": station, camera ("" if there is none) and the word. */
static tw_status split(const char *root, const char *topic, twi_heard *out,
                       char word[TWI_HEARD_NAME])
{
    const size_t n = strlen(root);
    char middle[TWI_HEARD_NAME];
    bool good = true;
    if (strncmp(topic, root, n) != 0 || topic[n] != '/')
        return TW_ENOENT;
    const char *at = next_part(topic + n + 1, out->station, &good);
    if (!at)
        return TW_ENOENT;
    at = next_part(at, middle, &good);
    if (good && !at) {
        memcpy(word, middle, sizeof middle);
        return TW_OK;
    }
    if (good)
        at = next_part(at, word, &good);
    if (!good || at)
        return TW_ENOENT;
    memcpy(out->camera, middle, sizeof middle);
    return TW_OK;
}

bool twi_heard_topic(const char *root, const char *station, const char *what, char *out,
                     size_t capacity)
{
    const int n = snprintf(out, capacity, "%s/%s/%s", root, station, what);
    return n > 0 && (size_t)n < capacity && !strpbrk(station, "/+#");
}

/* ---- JSON ------------------------------------------------------------------------ */

static bool take_text(const json_t *o, const char *key, char *out, size_t capacity)
{
    const char *text = json_string_value(json_object_get(o, key));
    out[0] = '\0';
    if (!text)
        return false;
    const int n = snprintf(out, capacity, "%s", text);
    if (n >= 0 && (size_t)n < capacity)
        return true;
    out[0] = '\0'; /* cut, it could be no UTF-8 any more */
    return false;
}

/* A word: it is a part of a sighting's name. */
static bool take_series(const json_t *o, twi_heard *out)
{
    static const char LETTERS[] =
        "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_";
    if (take_text(o, "series", out->series, sizeof out->series) && out->series[0] &&
        strspn(out->series, LETTERS) == strlen(out->series))
        return true;
    out->series[0] = '\0';
    return false;
}

/* @return behind so many digits and a letter; NULL: there is something else. */
static const char *after_digits(const char *at, int digits, char letter, int *out)
{
    *out = 0;
    for (; at && digits > 0; digits--, at++) {
        if (*at < '0' || *at > '9')
            return NULL;
        *out = 10 * *out + *at - '0';
    }
    return at && *at == letter ? at + 1 : NULL;
}

int64_t twi_heard_time(const char *text)
{
    int year = 0, month = 0, day = 0, hour = 0, minute = 0, second = 0, ms = 0;
    const char *at = after_digits(text, 4, '-', &year);
    at = after_digits(at, 2, '-', &month);
    at = after_digits(at, 2, 'T', &day);
    at = after_digits(at, 2, ':', &hour);
    at = after_digits(at, 2, ':', &minute);
    at = after_digits(at, 2, '.', &second);
    at = after_digits(at, 3, 'Z', &ms);
    if (!at || *at || year < 1971 || month < 1 || month > 12 || day < 1 || day > 31 ||
        hour > 23 || minute > 59 || second > 60)
        return 0;
    const twi_civil civil = {.year = year,
                             .month = (uint8_t)month,
                             .day = (uint8_t)day,
                             .hour = (uint8_t)hour,
                             .minute = (uint8_t)minute,
                             .second = (uint8_t)second};
    return twi_civil_join(&civil) + ms * INT64_C(1000);
}

static int64_t take_time(const json_t *o, const char *key)
{
    return twi_heard_time(json_string_value(json_object_get(o, key)));
}

static int64_t take_integer(const json_t *o, const char *key, int64_t otherwise)
{
    const json_t *value = json_object_get(o, key);
    const int64_t n = json_integer_value(value);
    return json_is_integer(value) && n >= 0 && n <= UINT32_MAX ? n : otherwise;
}

uint32_t twi_heard_ppm(double percent)
{
    return percent > 0 && percent <= 100 ? (uint32_t)(percent * 1e4 + 0.5) : 0;
}

static bool is_of(const json_t *o, const char *type)
{
    const char *text = json_string_value(json_object_get(o, "type"));
    return text && strcmp(text, type) == 0;
}

/* A name that a message gives must be the topic's, where what would mean something in a
 * topic is "_". */
static bool is_name_of(const json_t *o, const char *key, const char *part)
{
    const char *text = json_string_value(json_object_get(o, key));
    return !text || twi_topic_is(part, text);
}

/* ---- kinds ----------------------------------------------------------------------- */

static tw_status take_station(const json_t *o, twi_heard *out)
{
    out->kind = TWI_HEARD_STATION;
    (void)take_series(o, out);
    out->number = take_integer(o, "last_number", -1);
    if (json_is_true(json_object_get(o, "changeable")))
        (void)take_text(o, "settings", out->name, sizeof out->name);
    return take_text(o, "state", out->state, sizeof out->state) ? TW_OK : TW_ESYNTAX;
}

static bool take_angle(const json_t *o, const char *key, double most, int64_t *out)
{
    const json_t *value = json_object_get(o, key);
    const double degrees = json_number_value(value);
    if (!json_is_number(value) || !(degrees >= -most && degrees <= most))
        return false;
    *out = (int64_t)(degrees * 1e6 + (degrees < 0 ? -0.5 : 0.5));
    return true;
}

bool twi_heard_place(const void *camera, int64_t *latitude, int64_t *longitude)
{
    return take_angle(camera, "latitude", 90, latitude) &&
           take_angle(camera, "longitude", 180, longitude);
}

static tw_status take_camera(const json_t *o, twi_heard *out)
{
    out->kind = TWI_HEARD_CAMERA;
    out->placed = twi_heard_place(o, &out->latitude, &out->longitude);
    return take_text(o, "state", out->state, sizeof out->state) ? TW_OK : TW_ESYNTAX;
}

/* A record of what is over; what else is told of a sighting is for who looks now. */
static tw_status take_sighting(const json_t *o, twi_heard *out)
{
    char phase[16];
    out->kind = TWI_HEARD_SIGHTING;
    if (!is_of(o, "sighting"))
        return TW_ENOENT;
    if (!take_text(o, "phase", phase, sizeof phase) || strcmp(phase, "end") != 0)
        return TW_ENOENT;
    out->number = take_integer(o, "number", -1);
    out->phase = TWI_PHASE_OVER;
    out->start_us = take_time(o, "start");
    out->end_us = take_time(o, "end");
    out->peak_ppm = twi_heard_ppm(json_number_value(json_object_get(o, "peak")));
    out->count = take_integer(o, "count", 0);
    (void)take_text(o, "name", out->name, sizeof out->name);
    (void)take_text(o, "mark", out->mark, sizeof out->mark);
    return take_series(o, out) && out->number > 0 && out->start_us > 0 ? TW_OK
                                                                       : TW_ESYNTAX;
}

static tw_status take_gone(const json_t *o, twi_heard *out)
{
    out->kind = TWI_HEARD_GONE;
    out->phase = TWI_PHASE_GONE;
    out->number = take_integer(o, "number", -1);
    return take_series(o, out) && out->number > 0 ? TW_OK : TW_ESYNTAX;
}

static tw_status take_alarm(const json_t *o, twi_heard *out)
{
    (void)o;
    out->kind = TWI_HEARD_ALARM;
    return TW_OK;
}

static tw_status take_settings(const json_t *o, twi_heard *out)
{
    out->kind = TWI_HEARD_SETTINGS;
    return json_is_string(json_object_get(o, "text")) &&
                   take_text(o, "settings", out->name, sizeof out->name) && out->name[0]
               ? TW_OK
               : TW_ESYNTAX;
}

static tw_status take_answer(const json_t *o, twi_heard *out)
{
    const json_t *id = json_object_get(o, "id"), *taken = json_object_get(o, "taken");
    out->kind = TWI_HEARD_ANSWER;
    out->number = json_integer_value(id);
    (void)snprintf(out->state, sizeof out->state, "%s",
                   json_is_true(taken) ? "taken" : "refused");
    return json_is_integer(id) && out->number > 0 && json_is_boolean(taken) ? TW_OK
                                                                            : TW_ESYNTAX;
}

static tw_status take(const json_t *o, const char *word, twi_heard *out)
{
    const bool of_camera = out->camera[0] != '\0';
    if (strcmp(word, "state") == 0)
        return of_camera ? take_camera(o, out) : take_station(o, out);
    if (strcmp(word, "sighting") == 0 && of_camera)
        return take_sighting(o, out);
    if (strcmp(word, "gone") == 0 && !of_camera)
        return take_gone(o, out);
    if (strcmp(word, "alarm") == 0)
        return take_alarm(o, out);
    if (strcmp(word, "settings") == 0 && !of_camera)
        return take_settings(o, out);
    if (strcmp(word, "answer") == 0 && !of_camera)
        return take_answer(o, out);
    return TW_ENOENT;
}

/* As one line: as it came, unless there is white space of another kind in it. */
static char *line_of(const json_t *o, const char *payload, size_t bytes)
{
    for (size_t i = 0; i < bytes; i++)
        if ((unsigned char)payload[i] < ' ')
            return json_dumps(o, JSON_COMPACT);
    return strndup(payload, bytes);
}

tw_status twi_heard_read(const char *root, const char *topic, const void *payload,
                         size_t bytes, twi_heard *out)
{
    char word[TWI_HEARD_NAME];
    if (!root || !topic || !payload || !out)
        return TW_EINVAL;
    *out = (twi_heard){.number = -1};
    if (bytes > TWI_HEARD_BYTES_MAX)
        return TW_ESIZE;
    tw_status st = split(root, topic, out, word);
    if (st != TW_OK)
        return st;
    json_t *o = json_loadb(payload, bytes, JSON_REJECT_DUPLICATES, NULL);
    st = json_is_object(o) && is_name_of(o, "station", out->station) &&
                 (out->camera[0] == '\0' || is_name_of(o, "camera", out->camera))
             ? take(o, word, out)
             : TW_ESYNTAX;
    if (st == TW_OK) {
        out->time_us = take_time(o, "time");
        out->text = line_of(o, payload, bytes);
        st = out->text ? TW_OK : TW_ENOMEM;
    }
    json_decref(o);
    return st;
}

void twi_heard_clear(twi_heard *heard)
{
    free(heard->text);
    heard->text = NULL;
}
