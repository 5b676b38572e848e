/* What a mail says: short, in plain text and as HTML. */
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../core/caption.h"
#include "destination.h"
#include "../core/naming.h"
#include "../settings/sections.h"

enum { LINES_MAX = 50, NAMED_MAX = 3 /* files that are named one by one */ };

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

/* One that was asked for can end where it began. */
static double seconds_of(const sighting_facts *s)
{
    return s->end_us > s->start_us ? (double)(s->end_us - s->start_us) / 1e6 : 0;
}

void twi_compose_time(const destination *d, const sighting_facts *s, char *out,
                      size_t capacity)
{
    char start[32];
    local_time(d, s->start_us, "%d %b %Y, %H:%M:%S", start, sizeof start);
    if (s->over)
        (void)snprintf(out, capacity, "%s, %.0f s", start, seconds_of(s));
    else
        (void)snprintf(out, capacity, "%s, and still going on", start);
}

/* "kerb, sighting 12, 26 s, peak 2.8 %": what stands below its name and time. */
static void word_facts(const sighting_facts *s, char *out, size_t capacity)
{
    const double peak = s->peak_ppm / 1e4;
    const int n = snprintf(out, capacity, "%s, sighting %u", s->camera, (unsigned)s->id);
    if (n < 0 || (size_t)n >= capacity)
        return;
    if (s->over)
        (void)snprintf(out + n, capacity - (size_t)n, ", %.0f s, peak %.*f %%",
                       seconds_of(s), peak < 1 ? 2 : 1, peak);
    else
        (void)snprintf(out + n, capacity - (size_t)n, ", and still going on");
}

static void word_size(uint64_t bytes, char out[32])
{
    (void)snprintf(out, 32, bytes < 1000000 ? "%.0f kB" : "%.1f MB",
                   (double)bytes / (bytes < 1000000 ? 1e3 : 1e6));
}

