/* tawny outbox: what waits for the destinations, and what was given up. */
#include <stdio.h>
#include <string.h>

#include "../json/json.h"
#include "output.h"
#include "store.h"
#include "../core/naming.h"

static const char ABOUT[] =
    "Shows how each destination's queue stands; with --list also what is in it. --retry "
    "tries\n"
    "again what was given up, and a destination that was stopped; --drop takes out of "
    "the\n"
    "queue what is not sent: the captures stay in the store. A running station sees "
    "both\n"
    "within seconds.";
static const char EXAMPLE[] = "Examples:\n"
                              "  tawny outbox\n"
                              "  tawny outbox --list mail\n"
                              "  tawny outbox --retry mail\n"
                              "  tawny outbox --drop 17";

#define DAY_US (INT64_C(86400) * G_USEC_PER_SEC)

typedef struct looking {
    tw_catalogue *catalogue;
    tw_clock clock;
    const char *only; /* destination; NULL: all */
    gboolean json, list;
    guint shown;
} looking;

static const char *local_time(const looking *l, int64_t wall_us, char out[64])
{
    twi_civil t;
    twi_civil_split(wall_us, l->clock.ops->offset_s(l->clock.ctx, wall_us), &t);
    (void)snprintf(out, 64, "%04d-%02u-%02u %02u:%02u", (int)t.year, t.month, t.day,
                   t.hour, t.minute);
    return out;
}

/* ---- what is in it ---------------------------------------------------------------- */

static bool show_item(void *ctx, const twi_outbox_item *item)
{
    const looking *l = ctx;
    char time[64];
    if (l->json) {
        out_json(twi_json_item(item));
        return true;
    }
    (void)printf("  %6lld  %-8s  %-7s  %-10s  %s  %s%s%s\n", (long long)item->id,
                 twi_json_item_state(item->state), item->what, item->camera,
                 local_time(l, item->start_us, time),
                 item->file[0] ? item->file : item->text,
                 item->why[0] ? "\n          " : "", item->why);
    return true;
}

static void list_items(looking *l, const char *destination)
{
    static const twi_item_state states[] = {TWI_ITEM_WAITING, TWI_ITEM_GIVEN_UP};
    for (size_t i = 0; l->list && i < G_N_ELEMENTS(states); i++)
        (void)twi_outbox_items(l->catalogue, destination, states[i], show_item, l, NULL);
}

/* ---- how it stands ---------------------------------------------------------------- */

static void print_fill(const looking *l, const char *name, const twi_outbox_fill *f)
{
    char oldest[64], last[64];
    (void)printf("%-10s  %u waiting", name, (unsigned)f->waiting);
    if (f->waiting > 0)
        (void)printf(" of %u sighting%s, the oldest of %s", (unsigned)f->sightings,
                     out_s((unsigned)f->sightings), local_time(l, f->oldest_us, oldest));
    if (f->given_up > 0)
        (void)printf("; %u given up", (unsigned)f->given_up);
    if (f->last_us > 0)
        (void)printf("; %u sent in the last day, the last at %s", (unsigned)f->sent,
                     local_time(l, f->last_us, last));
    (void)printf("\n");
    if (f->stopped_us > 0)
        (void)printf("            STOPPED since %s: %s\n",
                     local_time(l, f->stopped_us, oldest), f->why);
    else if (f->why[0])
        (void)printf("            last try: %s\n", f->why);
}

static void show_destination(void *ctx, const char *name)
{
    looking *l = ctx;
    twi_outbox_fill f;
    const int64_t since_us = l->clock.ops->wall_us(l->clock.ctx) - DAY_US;
    if ((l->only && strcmp(l->only, name) != 0) ||
        twi_outbox_inspect(l->catalogue, name, false, since_us, &f, NULL) != TW_OK)
        return;
    l->shown++;
    if (l->json)
        out_json(twi_json_destination(name, &f));
    else
        print_fill(l, name, &f);
    list_items(l, name);
}

