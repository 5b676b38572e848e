/* tawny settings: every value, with where it comes from. */
#include <jansson.h>
#include <stdio.h>
#include <string.h>

#include "output.h"

static const char ABOUT[] =
    "Shows every setting of the station, of its cameras (or of those that are named) and "
    "of\n"
    "its destinations, each with its value and the file and line that set it. Without a\n"
    "settings file the built-in values are shown.";
static const char EXAMPLE[] = "Examples:\n"
                              "  tawny settings\n"
                              "  tawny settings --help-texts kerb\n"
                              "  tawny settings --reference > settings.md";

typedef struct showing {
    const char *camera; /* NULL: the station, or a destination */
    const char *destination;
    const char *group; /* of the last line */
    gboolean json, helps, changed_only;
} showing;

static void show_json(const showing *s, const tw_setting *setting)
{
    out_json(json_pack("{ss ss? ss? ss ss ss ss ss}", "type", "setting", "camera",
                       s->camera, "destination", s->destination, "key", setting->key,
                       "value", setting->value, "origin", setting->origin, "preset",
                       setting->preset, "help", setting->help));
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

static void show_destination(tw_settings *settings, const char *name, const showing *how)
{
    showing s = *how;
    s.destination = name;
    if (!s.json)
        (void)printf("\n[destination %s]\n", name);
    (void)tw_settings_walk_destination(settings, name, show, &s);
}

static int show_all(tw_settings *settings, int count, char **names, const showing *how)
{
    if (count == 0)
        (void)show_section(settings, NULL, how);
    for (size_t i = 0; count == 0 && tw_settings_camera_name(settings, i); i++)
        (void)show_section(settings, tw_settings_camera_name(settings, i), how);
    for (size_t i = 0; count == 0 && tw_settings_destination_name(settings, i); i++)
        show_destination(settings, tw_settings_destination_name(settings, i), how);
    for (int i = 0; i < count; i++)
        if (show_section(settings, names[i], how) != TW_OK)
            return cli_say(CLI_USAGE, "the settings have no camera %s", names[i]);
    return CLI_DONE;
}

int cli_settings(int argc, char **argv)
{
    CLI_COMMON common = {0};
    gboolean reference = FALSE, helps = FALSE, changed = FALSE;
    const GOptionEntry own[] = {
        {"reference", 0, 0, G_OPTION_ARG_NONE, &reference,
         "Print the reference of all settings (Markdown)", NULL},
        {"help-texts", 0, 0, G_OPTION_ARG_NONE, &helps,
         "With what each does, and its range", NULL},
        {"changed", 0, 0, G_OPTION_ARG_NONE, &changed, "Only what is not built-in", NULL},
        {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    int code = cli_parse(&argc, &argv, "[CAMERA…]", ABOUT, EXAMPLE, own, &common);
    if (code != CLI_DONE)
        return code;
    if (reference)
        return cli_exit(tw_settings_reference(stdout));
    tw_settings *settings = NULL;
    if (cli_load(&common, FALSE, &settings, NULL) != TW_OK)
        return CLI_USAGE;
    tw_status st = TW_OK;
    if (tw_settings_camera_count(settings) == 0) /* show what a camera would have */
        st = tw_settings_add_camera(settings, "camera", "", cli_told, NULL);
    else
        st = tw_settings_check(settings, cli_told, NULL);
    const showing how = {NULL, NULL, NULL, common.json, helps, changed};
    code = show_all(settings, argc - 1, argv + 1, &how);
    tw_settings_free(settings);
    return st == TW_OK ? code : CLI_USAGE;
}
