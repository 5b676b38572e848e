/* What is put goes into a table of this session by COPY, and from there to its places:
 * what is there already stays as it is, so that several gatherers may put the same. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../../core/civil.h"
#include "session.h"

enum { PLANS_HOLD = 50 }; /* batches */

/* ---- to its places ----------------------------------------------------------------- */

static const char STATIONS[] =
    "INSERT INTO station(name) SELECT DISTINCT c.station FROM coming c"
    " WHERE NOT EXISTS (SELECT FROM station s WHERE s.name = c.station)"
    " ORDER BY 1 ON CONFLICT DO NOTHING";

/* Who puts something holds its stations first, in one order, so that two do not wait for
 * each other with what follows. */
static const char LOCKED[] =
    "SELECT id, usual_us, heard_us FROM station"
    " WHERE name IN (SELECT DISTINCT station FROM coming) ORDER BY id FOR NO KEY UPDATE";

static const char *const PLACES[] = {
    "INSERT INTO series(station, word) SELECT DISTINCT s.id, c.series FROM coming c"
    " JOIN station s ON s.name = c.station WHERE c.series <> '' AND NOT EXISTS"
    " (SELECT FROM series r WHERE r.station = s.id AND r.word = c.series)",

    "UPDATE series r SET last_number = n.last FROM (SELECT s.id, c.series,"
    " max(c.number) AS last FROM coming c JOIN station s ON s.name = c.station"
    " WHERE c.series <> '' GROUP BY 1, 2) n"
    " WHERE r.station = n.id AND r.word = n.series AND r.last_number < n.last",

    /* of a sighting the last word counts, but that it is gone is none */
    "INSERT INTO latest SELECT DISTINCT ON (r.id, c.number) r.id, c.number, c.phase,"
    " c.start_us, c.at FROM coming c JOIN station s ON s.name = c.station"
    " JOIN series r ON r.station = s.id AND r.word = c.series WHERE c.kind IN (2, 3)"
    " ORDER BY r.id, c.number, c.phase, c.at DESC",

    /* it is put anew below: whose clock was set meanwhile lies in another place */
    "DELETE FROM sighting g USING latest n, told t WHERE t.series = n.series"
    " AND t.number = n.number AND t.phase = 1 AND n.phase = 1"
    " AND g.series = t.series AND g.number = t.number AND g.start_us = t.start_us",

    "WITH taken AS (INSERT INTO told SELECT series, number, phase, start_us FROM latest"
    " ON CONFLICT(series, number) DO UPDATE SET phase = excluded.phase,"
    " start_us = excluded.start_us WHERE excluded.phase = 1 RETURNING series, number)"
    " INSERT INTO sighting SELECT n.series, n.number, c.camera, n.phase, n.start_us,"
    " c.end_us, c.peak_ppm, c.name, c.count, c.mark, c.text FROM latest n"
    " JOIN taken USING(series, number) JOIN coming c ON c.at = n.at WHERE n.phase = 1",

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
    "UPDATE station s SET heard_us = $1::bigint, usual_us = v.usual, silent = FALSE"
    " FROM unnest($2::bigint[], $3::bigint[]) AS v(id, usual) WHERE s.id = v.id";

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

static void put_escaped(FILE *out, const char *text)
{
    static const char SPECIAL[] = "\\\t\n\r", LETTER[] = "\\tnr";
    (void)fputc('\t', out);
    while (*text) {
        const size_t plain = strcspn(text, SPECIAL);
        (void)fwrite(text, 1, plain, out);
        text += plain;
        if (*text)
            (void)fprintf(out, "\\%c", LETTER[strchr(SPECIAL, *text++) - SPECIAL]);
    }
}

static void put_row(FILE *out, size_t at, const twi_heard *h)
{
    (void)fprintf(out, "%zu\t%d", at, (int)h->kind);
    put_escaped(out, h->station);
    put_escaped(out, h->camera);
    put_escaped(out, h->series);
    (void)fprintf(out, "\t%lld\t%d\t%lld\t%lld\t%lld\t%u\t%lld", (long long)h->number,
                  (int)h->phase, (long long)h->start_us, (long long)h->end_us,
                  (long long)h->time_us, (unsigned)h->peak_ppm, (long long)h->count);
    put_escaped(out, h->name);
    put_escaped(out, h->mark);
    put_escaped(out, h->state);
    if (h->placed)
        (void)fprintf(out, "\t%lld\t%lld", (long long)h->latitude,
                      (long long)h->longitude);
    else
        (void)fputs("\t\\N\t\\N", out);
    put_escaped(out, h->text);
    (void)fputc('\n', out);
}

static char *rows_of(const twi_heard *batch, size_t count, size_t *bytes)
{
    char *rows = NULL;
    FILE *out = open_memstream(&rows, bytes);
    for (size_t i = 0; out && i < count; i++)
        put_row(out, i, &batch[i]);
    if (out && fclose(out) == 0)
        return rows;
    free(rows);
    return NULL;
}

/* The end of a COPY: what the server says of it. */
static tw_status copy_end(const twi_ledger *l, tw_error *err)
{
    tw_status st = TW_OK;
    PGresult *r = NULL;
    if (PQputCopyEnd(l->db, NULL) != 1)
        st = twi_pg_fail(l, NULL, err);
    while ((r = PQgetResult(l->db)) != NULL) {
        if (PQresultStatus(r) != PGRES_COMMAND_OK && st == TW_OK)
            st = twi_pg_fail(l, r, err);
        PQclear(r);
    }
    return st;
}

static tw_status copy_rows(const twi_ledger *l, const twi_heard *batch, size_t count,
                           tw_error *err)
{
    size_t bytes = 0;
    char *rows = rows_of(batch, count, &bytes);
    if (!rows)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    PGresult *r = PQexec(l->db, "COPY coming FROM STDIN");
    tw_status st = PQresultStatus(r) == PGRES_COPY_IN ? TW_OK : twi_pg_fail(l, r, err);
    PQclear(r);
    if (st == TW_OK) {
        const bool sent = PQputCopyData(l->db, rows, (int)bytes) == 1;
        st = copy_end(l, err);
        if (st == TW_OK && !sent)
            st = twi_pg_fail(l, NULL, err);
    }
    free(rows);
    return st;
}

/* ---- when each was heard ----------------------------------------------------------- */

/* Of each station that was not heard of later already, as lists: "{1,2,3}". */
static void list_heard(const PGresult *r, int64_t now_us, FILE *ids, FILE *usual)
{
    char before = '{';
    for (int i = 0; i < PQntuples(r); i++) {
        const int64_t heard_us = twi_pg_number(r, i, 2);
        if (heard_us >= now_us)
            continue;
        const int64_t next_us =
            heard_us > 0 ? twi_usual_next(twi_pg_number(r, i, 1), now_us - heard_us) : 0;
        (void)fprintf(ids, "%c%s", before, PQgetvalue(r, i, 0));
        (void)fprintf(usual, "%c%lld", before, (long long)next_us);
        before = ',';
    }
    (void)fputs(before == '{' ? "{}" : "}", ids);
    (void)fputs(before == '{' ? "{}" : "}", usual);
}

/* @param r  The stations as LOCKED gives them. */
static tw_status put_heard(twi_ledger *l, const PGresult *r, int64_t now_us,
                           tw_error *err)
{
    char now[24], *lists[2] = {NULL, NULL};
    size_t bytes[2];
    FILE *ids = open_memstream(&lists[0], &bytes[0]),
         *usual = open_memstream(&lists[1], &bytes[1]);
    (void)snprintf(now, sizeof now, "%lld", (long long)now_us);
    if (ids && usual)
        list_heard(r, now_us, ids, usual);
    bool good = ids && fclose(ids) == 0;
    good = usual && fclose(usual) == 0 && good;
    const char *values[] = {now, lists[0], lists[1]};
    const tw_status st = good ? twi_pg_ask_again(l, HEARD, 3, values, NULL, err)
                              : tw_fail(err, TW_ENOMEM, "out of memory");
    free(lists[0]);
    free(lists[1]);
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

static tw_status put_to_places(twi_ledger *l, int64_t now_us, tw_error *err)
{
    PGresult *stations = NULL;
    tw_status st = twi_pg_ask_again(l, STATIONS, 0, NULL, NULL, err);
    if (st == TW_OK)
        st = twi_pg_ask_again(l, LOCKED, 0, NULL, &stations, err);
    for (size_t i = 0; i < sizeof PLACES / sizeof *PLACES && st == TW_OK; i++)
        st = twi_pg_ask_again(l, PLACES[i], 0, NULL, NULL, err);
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

tw_status twi_pg_put(twi_ledger *l, const twi_heard *batch, size_t count, int64_t now_us,
                     tw_error *err)
{
    tw_status st = twi_pg_connected(l, err);
    if (st == TW_OK)
        st = make_partitions(l, batch, count, err);
    if (st == TW_OK)
        st = begin_batch(l, err);
    if (st == TW_OK)
        st = copy_rows(l, batch, count, err);
    if (st == TW_OK)
        st = put_to_places(l, now_us, err);
    if (st == TW_OK)
        return twi_pg_execute(l, "COMMIT", err);
    if (PQtransactionStatus(l->db) != PQTRANS_IDLE)
        (void)twi_pg_execute(l, "ROLLBACK", NULL);
    return st;
}