static int show(looking *l)
{
    tw_error err = {0};
    if (twi_outbox_destinations(l->catalogue, show_destination, l, &err) != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    if (l->shown > 0)
        return CLI_DONE;
    if (l->only)
        return cli_say(CLI_FAILED, "nothing goes to %s, and nothing waits for it",
                       l->only);
    if (!l->json)
        (void)printf("Nothing goes anywhere: write a [destination NAME], and name it by "
                     "a camera's send_to.\n");
    return CLI_DONE;
}

/* ---- changing it ------------------------------------------------------------------ */

static int say_changed(const looking *l, const char *what, uint32_t changed)
{
    if (l->json)
        out_json(json_pack("{ss si}", "type", what, "items", (int)changed));
    else
        (void)printf("%s: %u\n", what, (unsigned)changed);
    return CLI_DONE;
}

/* A destination that was stopped, before it begins again. */
static void say_restarted(void *ctx, const char *name)
{
    looking *l = ctx;
    twi_outbox_fill f;
    if ((l->only && strcmp(l->only, name) != 0) ||
        twi_outbox_inspect(l->catalogue, name, false, 0, &f, NULL) != TW_OK ||
        f.stopped_us == 0)
        return;
    l->shown++;
    if (l->json)
        out_json(json_pack("{ss ss si}", "type", "restarted", "destination", name,
                           "waiting", (int)f.waiting));
    else
        (void)printf("%s begins again: %u waiting\n", name, (unsigned)f.waiting);
}

static int retry(const looking *l)
{
    uint32_t changed = 0;
    tw_error err = {0};
    looking again = *l;
    if (twi_outbox_destinations(l->catalogue, say_restarted, &again, &err) != TW_OK ||
        twi_outbox_retry(l->catalogue, l->only, &changed, &err) != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    if (changed == 0 && again.shown > 0 && !l->json)
        return CLI_DONE; /* nothing had been given up */
    return say_changed(l, "tried again", changed);
}

static int drop(const looking *l)
{
    uint32_t changed = 0;
    tw_error err = {0};
    char *end = NULL;
    const gint64 id = l->only ? g_ascii_strtoll(l->only, &end, 10) : 0;
    const gboolean number = l->only && *end == '\0' && id > 0;
    if (twi_outbox_drop(l->catalogue, number ? NULL : l->only, number ? id : 0, &changed,
                        &err) != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    return say_changed(l, "dropped", changed);
}

int cli_outbox(int argc, char **argv)
{
    CLI_COMMON common = {0};
    looking l = {.clock = tw_linux_clock()};
    g_autofree char *store = NULL;
    gboolean again = FALSE, out = FALSE;
    const GOptionEntry own[] = {
        {"list", 'l', 0, G_OPTION_ARG_NONE, &l.list, "What waits, and what was given up",
         NULL},
        {"retry", 0, 0, G_OPTION_ARG_NONE, &again,
         "Try again what was given up or stopped", NULL},
        {"drop", 0, 0, G_OPTION_ARG_NONE, &out,
         "Take out of the queue what is not sent: an item by its number, or all of a "
         "destination",
         NULL},
        {"store", 0, 0, G_OPTION_ARG_FILENAME, &store, "Instead of the settings'", "DIR"},
        {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    int code =
        cli_parse(&argc, &argv, "[DESTINATION|NUMBER]", ABOUT, EXAMPLE, own, &common);
    if (code == CLI_DONE && (argc > 2 || (again && out)))
        code = cli_say(CLI_USAGE, "name one destination or none, and --retry or --drop");
    if (code == CLI_DONE && out && argc < 2)
        code = cli_say(CLI_USAGE, "--drop wants a destination or a number");
    if (code == CLI_DONE)
        code = store_find(&common, &store);
    if (code == CLI_DONE)
        code = store_open(store, &l.catalogue);
    if (code != CLI_DONE)
        return code;
    l.json = common.json;
    l.only = argc > 1 ? argv[1] : NULL;
    code = again ? retry(&l) : out ? drop(&l) : show(&l);
    tw_catalogue_close(l.catalogue);
    return code;
}
