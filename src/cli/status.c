/* tawny status: how the running station fares. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "../json/json.h"
#include "control.h"
#include "output.h"
#include "store.h"
#include "../core/naming.h"
#include "../settings/sections.h"
#include "../station/sense.h"
#include "tawny/settings.h"

static const char ABOUT[] =
    "Asks the station that runs with these settings how it fares: for each camera its\n"
    "state, its activity, its sightings, what was stored and what was lost; its frames\n"
    "and where some went, the share of a processor that its thread takes, the memory of\n"
    "its pre-event footage, how bright the place is and how much the picture flickers;\n"
    "then sensors, and the store.";
static const char EXAMPLE[] = "Examples:\n"
                              "  tawny status\n"
                              "  tawny status --settings station.ini --json";

typedef struct telling {
    tw_clock clock;
    gboolean headed;
} telling;

static json_int_t number(const json_t *o, const char *key)
{
    return json_integer_value(json_object_get(o, key));
}

/* Wall time. @return 0: it is not known. */
static int64_t time_at(const json_t *o, const char *key)
{
    const char *text = json_string_value(json_object_get(o, key));
    g_autoptr(GDateTime) t = text ? g_date_time_new_from_iso8601(text, NULL) : NULL;
    return t ? g_date_time_to_unix(t) * G_USEC_PER_SEC + g_date_time_get_microsecond(t)
             : 0;
}

static void say_last(const telling *t, int64_t wall_us, char out[32])
{
    twi_civil c;
    twi_civil_split(wall_us, t->clock.ops->offset_s(t->clock.ctx, wall_us), &c);
    if (wall_us == 0)
        (void)snprintf(out, 32, "none yet");
    else
        (void)snprintf(out, 32, "%04d-%02u-%02u %02u:%02u:%02u", c.year, c.month, c.day,
                       c.hour, c.minute, c.second);
}

static void say_lost(const telling *t, const json_t *o)
{
    char since[32], next[32];
    say_last(t, time_at(o, "lost"), since);
    say_last(t, time_at(o, "next_try"), next);
    (void)printf("  lost since %s, next try at %s: %s\n", since, next + 11,
                 json_string_value(json_object_get(o, "lost_why")));
}

static double real(const json_t *o, const char *key)
{
    return json_number_value(json_object_get(o, key));
}

/* "1.2 s ago" of something that was there at a wall time. */
static void say_ago(const telling *t, int64_t wall_us, char out[32])
{
    const int64_t us = t->clock.ops->wall_us(t->clock.ctx) - wall_us;
    const double s = us > 0 ? (double)us / 1e6 : 0;
    (void)snprintf(out, 32, s < 120 ? "%.1f s ago" : "%.0f s ago", s);
}

/* "9.9 of 10"; the rate is known after five seconds. */
static void say_rate(const json_t *o)
{
    const double wanted = real(o, "wanted_fps"), now = real(o, "fps");
    if (now > 0)
        (void)printf(", %.1f", now);
    else
        (void)printf(", not yet known");
    if (wanted > 0)
        (void)printf(" of %.3g", wanted);
    (void)printf(" frames a second");
}

/* How it fares: the frames, what they cost, and what the place looks like. */
static void say_health(const telling *t, const json_t *o)
{
    char ago[32], size[24], lost[160];
    if (time_at(o, "frame") == 0)
        return;
    say_ago(t, time_at(o, "frame"), ago);
    (void)printf("  %s %d x %d", json_string_value(json_object_get(o, "format")),
                 (int)number(o, "width"), (int)number(o, "height"));
    say_rate(o);
    (void)printf(", the last %s; %.1f %% of a processor, %s kept%s;\n", ago,
                 real(o, "busy"), out_bytes((uint64_t)number(o, "kept_bytes"), size),
                 json_is_true(json_object_get(o, "kept_raw")) ? " raw" : "");
    (void)printf("  light %.0f %%", real(o, "light"));
    if (json_object_get(o, "dark"))
        (void)printf(" (%s)",
                     json_is_true(json_object_get(o, "dark")) ? "dark" : "not dark");
    (void)printf(", noise %.1f levels", real(o, "noise"));
    if (json_object_get(o, "sound"))
        (void)printf(", sound %.0f dB", real(o, "sound"));
    (void)printf("; %s\n",
                 out_lost((uint64_t)number(o, "dropped"), (uint64_t)number(o, "damaged"),
                          (uint64_t)number(o, "lost_frames"), lost));
}

/* What it has set for the light or the hour that it is. */
static void say_holds(const json_t *o)
{
    const char *holds = json_string_value(json_object_get(o, "holds"));
    if (holds)
        (void)printf("  its settings for %s hold\n", holds);
}

/* What decides that, where it is not simply armed. */
static void say_arming(const telling *t, const json_t *o)
{
    const char *arming = json_string_value(json_object_get(o, "arming"));
    char until[32];
    if (!arming || strcmp(arming, "armed") == 0)
        return;
    const int64_t until_us = time_at(o, "arming_until");
    say_last(t, until_us, until);
    (void)printf("  %s%s%s\n", arming, until_us > 0 ? ", until " : "",
                 until_us > 0 ? until : "");
}

