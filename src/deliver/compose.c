/* What a mail says: short, in plain text and as HTML. */
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../core/caption.h"
#include "../media/jpeg.h"
#include "destination.h"
#include "../core/naming.h"
#include "../settings/sections.h"
#include "../station/sheet.h"

enum { LINES_MAX = 50, TILES_MAX = 12 };

/* ---- ids ------------------------------------------------------------------------- */

/* The part of the sender's address that is behind the "@". */
static const char *domain_of(const destination *d, char *out, size_t capacity)
{
    const char *from = d->set.from[0] ? d->set.from : d->set.user;
    const char *at = strrchr(from, '@');
    (void)snprintf(out, capacity, "%s", at ? at + 1 : "localhost");
    out[strcspn(out, "> \t\r\n")] = '\0';
    return out;
}

void twi_compose_thread(const destination *d, const sighting_facts *s, char *out,
                        size_t capacity)
{
    char domain[128];
    (void)snprintf(out, capacity, "sighting-%" PRId64 "-%" PRId64 "@%s", s->id,
                   s->start_us, domain_of(d, domain, sizeof domain));
}

void twi_compose_id(const destination *d, const char *key, char *out, size_t capacity)
{
    char domain[128];
    (void)snprintf(out, capacity, "%s@%s", key, domain_of(d, domain, sizeof domain));
}

/* ---- words ----------------------------------------------------------------------- */

/* A text that grows; what does not fit into memory shows when it is closed. */
typedef struct draft {
    FILE *file;
    char *text;
    size_t bytes;
} draft;

static bool draft_open(draft *d)
{
    *d = (draft){NULL, NULL, 0};
    d->file = open_memstream(&d->text, &d->bytes);
    return d->file != NULL;
}

static char *draft_close(draft *d)
{
    if (d->file && fclose(d->file) == 0)
        return d->text;
    free(d->text);
    return NULL;
}

static void put_escaped(FILE *out, const char *text)
{
    for (; *text; text++) {
        if (*text == '<')
            (void)fputs("&lt;", out);
        else if (*text == '>')
            (void)fputs("&gt;", out);
        else if (*text == '&')
            (void)fputs("&amp;", out);
        else if (*text == '"')
            (void)fputs("&quot;", out);
        else
            (void)fputc(*text, out);
    }
}

static void local_time(const destination *d, int64_t wall_us, const char *pattern,
                       char *out, size_t capacity)
{
    const tw_clock *clock = &d->of->clock;
    twi_caption_fields fields = {.camera = "", .station = ""};
    twi_civil_split(wall_us, clock->ops->offset_s(clock->ctx, wall_us), &fields.time);
    if (twi_caption_expand(pattern, &fields, out, capacity, NULL) != TW_OK)
        out[0] = '\0';
}

void twi_compose_time(const destination *d, const sighting_facts *s, char *out,
                      size_t capacity)
{
    char start[32], end[32];
    local_time(d, s->start_us, "%Y-%m-%d %H:%M:%S", start, sizeof start);
    local_time(d, s->end_us, "%H:%M:%S", end, sizeof end);
    if (s->over)
        (void)snprintf(out, capacity, "%s to %s (%.0f s)", start, end,
                       (double)(s->end_us - s->start_us) / 1e6);
    else
        (void)snprintf(out, capacity, "%s, and still going on", start);
}

static void word_size(uint64_t bytes, char out[32])
{
    (void)snprintf(out, 32, bytes < 1000000 ? "%.0f kB" : "%.1f MB",
                   (double)bytes / (bytes < 1000000 ? 1e3 : 1e6));
}

