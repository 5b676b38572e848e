/* What the commands share. */
#include "common.h"

#include <signal.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <termios.h>

#include "notify.h"
#include "../settings/sections.h"
#include "tawny/port.h"
#include "tawny/settings.h"

char *cli_plain(char *text)
{
    for (char *c = text; *c; c++)
        if ((unsigned char)*c < ' ' || *c == 0x7F)
            *c = '?';
    return text;
}

int cli_say(int code, const char *format, ...)
{
    va_list args;
    va_start(args, format);
    char *text = cli_plain(g_strdup_vprintf(format, args));
    va_end(args);
    (void)fprintf(stderr, "%stawny: %s\n", notify_level(stderr, NOTIFY_ERROR), text);
    g_free(text);
    return code;
}

void cli_told(void *ctx, const char *line)
{
    (void)ctx;
    g_autofree char *plain = cli_plain(g_strdup(line));
    (void)fprintf(stderr, "%s%s\n", notify_level(stderr, NOTIFY_ERROR), plain);
}

void cli_clear(cli_common *common)
{
    g_clear_pointer(&common->settings_path, g_free);
    g_clear_pointer(&common->sets, g_strfreev);
}

static const char *called_as = "tawny";

void cli_called_as(const char *argv0)
{
    called_as = argv0;
}

const char *cli_tool(void)
{
    return called_as;
}

int cli_exit(tw_status st)
{
    switch ((enum tw_status_values)st) {
    case TW_OK: return CLI_DONE;
    case TW_EINVAL:
    case TW_ESYNTAX: return CLI_USAGE;
    default: return CLI_FAILED;
    }
}

