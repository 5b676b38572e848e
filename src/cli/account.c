/* tawny account: who may see the page, and who may change. */
#include <jansson.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "output.h"
#include "../settings/sections.h"
#include "tawny/settings.h"

static const char ABOUT[] =
    "Lists, makes and removes accounts of the page. add asks for the password, or reads "
    "it\n"
    "from standard input if that is no terminal; for an account that is there it sets "
    "another.\n"
    "--may look sees everything but secrets; --may run also changes. A running station "
    "takes\n"
    "changes up at once.";
static const char EXAMPLE[] =
    "Examples:\n"
    "  tawny account add ann --may run\n"
    "  tawny account add bob --may look < bob.password\n"
    "  tawny account add cleo --may run --cameras \"kerb mere\"\n"
    "  tawny account remove bob\n"
    "  tawny account list";

static const char *word_may(twi_may may)
{
    return may == TWI_MAY_RUN ? "run" : "look";
}

/* "cleo (can change): kerb mere" */
static void say_account(const char *name, const char *may, const char *cameras)
{
    (void)printf("%s (can %s)%s%s\n", name, strcmp(may, "run") == 0 ? "change" : "look",
                 cameras[0] ? ": " : "", cameras);
}

static void show(void *ctx, const char *name, twi_may may, const char *cameras)
{
    const gboolean *json = ctx;
    if (*json)
        out_json(json_pack("{ss ss ss ss*}", "type", "account", "name", name, "may",
                           word_may(may), "cameras", cameras[0] ? cameras : NULL));
    else
        say_account(name, word_may(may), cameras);
}

static int add(const char *file, const char *name, const char *may, const char *cameras)
{
    char password[TWI_PASSWORD_MAX + 2] = "", again[TWI_PASSWORD_MAX + 2] = "";
    tw_error err = {0};
    const gboolean run = may && strcmp(may, "run") == 0;
    if (!run && (!may || strcmp(may, "look") != 0))
        return cli_say(CLI_USAGE, "say what it may: --may look, or --may run");
    int code = CLI_DONE;
    if (!cli_password("Password", password))
        code = cli_say(CLI_USAGE, "no password was given");
    else if (isatty(STDIN_FILENO) &&
             (!cli_password("Again", again) || strcmp(password, again) != 0))
        code = cli_say(CLI_USAGE, "these were two different passwords");
    if (code == CLI_DONE && twi_account_set(file, name, run ? TWI_MAY_RUN : TWI_MAY_LOOK,
                                            cameras, password, &err) != TW_OK)
        code = cli_say(cli_exit(err.status), "%s", err.text);
    if (code == CLI_DONE)
        say_account(name, may, cameras);
    explicit_bzero(password, sizeof password);
    explicit_bzero(again, sizeof again);
    return code;
}

static void count_account(void *ctx, const char *name, twi_may may, const char *cameras)
{
    guint *count = ctx;
    (void)name;
    (void)may;
    (void)cameras;
    ++*count;
}

/* The page does not open to everybody by that: it stays shut. */
static tw_status remove_one(const char *file, const char *name, gboolean json,
                            tw_error *err)
{
    guint left = 0;
    const tw_status st = twi_account_remove(file, name, err);
    if (st == TW_OK && !json &&
        twi_account_walk(file, count_account, &left, NULL) == TW_OK && left == 0)
        (void)printf(
            "That was the last account: the page lets nobody in until another is "
            "made, or %s is removed.\n",
            file);
    return st;
}

static int do_it(const char *file, int argc, char **argv, const char *may,
                 const char *cameras, gboolean json)
{
    tw_error err = {0};
    const char *what = argc > 1 ? argv[1] : "list";
    tw_status st = TW_OK;
    if (strcmp(what, "add") == 0 && argc == 3)
        return add(file, argv[2], may, cameras);
    if (strcmp(what, "remove") == 0 && argc == 3)
        st = remove_one(file, argv[2], json, &err);
    else if (strcmp(what, "list") == 0 && argc <= 2)
        st = twi_account_walk(file, show, &json, &err);
    else
        return cli_say(CLI_USAGE, "say add NAME, remove NAME, or list");
    return st == TW_OK ? CLI_DONE : cli_say(CLI_FAILED, "%s", err.text);
}

/* A slip of the hand would leave somebody with nothing to see. */
static int check_cameras(tw_settings *settings, const char *cameras)
{
    g_auto(GStrv) names = g_strsplit(cameras, " ", 0);
    twi_camera_settings unused;
    for (char **name = names; *name; name++)
        if ((*name)[0] && twi_settings_camera(settings, *name, &unused) != TW_OK)
            return cli_say(CLI_USAGE, "--cameras: the settings have no camera %s", *name);
    return CLI_DONE;
}

int cli_account(int argc, char **argv)
{
    CLI_COMMON common = {0};
    g_autofree char *may = NULL, *cameras = NULL;
    tw_settings *settings = NULL;
    twi_station_settings station;
    const GOptionEntry own[] = {
        {"may", 0, 0, G_OPTION_ARG_STRING, &may, "What it may", "look|run"},
        {"cameras", 0, 0, G_OPTION_ARG_STRING, &cameras,
         "With add: the cameras that it sees (of a gatherer: groups), with blanks "
         "between; else all",
         "NAMES"},
        {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    int code = cli_parse(&argc, &argv, "[add NAME|remove NAME|list]", ABOUT, EXAMPLE, own,
                         &common);
    if (code == CLI_DONE && cli_load_readable(&common, &settings) != TW_OK)
        code = CLI_USAGE;
    if (code != CLI_DONE)
        return code;
    twi_settings_station(settings, &station);
    if (cameras)
        code = check_cameras(settings, cameras);
    if (code == CLI_DONE)
        code = do_it(station.accounts_file, argc, argv, may, cameras ? cameras : "",
                     common.json);
    tw_settings_free(settings);
    return code;
}
