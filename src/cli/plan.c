/* tawny plan: what the captures so far say of the card and the uplink. */
#include <jansson.h>
#include <stdio.h>
#include <string.h>

#include "output.h"

static const char ABOUT[] =
    "Reads what the catalogue of the store knows, and says for each camera how much it\n"
    "captures a day and an hour of sightings, what an uplink would have to carry, how "
    "much\n"
    "memory its pre-event footage takes, and for how many days the card lasts before "
    "the\n"
    "oldest captures have to go.";
static const char EXAMPLE[] = "Examples:\n"
                              "  tawny plan\n"
                              "  tawny plan --store /srv/captures --json";

#define DAY_US (INT64_C(86400) * G_USEC_PER_SEC)
#define HOUR_US (INT64_C(3600) * G_USEC_PER_SEC)

/* What is known of one camera. */
typedef struct history {
    char *name;
    uint32_t sightings;
    int64_t seen_us; /* length of all its sightings */
    uint64_t bytes;
} history;

typedef struct planning {
    cli_common common;
    char *store;
    tw_settings *settings;
    GPtrArray *cameras; /* of history */
    int64_t first_us, last_us;
} planning;

static void free_history(gpointer data)
{
    history *h = data;
    g_free(h->name);
    g_free(h);
}

static history *find(planning *p, const char *name)
{
    for (guint i = 0; i < p->cameras->len; i++)
        if (strcmp(((history *)p->cameras->pdata[i])->name, name) == 0)
            return p->cameras->pdata[i];
    history *h = g_new0(history, 1);
    h->name = g_strdup(name);
    g_ptr_array_add(p->cameras, h);
    return h;
}

/* ---- reading --------------------------------------------------------------------- */

static bool take_sighting(void *ctx, const tw_sighting_record *r)
{
    planning *p = ctx;
    history *h = find(p, r->camera);
    const int64_t length_us = r->end_us > r->start_us ? r->end_us - r->start_us : 0;
    h->sightings++;
    h->seen_us += length_us;
    p->first_us = p->first_us == 0 ? r->start_us : MIN(p->first_us, r->start_us);
    p->last_us = MAX(p->last_us, MAX(r->start_us, r->end_us));
    return true;
}

static bool take_capture(void *ctx, const tw_capture_record *c)
{
    planning *p = ctx;
    history *h = find(p, c->camera);
    h->bytes += c->bytes;
    p->first_us = p->first_us == 0 ? c->start_us : MIN(p->first_us, c->start_us);
    p->last_us = MAX(p->last_us, c->start_us);
    return true;
}

static tw_status read_catalogue(planning *p, tw_error *err)
{
    const tw_sighting_filter all = {0};
    tw_catalogue *catalogue = NULL;
    g_autofree char *path = g_build_filename(p->store, TW_CATALOGUE_FILE, NULL);
    tw_status st = tw_catalogue_open(path, false, &catalogue, err);
    if (st == TW_OK)
        st = tw_catalogue_sightings(catalogue, &all, take_sighting, p, err);
    if (st == TW_OK)
        st = tw_catalogue_captures(catalogue, 0, take_capture, p, err);
    tw_catalogue_close(catalogue);
    return st;
}

/* ---- saying ---------------------------------------------------------------------- */

/* Bytes in so long, scaled to another length; 0: there was none of it. */
static double scaled(uint64_t bytes, int64_t length_us, int64_t to_us)
{
    return length_us > 0 ? (double)bytes * (double)to_us / (double)length_us : 0;
}

typedef struct plan {
    double day_bytes, hour_bytes;
} plan;

static plan plan_for(const history *h, int64_t span_us)
{
    return (plan){.day_bytes = scaled(h->bytes, span_us, DAY_US),
                  .hour_bytes = scaled(h->bytes, h->seen_us, HOUR_US)};
}

