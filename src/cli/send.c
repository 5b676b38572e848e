/* tawny send: a test to a destination, with the conversation. */
#include <jansson.h>
#include <stdio.h>
#include <string.h>

#include "output.h"
#include "tawny/settings.h"

static const char ABOUT[] =
    "Sends a test to a destination at once, and prints the conversation: what the "
    "server\n"
    "says behind <, what is said to it behind >, remarks behind *. Secrets are masked.\n"
    "A folder gets a small file, tawny-test.txt. Exit 0: it has arrived.";
static const char EXAMPLE[] = "Examples:\n"
                              "  tawny send mail\n"
                              "  tawny send shed --quiet\n"
                              "  tawny send mail --json";

/* How what is said is shown. */
typedef struct listening {
    gboolean quiet, json;
} listening;

static void hear(void *ctx, char who, const char *line)
{
    const listening *l = ctx;
    const char whose[] = {who, '\0'};
    if (l->quiet)
        return;
    if (l->json)
        out_json(json_pack("{ss ss ss}", "type", "said", "who", whose, "line", line));
    else
        (void)printf("%c %s\n", who, line);
    (void)fflush(stdout);
}

static const char *word_verdict(twi_verdict verdict)
{
    static const char *const words[] = {"delivered", "later", "never", "halt"};
    return words[verdict];
}

static int say_outcome(const listening *l, const char *name, const twi_send_outcome *o)
{
    const gboolean good = o->verdict == TWI_DELIVERED;
    if (l->json) {
        out_json(json_pack("{ss ss sb ss ss}", "type", "send", "destination", name,
                           "good", good, "verdict", word_verdict(o->verdict), "text",
                           o->text));
        return good ? CLI_DONE : CLI_FAILED;
    }
    if (!good)
        return cli_say(CLI_FAILED, "%s: %s", name, o->text);
    (void)printf("%s has taken it%s%s\n", name, o->text[0] ? ": " : "", o->text);
    return CLI_DONE;
}

int cli_send(int argc, char **argv)
{
    CLI_COMMON common = {0};
    listening l = {FALSE, FALSE};
    tw_settings *settings = NULL;
    twi_send_outcome outcome = {.verdict = TWI_LATER};
    tw_error err = {0};
    const GOptionEntry own[] = {{"quiet", 'q', 0, G_OPTION_ARG_NONE, &l.quiet,
                                 "Only say whether it has arrived", NULL},
                                {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    int code = cli_parse(&argc, &argv, "DESTINATION", ABOUT, EXAMPLE, own, &common);
    if (code == CLI_DONE && argc != 2)
        code = cli_say(CLI_USAGE, "name one destination: tawny send mail");
    if (code != CLI_DONE)
        return code;
    l.json = common.json;
    if (cli_load_sound(&common, &settings, NULL) != TW_OK)
        return CLI_USAGE;
    const tw_status st =
        twi_deliver_try(settings, argv[1], tw_linux_clock(), hear, &l, &outcome, &err);
    if (st == TW_OK)
        code = say_outcome(&l, argv[1], &outcome);
    else
        code = cli_say(st == TW_ENOENT ? CLI_USAGE : cli_exit(st), "%s", err.text);
    tw_settings_free(settings);
    return code;
}
