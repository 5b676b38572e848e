/* What is put goes into a table of this session by COPY, and from there to its places:
 * what is there already stays as it is, so that several gatherers may put the same. Of
 * sightings, which are most of it, only what says whose they are goes this way, see
 * seen.c. */
#include <stdio.h>

#include "../../core/civil.h"
#include "bulk.h"
#include "session.h"

enum { PLANS_HOLD = 50 }; /* batches */

/* ---- to its places ----------------------------------------------------------------- */

static const char STATIONS[] =
    "INSERT INTO station(name) SELECT DISTINCT h.station FROM head h"
    " WHERE NOT EXISTS (SELECT FROM station s WHERE s.name = h.station)"
    " ORDER BY 1 ON CONFLICT DO NOTHING";

/* Who puts something holds its stations first, in one order, so that two do not wait for
 * each other with what follows. */
static const char LOCKED[] =
    "SELECT id, usual_us, heard_us FROM station"
    " WHERE name IN (SELECT station FROM head) ORDER BY id FOR NO KEY UPDATE";

/* What sightings hang on. */
static const char *const SERIES[] = {
    "INSERT INTO series(station, word) SELECT s.id, h.series FROM head h"
    " JOIN station s ON s.name = h.station WHERE h.series <> '' AND NOT EXISTS"
    " (SELECT FROM series r WHERE r.station = s.id AND r.word = h.series)",

    "UPDATE series r SET last_number = h.last_number FROM head h"
    " JOIN station s ON s.name = h.station WHERE h.series <> ''"
    " AND r.station = s.id AND r.word = h.series AND r.last_number < h.last_number"};

static const char *const PLACES[] = {
    "INSERT INTO camera SELECT DISTINCT ON (s.id, c.camera) s.id, c.camera, c.state,"
    " c.told_us, c.text FROM coming c JOIN station s ON s.name = c.station"
    " WHERE c.kind = 1 ORDER BY s.id, c.camera, c.told_us DESC, c.at DESC"
    " ON CONFLICT(station, name) DO UPDATE SET state = excluded.state,"
    " told_us = excluded.told_us, text = excluded.text"
    " WHERE excluded.told_us >= camera.told_us",

    /* where one stood until then, as was told or is there, is left out */
    "INSERT INTO stand SELECT n.id, n.camera, n.told_us, n.latitude, n.longitude"
    " FROM (SELECT s.id, c.camera, c.told_us, c.latitude, c.longitude,"
    " lag(c.latitude) OVER o AS north, lag(c.longitude) OVER o AS east"
    " FROM coming c JOIN station s ON s.name = c.station"
    " WHERE c.kind = 1 AND c.latitude IS NOT NULL AND c.told_us > 0"
    " WINDOW o AS (PARTITION BY s.id, c.camera ORDER BY c.told_us, c.at)) n"
    " LEFT JOIN LATERAL (SELECT p.latitude, p.longitude FROM stand p"
    " WHERE p.station = n.id AND p.camera = n.camera AND p.since_us <= n.told_us"
    " ORDER BY p.since_us DESC LIMIT 1) b ON TRUE"
    " WHERE (n.latitude, n.longitude) IS DISTINCT FROM"
    " (coalesce(n.north, b.latitude), coalesce(n.east, b.longitude))"
    " ON CONFLICT DO NOTHING",

    "INSERT INTO alarm(station, camera, told_us, text) SELECT s.id, c.camera, c.told_us,"
    " c.text FROM coming c JOIN station s ON s.name = c.station WHERE c.kind = 4"
    " ORDER BY 1, 2, 3 ON CONFLICT DO NOTHING",

    "UPDATE station s SET state = c.state,"
    " series = CASE WHEN c.series = '' THEN s.series ELSE c.series END,"
    " told_us = c.told_us, text = c.text, settings_now = CASE WHEN c.state IN"
    " ('dead', 'down') THEN s.settings_now ELSE c.name END"
    " FROM (SELECT DISTINCT ON (station) * FROM coming WHERE kind = 0"
    " ORDER BY station, told_us = 0 DESC, told_us DESC, at DESC) c"
    " WHERE s.name = c.station AND (s.told_us <= c.told_us OR c.told_us = 0)",

    "UPDATE station s SET settings = c.text, settings_of = c.name"
    " FROM (SELECT DISTINCT ON (station) station, name, text FROM coming WHERE kind = 5"
    " ORDER BY station, at DESC) c WHERE s.name = c.station"};