char *twi_compose_subject(const destination *d, const message *l)
{
    char out[TWI_CAPTION_MAX], first[32], last[32];
    const tw_clock *clock = &d->of->clock;
    if (l->sighting_count == 1) {
        const sighting_facts *s = &l->sightings[0];
        twi_caption_fields fields = {.camera = s->camera,
                                     .station = d->of->station,
                                     .sighting = (uint32_t)s->id,
                                     .activity_ppm = s->peak_ppm};
        twi_civil_split(s->start_us, clock->ops->offset_s(clock->ctx, s->start_us),
                        &fields.time);
        if (twi_caption_expand(d->set.subject, &fields, out, sizeof out, NULL) == TW_OK)
            return strdup(out);
    }
    if (l->sighting_count == 0 && l->alarm_count > 0) {
        const message_item *a = &l->items[0];
        (void)snprintf(out, sizeof out, "%s: %s%s%s", d->of->station, a->camera,
                       a->camera[0] ? ": " : "", a->text);
        return strdup(out);
    }
    if (l->sighting_count == 0) {
        local_time(d, l->count > 0 ? l->items[0].start_us : 0, "%H:%M:%S", first,
                   sizeof first);
        (void)snprintf(out, sizeof out, "%s: picture of %s",
                       l->count > 0 ? l->items[0].camera : "", first);
        return strdup(out);
    }
    const int64_t first_us = l->sightings[0].start_us,
                  last_us = l->sightings[l->sighting_count - 1].start_us;
    local_time(d, first_us, "%d %b", first, sizeof first);
    local_time(d, last_us, "%d %b", last, sizeof last);
    const bool same_day = strcmp(first, last) == 0;
    local_time(d, first_us, "%d %b %H:%M", first, sizeof first);
    local_time(d, last_us, same_day ? "%H:%M" : "%d %b %H:%M", last, sizeof last);
    (void)snprintf(out, sizeof out, "%s: %zu sightings, %s to %s", d->of->station,
                   l->sighting_count, first, last);
    return strdup(out);
}

/* ---- text ------------------------------------------------------------------------ */

static void put_sighting(const destination *d, const sighting_facts *s, FILE *out)
{
    char time[128], link[LINK_BYTES];
    twi_compose_time(d, s, time, sizeof time);
    (void)fprintf(out, "%s, sighting %u: %s\n", s->camera, (unsigned)s->id, time);
    if (s->who[0])
        (void)fprintf(out, "%s\n", s->who);
    if (s->unsure)
        (void)fputs("The clock had not been set: the times are wrong.\n", out);
    if (s->why[0])
        (void)fprintf(out, "%s\n", s->why);
    if (s->over)
        (void)fprintf(out, "At most %.2f %% of the picture moved.\n", s->peak_ppm / 1e4);
    if (twi_message_link(d, s->id, link, sizeof link))
        (void)fprintf(out, "%s\n", link);
}

/* "kerb, 2027-03-13 21:04: it has given no picture for 10 min" */
static void word_alarm(const destination *d, const message_item *a, char *out,
                       size_t capacity)
{
    char time[32];
    local_time(d, a->start_us, "%Y-%m-%d %H:%M", time, sizeof time);
    (void)snprintf(out, capacity, "%s%s%s: %s", a->camera, a->camera[0] ? ", " : "", time,
                   a->text);
}

static void put_alarms(const destination *d, const message *l, const char *before,
                       const char *after, void (*put)(FILE *out, const char *text),
                       FILE *out)
{
    char line[512];
    for (size_t i = 0; i < l->count; i++) {
        if (l->items[i].entry == 0)
            continue;
        word_alarm(d, &l->items[i], line, sizeof line);
        (void)fputs(before, out);
        put(out, line);
        (void)fputs(after, out);
    }
}

static void put_plain(FILE *out, const char *text)
{
    (void)fputs(text, out);
}

static void put_stopped(const destination *d, const message *l, FILE *out)
{
    char since[64];
    for (size_t i = 0; i < l->stopped_count; i++) {
        local_time(d, l->stopped[i].since_us, "%d %b %H:%M", since, sizeof since);
        (void)fprintf(out, "Sending to %s stopped on %s: %s\n", l->stopped[i].name, since,
                      l->stopped[i].why);
    }
}

