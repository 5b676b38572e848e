/* tawny sightings: what the catalogue of a store knows. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../json/json.h"
#include "camtrap.h"
#include "footage.h"
#include "output.h"
#include "packing.h"
#include "pattern.h"
#include "store.h"
#include "../core/hours.h"
#include "../core/naming.h"
#include "../settings/sections.h"
#include "tawny/events.h"
#include "tawny/settings.h"

static const char ABOUT[] =
    "Lists the sightings in a store, the oldest first, each with its number for good, "
    "when\n"
    "it began, how long it lasted, its highest activity, and what was captured of it.\n"
    "Sightings that are named are shown in full, or starred, marked or deleted: a "
    "starred\n"
    "one is never dropped to make room; from marks tawny tune --marked learns what to "
    "set.";
static const char EXAMPLE[] =
    "Examples:\n"
    "  tawny sightings --day 2027-03-13 --camera kerb\n"
    "  tawny sightings 12\n"
    "  tawny sightings --star 12 15\n"
    "  tawny sightings --mark nothing 13 14\n"
    "  tawny sightings --missed \"2027-03-13 21:40\" --camera "
    "kerb\n"
    "  tawny sightings --name \"Bufo bufo\" --count 2 12\n"
    "  tawny sightings --name bufo --hours 20:00-06:00\n"
    "  tawny sightings --pattern toads.png\n"
    "  tawny sightings --day 2027-03-13 --smaller 1% --found --delete\n"
    "  tawny sightings --starred --zip starred.zip\n"
    "  tawny sightings --send mail 12\n"
    "  tawny sightings --csv > sightings.csv\n"
    "  tawny sightings --camtrap hollin-2027\n"
    "  tawny sightings --trace --camera kerb --day 2027-03-13";

enum { BAR = 10 };

typedef struct listing {
    cli_common common;
    char *store, *camera, *day, *camtrap;
    double least_mb;
    int newest;
    char *send; /* destination */
    char *mark, *missed;
    char *name, *note, *hours, *marked_as, *larger, *smaller, *pattern, *zip;
    int count;
    int not_missed;
    twi_hours within; /* --hours */
    gboolean marked, starred, star, unstar, remove, csv, rebuild, trace, values, happened;
    gboolean found;  /* acts on all that the rest finds */
    gboolean naming; /* --name says who it was, and finds nothing */
    tw_catalogue *catalogue;
    tw_clock clock;
    GArray *records; /* of tw_sighting_record, texts their own */
    uint64_t bytes;
    uint32_t peak_ppm; /* highest of the list */
    gboolean unsure;   /* a time of the list is wrong, which is to be said */
    int camera_width;
} listing;

/* ---- reading --------------------------------------------------------------------- */

/* --hours: when on its day it began, where it was. */
static gboolean is_within(const listing *l, int64_t wall_us)
{
    return !l->hours ||
           twi_hours_within(&l->within, wall_us,
                            l->clock.ops->offset_s(l->clock.ctx, wall_us), NULL);
}

static bool keep(void *ctx, const tw_sighting_record *record)
{
    listing *l = ctx;
    tw_sighting_record r = *record;
    if (!is_within(l, record->start_us))
        return true;
    r.camera = g_strdup(record->camera);
    r.why = g_strdup(record->why);
    r.name = g_strdup(record->name);
    r.note = g_strdup(record->note);
    r.named_by = g_strdup(record->named_by);
    l->bytes += r.bytes;
    l->unsure = l->unsure || (r.unsure && !l->csv && !l->common.json);
    l->peak_ppm = MAX(l->peak_ppm, r.peak_ppm);
    l->camera_width = MAX(l->camera_width, (int)g_utf8_strlen(r.camera, -1));
    g_array_append_val(l->records, r);
    return true;
}

static void drop_record(gpointer data)
{
    const tw_sighting_record *r = data;
    g_free((char *)r->camera);
    g_free((char *)r->why);
    g_free((char *)r->name);
    g_free((char *)r->note);
    g_free((char *)r->named_by);
}

/* "1 %", "0.5". */
static gboolean read_share(const char *option, const char *text, uint32_t *ppm)
{
    char *end = NULL;
    const double percent = g_ascii_strtod(text, &end);
    while (*end == ' ' || *end == '%')
        end++;
    if (end == text || *end != '\0' || percent <= 0 || percent > 100) {
        (void)cli_say(CLI_USAGE, "%s %s: expected a share such as 1 %%", option, text);
        return FALSE;
    }
    *ppm = (uint32_t)(percent * 1e4 + 0.5);
    return TRUE;
}

