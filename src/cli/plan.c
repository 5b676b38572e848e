/* tawny plan: what the settings cost in room, uplink and memory. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "../json/json.h"
#include "footage.h"
#include "output.h"
#include "store.h"
#include "../core/naming.h"
#include "../settings/sections.h"
#include "../station/rehearse.h"
#include "tawny/rehearse.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

static const char ABOUT[] =
    "Says for each camera how many megabytes its settings make: an hour of sightings, "
    "an\n"
    "hour of continuous recording, a day of all; what an uplink would have to carry, "
    "and\n"
    "for how many days the card lasts before the oldest captures have to go. Without "
    "FILE\n"
    "from what the catalogue of the store knows; with footage, from what the settings\n"
    "would keep of it, and then also how much memory the pre-event footage takes.";
static const char EXAMPLE[] =
    "Examples:\n"
    "  tawny plan\n"
    "  tawny plan --store /srv/captures --json\n"
    "  tawny plan --card 32GB\n"
    "  tawny plan --camera kerb night.mp4\n"
    "  tawny plan --set clip_video=h264 --set continuous=yes night.mp4";

#define HOUR_US (INT64_C(3600) * G_USEC_PER_SEC)

/* What is known of one camera. */
typedef struct history {
    twi_plan_camera made;
    double memory; /* for pre-event footage, bytes; 0 unknown */
} history;

typedef struct planning {
    cli_common common;
    char *store, *camera;
    char *card; /* --card */
    int64_t card_bytes;
    tw_settings *settings;
    GArray *cameras; /* of history */
    int64_t first_us, last_us;
    twi_plan_peak peak; /* of all cameras together */
} planning;

/* ---- from the catalogue ---------------------------------------------------------- */

static int read_catalogue(planning *p)
{
    tw_catalogue *catalogue = NULL;
    twi_plan plan = {0};
    tw_error err = {0};
    int code = store_find(&p->common, &p->store);
    if (code == CLI_DONE)
        code = store_open(p->store, &catalogue);
    if (code == CLI_DONE && twi_plan_read(catalogue, p->settings, &plan, &err) != TW_OK)
        code = cli_say(CLI_FAILED, "%s", err.text);
    for (size_t i = 0; i < plan.count; i++) {
        const history h = {.made = plan.cameras[i]};
        g_array_append_val(p->cameras, h);
    }
    p->first_us = plan.first_us;
    p->last_us = plan.last_us;
    p->peak = plan.peak;
    twi_plan_free(&plan);
    tw_catalogue_close(catalogue);
    return code;
}

/* ---- from footage ---------------------------------------------------------------- */

static void count_event(void *ctx, const tw_event *e)
{
    twi_plan_camera *h = ctx;
    if (e->kind == TW_EVENT_ENDED)
        h->seen_us += MAX(0, e->sighting->end_us - e->sighting->start_us);
    if (e->kind == TW_EVENT_STORED)
        h->bytes[twi_kind_find(e->file_kind)] += e->bytes;
}

static history *find(planning *p, const char *name)
{
    for (guint i = 0; i < p->cameras->len; i++) {
        history *h = &g_array_index(p->cameras, history, i);
        if (strcmp(h->made.name, name) == 0)
            return h;
    }
    history h = {.made = {.recorded = true}};
    g_strlcpy(h.made.name, name, sizeof h.made.name);
    g_array_append_val(p->cameras, h);
    return &g_array_index(p->cameras, history, p->cameras->len - 1);
}

/* What the settings would keep, on a card that counts. Recording without a break is
 * tried in any case, so that its price is known. */
