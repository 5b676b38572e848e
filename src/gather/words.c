/* Words that wait for their stations, over whichever engine. */
#include "words.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { NUMBER = 24, WAITING_MAX = 1000 /* for one station */ };

static void write_number(char out[NUMBER], int64_t number)
{
    (void)snprintf(out, NUMBER, "%lld", (long long)number);
}

static int64_t read_number(const char *text)
{
    return strtoll(text, NULL, 10);
}

/* ---- keeping --------------------------------------------------------------------- */

static const char KEEP[] =
    "INSERT INTO word(id, station, what, who, text, made_us) SELECT CASE WHEN m.id >= "
    "CAST(?1 AS BIGINT) THEN m.id ELSE CAST(?1 AS BIGINT) END + row_number() OVER (ORDER "
    "BY s.id), s.id, CAST(?3 AS TEXT), CAST(?4 AS TEXT), CAST(?5 AS TEXT), CAST(?1 AS "
    "BIGINT) FROM station s CROSS JOIN (SELECT coalesce(max(id), 0) AS id FROM word) m "
    "WHERE s.name IN (?2*) AND (SELECT count(*) FROM word w WHERE w.station = s.id AND "
    "w.state = 'waits') < CAST(?6 AS BIGINT) RETURNING id";

static void count_row(void *ctx, const char *const *row)
{
    (void)row;
    ++*(int64_t *)ctx;
}

/* Two that keep at once may choose the same numbers: one of them chooses anew. */
tw_status twi_words_keep(const twi_ledger_kind *kind, twi_ledger *l, const char *stations,
                         const char *what, const char *who, const char *text,
                         int64_t now_us, int64_t *kept, tw_error *err)
{
    enum { TRIES = 5 };
    char now[NUMBER], most[NUMBER];
    write_number(now, now_us);
    write_number(most, WAITING_MAX);
    if (strlen(text) > TWI_WORD_MOST_BYTES)
        return tw_fail(err, TW_ESIZE, "that is too much at once");
    const char *values[] = {now, stations, what, who, text, most};
    tw_status st = TW_EINVAL;
    for (int i = 0; i < TRIES && st == TW_EINVAL; i++) {
        *kept = 0;
        st = kind->ask(l, KEEP, values, 6, count_row, kept, err);
    }
    return st;
}

/* ---- telling --------------------------------------------------------------------- */

/* They count as told by the same statement: what has no order has none here. */
static const char DUE[] =
    "UPDATE word SET told_us = CAST(?3 AS BIGINT) WHERE id IN (SELECT w.id FROM word w "
    "JOIN station s ON s.id = w.station WHERE w.state = 'waits' AND s.state NOT IN "
    "('dead', 'down', '') AND (w.told_us = 0 OR (w.told_us <= CAST(?1 AS BIGINT) AND "
    "s.heard_us > w.told_us)) AND (w.what = 'say' OR ((w.what <> 'settings' OR CAST(?2 "
    "AS BIGINT) = 1) AND NOT EXISTS (SELECT 1 FROM word o WHERE o.station = w.station "
    "AND o.state = 'waits' AND o.what = w.what AND o.id < w.id))) ORDER BY w.id LIMIT "
    "CAST(?4 AS BIGINT)) RETURNING id, (SELECT s.name FROM station s WHERE s.id = "
    "word.station), what, "
    "text";

typedef struct due_list {
    twi_due *all;
    size_t count;
    bool whole; /* there was memory */
} due_list;

static void take_due(void *ctx, const char *const *row)
{
    due_list *list = ctx;
    if (list->count == TWI_WORDS_DUE)
        return;
    twi_due *due = &list->all[list->count];
    *due = (twi_due){.id = read_number(row[0]), .text = strdup(row[3])};
    (void)snprintf(due->station, sizeof due->station, "%s", row[1]);
    (void)snprintf(due->what, sizeof due->what, "%s", row[2]);
    list->count += due->text != NULL;
    list->whole = list->whole && due->text;
}

void twi_due_clear(twi_due *due, size_t count)
{
    for (size_t i = 0; i < count; i++)
        free(due[i].text);
}

tw_status twi_words_due(const twi_ledger_kind *kind, twi_ledger *l, bool settings,
                        int64_t now_us, int64_t again_us, twi_due out[TWI_WORDS_DUE],
                        size_t *found, tw_error *err)
{
    char before[NUMBER], now[NUMBER], most[NUMBER];
    due_list list = {out, 0, true};
    write_number(before, now_us - again_us);
    write_number(now, now_us);
    write_number(most, TWI_WORDS_DUE);
    const char *values[] = {before, settings ? "1" : "0", now, most};
    tw_status st = kind->ask(l, DUE, values, 4, take_due, &list, err);
    if (st == TW_OK && !list.whole && list.count == 0)
        st = tw_fail(err, TW_ENOMEM, "out of memory");
    if (st != TW_OK)
        twi_due_clear(out, list.count);
    *found = st == TW_OK ? list.count : 0;
    return st;
}

#define DAY_US (INT64_C(86400) * 1000000)

