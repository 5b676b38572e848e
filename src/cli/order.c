/* tawny arm, disarm, trigger, snap: what a running station is told to do. */
#include <stdio.h>
#include <string.h>

#include "../json/json.h"
#include "control.h"
#include "../settings/sections.h"
#include "tawny/settings.h"

/* One of these commands. */
typedef struct order {
    const char *about, *example;
    gboolean takes_time; /* --for */
} order;

static const order ARM = {
    "Arms a camera of the running station, or all of them, whatever its hours and its\n"
    "armed setting say: from now on motion begins sightings. With --as-set the settings\n"
    "hold again.",
    "Examples:\n"
    "  tawny arm\n"
    "  tawny arm kerb --for 2h\n"
    "  tawny arm --as-set",
    TRUE};
static const order DISARM = {"Disarms a camera of the running station, or all of them: "
                             "motion begins no sighting. A\n"
                             "running sighting goes on to its end.",
                             "Examples:\n"
                             "  tawny disarm\n"
                             "  tawny disarm kerb --for 30min",
                             TRUE};
static const order TRIGGER = {
    "Begins a sighting of a camera, or of all of them, whatever moves and also while\n"
    "disarmed: with its pre-event footage, and for as long as something moves after.",
    "Examples:\n"
    "  tawny trigger kerb",
    FALSE};
static const order SNAP = {"Stores a still of a camera, or of all of them, now.",
                           "Examples:\n"
                           "  tawny snap kerb",
                           FALSE};

typedef struct ordering {
    cli_common common;
    char *how_long;
    gboolean as_set;
    const char *what, *camera; /* NULL: all */
} ordering;

/* "kerb: disarmed for 2h" */
static void say_done(const ordering *o)
{
    static const struct {
        const char *what, *word;
    } words[] = {{"arm", "armed"},
                 {"disarm", "disarmed"},
                 {"trigger", "a sighting begins with the next frame"},
                 {"snap", "a still is stored with the next frame"}};
    const char *word = "";
    for (size_t i = 0; i < sizeof words / sizeof *words; i++)
        if (strcmp(words[i].what, o->what) == 0)
            word = words[i].word;
    (void)printf("%s: %s%s%s\n", o->camera ? o->camera : "all cameras",
                 o->as_set ? "armed as the settings say" : word,
                 o->how_long && !o->as_set ? " for " : "",
                 o->how_long && !o->as_set ? o->how_long : "");
}

static int say_answer(const char *answer, const ordering *o)
{
    json_t *a = json_loads(answer, JSON_DISABLE_EOF_CHECK, NULL);
    const char *type = json_string_value(json_object_get(a, "type"));
    int code = CLI_DONE;
    if (!type || strcmp(type, "done") != 0) {
        const char *text = json_string_value(json_object_get(a, "text"));
        code = cli_say(CLI_FAILED, "%s", text ? text : "the station did not answer");
    } else if (o->common.json) {
        (void)fputs(answer, stdout);
    } else {
        say_done(o);
    }
    json_decref(a);
    return code;
}

static int tell_station(const ordering *o, const char *what, const char *camera)
{
    tw_settings *settings = NULL;
    twi_station_settings station;
    int64_t for_us = 0;
    int code = cli_read_time("--for", o->how_long, &for_us);
    if (code != CLI_DONE)
        return code;
    if (cli_load_readable(&o->common, &settings) != TW_OK)
        return CLI_USAGE;
    twi_settings_station(settings, &station);
    json_t *request = json_pack("{ss ss* sf}", "do", o->as_set ? "as-set" : what,
                                "camera", camera, "for_s", (double)for_us / 1e6);
    char *line = twi_json_text(request);
    g_autofree char *answer = control_ask(station.name, line);
    if (answer)
        code = say_answer(answer, o);
    else
        code = cli_say(CLI_FAILED, CONTROL_NONE, station.name);
    free(line);
    tw_settings_free(settings);
    return code;
}

static int run(int argc, char **argv, const char *what, const order *which)
{
    ordering o = {.as_set = FALSE};
    const GOptionEntry timed[] = {
        {"for", 0, 0, G_OPTION_ARG_STRING, &o.how_long,
         "Only for so long, then the settings hold again", "TIME"},
        {"as-set", 0, 0, G_OPTION_ARG_NONE, &o.as_set, "The settings hold again", NULL},
        {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    int code = cli_parse(&argc, &argv, "[CAMERA]", which->about, which->example,
                         which->takes_time ? timed : NULL, &o.common);
    if (code == CLI_DONE && argc > 2)
        code = cli_say(CLI_USAGE, "%s is not expected: one camera, or none for all",
                       argv[2]);
    o.what = what;
    o.camera = argc > 1 ? argv[1] : NULL;
    if (code == CLI_DONE)
        code = tell_station(&o, what, argc > 1 ? argv[1] : NULL);
    cli_clear(&o.common);
    g_free(o.how_long);
    return code;
}

int cli_arm(int argc, char **argv)
{
    return run(argc, argv, "arm", &ARM);
}

int cli_disarm(int argc, char **argv)
{
    return run(argc, argv, "disarm", &DISARM);
}

int cli_trigger(int argc, char **argv)
{
    return run(argc, argv, "trigger", &TRIGGER);
}

int cli_snap(int argc, char **argv)
{
    return run(argc, argv, "snap", &SNAP);
}
