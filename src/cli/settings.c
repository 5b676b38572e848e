/* tawny settings: every value, with where it comes from. */
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "output.h"
#include "../core/hours.h"
#include "../settings/sections.h"
#include "tawny/settings.h"

static const char ABOUT[] =
    "Shows every setting of the station, of its cameras (or of those that are named) and "
    "of\n"
    "its destinations, each with its value and the file and line that set it. Without a\n"
    "settings file the built-in values are shown.";
static const char EXAMPLE[] = "Examples:\n"
                              "  tawny settings\n"
                              "  tawny settings --help-texts kerb\n"
                              "  tawny settings --write kerb.start_at=0.5%\n"
                              "  tawny settings --write 'kerb when dark.start_at=1%'\n"
                              "  tawny settings --reference > settings.md";

typedef struct showing {
    const char *camera; /* NULL: the station, a destination or a sensor */
    const char *destination;
    const char *sensor;
    const char *when;  /* section of what holds at times; NULL: it is none */
    const char *group; /* of the last line */
    gboolean json, helps, changed_only;
} showing;

static void show_json(const showing *s, const tw_setting *setting)
{
    out_json(json_pack("{ss ss? ss? ss? ss? ss ss ss ss ss}", "type", "setting", "camera",
                       s->camera, "section", s->when, "destination", s->destination,
                       "sensor", s->sensor, "key", setting->key, "value", setting->value,
                       "origin", setting->origin, "preset", setting->preset, "help",
                       setting->help));
}

static void show(void *ctx, const tw_setting *setting)
{
    showing *s = ctx;
    if (s->changed_only && strcmp(setting->origin, "built-in") == 0)
        return;
    if (s->json) {
        show_json(s, setting);
        return;
    }
    if (!s->group || strcmp(s->group, setting->group) != 0) {
        s->group = setting->group;
        (void)printf("# %s\n", setting->group);
    }
    (void)printf("%-18s= %-24s # %s\n", setting->key, setting->value, setting->origin);
    if (s->helps)
        (void)printf("    %s\n    Value: %s.\n", setting->help, setting->range);
}

static tw_status show_section(tw_settings *settings, const char *camera,
                              const showing *how)
{
    showing s = *how;
    s.camera = camera;
    if (!s.json)
        (void)printf(camera ? "\n[camera %s]\n" : "[station]\n", camera);
    return tw_settings_walk(settings, camera, show, &s);
}

/* Whether what holds at times does now, as far as a clock can tell. */
static const char *word_now(tw_settings *settings, const char *name)
{
    g_autofree char *camera = g_strndup(name, strcspn(name, " "));
    const char *when = strstr(name, "when ");
    twi_camera_settings of = {.latitude = TWI_NOWHERE, .longitude = TWI_NOWHERE};
    twi_condition c;
    if (!when || !twi_condition_read(when + strlen("when "), &c))
        return "";
    (void)twi_settings_camera(settings, camera, &of);
    const bool known = of.latitude != TWI_NOWHERE && of.longitude != TWI_NOWHERE;
    const bool by_sun =
        c.kind != TWI_CONDITION_HOURS && known && of.dark_by == TWI_DARK_FROM_SUN;
    if (by_sun)
        (void)twi_hours_parse("dusk-dawn", &c.hours, NULL);
    else if (c.kind != TWI_CONDITION_HOURS)
        return "tawny status says whether it holds";
    const tw_clock clock = tw_linux_clock();
    const int64_t wall_us = clock.ops->wall_us(clock.ctx);
    const twi_hours_place place = {of.latitude, of.longitude, known};
    const bool within = twi_hours_within(&c.hours, wall_us,
                                         clock.ops->offset_s(clock.ctx, wall_us), &place);
    return within != (c.kind == TWI_CONDITION_LIGHT) ? "it holds now"
                                                     : "it does not hold now";
}

static void show_set(void *ctx, const tw_setting *setting)
{
    if (strcmp(setting->origin, TWI_NOT_SET) != 0)
        show(ctx, setting);
}

static void show_condition(tw_settings *settings, const char *name, gboolean of_all,
                           const showing *how)
{
    showing s = *how;
    s.when = name;
    if (!s.json)
        (void)printf("\n[camera%s %s]  # %s\n", of_all ? "s" : "", name,
                     word_now(settings, name));
    (void)twi_settings_walk_condition(settings, name, show_set, &s);
}

/* What holds at times: for all cameras, or for one. @param camera  NULL: for all. */
static void show_conditions(tw_settings *settings, const char *camera, const showing *how)
{
    const char *name = NULL;
    for (size_t i = 0; (name = twi_settings_condition_section(settings, camera, i)); i++)
        show_condition(settings, name, camera == NULL, how);
}

static void show_destination(tw_settings *settings, const char *name, const showing *how)
{
    showing s = *how;
    s.destination = name;
    if (!s.json)
        (void)printf("\n[destination %s]\n", name);
    (void)twi_settings_walk_destination(settings, name, show, &s);
}

static void show_sensor(tw_settings *settings, const char *name, const showing *how)
{
    showing s = *how;
    s.sensor = name;
    if (!s.json)
        (void)printf("\n[sensor %s]\n", name);
    (void)twi_settings_walk_sensor(settings, name, show, &s);
}

/* @return whether there is such a camera. */
static gboolean show_camera(tw_settings *settings, const char *name, const showing *how)
{
    const gboolean found = show_section(settings, name, how) == TW_OK;
    if (found)
        show_conditions(settings, name, how);
    return found;
}