int cli_parse(int *argc, char ***argv, const char *args, const char *about,
              const char *example, const GOptionEntry *own, cli_common *common)
{
    GError *error = NULL;
    cli_common unused;
    cli_common *to = common ? common : &unused;
    memset(to, 0, sizeof *to);
    const GOptionEntry shared[] = {
        {"settings", 's', 0, G_OPTION_ARG_FILENAME, &to->settings_path,
         "Settings file (else ./station.ini, then the user's, then the system's)",
         "FILE"},
        {"set", 0, 0, G_OPTION_ARG_STRING_ARRAY, &to->sets,
         "Set a value over the file's; may be repeated", "[CAMERA.]KEY=VALUE"},
        {"json", 0, 0, G_OPTION_ARG_NONE, &to->json, "One JSON object a line", NULL},
        {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    char *name = g_strdup_printf("tawny %s", (*argv)[0]);
    g_set_prgname(name);
    GOptionContext *context = g_option_context_new(args);
    g_option_context_set_summary(context, about);
    g_option_context_set_description(context, example);
    if (own)
        g_option_context_add_main_entries(context, own, NULL);
    if (common)
        g_option_context_add_main_entries(context, shared, NULL);
    int code = CLI_DONE;
    if (!g_option_context_parse(context, argc, argv, &error)) {
        code = cli_say(CLI_USAGE, "%s (see %s --help)", error->message, name);
        g_error_free(error);
    }
    g_option_context_free(context);
    g_free(name);
    return code;
}

/* The first settings file of the usual places, NULL: none. */
static char *usual_settings(void)
{
    char *places[] = {
        g_strdup("station.ini"),
        g_build_filename(g_get_user_config_dir(), "tawny", "station.ini", NULL),
        g_strdup("/etc/tawny/station.ini")};
    char *found = NULL;
    for (size_t i = 0; i < G_N_ELEMENTS(places); i++) {
        if (!found && g_file_test(places[i], G_FILE_TEST_EXISTS))
            found = places[i];
        else
            g_free(places[i]);
    }
    return found;
}

char *cli_settings_file(const cli_common *common)
{
    return common->settings_path ? g_strdup(common->settings_path) : usual_settings();
}

static tw_status apply_sets(const cli_common *common, tw_settings *settings)
{
    tw_status st = TW_OK;
    for (char **set = common->sets; set && *set; set++) {
        const tw_status one = tw_settings_set(settings, *set, cli_told, NULL);
        st = st == TW_OK ? one : st;
    }
    return st;
}

char *cli_source_of(const char *arg)
{
    static const char *const schemes[] = {"sim:",     "v4l2:",   "file:",
                                          "inbox:",   "stdin:",  "rtsp://",
                                          "rtsps://", "http://", "https://"};
    for (gsize i = 0; i < G_N_ELEMENTS(schemes); i++)
        if (g_str_has_prefix(arg, schemes[i]))
            return g_strdup(arg);
    return g_strdup_printf("file:%s", arg);
}

/* Name of a camera for a source: "yard" for "file:/tmp/yard.mp4". */
static char *name_for(const char *source)
{
    const char *colon = strchr(source, ':');
    char *base = g_path_get_basename(colon ? colon + 1 : source);
    char *dot = strrchr(base, '.');
    if (dot && dot != base)
        *dot = '\0';
    (void)g_strcanon(
        base, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_", '_');
    if (strlen(base) > 32)
        base[32] = '\0';
    if (strcmp(base, "station") == 0)
        base[0] = 'S';
    return base;
}

/* Each source is a camera of its own, named after it. */
static tw_status add_sources(char **sources, tw_settings *settings)
{
    tw_status st = TW_OK;
    for (char **source = sources; *source && st == TW_OK; source++) {
        g_autofree char *base = name_for(*source);
        g_autofree char *name = g_strdup(base);
        twi_camera_settings taken;
        for (int i = 2; twi_settings_camera(settings, name, &taken) == TW_OK; i++) {
            g_free(name);
            name = g_strdup_printf("%.28s-%d", base, i);
        }
        g_autofree char *whole = cli_source_of(*source);
        st = tw_settings_add_camera(settings, name, whole, cli_told, NULL);
    }
    return st;
}

/* Read the file of a command, then every --set. *settings may be NULL after it. */
static tw_status load(const cli_common *common, gboolean needed, tw_settings **settings,
                      char **path)
{
    *settings = tw_settings_new();
    *path = common->sources ? NULL : cli_settings_file(common);
    if (!*settings)
        return TW_ENOMEM;
    tw_status st = TW_OK;
    if (common->sources) {
        st = add_sources(common->sources, *settings);
    } else if (*path) {
        st = tw_settings_read(*settings, *path, cli_told, NULL);
    } else if (needed) {
        st = TW_ENOENT;
        (void)cli_say(CLI_USAGE,
                      "there is no settings file: tawny init writes station.ini; or name "
                      "one with --settings FILE");
    }
    const tw_status sets =
        st == TW_OK || st == TW_ESYNTAX ? apply_sets(common, *settings) : TW_OK;
    return st == TW_OK ? sets : st;
}

tw_status cli_load(const cli_common *common, gboolean needed, tw_settings **out,
                   char **path_out)
{
    tw_settings *settings = NULL;
    char *path = NULL;
    const tw_status st = load(common, needed, &settings, &path);
    if (st == TW_OK)
        *out = settings;
    else
        tw_settings_free(settings);
    if (path_out && st == TW_OK)
        *path_out = path;
    else
        g_free(path);
    /* a file that cannot be read is wrong usage as well */
    return st == TW_OK ? TW_OK : TW_ESYNTAX;
}

tw_status cli_load_readable(const cli_common *common, tw_settings **out)
{
    tw_settings *settings = NULL;
    g_autofree char *path = NULL;
    cli_common without_sets = *common;
    without_sets.sets = NULL;
    tw_status st = load(&without_sets, FALSE, &settings, &path);
    if (st == TW_ESYNTAX) /* that has been told, and is the station's to heed */
        st = TW_OK;
    if (st == TW_OK)
        st = apply_sets(common, settings);
    if (st == TW_OK)
        *out = settings;
    else
        tw_settings_free(settings);
    return st == TW_OK ? TW_OK : TW_ESYNTAX;
}

tw_status cli_load_sound(const cli_common *common, tw_settings **out, char **path_out)
{
    tw_settings *settings = NULL;
    g_autofree char *path = NULL;
    tw_status st = load(common, TRUE, &settings, &path);
    const gboolean read = st == TW_OK || st == TW_ESYNTAX;
    if (read)
        (void)tw_settings_check(settings, cli_told, NULL);
    if (read && twi_settings_sound(settings, NULL)) {
        *out = settings;
        if (path_out)
            *path_out = g_steal_pointer(&path);
        return TW_OK;
    }
    tw_settings_free(settings);
    return TW_ESYNTAX;
}

static tw_status find_camera(const cli_common *common, const char *name,
                             const char *source, tw_settings *settings,
                             twi_camera_settings *camera)
{
    tw_status st = TW_OK;
    if (source)
        st = tw_settings_add_camera(settings, name, source, cli_told, NULL);
    if (st == TW_OK)
        st = apply_sets(common, settings);
    if (st == TW_OK)
        st = tw_settings_check(settings, cli_told, NULL);
    return st == TW_OK ? twi_settings_camera(settings, name, camera) : st;
}

tw_status cli_camera(const cli_common *common, const char *name, const char *source,
                     tw_settings **out, twi_camera_settings *camera)
{
    cli_common without_sets = *common; /* they may name a camera that is still to come */
    without_sets.sets = NULL;
    g_autofree char *own_name = name ? g_strdup(name) : name_for(source);
    tw_settings *settings = NULL;
    tw_status st = TW_OK;
    if (name || common->settings_path)
        st = cli_load(&without_sets, TRUE, &settings, NULL);
    else
        st = (settings = tw_settings_new()) ? TW_OK : TW_ENOMEM;
    if (st == TW_OK && name && twi_settings_camera(settings, name, camera) != TW_OK) {
        st = TW_ENOENT;
        (void)cli_say(CLI_USAGE, "the settings have no camera %s", name);
    }
    if (st == TW_OK)
        st = find_camera(common, own_name, source, settings, camera);
    if (st == TW_OK)
        *out = settings;
    else
        tw_settings_free(settings);
    return st == TW_OK ? TW_OK : TW_ESYNTAX;
}

int cli_read_time(const char *option, const char *text, int64_t *us)
{
    static const struct {
        const char *name;
        gint64 s;
    } units[] = {{"d", 86400}, {"h", 3600}, {"min", 60}, {"s", 1}};
    *us = 0;
    for (const char *at = text; at && *at;) {
        char *end = NULL;
        const gint64 number = g_ascii_strtoll(at, &end, 10);
        gsize u = 0;
        while (*end == ' ')
            end++;
        while (u < G_N_ELEMENTS(units) && !g_str_has_prefix(end, units[u].name))
            u++;
        if (end == at || number < 0 || number > 100000 || u == G_N_ELEMENTS(units))
            return cli_say(CLI_USAGE, "%s %s: expected a time such as 2h or 30min",
                           option, text);
        *us += number * units[u].s * G_USEC_PER_SEC;
        at = end + strlen(units[u].name);
        while (*at == ' ')
            at++;
    }
    return CLI_DONE;
}

int cli_by_number(const void *a, const void *b)
{
    const int64_t x = *(const int64_t *)a, y = *(const int64_t *)b;
    return (x > y) - (x < y);
}

tw_platform cli_platform(void)
{
    static const tw_camera_make_fn makers[] = {tw_linux_camera_make, tw_sim_camera_make,
                                               NULL};
    return (tw_platform){.makers = makers, .clock = tw_linux_clock()};
}

/* Signal handlers can reach nothing but what is static. */
static volatile int caught;
static void (*on_signal)(void);

static void handle(int number)
{
    (void)number;
    caught = 1;
    if (on_signal)
        on_signal();
}

const volatile int *cli_catch_signals(void (*also)(void))
{
    struct sigaction action;
    memset(&action, 0, sizeof action);
    action.sa_handler = handle;
    action.sa_flags = SA_RESTART;
    (void)sigemptyset(&action.sa_mask);
    on_signal = also;
    (void)sigaction(SIGINT, &action, NULL);
    (void)sigaction(SIGTERM, &action, NULL);
    return &caught;
}

gboolean cli_password(const char *prompt, char out[TWI_PASSWORD_MAX + 2])
{
    struct termios before, silent;
    const gboolean terminal =
        isatty(STDIN_FILENO) && tcgetattr(STDIN_FILENO, &before) == 0;
    if (terminal) {
        (void)fprintf(stderr, "%s: ", prompt);
        silent = before;
        silent.c_lflag &= ~(tcflag_t)ECHO;
        (void)tcsetattr(STDIN_FILENO, TCSAFLUSH, &silent);
    }
    const gboolean good = fgets(out, TWI_PASSWORD_MAX + 2, stdin) != NULL;
    if (terminal) {
        (void)tcsetattr(STDIN_FILENO, TCSAFLUSH, &before);
        (void)fprintf(stderr, "\n");
    }
    if (good)
        out[strcspn(out, "\r\n")] = '\0';
    return good;
}