tw_status twi_words_forget(const twi_ledger_kind *kind, twi_ledger *l, int64_t now_us,
                           tw_error *err)
{
    char season[NUMBER], year[NUMBER];
    write_number(season, now_us - 90 * DAY_US);
    write_number(year, now_us - 365 * DAY_US);
    const char *values[] = {season, year};
    return kind->ask(l,
                     "DELETE FROM word WHERE (state <> 'waits' AND answered_us < CAST(?1 "
                     "AS BIGINT)) OR made_us < CAST(?2 AS BIGINT)",
                     values, 2, NULL, NULL, err);
}

/* ---- listing --------------------------------------------------------------------- */

typedef struct lister {
    twi_kept_word_fn take;
    void *ctx;
} lister;

static void take_word(void *ctx, const char *const *row)
{
    const lister *to = ctx;
    const twi_kept_word word = {.id = read_number(row[0]),
                                .station = row[1],
                                .what = row[2],
                                .who = row[3],
                                .state = row[4],
                                .text = row[5],
                                .answer = row[6],
                                .made_us = read_number(row[7]),
                                .told_us = read_number(row[8]),
                                .answered_us = read_number(row[9])};
    to->take(to->ctx, &word);
}

tw_status twi_words_list(const twi_ledger_kind *kind, twi_ledger *l, const char *stations,
                         const char *what, uint32_t most, twi_kept_word_fn take,
                         void *ctx, tw_error *err)
{
#define SELECT_WORDS                                                                     \
    "SELECT w.id, s.name, w.what, w.who, w.state, w.text, w.answer, w.made_us, "         \
    "w.told_us, w.answered_us FROM word w JOIN station s ON s.id = w.station WHERE "     \
    "w.what = ?1 "
#define IN_ORDER "ORDER BY w.id DESC LIMIT CAST(?2 AS BIGINT)"
    char number[NUMBER];
    lister to = {take, ctx};
    write_number(number, most);
    const char *values[] = {what, number, stations};
    return stations ? kind->ask(l, SELECT_WORDS "AND s.name IN (?3*) " IN_ORDER, values,
                                3, take_word, &to, err)
                    : kind->ask(l, SELECT_WORDS IN_ORDER, values, 2, take_word, &to, err);
}

typedef struct counter {
    void (*take)(void *ctx, const char *station, int64_t waiting);
    void *ctx;
} counter;

static void take_count(void *ctx, const char *const *row)
{
    const counter *to = ctx;
    to->take(to->ctx, row[0], read_number(row[1]));
}

tw_status twi_words_waiting(const twi_ledger_kind *kind, twi_ledger *l,
                            void (*take)(void *ctx, const char *station, int64_t waiting),
                            void *ctx, tw_error *err)
{
    counter to = {take, ctx};
    return kind->ask(l,
                     "SELECT s.name, count(*) FROM word w JOIN station s ON s.id = "
                     "w.station WHERE w.state = 'waits' GROUP BY s.name",
                     NULL, 0, take_count, &to, err);
}

/* ---- settings --------------------------------------------------------------------- */

typedef struct asker {
    void (*take)(void *ctx, const char *station);
    void *ctx;
} asker;

static void take_station(void *ctx, const char *const *row)
{
    const asker *to = ctx;
    to->take(to->ctx, row[0]);
}

tw_status twi_words_unknown(const twi_ledger_kind *kind, twi_ledger *l, int64_t now_us,
                            int64_t again_us,
                            void (*take)(void *ctx, const char *station), void *ctx,
                            tw_error *err)
{
    char now[NUMBER], before[NUMBER];
    asker to = {take, ctx};
    write_number(now, now_us);
    write_number(before, now_us - again_us);
    const char *values[] = {now, before};
    return kind->ask(l,
                     "UPDATE station SET settings_asked_us = CAST(?1 AS BIGINT) WHERE id "
                     "IN (SELECT id FROM station WHERE settings_now <> '' AND "
                     "settings_now <> settings_of AND settings_asked_us <= CAST(?2 AS "
                     "BIGINT) AND state NOT IN ('dead', 'down') LIMIT 64) RETURNING name",
                     values, 2, take_station, &to, err);
}

#define WHO_TOLD                                                                         \
    " FROM station WHERE settings <> '' AND settings_now <> '' AND name IN (?1*) ORDER " \
    "BY name"

tw_status twi_words_settable(const twi_ledger_kind *kind, twi_ledger *l,
                             const char *stations,
                             void (*take)(void *ctx, const char *station), void *ctx,
                             tw_error *err)
{
    asker to = {take, ctx};
    return kind->ask(l, "SELECT name" WHO_TOLD, &stations, 1, take_station, &to, err);
}

typedef struct reader {
    void (*take)(void *ctx, const char *station, const char *text);
    void *ctx;
} reader;

static void take_settings(void *ctx, const char *const *row)
{
    const reader *to = ctx;
    to->take(to->ctx, row[0], row[1]);
}

tw_status
twi_words_settings(const twi_ledger_kind *kind, twi_ledger *l, const char *stations,
                   void (*take)(void *ctx, const char *station, const char *text),
                   void *ctx, tw_error *err)
{
    reader to = {take, ctx};
    return kind->ask(l, "SELECT name, settings" WHO_TOLD, &stations, 1, take_settings,
                     &to, err);
}