/* The first word counts. */
static const char ANSWERS[] =
    "UPDATE word w SET state = c.state, answered_us = $1::bigint, answer = c.text"
    " FROM (SELECT DISTINCT ON (station, number) * FROM coming WHERE kind = 6"
    " ORDER BY station, number, at) c JOIN station s ON s.name = c.station"
    " WHERE w.id = c.number AND w.station = s.id AND w.state = 'waits'";

static const char HEARD[] =
    "UPDATE station s SET heard_us = v.now, usual_us = v.usual, silent = FALSE"
    " FROM unnest($1::bigint[], $2::bigint[], $3::bigint[]) AS v(id, usual, now)"
    " WHERE s.id = v.id";

/* ---- partitions ------------------------------------------------------------------ */

/* Months since TWI_PG_FIRST_YEAR; -1: outside, where the clock was not set. */
static int month_of(int64_t wall_us)
{
    twi_civil civil;
    if (wall_us <= 0 || wall_us > INT64_C(4102444800) * 1000000)
        return -1;
    twi_civil_split(wall_us, 0, &civil);
    const int month = (civil.year - TWI_PG_FIRST_YEAR) * 12 + civil.month - 1;
    return month >= 0 && month < TWI_PG_YEARS * 12 ? month : -1;
}

static int64_t first_of(int month)
{
    const twi_civil civil = {.year = TWI_PG_FIRST_YEAR + month / 12,
                             .month = (uint8_t)(month % 12 + 1),
                             .day = 1};
    return twi_civil_join(&civil);
}

static tw_status make_partition(twi_ledger *l, int month, tw_error *err)
{
    char sql[512];
    (void)snprintf(sql, sizeof sql,
                   "SELECT pg_advisory_xact_lock(%d); CREATE TABLE IF NOT EXISTS "
                   "sighting_%04d_%02d PARTITION OF sighting FOR VALUES FROM (%lld) TO "
                   "(%lld)",
                   TWI_PG_LOCK, TWI_PG_FIRST_YEAR + month / 12, month % 12 + 1,
                   (long long)first_of(month), (long long)first_of(month + 1));
    return twi_pg_execute(l, sql, err);
}

/* Each in a transaction of its own, before the batch's. */
static tw_status make_partitions(twi_ledger *l, const twi_heard *batch, size_t count,
                                 tw_error *err)
{
    tw_status st = TW_OK;
    for (size_t i = 0; i < count && st == TW_OK; i++) {
        const int month =
            batch[i].kind == TWI_HEARD_SIGHTING ? month_of(batch[i].start_us) : -1;
        if (month < 0 || l->month[month])
            continue;
        st = make_partition(l, month, err);
        l->month[month] = st == TW_OK;
    }
    return st;
}

/* ---- putting --------------------------------------------------------------------- */

static void put_head(FILE *out, size_t at, const twi_heard *h, int64_t last)
{
    (void)fprintf(out, "%zu", at);
    twi_pg_field(out, h->station);
    twi_pg_field(out, h->series);
    (void)fprintf(out, "\t%lld\n", (long long)last);
}

static void put_heads(FILE *out, const twi_pg_order *order)
{
    size_t at = 0;
    for (size_t i = 0; i < order->count; i++) { /* the last of each has the last number */
        if (i + 1 < order->count && !twi_pg_is_head(order, i + 1))
            continue;
        put_head(out, at++, order->one[i], order->one[i]->number);
    }
}

static void put_row(FILE *out, size_t at, const twi_heard *h)
{
    (void)fprintf(out, "%zu\t%d", at, (int)h->kind);
    twi_pg_field(out, h->station);
    twi_pg_field(out, h->camera);
    twi_pg_field(out, h->series);
    (void)fprintf(out, "\t%lld\t%lld", (long long)h->number, (long long)h->time_us);
    twi_pg_field(out, h->name);
    twi_pg_field(out, h->state);
    if (h->placed)
        (void)fprintf(out, "\t%lld\t%lld", (long long)h->latitude,
                      (long long)h->longitude);
    else
        (void)fputs("\t\\N\t\\N", out);
    twi_pg_field(out, h->text);
    (void)fputc('\n', out);
}

static tw_status copy_heads(const twi_ledger *l, const twi_pg_order *order, tw_error *err)
{
    twi_pg_rows rows;
    tw_status st = twi_pg_rows_begin(&rows, err);
    if (st == TW_OK)
        put_heads(rows.out, order);
    if (st == TW_OK)
        st = twi_pg_copy(l, "COPY head FROM STDIN", &rows, err);
    twi_pg_rows_free(&rows);
    return st;
}

