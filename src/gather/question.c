/* The question for sightings. Conditions that are not asked for are left out, so that an
 * engine's planner sees what it is about. */
#include "question.h"

#include <inttypes.h>
#include <stdarg.h>
#include <stdio.h>
#include <string.h>

static void add(twi_question *q, const char *format, ...)
    __attribute__((format(printf, 2, 3)));

static void add(twi_question *q, const char *format, ...)
{
    const size_t used = strlen(q->sql);
    va_list args;
    va_start(args, format);
    (void)vsnprintf(q->sql + used, sizeof q->sql - used, format, args);
    va_end(args);
}

/* " AND g.name = $3" */
static void add_text(twi_question *q, const twi_dialect *d, const char *column,
                     const char *value)
{
    if (!value)
        return;
    q->values[q->count++] = value;
    add(q, " AND %s = %c%d", column, d->mark, q->count);
}

/* What stands for others in a pattern stands for itself here. */
static void add_part(twi_question *q, const twi_dialect *d, const char *part)
{
    if (!part)
        return;
    q->values[q->count++] = part;
    add(q, " AND %s(lower(g.name), lower(%c%d)) > 0", d->finds, d->mark, q->count);
}

/* @return the place of a number among the values: "CAST($3 AS BIGINT)" */
static void put_number(twi_question *q, const twi_dialect *d, int64_t n, char out[48])
{
    char *text = q->numbers[q->count];
    (void)snprintf(text, sizeof q->numbers[0], "%" PRId64, n);
    q->values[q->count++] = text;
    (void)snprintf(out, 48, "CAST(%c%d AS BIGINT)", d->mark, q->count);
}

static void add_number(twi_question *q, const twi_dialect *d, const char *condition,
                       int64_t n)
{
    char place[48];
    if (n == 0)
        return;
    put_number(q, d, n, place);
    add(q, " AND %s %s", condition, place);
}

/* "SELECT value FROM json_each(?3)" */
static void put_names(const twi_dialect *d, const char *value, char *out, size_t capacity)
{
    const char *at = strstr(d->names, "%s");
    (void)snprintf(out, capacity, "%.*s%s%s", (int)(at - d->names), d->names, value,
                   at + 2);
}

bool twi_question_words(const char *sql, const twi_dialect *d, char *out, size_t capacity)
{
    size_t used = 0;
    for (; *sql && used + 1 < capacity; sql++) {
        char value[16], names[256];
        if (*sql != '?') {
            out[used++] = *sql;
            continue;
        }
        (void)snprintf(value, sizeof value, "%c%c", d->mark, sql[1]);
        sql++;
        if (sql[1] == '*')
            put_names(d, value, names, sizeof names);
        const char *text = sql[1] == '*' ? names : value;
        sql += sql[1] == '*';
        const int n = snprintf(out + used, capacity - used, "%s", text);
        used += n > 0 ? (size_t)n : 0;
    }
    const bool fits = used < capacity && *sql == '\0';
    out[fits ? used : 0] = '\0';
    return fits;
}

static void add_stations(twi_question *q, const twi_dialect *d, const char *list)
{
    char value[16], names[256];
    if (!list)
        return;
    q->values[q->count++] = list;
    (void)snprintf(value, sizeof value, "%c%d", d->mark, q->count);
    put_names(d, value, names, sizeof names);
    add(q,
        " AND g.series %s(SELECT o.id FROM series o JOIN station p ON p.id = o.station "
        "WHERE p.name IN (%s))%s",
        d->in, names, d->end);
}

void twi_question_make(const twi_ledger_filter *f, const twi_dialect *d, twi_question *q)
{
    char place[48];
    const char *way = f->newest ? " DESC" : "";
    memset(q, 0, sizeof *q);
    add(q, "SELECT s.name, g.camera, r.word, g.name, g.number, g.start_us, g.end_us, "
           "g.count, g.phase, g.peak_ppm, g.text FROM sighting g JOIN series r ON r.id = "
           "g.series JOIN station s ON s.id = r.station WHERE g.phase = 1");
    add_stations(q, d, f->stations);
    add_text(q, d, "g.camera", f->camera);
    add_text(q, d, "g.name", f->name);
    add_part(q, d, f->has_name);
    add_text(q, d, "g.mark", f->mark);
    add_text(q, d, "r.word", f->series);
    add_number(q, d, "g.number =", f->number);
    add_number(q, d, "g.peak_ppm >=", f->least_peak_ppm);
    add_number(q, d, "g.start_us >=", f->from_us);
    add_number(q, d, "g.start_us <", f->until_us);
    add(q, " ORDER BY g.start_us%s, s.name%s%s, g.number%s", way, d->by_letters, way,
        way);
    if (f->most == 0)
        return;
    put_number(q, d, f->most, place);
    add(q, " LIMIT %s", place);
}