static void say_camera(const planning *p, const history *h, const plan *l)
{
    const double uplink = l->day_bytes * 8 / 86400;
    if (p->common.json) {
        out_json(json_pack("{ss ss si sf sf sf}", "type", "camera", "camera", h->name,
                           "sightings", (int)h->sightings, "bytes_a_day", l->day_bytes,
                           "bytes_an_hour_of_sightings", l->hour_bytes, "uplink_bits",
                           uplink));
        return;
    }
    (void)printf("%-16s %9u %12.1f %24.1f %16.1f\n", h->name, h->sightings,
                 l->day_bytes / 1e6, l->hour_bytes / 1e6, uplink / 1e3);
}

/* For how long the card takes captures at this rate before the oldest have to go. */
static int say_card(const planning *p, double day_bytes)
{
    tw_card card = {0};
    tw_error err = {0};
    tw_station_settings station;
    uint64_t free_bytes = 0, total = 0;
    tw_settings_station(p->settings, &station);
    tw_status st = tw_linux_card(p->store, &card, &err);
    if (st == TW_OK)
        st = card.ops->space(card.ctx, &free_bytes, &total, &err);
    if (card.ops)
        card.ops->destroy(card.ctx);
    if (st != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    const double room = (double)free_bytes - (double)station.keep_free;
    const double days = day_bytes > 0 && room > 0 ? room / day_bytes : 0;
    if (p->common.json)
        out_json(json_pack("{ss sI sI sf sf}", "type", "card", "free_bytes",
                           (json_int_t)free_bytes, "total_bytes", (json_int_t)total,
                           "bytes_a_day", day_bytes, "days", days));
    else if (day_bytes <= 0)
        (void)printf("The card has %.1f of %.1f GB free.\n", (double)free_bytes / 1e9,
                     (double)total / 1e9);
    else
        (void)printf("The card has %.1f of %.1f GB free: at %.1f MB a day it takes %.0f "
                     "days of captures before the oldest go.\n",
                     (double)free_bytes / 1e9, (double)total / 1e9, day_bytes / 1e6,
                     days);
    return CLI_DONE;
}

static int say(const planning *p)
{
    /* Less than a day tells little; it is not stretched. */
    const int64_t span_us = MAX(p->last_us - p->first_us, DAY_US);
    double day_bytes = 0;
    if (!p->common.json)
        (void)printf("%.1f days of history.\n%-16s %9s %12s %24s %16s\n",
                     (double)(p->last_us - p->first_us) / (double)DAY_US, "camera",
                     "sightings", "MB a day", "MB an hour of sightings",
                     "uplink, kbit/s");
    for (guint i = 0; i < p->cameras->len; i++) {
        const history *h = p->cameras->pdata[i];
        const plan l = plan_for(h, span_us);
        day_bytes += l.day_bytes;
        say_camera(p, h, &l);
    }
    return say_card(p, day_bytes);
}

static int run(planning *p)
{
    tw_error err = {0};
    tw_station_settings station;
    if (cli_load(&p->common, FALSE, &p->settings, NULL) != TW_OK)
        return CLI_USAGE;
    tw_settings_station(p->settings, &station);
    if (!p->store)
        p->store = g_strdup(station.store);
    const tw_status st = read_catalogue(p, &err);
    if (st == TW_ENOENT)
        return cli_say(CLI_FAILED,
                       "there is no catalogue in %s yet: name the store with "
                       "--store DIR, or let the station run",
                       p->store);
    return st == TW_OK ? say(p) : cli_say(CLI_FAILED, "%s", err.text);
}

int cli_plan(int argc, char **argv)
{
    planning p = {0};
    const GOptionEntry own[] = {{"store", 'd', 0, G_OPTION_ARG_FILENAME, &p.store,
                                 "The store (else that of the settings)", "DIR"},
                                {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    p.cameras = g_ptr_array_new_with_free_func(free_history);
    int code = cli_parse(&argc, &argv, NULL, ABOUT, EXAMPLE, own, &p.common);
    if (code == CLI_DONE && argc > 1)
        code = cli_say(CLI_USAGE, "%s is not expected", argv[1]);
    if (code == CLI_DONE)
        code = run(&p);
    tw_settings_free(p.settings);
    (void)g_ptr_array_free(p.cameras, TRUE);
    cli_clear(&p.common);
    g_free(p.store);
    return code;
}