static int try_footage(planning *p, history *known, twi_camera_settings *camera)
{
    twi_plan_camera *h = &known->made;
    const tw_sim_faults counting = {.forgets = true};
    tw_platform platform = cli_platform();
    tw_card card = {0};
    tw_error err = {0};
    tw_rehearsal_result result;
    twi_station_settings station;
    twi_settings_station(p->settings, &station);
    h->recorded = camera->continuous;
    camera->continuous = true;
    tw_status st = tw_sim_card(&counting, &card);
    platform.card = &card;
    if (st == TW_OK)
        st = twi_rehearse(&platform, camera, &station, cli_catch_signals(NULL),
                          count_event, h, &result, &err);
    if (card.ops)
        card.ops->destroy(card.ctx);
    if (st != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    h->sightings += result.sightings;
    h->span_us += result.length_us;
    p->last_us += result.length_us;
    h->recorded_us += result.length_us;
    /* A second more is held than is asked for, about. */
    if (result.length_us > 0)
        known->memory = (double)result.packet_bytes / (double)result.length_us *
                        (double)(camera->pre_us + G_USEC_PER_SEC);
    return CLI_DONE;
}

static int read_footage(planning *p, char **files)
{
    int code = CLI_DONE;
    for (char **file = files; *file && code == CLI_DONE; file++) {
        twi_camera_settings camera;
        g_autofree char *source = cli_source_of(*file);
        tw_settings_free(p->settings);
        p->settings = NULL;
        if (cli_camera(&p->common, p->camera, source, &p->settings, &camera) != TW_OK)
            return CLI_USAGE;
        code = try_footage(p, find(p, p->camera ? p->camera : camera.name), &camera);
    }
    return code;
}

/* ---- saying ---------------------------------------------------------------------- */

/* So many bytes, or a dash for none. */
static const char *size(double bytes, char buffer[24])
{
    if (bytes > 0)
        return out_bytes((uint64_t)bytes, buffer);
    return "-";
}

static void say_camera(const planning *p, const history *h, const twi_plan_rates *l)
{
    char a[24], b[24], c[24], e[24];
    if (p->common.json) {
        json_t *o = twi_json_plan(&h->made, l);
        (void)json_object_set_new(o, "pre_event_bytes", json_real(h->memory));
        out_json(o);
        return;
    }
    (void)printf("%-16s %9u %11s %11s %11s %9.2f kbit/s%s%s\n", h->made.name,
                 h->made.sightings, size(l->sighting_hour, a), size(l->recorded_hour, b),
                 size(l->day, c), l->uplink / 1e3, h->memory > 0 ? "  " : "",
                 h->memory > 0 ? size(h->memory, e) : "");
}

/* How many days of footage or history are known. */
static double history_days(const planning *p)
{
    return (double)(p->last_us - p->first_us) / (24.0 * (double)HOUR_US);
}

/* What one camera's captures come to, once as many go by their age as come. @return 0:
 * some are kept for good. */
static double held_of(const planning *p, const history *h)
{
    twi_camera_settings camera;
    double held = 0;
    if (twi_settings_camera(p->settings, h->made.name, &camera) != TW_OK)
        return 0;
    for (int k = 0; k < TWI_KIND_COUNT; k++) {
        const int64_t own = camera.keep_for_us.kind[k];
        const int64_t keep_us = own == TWI_AS_ALL ? camera.keep_for_us.all : own;
        const double day = h->made.span_us > 0
                               ? (double)h->made.bytes[k] * 24.0 * (double)HOUR_US /
                                     (double)h->made.span_us
                               : 0;
        if (day > 0 && keep_us == 0)
            return 0;
        held += day * (double)keep_us / (24.0 * (double)HOUR_US);
    }
    return held;
}

static double held_bytes(const planning *p)
{
    double held = 0;
    for (guint i = 0; i < p->cameras->len; i++) {
        const history *h = &g_array_index(p->cameras, history, i);
        const double own = held_of(p, h);
        const twi_plan_rates rates = twi_plan_rates_of(&h->made);
        if (own == 0 && rates.day > 0)
            return 0;
        held += own;
    }
    return held;
}

/* How much the sum can be trusted. */
static void say_history(const planning *p)
{
    unsigned sightings = 0;
    const double days = history_days(p);
    for (guint i = 0; i < p->cameras->len; i++)
        sightings += g_array_index(p->cameras, history, i).made.sightings;
    if (days < 1.0 / 24)
        (void)printf("%.0f minutes of history: a first guess, as if every hour were like "
                     "these. Look again after a day.\n",
                     days * 24 * 60);
    else if (days < 1)
        (void)printf("%.1f hours of history, of %u sighting%s: other hours may differ. "
                     "Look again after a day.\n",
                     days * 24, sightings, out_s(sightings));
    else
        (void)printf("%.1f days of history, of %u sighting%s: give or take %.0f %%.\n",
                     days, sightings, out_s(sightings),
                     sightings > 0 ? 200 / sqrt((double)sightings) : 100.0);
}

/* For how long the card takes captures at this rate before the oldest have to go. */
static int say_card(const planning *p, double day_bytes)
{
    tw_card card = {0};
    tw_error err = {0};
    twi_station_settings station;
    uint64_t free_bytes = 0, total = 0;
    twi_settings_station(p->settings, &station);
    free_bytes = total = (uint64_t)p->card_bytes;
    tw_status st =
        p->card_bytes > 0 ? TW_OK : tw_linux_card(p->store ? p->store : ".", &card, &err);
    if (st == TW_OK && card.ops)
        st = card.ops->space(card.ctx, &free_bytes, &total, &err);
    if (card.ops)
        card.ops->destroy(card.ctx);
    if (st != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    const double days = twi_plan_days(free_bytes, station.keep_free, day_bytes);
    const double held = held_bytes(p);
    if (p->common.json)
        out_json(json_pack("{ss sI sI sf sf sf sf}", "type", "card", "free_bytes",
                           (json_int_t)free_bytes, "total_bytes", (json_int_t)total,
                           "bytes_a_day", day_bytes, "days", days, "held_bytes", held,
                           "history_days", history_days(p)));
    else if (day_bytes <= 0)
        (void)printf("The card has %.1f of %.1f GB free.\n", (double)free_bytes / 1e9,
                     (double)total / 1e9);
    else
        (void)printf("The card has %.1f of %.1f GB free: at %.1f MB a day it takes %.0f "
                     "days of captures before the oldest go.\n",
                     (double)free_bytes / 1e9, (double)total / 1e9, day_bytes / 1e6,
                     days);
    if (!p->common.json && held > 0 &&
        held < (double)free_bytes - (double)station.keep_free)
        (void)printf(
            "keep_for lets no more than %.1f MB gather, so that it never fills.\n",
            held / 1e6);
    return CLI_DONE;
}

/* Sending all that sightings make: what an uplink has to carry on average, and at the
 * worst, where that is known. */
static void say_uplink(const planning *p, double mean)
{
    const int64_t span_us = p->last_us - p->first_us;
    const double peak = twi_plan_peak_bits(&p->peak, span_us, mean);
    if (p->common.json) {
        out_json(
            json_pack("{ss sf sf}", "type", "uplink", "bits", mean, "peak_bits", peak));
        return;
    }
    (void)printf("Sending all that sightings make takes %.2f kbit/s on average",
                 mean / 1e3);
    if (span_us < HOUR_US || p->peak.most_bytes == 0) {
        (void)printf(".\n");
        return;
    }
    g_autoptr(GDateTime) from = g_date_time_new_from_unix_local(
        p->peak.busiest_hour * (HOUR_US / G_USEC_PER_SEC));
    g_autofree char *hour = g_date_time_format(from, "%Y-%m-%d %H:%M");
    (void)printf(", %.2f kbit/s in the busiest hour (%s).\n", peak / 1e3, hour);
}

static int say(const planning *p, gboolean footage)
{
    double day_bytes = 0, uplink = 0;
    const double hours = (double)(p->last_us - p->first_us) / (double)HOUR_US;
    if (!p->common.json && footage)
        (void)printf("%.2f hours of footage, taken for what every hour is like.\n",
                     hours);
    else if (!p->common.json)
        say_history(p);
    if (!p->common.json)
        (void)printf("%-16s %9s %11s %11s %11s %16s%s\n%-16s %9s %11s %11s %11s %16s%s\n",
                     "camera", "sightings", "an hour of", "an hour of", "a day", "uplink",
                     footage ? "  memory" : "", "", "", "sightings", "recording",
                     "of all", "", footage ? "  pre-event" : "");
    for (guint i = 0; i < p->cameras->len; i++) {
        const history *h = &g_array_index(p->cameras, history, i);
        const twi_plan_rates l = twi_plan_rates_of(&h->made);
        day_bytes += l.day;
        uplink += l.uplink;
        say_camera(p, h, &l);
    }
    say_uplink(p, uplink);
    return say_card(p, day_bytes);
}

/* "32GB", "512 MB" */
static gboolean read_size(const char *text, int64_t *out)
{
    char *end = NULL;
    const double number = g_ascii_strtod(text, &end);
    while (*end == ' ')
        end++;
    const double unit = g_ascii_strcasecmp(end, "MB") == 0   ? 1e6
                        : g_ascii_strcasecmp(end, "GB") == 0 ? 1e9
                        : g_ascii_strcasecmp(end, "TB") == 0 ? 1e12
                                                             : 0;
    if (end == text || unit <= 0 || !(number > 0) || number * unit > 1e15)
        return FALSE;
    *out = (int64_t)(number * unit);
    return TRUE;
}

static int run(planning *p, char **files)
{
    int code = CLI_DONE;
    if (cli_load(&p->common, FALSE, &p->settings, NULL) != TW_OK)
        return CLI_USAGE;
    if (p->card && !read_size(p->card, &p->card_bytes))
        return cli_say(CLI_USAGE, "--card %s: expected a size such as 32GB", p->card);
    code = *files ? read_footage(p, files) : read_catalogue(p);
    return code == CLI_DONE ? say(p, *files != NULL) : code;
}

int cli_plan(int argc, char **argv)
{
    planning p = {0};
    const GOptionEntry own[] = {{"store", 'd', 0, G_OPTION_ARG_FILENAME, &p.store,
                                 "The store (else that of the settings)", "DIR"},
                                {"card", 0, 0, G_OPTION_ARG_STRING, &p.card,
                                 "As if the card were empty and had this size", "SIZE"},
                                {"camera", 'c', 0, G_OPTION_ARG_STRING, &p.camera,
                                 "Footage is of this camera of the settings", "NAME"},
                                {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    p.cameras = g_array_new(FALSE, TRUE, sizeof(history));
    int code = cli_parse(&argc, &argv, "[FILE…]", ABOUT, EXAMPLE, own, &p.common);
    if (code == CLI_DONE)
        code = run(&p, argv + 1);
    tw_settings_free(p.settings);
    (void)g_array_free(p.cameras, TRUE);
    cli_clear(&p.common);
    g_free(p.store);
    g_free(p.camera);
    g_free(p.card);
    return code;
}