static void say_camera(telling *t, const json_t *o)
{
    char last[32], level[24], size[24];
    const double activity = json_real_value(json_object_get(o, "activity"));
    if (!t->headed)
        (void)printf("%-16s %-9s %8s %9s  %-19s  %s\n", "camera", "state", "activity",
                     "sightings", "the last", "stored");
    t->headed = TRUE;
    say_last(t, time_at(o, "last"), last);
    (void)printf("%-16s %-9s %8s %9d  %-19s  %d (%s)",
                 json_string_value(json_object_get(o, "camera")),
                 json_string_value(json_object_get(o, "state")),
                 out_percent((uint32_t)(activity * 1e4), level),
                 (int)number(o, "sightings"), last, (int)number(o, "stored"),
                 out_bytes((uint64_t)number(o, "stored_bytes"), size));
    if (number(o, "not_stored") > 0)
        (void)printf(", %d NOT STORED", (int)number(o, "not_stored"));
    if (number(o, "problems") > 0)
        (void)printf(", %d problem%s", (int)number(o, "problems"),
                     out_s((unsigned)number(o, "problems")));
    (void)printf("\n");
    if (time_at(o, "lost") > 0)
        say_lost(t, o);
    else if (json_is_true(json_object_get(o, "open"))) {
        say_arming(t, o);
        say_holds(o);
        say_health(t, o);
    }
}

static void say_sensor(const telling *t, const json_t *o)
{
    char ago[32], words[64];
    const char *name = json_string_value(json_object_get(o, "sensor")),
               *unit = json_string_value(json_object_get(o, "unit")),
               *why = json_string_value(json_object_get(o, "why"));
    say_ago(t, time_at(o, "at"), ago);
    if (why)
        (void)printf("Sensor %s gives NO number: %s\n", name, why);
    else if (time_at(o, "at") == 0)
        (void)printf("Sensor %s was not read yet.\n", name);
    else
        (void)printf(
            "Sensor %s: %s%s, %s.\n", name,
            twi_sensor_words((int64_t)llround(real(o, "value") * 1e6), unit ? unit : "",
                             words),
            json_is_true(json_object_get(o, "beyond")) ? ", BEYOND its limits" : "", ago);
}

static void say_store(const json_t *o)
{
    char waiting[24];
    if (!json_is_true(json_object_get(o, "card"))) {
        (void)printf("The card does NOT answer.\n");
        return;
    }
    (void)printf("The card has %.1f of %.1f GB free; %s wait to be written.%s",
                 (double)number(o, "free_bytes") / 1e9,
                 (double)number(o, "total_bytes") / 1e9,
                 out_bytes((uint64_t)number(o, "waiting_bytes"), waiting),
                 json_is_true(json_object_get(o, "catalogue"))
                     ? ""
                     : " The catalogue can NOT be written.");
    if (number(o, "dropped") > 0)
        (void)printf(" Room was made %d times.", (int)number(o, "dropped"));
    (void)printf("\n");
}

static void say(telling *t, const char *answer)
{
    g_auto(GStrv) lines = g_strsplit(answer, "\n", 0);
    for (char **line = lines; *line; line++) {
        json_t *o = json_loads(*line, 0, NULL);
        const char *type = json_string_value(json_object_get(o, "type"));
        if (type && strcmp(type, "camera") == 0)
            say_camera(t, o);
        else if (type && strcmp(type, "sensor") == 0)
            say_sensor(t, o);
        else if (type && strcmp(type, "store") == 0)
            say_store(o);
        json_decref(o);
    }
}

/* What asks for somebody, where it is looked first. */
static void say_stopped(void *ctx, const char *destination, const twi_outbox_fill *f)
{
    const telling *t = ctx;
    char since[32];
    say_last(t, f->stopped_us, since);
    (void)printf("NOTHING IS SENT to %s since %s, %u waiting: %s\n", destination, since,
                 (unsigned)f->waiting, f->why);
}

static void say_stopped_json(void *ctx, const char *destination, const twi_outbox_fill *f)
{
    (void)ctx;
    json_t *o = twi_json_stopped(destination, f->stopped_us, f->why);
    (void)json_object_set_new(o, "waiting", json_integer(f->waiting));
    out_json(o);
}

int cli_status(int argc, char **argv)
{
    CLI_COMMON common = {0};
    tw_settings *settings = NULL;
    twi_station_settings station;
    telling t = {tw_linux_clock(), FALSE};
    int code = cli_parse(&argc, &argv, NULL, ABOUT, EXAMPLE, NULL, &common);
    if (code == CLI_DONE && argc > 1)
        code = cli_say(CLI_USAGE, "%s is not expected", argv[1]);
    if (code != CLI_DONE)
        return code;
    if (cli_load_readable(&common, &settings) != TW_OK)
        return CLI_USAGE;
    twi_settings_station(settings, &station);
    g_autofree char *answer = control_ask(station.name, "{\"do\":\"status\"}");
    if (!answer)
        code = cli_say(CLI_FAILED, CONTROL_NONE, station.name);
    else if (common.json)
        (void)fputs(answer, stdout);
    else
        say(&t, answer);
    store_stopped(station.store, common.json ? say_stopped_json : say_stopped, &t);
    tw_settings_free(settings);
    return code;
}