static int show_all(tw_settings *settings, int count, char **names, const showing *how)
{
    if (count == 0)
        (void)show_section(settings, NULL, how);
    if (count == 0)
        show_conditions(settings, NULL, how);
    for (size_t i = 0; count == 0 && tw_settings_camera_name(settings, i); i++)
        show_camera(settings, tw_settings_camera_name(settings, i), how);
    for (size_t i = 0; count == 0 && twi_settings_destination_name(settings, i); i++)
        show_destination(settings, twi_settings_destination_name(settings, i), how);
    for (size_t i = 0; count == 0 && twi_settings_sensor_name(settings, i); i++)
        show_sensor(settings, twi_settings_sensor_name(settings, i), how);
    for (int i = 0; i < count; i++)
        if (!show_camera(settings, names[i], how))
            return cli_say(CLI_USAGE, "the settings have no camera %s", names[i]);
    return CLI_DONE;
}

/* ---- changing -------------------------------------------------------------------- */

static void print_line(void *ctx, const char *file, unsigned line, const char *before,
                       const char *after)
{
    (void)ctx;
    if (before)
        (void)printf("- %s:%u: %s\n", file, line, before);
    if (after)
        (void)printf("+ %s:%u: %s\n", file, line, after);
}

/* "kerb.start_at=1 %", "station.name=hollin", "fps=5" for all cameras. */
static tw_status change(twi_draft *draft, const char *text, tw_error *err)
{
    const char *equals = strchr(text, '=');
    if (!equals)
        return tw_fail(err, TW_EINVAL, "%s: write CAMERA.KEY=VALUE", text);
    g_autofree char *left = g_strstrip(g_strndup(text, (gsize)(equals - text)));
    g_autofree char *value = g_strstrip(g_strdup(equals + 1));
    char *dot = strchr(left, '.');
    if (dot)
        *dot = '\0';
    const gboolean station = dot && strcmp(left, "station") == 0;
    const gboolean of_all = !dot || g_str_has_prefix(left, "when ");
    const twi_draft_change c = {.head = of_all    ? "cameras"
                                        : station ? "station"
                                                  : "camera",
                                .name = dot && !station ? left : "",
                                .key = dot ? dot + 1 : left,
                                .value = value};
    return twi_draft_change_one(draft, &c, err);
}

static int write_changes(twi_draft *draft, char **writes)
{
    tw_error err = {0};
    tw_status st = TW_OK;
    for (char **w = writes; *w && st == TW_OK; w++)
        st = change(draft, *w, &err);
    if (st == TW_OK)
        st = twi_draft_check(draft, cli_told, NULL, NULL);
    if (st == TW_OK) {
        (void)twi_draft_lines(draft, print_line, NULL);
        st = twi_draft_write(draft, &err);
    }
    if (st == TW_OK)
        return CLI_DONE;
    return cli_say(CLI_FAILED, "%s%snothing was written", err.text,
                   err.text[0] ? ": " : "");
}

static int print_whole(const twi_draft *draft)
{
    size_t bytes = 0;
    char *text = twi_draft_whole(draft, &bytes);
    if (!text)
        return cli_say(CLI_FAILED, "out of memory");
    (void)fwrite(text, 1, bytes, stdout);
    free(text);
    return CLI_DONE;
}

static int change_file(const cli_common *common, char **writes, gboolean whole)
{
    g_autofree char *path = cli_settings_file(common);
    twi_draft *draft = NULL;
    tw_error err = {0};
    if (!path || twi_draft_open(path, &draft, &err) != TW_OK)
        return cli_say(CLI_USAGE, "%s", path ? err.text : "there is no settings file");
    int code = writes ? write_changes(draft, writes) : CLI_DONE;
    if (code == CLI_DONE && whole)
        code = print_whole(draft);
    twi_draft_free(draft);
    return code;
}

int cli_settings(int argc, char **argv)
{
    CLI_COMMON common = {0};
    gboolean reference = FALSE, helps = FALSE, changed = FALSE, whole = FALSE;
    g_auto(GStrv) writes = NULL;
    const GOptionEntry own[] = {
        {"reference", 0, 0, G_OPTION_ARG_NONE, &reference,
         "Print the reference of all settings (Markdown)", NULL},
        {"help-texts", 0, 0, G_OPTION_ARG_NONE, &helps,
         "With what each does, and its range", NULL},
        {"changed", 0, 0, G_OPTION_ARG_NONE, &changed, "Only what is not built-in", NULL},
        {"write", 'w', 0, G_OPTION_ARG_STRING_ARRAY, &writes,
         "Write a value into the file, which is kept as FILE.old; may be repeated",
         "[CAMERA.]KEY=VALUE"},
        {"whole", 0, 0, G_OPTION_ARG_NONE, &whole,
         "Print the file with all that it includes, as one", NULL},
        {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    int code = cli_parse(&argc, &argv, "[CAMERA…]", ABOUT, EXAMPLE, own, &common);
    if (code != CLI_DONE)
        return code;
    if (reference)
        return cli_exit(twi_settings_reference(stdout));
    if (writes || whole)
        return change_file(&common, writes, whole);
    tw_settings *settings = NULL;
    if (cli_load(&common, FALSE, &settings, NULL) != TW_OK)
        return CLI_USAGE;
    tw_status st = TW_OK;
    if (tw_settings_camera_count(settings) == 0) /* show what a camera would have */
        st = tw_settings_add_camera(settings, "camera", "", cli_told, NULL);
    else
        st = tw_settings_check(settings, cli_told, NULL);
    const showing how = {.json = common.json, .helps = helps, .changed_only = changed};
    code = show_all(settings, argc - 1, argv + 1, &how);
    tw_settings_free(settings);
    return st == TW_OK ? code : CLI_USAGE;
}