/* The newest so many of those that --hours has left. */
static void keep_newest(listing *l)
{
    const guint most = (guint)l->newest;
    if (l->hours && most > 0 && l->records->len > most)
        (void)g_array_remove_range(l->records, 0, l->records->len - most);
}

static int collect(listing *l, int64_t id)
{
    tw_sighting_filter filter = {.id = id,
                                 .camera = l->camera,
                                 .least_bytes = (uint64_t)(l->least_mb * 1e6),
                                 .starred = l->starred,
                                 .marked = l->marked,
                                 .most = l->hours ? 0 : (uint32_t)l->newest};
    tw_error err = {0};
    if (id == 0) {
        filter.name = l->naming ? NULL : l->name;
        if (l->marked_as)
            (void)tw_mark_find(l->marked_as, &filter.mark);
        if ((l->larger && !read_share("--larger", l->larger, &filter.least_peak_ppm)) ||
            (l->smaller && !read_share("--smaller", l->smaller, &filter.most_peak_ppm)))
            return CLI_USAGE;
    }
    const int code = store_day(&l->clock, l->day, &filter.from_us, &filter.until_us);
    if (code != CLI_DONE)
        return code;
    if (tw_catalogue_sightings(l->catalogue, &filter, keep, l, &err) != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    keep_newest(l);
    return CLI_DONE;
}

/* ---- printing -------------------------------------------------------------------- */

static const char *local(const listing *l, int64_t wall_us, char buffer[32])
{
    twi_civil t;
    twi_civil_split(wall_us, l->clock.ops->offset_s(l->clock.ctx, wall_us), &t);
    (void)snprintf(buffer, 32, "%04d-%02u-%02u %02u:%02u:%02u", t.year, t.month, t.day,
                   t.hour, t.minute, t.second);
    return buffer;
}

/* Wider for more activity, against the highest of the list. */
static const char *bar(const listing *l, uint32_t ppm, char buffer[BAR + 1])
{
    const uint64_t full =
        l->peak_ppm > 0 ? ((uint64_t)ppm * BAR + l->peak_ppm - 1) / l->peak_ppm : 0;
    for (int i = 0; i < BAR; i++)
        buffer[i] = (uint64_t)i < full ? '#' : '.';
    buffer[BAR] = '\0';
    return buffer;
}

static void print_line(const listing *l, const tw_sighting_record *r)
{
    char time[32], size[24], level[BAR + 1], lasted[24] = "running";
    if (r->end_us > 0)
        (void)snprintf(lasted, sizeof lasted, "%.1f s",
                       (double)(r->end_us - r->start_us) / 1e6);
    char sent[40] = "";
    if (r->unsent > 0)
        (void)snprintf(sent, sizeof sent, ", %u to be sent", r->unsent);
    else if (r->sent > 0)
        (void)snprintf(sent, sizeof sent, ", sent");
    char name[TW_NAME_MAX + 32] = "";
    if (r->name[0] && r->count > 0)
        (void)snprintf(name, sizeof name, ", %u %s", (unsigned)r->count, r->name);
    else if (r->name[0])
        (void)snprintf(name, sizeof name, ", %s", r->name);
    (void)printf(
        "%6lld %c %s%c %-*s %10s %7.2f %% %s  %u still%s, %u clip%s, %s%s%s%s%s\n",
        (long long)r->id, r->starred ? '*' : ' ', local(l, r->start_us, time),
        r->unsure ? '?' : ' ', l->camera_width, r->camera, lasted, r->peak_ppm / 1e4,
        bar(l, r->peak_ppm, level), r->stills, out_s(r->stills), r->clips,
        out_s(r->clips), out_bytes(r->bytes, size), sent,
        r->mark != TW_MARK_NONE ? ", " : "",
        r->mark != TW_MARK_NONE ? tw_mark_name(r->mark) : "", name);
}

static void print_csv(const tw_sighting_record *r)
{
    char start[40], end[40] = "";
    if (r->end_us > 0)
        (void)twi_utc(r->end_us, end);
    (void)printf("%lld,", (long long)r->id);
    out_csv_text(stdout, r->camera);
    (void)printf(",%s,%s,%.4f,%u,%d,%u,%u,%llu,", twi_utc(r->start_us, start), end,
                 r->peak_ppm / 1e4, (unsigned)r->frames, r->starred, (unsigned)r->stills,
                 (unsigned)r->clips, (unsigned long long)r->bytes);
    out_csv_text(stdout, r->why);
    (void)printf(",%s,", r->mark != TW_MARK_NONE ? tw_mark_name(r->mark) : "");
    out_csv_text(stdout, r->name);
    if (r->count > 0)
        (void)printf(",%u,", (unsigned)r->count);
    else
        (void)printf(",,");
    out_csv_text(stdout, r->note);
    (void)printf(",");
    out_csv_text(stdout, r->named_us == 0 ? "" : r->named_by[0] ? r->named_by : "human");
    out_csv_end(stdout);
}

/* ---- what was missed -------------------------------------------------------------- */

static bool print_missed(void *ctx, const tw_missed_record *r)
{
    const listing *l = ctx;
    char time[32], utc[TWI_UTC_MAX];
    if (l->csv) {
        (void)printf(",");
        out_csv_text(stdout, r->camera);
        (void)printf(",%s,,,,,,,,,missed,,,,", twi_utc(r->at_us, utc));
        out_csv_end(stdout);
    } else if (l->common.json) {
        out_json(twi_json_missed(r));
    } else {
        (void)printf("missed %lld: %s %s\n", (long long)r->id, local(l, r->at_us, time),
                     r->camera);
    }
    return true;
}

/* Beside the sightings, unless only some of those are asked for by what they are. */
static int list_missed(listing *l)
{
    tw_sighting_filter filter = {0};
    tw_error err = {0};
    if (l->starred || l->newest > 0 || l->least_mb > 0 || l->name || l->marked_as ||
        l->larger || l->smaller || l->hours)
        return CLI_DONE;
    const int code = store_day(&l->clock, l->day, &filter.from_us, &filter.until_us);
    if (code != CLI_DONE)
        return code;
    if (tw_catalogue_missed(l->catalogue, l->camera, filter.from_us, filter.until_us,
                            print_missed, l, &err) != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    return CLI_DONE;
}

static int add_missed(listing *l)
{
    tw_error err = {0};
    char time[32];
    int64_t at_us = 0, id = 0;
    if (!l->camera)
        return cli_say(CLI_USAGE, "--missed: say by which camera, with --camera NAME");
    const int code = store_time(&l->clock, "--missed", l->missed, &at_us);
    if (code != CLI_DONE)
        return code;
    if (tw_catalogue_add_missed(l->catalogue, l->camera, at_us, &id, &err) != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    (void)printf("missed %lld: %s %s\n", (long long)id, local(l, at_us, time), l->camera);
    return CLI_DONE;
}

static int drop_missed(const listing *l)
{
    tw_error err = {0};
    if (tw_catalogue_remove_missed(l->catalogue, l->not_missed, &err) != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    return CLI_DONE;
}

/* ---- the list --------------------------------------------------------------------- */

static int list(listing *l)
{
    char size[24];
    int code = collect(l, 0);
    if (code != CLI_DONE)
        return code;
    if (l->csv)
        (void)printf(
            "number,camera,start,end,peak_percent,frames,starred,stills,clips,bytes,"
            "why,mark,name,count,note,named_by\r\n");
    for (guint i = 0; i < l->records->len; i++) {
        const tw_sighting_record *r = &g_array_index(l->records, tw_sighting_record, i);
        if (l->csv)
            print_csv(r);
        else if (l->common.json)
            out_json(twi_json_sighting(r));
        else
            print_line(l, r);
    }
    code = list_missed(l);
    if (l->unsure)
        (void)printf("? The clock had not been set: this time is wrong.\n");
    if (!l->csv && !l->common.json)
        (void)printf("%u sighting%s, %s\n", l->records->len, out_s(l->records->len),
                     out_bytes(l->bytes, size));
    return code;
}

static int print_pattern(listing *l)
{
    if (!cli_plot_name_fits(l->pattern))
        return CLI_USAGE;
    int code = collect(l, 0);
    if (code != CLI_DONE)
        return code;
    pattern *p = pattern_new(&l->clock);
    for (guint i = 0; i < l->records->len; i++) {
        const tw_sighting_record *r = &g_array_index(l->records, tw_sighting_record, i);
        pattern_add(p, r->name, r->start_us);
    }
    code = pattern_show(p, l->pattern);
    pattern_free(p);
    return code;
}

static int export(listing *l)
{
    tw_settings *settings = NULL;
    int code = collect(l, 0);
    if (code != CLI_DONE)
        return code;
    if (cli_load_readable(&l->common, &settings) != TW_OK)
        return CLI_USAGE;
    const camtrap_source source = {l->catalogue, settings, l->store, l->records};
    code = camtrap_export(&source, l->camtrap);
    tw_settings_free(settings);
    return code;
}

/* ---- over time ------------------------------------------------------------------- */

static bool print_point(void *ctx, const tw_trace_point *point)
{
    const listing *l = ctx;
    char time[TWI_UTC_MAX];
    if (l->common.json)
        out_json(twi_json_second(point));
    else
        (void)printf("%s,%.4f,%.4f\r\n", twi_utc(point->t_us, time), point->max_ppm / 1e4,
                     point->mean_ppm / 1e4);
    return true;
}

static int print_trace(listing *l)
{
    tw_sighting_filter filter = {0};
    tw_error err = {0};
    const int code = store_day(&l->clock, l->day, &filter.from_us, &filter.until_us);
    if (code != CLI_DONE)
        return code;
    if (!l->camera)
        return cli_say(CLI_USAGE, "--trace: say of which camera, with --camera NAME");
    if (!l->common.json)
        (void)printf("time,max_percent,mean_percent\r\n");
    if (tw_catalogue_trace(l->catalogue, l->camera, filter.from_us, filter.until_us,
                           print_point, l, &err) != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    return CLI_DONE;
}

static bool print_value(void *ctx, const tw_sensor_value *v)
{
    const listing *l = ctx;
    char time[TWI_UTC_MAX];
    if (l->common.json)
        out_json(twi_json_value(v));
    else
        (void)printf("%s,%s,%.6f\r\n", twi_utc(v->at_us, time), v->sensor,
                     (double)v->value / 1e6);
    return true;
}

static int print_values(listing *l)
{
    tw_sighting_filter filter = {0};
    tw_error err = {0};
    const int code = store_day(&l->clock, l->day, &filter.from_us, &filter.until_us);
    if (code != CLI_DONE)
        return code;
    if (!l->common.json)
        (void)printf("time,sensor,value\r\n");
    if (tw_catalogue_values(l->catalogue, NULL, filter.from_us, filter.until_us,
                            print_value, l, &err) != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    return CLI_DONE;
}

/* "lost: no frame for 10 s" stands behind "lost" already. */
static const char *text_of(const tw_log_entry *h)
{
    const gsize n = strlen(h->what);
    return strncmp(h->text, h->what, n) == 0 && strncmp(h->text + n, ": ", 2) == 0
               ? h->text + n + 2
               : h->text;
}

static bool print_log_entry(void *ctx, const tw_log_entry *h)
{
    const listing *l = ctx;
    char time[32];
    if (l->common.json)
        out_json(twi_json_log_entry(h));
    else
        (void)printf("%s  %-16s %-8s %s\n", local(l, h->at_us, time),
                     h->camera ? h->camera : "station", h->what, text_of(h));
    return true;
}

static int print_log(listing *l)
{
    tw_sighting_filter filter = {0};
    tw_error err = {0};
    const int code = store_day(&l->clock, l->day, &filter.from_us, &filter.until_us);
    if (code != CLI_DONE)
        return code;
    if (tw_catalogue_log(l->catalogue, l->camera, filter.from_us, filter.until_us,
                         print_log_entry, l, &err) != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    return CLI_DONE;
}

/* ---- one of them ----------------------------------------------------------------- */

static bool print_capture(void *ctx, const tw_capture_record *c)
{
    const listing *l = ctx;
    char time[32], size[24];
    (void)printf("  %-15s %s  %s/%s (%s)\n", c->kind, local(l, c->start_us, time),
                 l->store, c->file, out_bytes(c->bytes, size));
    return true;
}

static int show(listing *l, int64_t id)
{
    tw_error err = {0};
    g_array_set_size(l->records, 0);
    int code = collect(l, id);
    if (code == CLI_DONE && l->records->len == 0)
        return cli_say(CLI_FAILED, "there is no sighting %lld", (long long)id);
    if (code != CLI_DONE)
        return code;
    const tw_sighting_record *r = &g_array_index(l->records, tw_sighting_record, 0);
    tw_status st = TW_OK;
    if (l->common.json) {
        out_json(twi_json_record(l->catalogue, id, NULL));
    } else {
        print_line(l, r);
        if (r->why[0])
            (void)printf("  began: %s\n", r->why);
        if (r->note[0])
            (void)printf("  note: %s\n", r->note);
        if (r->named_by[0])
            (void)printf("  named by %s, %.0f %% sure\n", r->named_by, r->sure_ppm / 1e4);
        st = tw_catalogue_captures(l->catalogue, id, print_capture, l, &err);
    }
    return st == TW_OK ? CLI_DONE : cli_say(CLI_FAILED, "%s", err.text);
}

static int remove_one(const listing *l, int64_t id)
{
    tw_card card = {0};
    tw_error err = {0};
    tw_status st = tw_linux_card(l->store, &card, &err);
    if (st == TW_OK)
        st = tw_catalogue_remove(l->catalogue, &card, id, &err);
    if (card.ops)
        card.ops->destroy(card.ctx);
    return st == TW_OK ? CLI_DONE : cli_say(CLI_FAILED, "%s", err.text);
}

static int send_again(const listing *l, int64_t id)
{
    tw_settings *settings = NULL;
    tw_error err = {0};
    uint32_t items = 0;
    if (cli_load_readable(&l->common, &settings) != TW_OK)
        return CLI_USAGE;
    const tw_status st =
        twi_deliver_again(settings, l->send, l->catalogue, id, &items, &err);
    tw_settings_free(settings);
    if (st != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    (void)printf("%u of sighting %lld wait for %s\n", (unsigned)items, (long long)id,
                 l->send);
    return CLI_DONE;
}

static int mark(const listing *l, int64_t id)
{
    tw_error err = {0};
    tw_mark which = TW_MARK_NONE;
    (void)tw_mark_find(l->mark, &which); /* check_arguments has seen that it is one */
    if (tw_catalogue_mark(l->catalogue, id, which, &err) != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    return CLI_DONE;
}

/* What is not said again stays as it was. */
static int name_one(listing *l, int64_t id)
{
    tw_error err = {0};
    g_array_set_size(l->records, 0);
    const int code = collect(l, id);
    if (code != CLI_DONE || l->records->len == 0)
        return code != CLI_DONE
                   ? code
                   : cli_say(CLI_FAILED, "there is no sighting %lld", (long long)id);
    const tw_sighting_record *r = &g_array_index(l->records, tw_sighting_record, 0);
    const tw_naming n = {.size = sizeof n,
                         .name = l->name ? l->name : r->name,
                         .count = l->count >= 0            ? (uint32_t)l->count
                                  : l->name && !l->name[0] ? 0
                                                           : r->count,
                         .note = l->note ? l->note : r->note,
                         .at_us = l->clock.ops->wall_us(l->clock.ctx)};
    if (tw_catalogue_name(l->catalogue, id, &n, &err) != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    return CLI_DONE;
}

static int read_id(const char *text, gint64 *id)
{
    return g_ascii_string_to_signed(text, 10, 1, G_MAXINT64, id, NULL)
               ? CLI_DONE
               : cli_say(CLI_USAGE, "%s is no sighting: expected a number of the list",
                         text);
}

static int act(listing *l, gint64 id)
{
    tw_error err = {0};
    if (l->remove)
        return remove_one(l, id);
    if (l->send)
        return send_again(l, id);
    if (l->mark)
        return mark(l, id);
    if (l->naming)
        return name_one(l, id);
    if (!l->star && !l->unstar)
        return show(l, id);
    if (tw_catalogue_star(l->catalogue, id, l->star, &err) != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    return CLI_DONE;
}

/* ---- many at once ---------------------------------------------------------------- */

/* The sightings that are meant: those that are named, or all that are found. */
static int choose(listing *l, int count, char **ids, GArray *out)
{
    int code = CLI_DONE;
    for (int i = 0; i < count && code == CLI_DONE; i++) {
        gint64 id = 0;
        code = read_id(ids[i], &id);
        if (code == CLI_DONE)
            g_array_append_val(out, id);
    }
    if (count > 0)
        return code;
    code = collect(l, 0);
    for (guint i = 0; code == CLI_DONE && i < l->records->len; i++) {
        const tw_sighting_record *r = &g_array_index(l->records, tw_sighting_record, i);
        const gint64 id = r->id;
        /* What got a star is not deleted in passing. */
        if (!l->remove || !r->starred || l->starred)
            g_array_append_val(out, id);
    }
    return code;
}

/* Whoever sits there is asked; a script knows what it does. */
static gboolean may_remove(const listing *l, guint count)
{
    char answer[16];
    if (!l->remove || !l->found || count == 0 || !isatty(STDIN_FILENO))
        return TRUE;
    (void)printf("Delete %u sighting%s, and all that was captured of them? [no] ", count,
                 out_s(count));
    (void)fflush(stdout);
    return fgets(answer, sizeof answer, stdin) && (answer[0] == 'y' || answer[0] == 'Y');
}

static void note_removals(const listing *l, guint count)
{
    g_autofree char *line = g_strdup_printf("%u sighting%s deleted, by %s", count,
                                            out_s(count), g_get_user_name());
    (void)tw_catalogue_did(l->catalogue, NULL, l->clock.ops->wall_us(l->clock.ctx), line,
                           NULL);
}

static int act_on(listing *l, const GArray *ids)
{
    int code = CLI_DONE;
    guint done = 0;
    if (!may_remove(l, ids->len))
        return cli_say(CLI_FAILED, "nothing was deleted");
    for (guint i = 0; i < ids->len && code == CLI_DONE; i++) {
        code = act(l, g_array_index(ids, gint64, i));
        done += code == CLI_DONE;
    }
    if (l->remove && done > 0)
        note_removals(l, done);
    if (l->found && !l->common.json)
        (void)printf("%u sighting%s\n", done, out_s(done));
    return code;
}

static void tell_rebuilt(void *ctx, const tw_event *e)
{
    (void)ctx;
    if (e->kind == TW_EVENT_PROBLEM)
        (void)printf("%s\n", e->text);
}

static int rebuild(listing *l)
{
    tw_settings *settings = NULL;
    tw_card card = {0};
    tw_error err = {0};
    if (!g_file_test(l->store, G_FILE_TEST_IS_DIR))
        return cli_say(CLI_FAILED, "there is no store %s", l->store);
    if (cli_load_readable(&l->common, &settings) != TW_OK)
        return CLI_USAGE;
    tw_status st = tw_linux_card(l->store, &card, &err);
    if (st == TW_OK)
        st = tw_store_rebuild(&card, settings, l->clock, tell_rebuilt, NULL, &err);
    if (card.ops)
        card.ops->destroy(card.ctx);
    tw_settings_free(settings);
    return st == TW_OK ? CLI_DONE : cli_say(CLI_FAILED, "%s", err.text);
}

/* ---- the command ----------------------------------------------------------------- */

static int check_arguments(const listing *l, int count)
{
    tw_mark unused = TW_MARK_NONE;
    const int changes =
        l->star + l->unstar + l->remove + (l->send != NULL) + (l->mark != NULL);
    const int others = (l->missed != NULL) + (l->not_missed != 0);
    if (l->naming && (changes + others > 0 || (count == 0 && !l->found)))
        return cli_say(CLI_USAGE, "--name, --count and --note are for sightings that are "
                                  "named by their numbers, or --found, and for nothing "
                                  "else with them");
    if (l->found && (count > 0 || (changes == 0 && !l->naming)))
        return cli_say(CLI_USAGE, "--found stands for the numbers of sightings: with "
                                  "--star, --unstar, --mark, --name, --count, --note, "
                                  "--send or --delete");
    if (l->count < -1 || l->count > TW_COUNT_MAX)
        return cli_say(CLI_USAGE, "--count %d: expected 0 to %d", l->count, TW_COUNT_MAX);
    if (l->marked_as && (!tw_mark_find(l->marked_as, &unused) || unused == TW_MARK_NONE))
        return cli_say(CLI_USAGE, "--marked-as %s: expected right or nothing",
                       l->marked_as);
    if (changes + others > 1)
        return cli_say(CLI_USAGE, "one of --star, --unstar, --mark, --missed, "
                                  "--not-missed, --delete and --send at a time");
    if (changes > 0 && count == 0 && !l->found)
        return cli_say(CLI_USAGE, "name the sightings, by their numbers in the list, or "
                                  "say --found");
    if (others > 0 && count > 0)
        return cli_say(CLI_USAGE, "--missed and --not-missed take no sightings: use "
                                  "--mark for those");
    if (l->mark && !tw_mark_find(l->mark, &unused))
        return cli_say(CLI_USAGE, "--mark %s: expected right, nothing or none", l->mark);
    if (l->newest < 0 || l->least_mb < 0)
        return cli_say(CLI_USAGE, "--newest and --least-mb: not negative");
    return CLI_DONE;
}

/* What is asked for without naming sightings. */
static int act_on_all(listing *l)
{
    if (l->missed)
        return add_missed(l);
    if (l->not_missed)
        return drop_missed(l);
    if (l->pattern)
        return print_pattern(l);
    if (l->camtrap)
        return export(l);
    if (l->trace)
        return print_trace(l);
    if (l->values)
        return print_values(l);
    return l->happened ? print_log(l) : list(l);
}

/* By the clock alone: a list has no sun. */
static int read_hours(listing *l)
{
    if (!l->hours || (twi_hours_parse(l->hours, &l->within, NULL) == TW_OK &&
                      !twi_hours_need_place(&l->within)))
        return CLI_DONE;
    return cli_say(CLI_USAGE, "--hours %s: expected hours such as 22:00-05:00", l->hours);
}

/* --name finds, unless it is for those that are named and nothing else is done. */
static gboolean names_them(const listing *l, int count)
{
    const gboolean acts =
        l->star || l->unstar || l->remove || l->send || l->mark || l->zip;
    return l->note || l->count >= 0 || (l->name && !acts && (count > 0 || l->found));
}

static int run_on(listing *l, int count, char **ids)
{
    g_autoptr(GArray) chosen = g_array_new(FALSE, FALSE, sizeof(gint64));
    if (count == 0 && !l->found && !l->zip)
        return act_on_all(l);
    const int code = choose(l, count, ids, chosen);
    if (code != CLI_DONE)
        return code;
    return l->zip ? packing_write(l->store, l->catalogue, chosen, l->zip)
                  : act_on(l, chosen);
}

static int run(listing *l, int count, char **ids)
{
    l->naming = names_them(l, count);
    int code = check_arguments(l, count);
    if (code == CLI_DONE)
        code = read_hours(l);
    if (code == CLI_DONE)
        code = store_find(&l->common, &l->store);
    if (code == CLI_DONE && l->rebuild)
        code = rebuild(l);
    if (code != CLI_DONE)
        return code;
    code = store_open(l->store, &l->catalogue);
    return code == CLI_DONE ? run_on(l, count, ids) : code;
}

static void clear(listing *l)
{
    tw_catalogue_close(l->catalogue);
    (void)g_array_free(l->records, TRUE);
    cli_clear(&l->common);
    g_free(l->store);
    g_free(l->camera);
    g_free(l->day);
    g_free(l->send);
    g_free(l->mark);
    g_free(l->missed);
    g_free(l->name);
    g_free(l->note);
    g_free(l->hours);
    g_free(l->marked_as);
    g_free(l->larger);
    g_free(l->smaller);
    g_free(l->pattern);
    g_free(l->camtrap);
    g_free(l->zip);
}

static int parse(listing *l, int *argc, char ***argv)
{
    const GOptionEntry own[] = {
        {"store", 'd', 0, G_OPTION_ARG_FILENAME, &l->store,
         "The store (else that of the settings)", "DIR"},
        {"camera", 'c', 0, G_OPTION_ARG_STRING, &l->camera, "Of this camera only",
         "NAME"},
        {"day", 0, 0, G_OPTION_ARG_STRING, &l->day, "Begun on this day", "YYYY-MM-DD"},
        {"least-mb", 0, 0, G_OPTION_ARG_DOUBLE, &l->least_mb,
         "With at least so many megabytes of captures", "MB"},
        {"hours", 0, 0, G_OPTION_ARG_STRING, &l->hours, "Begun at these hours of a day",
         "22:00-05:00"},
        {"larger", 0, 0, G_OPTION_ARG_STRING, &l->larger,
         "Whose highest activity is at least this", "SHARE"},
        {"smaller", 0, 0, G_OPTION_ARG_STRING, &l->smaller, "... or at most this",
         "SHARE"},
        {"marked", 0, 0, G_OPTION_ARG_NONE, &l->marked, "Marked ones only", NULL},
        {"marked-as", 0, 0, G_OPTION_ARG_STRING, &l->marked_as, "Marked so", "MARK"},
        {"name", 0, 0, G_OPTION_ARG_STRING, &l->name,
         "Whose name has this in it; of those that are named: who was seen, \"\" takes "
         "it back",
         "NAME"},
        {"count", 0, 0, G_OPTION_ARG_INT, &l->count, "How many of them; 0: not said",
         "N"},
        {"note", 0, 0, G_OPTION_ARG_STRING, &l->note, "A line of your own", "TEXT"},
        {"starred", 0, 0, G_OPTION_ARG_NONE, &l->starred, "Starred ones only", NULL},
        {"newest", 'n', 0, G_OPTION_ARG_INT, &l->newest, "The newest so many", "N"},
        {"star", 0, 0, G_OPTION_ARG_NONE, &l->star, "Star those that are named", NULL},
        {"unstar", 0, 0, G_OPTION_ARG_NONE, &l->unstar, "Take their star away", NULL},
        {"mark", 0, 0, G_OPTION_ARG_STRING, &l->mark,
         "Say what those that are named were: right, or nothing; none takes it back",
         "MARK"},
        {"missed", 0, 0, G_OPTION_ARG_STRING, &l->missed,
         "Say that something was there then and not seen, by --camera",
         "\"YYYY-MM-DD HH:MM\""},
        {"not-missed", 0, 0, G_OPTION_ARG_INT, &l->not_missed,
         "Take that back, by its number in the list", "N"},
        {"delete", 0, 0, G_OPTION_ARG_NONE, &l->remove,
         "Delete those that are named, their files too", NULL},
        {"send", 0, 0, G_OPTION_ARG_STRING, &l->send,
         "Send the captures of those that are named, once more if they were",
         "DESTINATION"},
        {"found", 0, 0, G_OPTION_ARG_NONE, &l->found,
         "Do it to all that the rest finds, in the place of numbers; starred ones are "
         "deleted with --starred alone",
         NULL},
        {"zip", 0, 0, G_OPTION_ARG_FILENAME, &l->zip,
         "Put the captures of those that are named, or found, into a ZIP file; -: "
         "standard output",
         "FILE"},
        {"rebuild", 0, 0, G_OPTION_ARG_NONE, &l->rebuild,
         "Make the catalogue again from the files first; not while the station runs",
         NULL},
        {"csv", 0, 0, G_OPTION_ARG_NONE, &l->csv, "The list as CSV", NULL},
        {"pattern", 0, 0, G_OPTION_ARG_FILENAME, &l->pattern,
         "When those came that have a name, by hour and by week: a table, and a plot "
         "into this file (PNG, SVG, or - for the terminal)",
         "FILE"},
        {"camtrap", 0, 0, G_OPTION_ARG_FILENAME, &l->camtrap,
         "Export as Camtrap DP 1.0: tables and media go to this folder", "DIR"},
        {"trace", 0, 0, G_OPTION_ARG_NONE, &l->trace,
         "The activity of a camera, second by second, as CSV", NULL},
        {"values", 0, 0, G_OPTION_ARG_NONE, &l->values, "What the sensors said, as CSV",
         NULL},
        {"happened", 0, 0, G_OPTION_ARG_NONE, &l->happened,
         "What else happened to the station and its cameras", NULL},
        {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    return cli_parse(argc, argv, "[ID…]", ABOUT, EXAMPLE, own, &l->common);
}

int cli_sightings(int argc, char **argv)
{
    listing l = {.clock = tw_linux_clock(), .count = -1};
    l.records = g_array_new(FALSE, FALSE, sizeof(tw_sighting_record));
    g_array_set_clear_func(l.records, drop_record);
    int code = parse(&l, &argc, &argv);
    if (code == CLI_DONE)
        code = run(&l, argc - 1, argv + 1);
    clear(&l);
    return code;
}