static char *make_text(const destination *d, const message *l,
                       const message_item *const *named, size_t named_count)
{
    draft text;
    char time[128], size[32];
    if (!draft_open(&text))
        return NULL;
    put_alarms(d, l, "", "\n", put_plain, text.file);
    if (l->sighting_count == 1)
        put_sighting(d, &l->sightings[0], text.file);
    for (size_t i = 0; l->sighting_count > 1 && i < l->sighting_count && i < LINES_MAX;
         i++) {
        twi_compose_time(d, &l->sightings[i], time, sizeof time);
        (void)fprintf(text.file, "%-12s %4u  %s\n", l->sightings[i].camera,
                      (unsigned)l->sightings[i].id, time);
    }
    if (l->sighting_count > LINES_MAX)
        (void)fprintf(text.file, "... and %zu more.\n", l->sighting_count - LINES_MAX);
    for (size_t i = 0; i < named_count && i < LINES_MAX; i++) {
        word_size(named[i]->bytes, size);
        (void)fprintf(text.file, "%s (%s) is not in this mail, but in the store.\n",
                      named[i]->file, size);
    }
    if (named_count > LINES_MAX)
        (void)fprintf(text.file, "... and %zu more are in the store.\n",
                      named_count - LINES_MAX);
    put_stopped(d, l, text.file);
    return draft_close(&text);
}

/* ---- HTML ------------------------------------------------------------------------ */

/* Colours of the light page, on an element: readers drop style sheets, and the body's. */
#define STYLE                                                                            \
    "font-family:sans-serif;color:#2a241c;background:#f6f1e7;padding:16px;"              \
    "line-height:1.4"

/* The number of a sighting; it leads to the page, if it is known where that is. */
static void put_number(const destination *d, const sighting_facts *s, const char *before,
                       FILE *out)
{
    char link[LINK_BYTES];
    const bool leads = twi_message_link(d, s->id, link, sizeof link);
    if (leads) {
        (void)fputs("<a href=\"", out);
        put_escaped(out, link);
        (void)fputs("\">", out);
    }
    (void)fprintf(out, "%s%u%s", before, (unsigned)s->id, leads ? "</a>" : "");
}

static void put_html_sighting(const destination *d, const sighting_facts *s, FILE *out)
{
    char time[128];
    twi_compose_time(d, s, time, sizeof time);
    (void)fputs("<p style=\"margin:8px 0 0\"><b>", out);
    put_escaped(out, s->camera);
    (void)fputs("</b>, ", out);
    put_number(d, s, "sighting ", out);
    (void)fprintf(out, "<br>%s", time);
    if (s->who[0])
        (void)fputs("<br>", out);
    put_escaped(out, s->who);
    if (s->unsure)
        (void)fputs("<br>The clock had not been set: the times are wrong.", out);
    if (s->over)
        (void)fprintf(out, "<br>At most %.2f&nbsp;%% of the picture moved.",
                      s->peak_ppm / 1e4);
    (void)fputs("</p><p style=\"margin:4px 0 0;color:#4f6472;font-size:90%\">", out);
    put_escaped(out, s->why);
    (void)fputs("</p>", out);
}

static void put_table(const destination *d, const message *l, FILE *out)
{
    char time[128];
    (void)fputs("<table style=\"border-collapse:collapse;margin-top:8px\">", out);
    for (size_t i = 0; i < l->sighting_count && i < LINES_MAX; i++) {
        const sighting_facts *s = &l->sightings[i];
        twi_compose_time(d, s, time, sizeof time);
        (void)fputs("<tr><td style=\"padding:2px 12px 2px 0\"><b>", out);
        put_escaped(out, s->camera);
        (void)fputs("</b></td><td style=\"padding:2px 12px 2px 0\">", out);
        put_number(d, s, "", out);
        (void)fprintf(out, "</td><td>%s%s", time, s->who[0] ? ", " : "");
        put_escaped(out, s->who);
        (void)fputs("</td></tr>", out);
    }
    (void)fputs("</table>", out);
    if (l->sighting_count > LINES_MAX)
        (void)fprintf(out, "<p>and %zu more</p>", l->sighting_count - LINES_MAX);
}

static void put_html_stopped(const destination *d, const message *l, FILE *out)
{
    char since[64];
    for (size_t i = 0; i < l->stopped_count; i++) {
        local_time(d, l->stopped[i].since_us, "%d %b %H:%M", since, sizeof since);
        (void)fputs("<p style=\"margin:8px 0 0\"><b>Sending to ", out);
        put_escaped(out, l->stopped[i].name);
        (void)fprintf(out, " stopped</b> on %s: ", since);
        put_escaped(out, l->stopped[i].why);
        (void)fputs("</p>", out);
    }
}