static uint64_t all_bytes(const message_item *const *named, size_t count)
{
    uint64_t bytes = 0;
    for (size_t i = 0; i < count; i++)
        bytes += named[i]->bytes;
    return bytes;
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

/* The name, if it has one, and when: "2 Bufo bufo, 13 Mar 2027, 20:30:14". */
static void put_sighting(const destination *d, const sighting_facts *s, FILE *out)
{
    char time[64], facts[128], link[LINK_BYTES];
    local_time(d, s->start_us, "%d %b %Y, %H:%M:%S", time, sizeof time);
    word_facts(s, facts, sizeof facts);
    (void)fprintf(out, "%s%s%s\n%s\n", s->who, s->who[0] ? ", " : "", time, facts);
    if (s->unsure)
        (void)fputs("The clock had not been set: the times are wrong.\n", out);
    if (s->why[0])
        (void)fprintf(out, "%s\n", s->why);
    if (twi_message_link(d, s->id, link, sizeof link))
        (void)fprintf(out, "%s\n", link);
}

/* The day of a sighting, if the one before was of another. @return whether it is. */
static bool new_day(const destination *d, const message *l, size_t i, char day[32])
{
    char before[32] = "";
    local_time(d, l->sightings[i].start_us, "%d %b %Y", day, 32);
    if (i > 0)
        local_time(d, l->sightings[i - 1].start_us, "%d %b %Y", before, sizeof before);
    return strcmp(day, before) != 0;
}

static void put_list(const destination *d, const message *l, FILE *out)
{
    char day[32], time[16], facts[128];
    for (size_t i = 0; i < l->sighting_count && i < LINES_MAX; i++) {
        const sighting_facts *s = &l->sightings[i];
        if (new_day(d, l, i, day))
            (void)fprintf(out, "%s\n", day);
        local_time(d, s->start_us, "%H:%M", time, sizeof time);
        word_facts(s, facts, sizeof facts);
        (void)fprintf(out, "  %s  %s%s%s\n", time, s->who, s->who[0] ? ": " : "", facts);
    }
    if (l->sighting_count > LINES_MAX)
        (void)fprintf(out, "... and %zu more.\n", l->sighting_count - LINES_MAX);
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
    char size[32];
    if (!draft_open(&text))
        return NULL;
    put_alarms(d, l, "", "\n", put_plain, text.file);
    if (l->sighting_count == 1)
        put_sighting(d, &l->sightings[0], text.file);
    else if (l->sighting_count > 1)
        put_list(d, l, text.file);
    for (size_t i = 0; i < named_count && named_count <= NAMED_MAX; i++) {
        word_size(named[i]->bytes, size);
        (void)fprintf(text.file, "%s (%s) is not in this mail, but in the store.\n",
                      named[i]->file, size);
    }
    if (named_count > NAMED_MAX) {
        word_size(all_bytes(named, named_count), size);
        (void)fprintf(text.file,
                      "%zu files (%s) are not in this mail, but in the store.\n",
                      named_count, size);
    }
    put_stopped(d, l, text.file);
    return draft_close(&text);
}

/* ---- HTML ------------------------------------------------------------------------ */

/* The page's type and light colours, on each element: readers drop style sheets, and the
 * body's. See docs/looks.md. */
#define SANS "font-family:system-ui,'Segoe UI',Roboto,'Noto Sans',sans-serif;"
#define STYLE                                                                            \
    SANS "color:#2a241c;background:#f6f1e7;padding:16px;font-size:16px;line-height:1.5"
#define DIM "color:#5f5546;font-size:13px"
#define HEAD                                                                             \
    "font-family:'Iowan Old Style',Charter,Georgia,'Noto Serif',serif;font-weight:500;"  \
    "font-size:20px"
#define LINK "color:#8f5212;font-weight:600"
#define HAIR "1px solid #d9cfbc"

static void put_link_begin(const char *link, FILE *out)
{
    (void)fputs("<a style=\"" LINK "\" href=\"", out);
    put_escaped(out, link);
    (void)fputs("\">", out);
}

/* When, and who if somebody said it; it leads to the page, if it is known where that is.
 */
static void put_name(const destination *d, const sighting_facts *s, const char *time,
                     FILE *out)
{
    char link[LINK_BYTES];
    const bool leads = twi_message_link(d, s->id, link, sizeof link);
    if (leads)
        put_link_begin(link, out);
    (void)fprintf(out, leads ? "%s" : "<b>%s</b>", time);
    if (leads)
        (void)fputs("</a>", out);
    if (!s->who[0])
        return;
    (void)fputs(" <i style=\"font-family:Georgia,serif\">", out);
    put_escaped(out, s->who);
    (void)fputs("</i>", out);
}

static void put_words(const destination *d, const sighting_facts *s, const char *pattern,
                      FILE *out)
{
    char time[64], facts[128];
    local_time(d, s->start_us, pattern, time, sizeof time);
    word_facts(s, facts, sizeof facts);
    put_name(d, s, time, out);
    (void)fputs("<br><span style=\"" DIM "\">", out);
    put_escaped(out, facts);
    if (s->unsure)
        (void)fputs("<br>The clock had not been set: the times are wrong.", out);
    (void)fputs("</span>", out);
}

static void put_picture(size_t index, const char *style, FILE *out)
{
    (void)fprintf(out,
                  "<img src=\"cid:picture%zu\" alt=\"what was seen\" "
                  "style=\"display:block;border-radius:2px;%s\">",
                  index, style);
}

static void put_html_sighting(const destination *d, const sighting_facts *s, FILE *out)
{
    (void)fputs("<p style=\"margin:8px 0 0\">", out);
    put_words(d, s, "%d %b %Y, %H:%M:%S", out);
    (void)fputs("</p><p style=\"margin:4px 0 0;" DIM "\">", out);
    put_escaped(out, s->why);
    (void)fputs("</p>", out);
}

/* @return the place of a sighting's picture among those that are shown; SHOWN_MAX: none.
 */
static size_t picture_of(const mail_shown *shown, int64_t sighting)
{
    for (size_t i = 0; i < shown->count; i++)
        if (shown->sighting[i] == sighting)
            return i;
    return SHOWN_MAX;
}

/* Each once, in the order in which they came: its picture, and beside it the words. */
static void put_rows(const destination *d, const message *l, const mail_shown *shown,
                     FILE *out)
{
    char day[32];
    (void)fputs("<table style=\"border-collapse:collapse;color:#2a241c;" SANS "\">", out);
    for (size_t i = 0; i < l->sighting_count && i < LINES_MAX; i++) {
        const sighting_facts *s = &l->sightings[i];
        const size_t at = picture_of(shown, s->id);
        if (new_day(d, l, i, day))
            (void)fprintf(out,
                          "<tr><td colspan=\"2\" style=\"padding:8px 0;" HEAD
                          "\">%s</td></tr>",
                          day);
        (void)fputs("<tr style=\"border-top:" HAIR
                    "\"><td style=\"padding:8px 12px 8px 0;width:200px\">",
                    out);
        if (at < SHOWN_MAX)
            put_picture(at, "width:200px;max-width:100%", out);
        (void)fputs("</td><td style=\"padding:8px 0;vertical-align:top\">", out);
        put_words(d, s, "%H:%M", out);
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

static char *make_html(const destination *d, const message *l, const mail_shown *shown,
                       const message_item *const *named, size_t named_count)
{
    draft html;
    char size[32];
    if (!draft_open(&html))
        return NULL;
    (void)fputs("<html><body><div style=\"" STYLE "\">", html.file);
    if (shown->count > 0 && l->sighting_count <= 1)
        put_picture(0, "max-width:100%", html.file);
    put_alarms(d, l, "<p style=\"margin:8px 0 0\">", "</p>", put_escaped, html.file);
    if (l->sighting_count == 1)
        put_html_sighting(d, &l->sightings[0], html.file);
    else if (l->sighting_count > 1)
        put_rows(d, l, shown, html.file);
    for (size_t i = 0; i < named_count && named_count <= NAMED_MAX; i++) {
        word_size(named[i]->bytes, size);
        (void)fputs("<p style=\"margin:8px 0 0\">Not in this mail, but in the store: ",
                    html.file);
        put_escaped(html.file, named[i]->file);
        (void)fprintf(html.file, " (%s)</p>", size);
    }
    if (named_count > NAMED_MAX) {
        word_size(all_bytes(named, named_count), size);
        (void)fprintf(html.file,
                      "<p style=\"margin:8px 0 0\">Not in this mail, but in the store: "
                      "%zu files (%s)</p>",
                      named_count, size);
    }
    put_html_stopped(d, l, html.file);
    (void)fputs("</div></body></html>\n", html.file);
    return draft_close(&html);
}

tw_status twi_compose(const destination *d, const message *l, const mail_shown *shown,
                      const message_item *const *named, size_t named_count, prose *out)
{
    *out = (prose){twi_compose_subject(d, l), make_text(d, l, named, named_count),
                   make_html(d, l, shown, named, named_count)};
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
