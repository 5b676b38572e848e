/* The command-line tool: finds the command and runs it. */
#include <locale.h>
#include <stdio.h>
#include <string.h>

#include "common.h"
#include "../settings/sections.h"

static const cli_command COMMANDS[] = {
    {"demo", "the whole thing on a simulated camera, with nothing set up", cli_demo},
    {"init", "ask five questions, and write a settings file", cli_init},
    {"look", "write one frame of a camera, with zones, cells and levels drawn if asked",
     cli_look},
    {"check", "read the settings, open each camera once, try the store", cli_check},
    {"settings", "show every setting with its value, origin and help", cli_settings},
    {"rehearse", "run footage through a camera's settings: what would be seen",
     cli_rehearse},
    {"tune", "propose settings from footage, or from walking through the picture",
     cli_tune},
    {"sightings", "what was captured: list, show, star, delete, export", cli_sightings},
    {"reel", "one video from many captures: a time-lapse, or clips joined", cli_reel},
    {"plan", "how long the card lasts and what the uplink must carry", cli_plan},
    {"send", "send a test to a destination, and show the conversation", cli_send},
    {"outbox", "what waits for the destinations: list, retry, drop", cli_outbox},
    {"account", "who may see the page, and who may change: add, remove, list",
     cli_account},
    {"backup", "settings, catalogue and accounts as one file; captures if asked",
     cli_backup},
    {"restore", "take a backup in, on this board or another", cli_restore},
    {"gather", "many stations as one: keep what they tell a broker, and list them",
     cli_gather},
    {"status", "how the running station fares", cli_status},
    {"arm", "arm a camera of the running station, or all, for a time if wanted", cli_arm},
    {"disarm", "disarm it", cli_disarm},
    {"trigger", "begin a sighting now", cli_trigger},
    {"snap", "store a still now", cli_snap},
    {"watch", "run the station until Ctrl-C", cli_watch},
};

static void print_help(void)
{
    (void)printf(
        "Usage: tawny COMMAND [OPTION…] [ARGUMENT…]\n\n"
        "Watches a place through cameras while nobody is there, and keeps the few\n"
        "moments that matter.\n\nCommands:\n");
    for (size_t i = 0; i < G_N_ELEMENTS(COMMANDS); i++)
        (void)printf("  %-10s %s\n", COMMANDS[i].name, COMMANDS[i].summary);
    (void)printf("\n\"tawny COMMAND --help\" explains each with an example.\n"
                 "Exit codes: 0 done, 1 failed, 2 wrong usage or settings.\n");
}

static int run_command(int argc, char **argv)
{
    if (argc > 0)
        cli_called_as(argv[0]);
    if (argc < 2) {
        print_help();
        return CLI_USAGE;
    }
    if (strcmp(argv[1], "--help") == 0 || strcmp(argv[1], "help") == 0) {
        print_help();
        return CLI_DONE;
    }
    if (strcmp(argv[1], "--version") == 0) {
        (void)printf("tawny %s\n", tw_version());
        return CLI_DONE;
    }
    for (size_t i = 0; i < G_N_ELEMENTS(COMMANDS); i++)
        if (strcmp(argv[1], COMMANDS[i].name) == 0)
            return COMMANDS[i].run(argc - 1, argv + 1);
    return cli_say(CLI_USAGE, "there is no command %s: see tawny --help", argv[1]);
}

int main(int argc, char **argv)
{
    (void)setlocale(LC_CTYPE, "");
    /* Everybody on the machine can read these: they are copied, then blanked. */
    char **own = g_strdupv(argv);
    char **taken = g_memdup2((const void *)own, ((size_t)argc + 1) * sizeof *own);
    for (int i = 0; i < argc; i++)
        twi_source_blank(argv[i]);
    const int code = run_command(argc, taken); /* which drops options from it */
    g_strfreev(own);
    g_free((void *)taken);
    return code;
}