static tw_status copy_coming(const twi_ledger *l, const twi_heard *batch, size_t count,
                             tw_error *err)
{
    twi_pg_rows rows;
    tw_status st = twi_pg_rows_begin(&rows, err);
    for (size_t i = 0; i < count && st == TW_OK; i++)
        if (!twi_pg_is_seen(&batch[i]))
            put_row(rows.out, i, &batch[i]);
    if (st == TW_OK)
        st = twi_pg_copy(l, "COPY coming FROM STDIN", &rows, err);
    twi_pg_rows_free(&rows);
    return st;
}

/* ---- when each was heard ----------------------------------------------------------- */

/* Of each station that was not heard of later already. */
static void list_heard(const PGresult *r, int64_t now_us, twi_pg_lists *lists)
{
    for (int i = 0; i < PQntuples(r); i++) {
        const int64_t heard_us = twi_pg_number(r, i, 2);
        if (heard_us >= now_us)
            continue;
        const int64_t row[] = {
            twi_pg_number(r, i, 0),
            heard_us > 0 ? twi_usual_next(twi_pg_number(r, i, 1), now_us - heard_us) : 0,
            now_us};
        twi_pg_list(lists, row);
    }
}

/* @param r  The stations as LOCKED gives them. */
static tw_status put_heard(twi_ledger *l, const PGresult *r, int64_t now_us,
                           tw_error *err)
{
    twi_pg_lists lists;
    tw_status st = twi_pg_lists_begin(&lists, 3, err);
    if (st == TW_OK)
        list_heard(r, now_us, &lists);
    if (st == TW_OK)
        st = twi_pg_ask_lists(l, HEARD, &lists, NULL, err);
    twi_pg_lists_free(&lists);
    return st;
}

/* ---- all of it --------------------------------------------------------------------- */

static tw_status put_answers(twi_ledger *l, int64_t now_us, tw_error *err)
{
    char now[24];
    const char *values[] = {now};
    (void)snprintf(now, sizeof now, "%lld", (long long)now_us);
    return twi_pg_ask_again(l, ANSWERS, 1, values, NULL, err);
}

static tw_status ask_each(twi_ledger *l, const char *const *statements, size_t count,
                          tw_error *err)
{
    tw_status st = TW_OK;
    for (size_t i = 0; i < count && st == TW_OK; i++)
        st = twi_pg_ask_again(l, statements[i], 0, NULL, NULL, err);
    return st;
}

static tw_status put_to_places(twi_ledger *l, const twi_pg_order *order, int64_t now_us,
                               tw_error *err)
{
    PGresult *stations = NULL;
    tw_status st = twi_pg_ask_again(l, STATIONS, 0, NULL, NULL, err);
    if (st == TW_OK)
        st = twi_pg_ask_again(l, LOCKED, 0, NULL, &stations, err);
    if (st == TW_OK)
        st = ask_each(l, SERIES, sizeof SERIES / sizeof *SERIES, err);
    if (st == TW_OK)
        st = twi_pg_put_seen(l, order, err);
    if (st == TW_OK)
        st = ask_each(l, PLACES, sizeof PLACES / sizeof *PLACES, err);
    if (st == TW_OK)
        st = put_answers(l, now_us, err);
    if (st == TW_OK)
        st = put_heard(l, stations, now_us, err);
    PQclear(stations);
    return st;
}

/* How the server goes about it is thought over now and then: tables that were small at
 * first grow. */
static tw_status begin_batch(twi_ledger *l, tw_error *err)
{
    const bool anew = l->puts++ % PLANS_HOLD == 0;
    return twi_pg_execute(l, anew ? "DISCARD PLANS; BEGIN" : "BEGIN", err);
}

static tw_status put_within(twi_ledger *l, const twi_heard *batch, size_t count,
                            int64_t now_us, tw_error *err)
{
    twi_pg_order order;
    tw_status st = twi_pg_order_begin(&order, batch, count, err);
    if (st == TW_OK)
        st = copy_heads(l, &order, err);
    if (st == TW_OK)
        st = copy_coming(l, batch, count, err);
    if (st == TW_OK)
        st = put_to_places(l, &order, now_us, err);
    twi_pg_order_free(&order);
    return st;
}

tw_status twi_pg_put(twi_ledger *l, const twi_heard *batch, size_t count, int64_t now_us,
                     tw_error *err)
{
    tw_status st = twi_pg_connected(l, err);
    if (st == TW_OK)
        st = make_partitions(l, batch, count, err);
    if (st == TW_OK)
        st = begin_batch(l, err);
    if (st == TW_OK)
        st = put_within(l, batch, count, now_us, err);
    if (st == TW_OK)
        return twi_pg_execute(l, "COMMIT", err);
    if (PQtransactionStatus(l->db) != PQTRANS_IDLE)
        (void)twi_pg_execute(l, "ROLLBACK", NULL);
    return st;
}