static char *make_html(const destination *d, const message *l, bool picture,
                       const message_item *const *named, size_t named_count)
{
    draft html;
    char size[32];
    if (!draft_open(&html))
        return NULL;
    (void)fputs("<html><body><div style=\"" STYLE "\">", html.file);
    if (picture)
        (void)fputs("<img src=\"cid:picture\" alt=\"what was seen\" "
                    "style=\"max-width:100%;display:block\">",
                    html.file);
    put_alarms(d, l, "<p style=\"margin:8px 0 0\">", "</p>", put_escaped, html.file);
    if (l->sighting_count == 1)
        put_html_sighting(d, &l->sightings[0], html.file);
    else if (l->sighting_count > 1)
        put_table(d, l, html.file);
    for (size_t i = 0; i < named_count && i < LINES_MAX; i++) {
        word_size(named[i]->bytes, size);
        (void)fputs("<p style=\"margin:8px 0 0\">Not in this mail, but in the store: ",
                    html.file);
        put_escaped(html.file, named[i]->file);
        (void)fprintf(html.file, " (%s)</p>", size);
    }
    put_html_stopped(d, l, html.file);
    (void)fputs("</div></body></html>\n", html.file);
    return draft_close(&html);
}

tw_status twi_compose(const destination *d, const message *l, bool picture,
                      const message_item *const *named, size_t named_count, prose *out)
{
    *out = (prose){twi_compose_subject(d, l), make_text(d, l, named, named_count),
                   make_html(d, l, picture, named, named_count)};
    if (out->subject && out->text && out->html)
        return TW_OK;
    twi_compose_free(out);
    return TW_ENOMEM;
}

void twi_compose_free(prose *p)
{
    free(p->subject);
    free(p->text);
    free(p->html);
    *p = (prose){NULL, NULL, NULL};
}

/* ---- contact sheets --------------------------------------------------------------- */

/* One still of each sighting, as far as the sheet goes. */
typedef struct tiles {
    twi_sheet_entry entry[TILES_MAX];
    uint8_t *jpeg[TILES_MAX];
    char title[TILES_MAX][96], line[TILES_MAX][128];
    size_t count;
} tiles;

static const sighting_facts *facts_of(const message *l, int64_t id)
{
    for (size_t i = 0; i < l->sighting_count; i++)
        if (l->sightings[i].id == id)
            return &l->sightings[i];
    return NULL;
}

static void add_tile(const destination *d, const message_item *item,
                     const sighting_facts *s, tiles *t)
{
    char path[PATH_BYTES];
    size_t capacity = 0, bytes = 0;
    const size_t i = t->count;
    twi_message_path(d->of, item->file, path);
    if (twi_jpeg_read_file(path, &t->jpeg[i], &capacity, &bytes, NULL) != TW_OK)
        return;
    (void)snprintf(t->title[i], sizeof t->title[i], "%s  %u", s->camera, (unsigned)s->id);
    twi_compose_time(d, s, t->line[i], sizeof t->line[i]);
    t->entry[i] = (twi_sheet_entry){
        .jpeg = t->jpeg[i], .bytes = bytes, .title = t->title[i], .line = t->line[i]};
    t->count++;
}

tw_status twi_compose_sheet(const destination *d, const message *l, uint8_t **out,
                            size_t *bytes, tw_error *err)
{
    tiles *t = calloc(1, sizeof *t);
    int64_t last = 0;
    if (!t)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    for (size_t i = 0; i < l->count && t->count < TILES_MAX; i++) {
        const message_item *item = &l->items[i];
        const sighting_facts *s = facts_of(l, item->sighting);
        if (!s || s->id == last ||
            !(twi_message_is(item, TWI_SEND_STILL) ||
              twi_message_is(item, TWI_SEND_SMALL)))
            continue;
        last = s->id;
        add_tile(d, item, s, t);
    }
    char *title = twi_compose_subject(d, l);
    tw_status st = t->count > 0 ? TW_OK : TW_ENOENT;
    if (st == TW_OK && !title)
        st = tw_fail(err, TW_ENOMEM, "out of memory");
    if (st == TW_OK)
        st = twi_sheet_draw(t->entry, t->count, title, false, out, bytes, err);
    for (size_t i = 0; i < TILES_MAX; i++)
        free(t->jpeg[i]);
    free(t);
    free(title);
    return st;
}
