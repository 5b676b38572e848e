/* The ledger on PostgreSQL, by libpq. What is put goes into a table of this session by
 * COPY, and from there to its places: what is there already stays as it is, so that
 * several gatherers may put the same. Sightings lie in partitions by the month of their
 * start, and beside them one row for each number says where its sighting lies. */
#include <libpq-fe.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../../core/civil.h"
#include "../ledger.h"
#include "../question.h"
#include "tawny/version.h"

enum { VERSION = 3, FIRST_YEAR = 2020, YEARS = 80, SHOWN = 160, LOCK = 0x7461776E };

static const char SCHEMA[] =
    "CREATE TABLE station(id BIGSERIAL PRIMARY KEY, name TEXT NOT NULL UNIQUE,"
    " state TEXT NOT NULL DEFAULT '', series TEXT NOT NULL DEFAULT '',"
    " told_us BIGINT NOT NULL DEFAULT 0, heard_us BIGINT NOT NULL DEFAULT 0,"
    " usual_us BIGINT NOT NULL DEFAULT 0, asked_us BIGINT NOT NULL DEFAULT 0,"
    " vain INTEGER NOT NULL DEFAULT 0,"
    " silent BOOLEAN NOT NULL DEFAULT FALSE, text TEXT NOT NULL DEFAULT '');"
    "CREATE TABLE series(id BIGSERIAL PRIMARY KEY, station BIGINT NOT NULL"
    " REFERENCES station(id), word TEXT NOT NULL, last_number BIGINT NOT NULL DEFAULT 0,"
    " whole_to BIGINT NOT NULL DEFAULT 0, UNIQUE(station, word));"
    "CREATE TABLE camera(station BIGINT NOT NULL REFERENCES station(id),"
    " name TEXT NOT NULL, state TEXT NOT NULL, told_us BIGINT NOT NULL,"
    " text TEXT NOT NULL, PRIMARY KEY(station, name));"
    "CREATE TABLE told(series BIGINT NOT NULL, number BIGINT NOT NULL,"
    " phase SMALLINT NOT NULL, start_us BIGINT NOT NULL, PRIMARY KEY(series, number));"
    "CREATE TABLE sighting(series BIGINT NOT NULL, number BIGINT NOT NULL,"
    " camera TEXT NOT NULL, phase SMALLINT NOT NULL, start_us BIGINT NOT NULL,"
    " end_us BIGINT NOT NULL, peak_ppm INTEGER NOT NULL, name TEXT NOT NULL,"
    " count BIGINT NOT NULL, mark TEXT NOT NULL, text TEXT NOT NULL,"
    " PRIMARY KEY(series, number, start_us)) PARTITION BY RANGE(start_us);"
    "CREATE TABLE sighting_other PARTITION OF sighting DEFAULT;"
    "CREATE INDEX sighting_by_time ON sighting(start_us);"
    "CREATE INDEX sighting_by_series ON sighting(series, start_us);"
    "CREATE TABLE alarm(id BIGSERIAL PRIMARY KEY, station BIGINT NOT NULL"
    " REFERENCES station(id), camera TEXT NOT NULL, told_us BIGINT NOT NULL,"
    " text TEXT NOT NULL);"
    "CREATE UNIQUE INDEX alarm_once ON alarm(station, camera, told_us, md5(text));"
    "CREATE TABLE schema_version(version INTEGER NOT NULL);"
    "INSERT INTO schema_version VALUES (1)";

/* When accounts of the page have looked. */
static const char SECOND[] =
    "CREATE TABLE visit(who TEXT PRIMARY KEY, since_us BIGINT NOT NULL,"
    " last_us BIGINT NOT NULL); UPDATE schema_version SET version = 2";

/* What stations told of their settings, and words that wait for them. */
static const char THIRD[] =
    "ALTER TABLE station ADD COLUMN settings_now TEXT NOT NULL DEFAULT '',"
    " ADD COLUMN settings_of TEXT NOT NULL DEFAULT '',"
    " ADD COLUMN settings TEXT NOT NULL DEFAULT '',"
    " ADD COLUMN settings_asked_us BIGINT NOT NULL DEFAULT 0;"
    "CREATE TABLE word(id BIGINT PRIMARY KEY, station BIGINT NOT NULL"
    " REFERENCES station(id), what TEXT NOT NULL, who TEXT NOT NULL, text TEXT NOT NULL,"
    " made_us BIGINT NOT NULL, told_us BIGINT NOT NULL DEFAULT 0,"
    " state TEXT NOT NULL DEFAULT 'waits', answered_us BIGINT NOT NULL DEFAULT 0,"
    " answer TEXT NOT NULL DEFAULT '');"
    "CREATE INDEX word_by_station ON word(station, id);"
    "CREATE INDEX word_waiting ON word(id) WHERE state = 'waits';"
    "UPDATE schema_version SET version = 3";

static const char COMING[] =
    "CREATE TEMP TABLE IF NOT EXISTS coming(at INTEGER, kind SMALLINT, station TEXT, "
    "camera "
    "TEXT, series TEXT, number BIGINT, phase SMALLINT, start_us BIGINT, end_us BIGINT, "
    "told_us BIGINT, peak_ppm INTEGER, count BIGINT, name TEXT, mark TEXT, state TEXT, "
    "text "
    "TEXT)";

/* From there to its places; in one order everywhere, so that two who do it do not wait
 * for each other. Of a
 * sighting the last word counts, but that it is gone is none. */
static const char *const PLACES[] = {
    "INSERT INTO station(name) SELECT DISTINCT station FROM coming ORDER BY 1 ON "
    "CONFLICT "
    "DO NOTHING",
    "INSERT INTO series(station, word, last_number) SELECT s.id, c.series, "
    "max(greatest(c.number, 0)) FROM coming c JOIN station s ON "
    "s.name = c.station WHERE c.series <> '' GROUP BY 1, 2 ORDER BY 1, 2 ON "
    "CONFLICT(station, word) DO UPDATE SET last_number = excluded.last_number WHERE "
    "series.last_number < excluded.last_number",
    "CREATE TEMP TABLE latest ON COMMIT DROP AS SELECT DISTINCT ON (r.id, c.number) r.id "
    "AS "
    "series, c.number, c.camera, c.phase, c.start_us, c.end_us, c.peak_ppm, c.name, "
    "c.count, c.mark, c.text FROM coming c JOIN station s ON s.name = c.station JOIN "
    "series "
    "r ON r.station = s.id AND r.word = c.series WHERE c.kind IN (2, 3) ORDER BY r.id, "
    "c.number, c.phase, c.at DESC",
    /* whose clock was set meanwhile lies in another place now */
    "DELETE FROM sighting g USING latest n, told t WHERE t.series = n.series AND "
    "t.number = "
    "n.number AND t.start_us <> n.start_us AND n.phase = 1 AND "
    "g.series = "
    "t.series AND g.number = t.number AND g.start_us = t.start_us",
    "WITH taken AS (INSERT INTO told SELECT series, number, phase, start_us FROM latest "
    "ORDER BY 1, 2 ON CONFLICT(series, number) DO UPDATE SET phase = excluded.phase, "
    "start_us = excluded.start_us WHERE excluded.phase = 1 "
    "RETURNING "
    "series, number) INSERT INTO sighting SELECT n.series, n.number, n.camera, n.phase, "
    "n.start_us, n.end_us, n.peak_ppm, n.name, n.count, n.mark, n.text FROM latest n "
    "JOIN "
    "taken USING(series, number) WHERE n.phase = 1 ON CONFLICT(series, number, start_us) "
    "DO "
    "UPDATE SET camera = excluded.camera, phase = excluded.phase, end_us = "
    "excluded.end_us, "
    "peak_ppm = excluded.peak_ppm, name = excluded.name, count = excluded.count, mark = "
    "excluded.mark, text = excluded.text",
    "INSERT INTO camera SELECT DISTINCT ON (s.id, c.camera) s.id, c.camera, c.state, "
    "c.told_us, c.text FROM coming c JOIN station s ON s.name = c.station WHERE c.kind = "
    "1 "
    "ORDER BY s.id, c.camera, c.told_us DESC, c.at DESC ON CONFLICT(station, name) DO "
    "UPDATE SET state = excluded.state, told_us = excluded.told_us, text = excluded.text "
    "WHERE excluded.told_us >= camera.told_us",
    "INSERT INTO alarm(station, camera, told_us, text) SELECT s.id, c.camera, c.told_us, "
    "c.text FROM coming c JOIN station s ON s.name = c.station WHERE c.kind = 4 ORDER BY "
    "1, "
    "2, 3 ON CONFLICT DO NOTHING",
    "UPDATE station s SET state = c.state, series = CASE WHEN c.series = '' THEN "
    "s.series "
    "ELSE c.series END, told_us = c.told_us, text = c.text, settings_now = CASE "
    "WHEN c.state IN ('dead', 'down') THEN s.settings_now ELSE c.name END FROM "
    "(SELECT DISTINCT ON "
    "(station) * FROM coming WHERE kind = 0 ORDER BY station, told_us = 0 DESC, told_us "
    "DESC, at DESC) c WHERE s.name = c.station AND (s.told_us <= c.told_us OR c.told_us "
    "= "
    "0)",
    "UPDATE station s SET settings = c.text, settings_of = c.name FROM (SELECT DISTINCT "
    "ON (station) station, name, text FROM coming WHERE kind = 5 ORDER BY station, at "
    "DESC) c WHERE s.name = c.station"};

/* The first word counts. */
static const char ANSWERS[] =
    "UPDATE word w SET state = c.state, answered_us = $1::bigint, answer = c.text FROM "
    "(SELECT DISTINCT ON (station, number) * FROM coming WHERE kind = 6 ORDER BY "
    "station, number, at) c JOIN station s ON s.name = c.station WHERE w.id = c.number "
    "AND w.station = s.id AND w.state = 'waits'";

static const char TIMEOUT[] = "SET statement_timeout = '60s'";

enum { PLACE_COUNT = sizeof PLACES / sizeof *PLACES };

struct twi_ledger {
    PGconn *db;
    char *address;
    char place[SHOWN];
    uint8_t month[YEARS * 12]; /* whose partition is there */
};

/* ---- talking --------------------------------------------------------------------- */

/* What a state of SQL means to who puts something. */
static tw_status status_of(const char *state)
{
    if (!state) /* the connection */
        return TW_EAGAIN;
    if (strncmp(state, "40", 2) == 0 || strncmp(state, "57", 2) == 0 ||
        strncmp(state, "08", 2) == 0 || strncmp(state, "55", 2) == 0)
        return TW_EAGAIN;
    if (strncmp(state, "22", 2) == 0 || strncmp(state, "23", 2) == 0 ||
        strncmp(state, "54", 2) == 0)
        return TW_EINVAL;
    if (strncmp(state, "53", 2) == 0)
        return TW_ENOSPC;
    return strncmp(state, "28", 2) == 0 ? TW_EACCES : TW_EIO;
}

static tw_status fail(const twi_ledger *l, const PGresult *r, tw_error *err)
{
    char said[200];
    const char *state = r ? PQresultErrorField(r, PG_DIAG_SQLSTATE) : NULL;
    (void)snprintf(said, sizeof said, "%s", PQerrorMessage(l->db));
    said[strcspn(said, "\n")] = '\0';
    return tw_fail(err, status_of(state), "%s: %s", l->place, said);
}

static tw_status ask(const twi_ledger *l, const char *sql, int count,
                     const char *const *values, PGresult **out, tw_error *err)
{
    PGresult *r = PQexecParams(l->db, sql, count, NULL, values, NULL, NULL, 0);
    const ExecStatusType got = PQresultStatus(r);
    tw_status st = TW_OK;
    if (got != PGRES_COMMAND_OK && got != PGRES_TUPLES_OK)
        st = fail(l, r, err);
    if (st == TW_OK && out)
        *out = r;
    else
        PQclear(r);
    return st;
}

/* Statements without values; several at once. */
static tw_status execute(const twi_ledger *l, const char *sql, tw_error *err)
{
    PGresult *r = PQexec(l->db, sql);
    const ExecStatusType got = PQresultStatus(r);
    tw_status st = TW_OK;
    if (got != PGRES_COMMAND_OK && got != PGRES_TUPLES_OK)
        st = fail(l, r, err);
    PQclear(r);
    return st;
}

static int64_t number_at(const PGresult *r, int row, int column)
{
    return strtoll(PQgetvalue(r, row, column), NULL, 10);
}

static void copy(char *out, size_t capacity, const PGresult *r, int row, int column)
{
    (void)snprintf(out, capacity, "%s", PQgetvalue(r, row, column));
}

/* ---- opening --------------------------------------------------------------------- */

static void postgres_close(twi_ledger *l)
{
    if (!l)
        return;
    PQfinish(l->db);
    free(l->address);
    free(l);
}

/* Without what comes before an "@": that may be a password. */
static void show_place(twi_ledger *l, const char *address)
{
    const char *at = strrchr(address, '@'), *slashes = strstr(address, "://");
    if (at && slashes && at > slashes)
        (void)snprintf(l->place, sizeof l->place, "postgresql://%s", at + 1);
    else
        (void)snprintf(l->place, sizeof l->place, "%s", address);
}

static void keep_quiet(void *ctx, const PGresult *r)
{
    (void)ctx;
    (void)r;
}

/* @return TW_ENOTSUP: of a newer one. */
static tw_status read_version(const twi_ledger *l, int64_t *version, tw_error *err)
{
    PGresult *r = NULL;
    tw_status st = ask(l, "SELECT version FROM schema_version", 0, NULL, &r, err);
    *version = st == TW_OK && PQntuples(r) == 1 ? number_at(r, 0, 0) : VERSION + 1;
    if (st == TW_OK && *version > VERSION)
        st = tw_fail(err, TW_ENOTSUP, "%s was written by a newer tawny: use that",
                     l->place);
    PQclear(r);
    return st;
}

/* One makes the tables, whoever else begins at the same time. */
static tw_status bring_up(const twi_ledger *l, tw_error *err)
{
    char lock[64];
    int64_t version = 0;
    PGresult *r = NULL;
    (void)snprintf(lock, sizeof lock, "SELECT pg_advisory_xact_lock(%d)", LOCK);
    tw_status st = execute(l, "BEGIN", err);
    if (st == TW_OK)
        st = execute(l, lock, err);
    if (st == TW_OK)
        st = ask(l, "SELECT to_regclass('schema_version') IS NOT NULL", 0, NULL, &r, err);
    const bool there = st == TW_OK && PQgetvalue(r, 0, 0)[0] == 't';
    PQclear(r);
    if (st == TW_OK && !there)
        st = execute(l, SCHEMA, err);
    if (st == TW_OK)
        st = read_version(l, &version, err);
    if (st == TW_OK && version < 2)
        st = execute(l, SECOND, err);
    if (st == TW_OK && version < 3)
        st = execute(l, THIRD, err);
    const tw_status ended = execute(l, st == TW_OK ? "COMMIT" : "ROLLBACK", NULL);
    return st == TW_OK ? ended : st;
}

static tw_status prepare_session(twi_ledger *l, tw_error *err)
{
    memset(l->month, 0, sizeof l->month);
    (void)PQsetNoticeReceiver(l->db, keep_quiet, NULL);
    if (PQstatus(l->db) != CONNECTION_OK || PQsetClientEncoding(l->db, "UTF8") != 0)
        return fail(l, NULL, err);
    const tw_status st = execute(l, TIMEOUT, err);
    return st == TW_OK ? execute(l, COMING, err) : st;
}

static tw_status postgres_open(const char *place, twi_ledger **out, tw_error *err)
{
    twi_ledger *l = calloc(1, sizeof *l);
    if (!l || !(l->address = strdup(place))) {
        free(l);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    show_place(l, place);
    l->db = PQconnectdb(place);
    tw_status st = prepare_session(l, err);
    if (st == TW_OK)
        st = bring_up(l, err);
    if (st != TW_OK) {
        postgres_close(l);
        return st;
    }
    *out = l;
    return TW_OK;
}

/* A connection that broke is made again with the next batch. */
static tw_status connected(twi_ledger *l, tw_error *err)
{
    if (PQstatus(l->db) == CONNECTION_OK)
        return TW_OK;
    PQreset(l->db);
    return prepare_session(l, err);
}

/* ---- partitions ------------------------------------------------------------------ */

/* Months since FIRST_YEAR; -1: outside, where the clock was not set. */
static int month_of(int64_t wall_us)
{
    twi_civil civil;
    if (wall_us <= 0 || wall_us > INT64_C(4102444800) * 1000000)
        return -1;
    twi_civil_split(wall_us, 0, &civil);
    const int month = (civil.year - FIRST_YEAR) * 12 + civil.month - 1;
    return month >= 0 && month < YEARS * 12 ? month : -1;
}

static int64_t first_of(int month)
{
    const twi_civil civil = {
        .year = FIRST_YEAR + month / 12, .month = (uint8_t)(month % 12 + 1), .day = 1};
    return twi_civil_join(&civil);
}

static tw_status make_partition(twi_ledger *l, int month, tw_error *err)
{
    char sql[512];
    (void)snprintf(sql, sizeof sql,
                   "SELECT pg_advisory_xact_lock(%d); CREATE TABLE IF NOT EXISTS "
                   "sighting_%04d_%02d PARTITION OF sighting FOR VALUES FROM (%lld) TO "
                   "(%lld)",
                   LOCK, FIRST_YEAR + month / 12, month % 12 + 1,
                   (long long)first_of(month), (long long)first_of(month + 1));
    return execute(l, sql, err);
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
    (void)fputc('\t', out);
    for (; *text; text++) {
        if (*text == '\\')
            (void)fputs("\\\\", out);
        else if (*text == '\t')
            (void)fputs("\\t", out);
        else if (*text == '\n')
            (void)fputs("\\n", out);
        else if (*text == '\r')
            (void)fputs("\\r", out);
        else
            (void)fputc(*text, out);
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
        st = fail(l, NULL, err);
    while ((r = PQgetResult(l->db)) != NULL) {
        if (PQresultStatus(r) != PGRES_COMMAND_OK && st == TW_OK)
            st = fail(l, r, err);
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
    tw_status st = PQresultStatus(r) == PGRES_COPY_IN ? TW_OK : fail(l, r, err);
    PQclear(r);
    if (st == TW_OK) {
        const bool sent = PQputCopyData(l->db, rows, (int)bytes) == 1;
        st = copy_end(l, err);
        if (st == TW_OK && !sent)
            st = fail(l, NULL, err);
    }
    free(rows);
    return st;
}

/* When each was heard, and how long that usually takes: as twi_usual_next. */
static tw_status put_heard(const twi_ledger *l, int64_t now_us, tw_error *err)
{
    static const char SQL[] =
        "SELECT id, usual_us, $1::bigint - heard_us, heard_us FROM station WHERE name IN "
        "(SELECT DISTINCT station FROM coming) AND heard_us < $1::bigint ORDER BY id FOR "
        "UPDATE";
    char now[24];
    const char *values[] = {now};
    PGresult *r = NULL;
    (void)snprintf(now, sizeof now, "%lld", (long long)now_us);
    tw_status st = ask(l, SQL, 1, values, &r, err);
    char *sql = NULL;
    size_t bytes = 0;
    FILE *out = st == TW_OK ? open_memstream(&sql, &bytes) : NULL;
    for (int i = 0; out && i < PQntuples(r); i++)
        (void)fprintf(
            out, "%s(%lld,%lld)", i > 0 ? "," : "", (long long)number_at(r, i, 0),
            (long long)(number_at(r, i, 3) > 0
                            ? twi_usual_next(number_at(r, i, 1), number_at(r, i, 2))
                            : 0));
    const bool some = out && PQntuples(r) > 0;
    PQclear(r);
    if (out && fclose(out) != 0)
        st = tw_fail(err, TW_ENOMEM, "out of memory");
    if (st == TW_OK && some) {
        char *update = NULL;
        if (asprintf(
                &update,
                "UPDATE station SET heard_us = %s, usual_us = v.usual, silent = FALSE "
                "FROM (VALUES %s) AS v(id, usual) WHERE station.id = v.id",
                now, sql) < 0)
            st = tw_fail(err, TW_ENOMEM, "out of memory");
        else
            st = execute(l, update, err);
        free(update);
    }
    free(sql);
    return st;
}

static tw_status put_answers(const twi_ledger *l, int64_t now_us, tw_error *err)
{
    char now[24];
    const char *values[] = {now};
    (void)snprintf(now, sizeof now, "%lld", (long long)now_us);
    return ask(l, ANSWERS, 1, values, NULL, err);
}

static tw_status postgres_put(twi_ledger *l, const twi_heard *batch, size_t count,
                              int64_t now_us, tw_error *err)
{
    tw_status st = connected(l, err);
    if (st == TW_OK)
        st = make_partitions(l, batch, count, err);
    if (st == TW_OK)
        st = execute(l, "BEGIN; TRUNCATE coming", err);
    if (st == TW_OK)
        st = copy_rows(l, batch, count, err);
    for (int i = 0; i < PLACE_COUNT && st == TW_OK; i++)
        st = execute(l, PLACES[i], err);
    if (st == TW_OK)
        st = put_answers(l, now_us, err);
    if (st == TW_OK)
        st = put_heard(l, now_us, err);
    if (st == TW_OK)
        return execute(l, "COMMIT", err);
    if (PQtransactionStatus(l->db) != PQTRANS_IDLE)
        (void)execute(l, "ROLLBACK", NULL);
    return st;
}

/* ---- gaps ------------------------------------------------------------------------ */

/* Numbers that follow one another make a group by what is left when their rank is taken
 * away. What is whole is moved on first, so that little is looked at. */
static const char WHOLE[] =
    "WITH moved AS (UPDATE series r SET whole_to = n.to_number FROM (SELECT o.id, "
    "o.whole_to + count(*) "
    "AS "
    "to_number FROM (SELECT r.id, r.whole_to, t.number, row_number() OVER (PARTITION BY "
    "r.id ORDER BY t.number) AS rank FROM series r JOIN station s ON s.id = r.station "
    "AND "
    "s.series = r.word JOIN told t ON t.series = r.id AND t.number > r.whole_to AND "
    "t.number "
    "<= r.last_number WHERE r.last_number > r.whole_to) o WHERE "
    "o.number = "
    "o.whole_to + o.rank GROUP BY o.id, o.whole_to) n WHERE r.id = n.id RETURNING "
    "r.station) UPDATE station s SET vain = 0 FROM moved WHERE "
    "s.id = moved.station AND s.vain > 0";
static const char MISSING[] =
    "SELECT s.name, r.word, m.first, m.last, s.id FROM (SELECT r.* FROM series r JOIN "
    "station s ON s.id = r.station AND s.series = r.word WHERE r.last_number > "
    "r.whole_to "
    "AND s.asked_us <= $1::bigint - ($3::bigint << s.vain) ORDER BY s.asked_us LIMIT "
    "$2::int) r JOIN station s ON "
    "s.id = r.station CROSS JOIN LATERAL (SELECT b.after + 1 AS first, coalesce(b.next, "
    "r.last_number + 1) - 1 AS last FROM (SELECT a.after, lead(a.after) OVER (ORDER BY "
    "a.after) AS next FROM (SELECT r.whole_to AS after UNION ALL SELECT t.number FROM "
    "told "
    "t WHERE t.series = r.id AND t.number > r.whole_to AND t.number <= r.last_number"
    ") a) b) m WHERE m.first <= m.last LIMIT $2::int";

static tw_status mark_asked(const twi_ledger *l, const PGresult *r, int64_t now_us,
                            tw_error *err)
{
    char now[24];
    tw_status st = TW_OK;
    (void)snprintf(now, sizeof now, "%lld", (long long)now_us);
    for (int i = 0; i < PQntuples(r) && st == TW_OK; i++) {
        const char *values[] = {now, PQgetvalue(r, i, 4)};
        if (i == 0 || strcmp(values[1], PQgetvalue(r, i - 1, 4)) != 0)
            st = ask(l,
                     "UPDATE station SET asked_us = $1, vain = least(vain + 1, 10) WHERE "
                     "id = $2",
                     2, values, NULL, err);
    }
    return st;
}

static tw_status postgres_gaps(twi_ledger *l, int64_t now_us, int64_t again_us,
                               twi_ledger_gap *out, size_t *found, tw_error *err)
{
    char now[24], most[12], again[24];
    const char *values[] = {now, most, again};
    PGresult *r = NULL;
    *found = 0;
    (void)snprintf(now, sizeof now, "%lld", (long long)now_us);
    (void)snprintf(again, sizeof again, "%lld", (long long)again_us);
    (void)snprintf(most, sizeof most, "%d", TWI_LEDGER_GAPS);
    tw_status st = connected(l, err);
    if (st == TW_OK)
        st = execute(l, WHOLE, err);
    if (st == TW_OK)
        st = ask(l, MISSING, 3, values, &r, err);
    for (int i = 0; st == TW_OK && i < PQntuples(r) && *found < TWI_LEDGER_GAPS; i++) {
        twi_ledger_gap *g = &out[(*found)++];
        copy(g->station, sizeof g->station, r, i, 0);
        copy(g->series, sizeof g->series, r, i, 1);
        g->first = number_at(r, i, 2);
        g->last = number_at(r, i, 3);
    }
    if (st == TW_OK)
        st = mark_asked(l, r, now_us, err);
    PQclear(r);
    return st;
}

/* ---- reading --------------------------------------------------------------------- */

static tw_status postgres_stations(twi_ledger *l, bool counted,
                                   twi_ledger_station_fn take, void *ctx, tw_error *err)
{
    static const char SQL[] =
        "SELECT s.name, s.state, s.series, s.heard_us, s.usual_us, s.silent, s.text, "
        "coalesce((SELECT max(last_number) FROM series r WHERE r.station = s.id AND "
        "r.word "
        "= s.series), 0), CASE WHEN $1::boolean THEN (SELECT count(*) FROM told t JOIN "
        "series r ON r.id = t.series "
        "WHERE r.station = s.id AND t.phase = 1) ELSE 0 END FROM station s ORDER BY "
        "s.name COLLATE "
        "\"C\"";
    const char *values[] = {counted ? "t" : "f"};
    PGresult *r = NULL;
    tw_status st = connected(l, err);
    if (st == TW_OK)
        st = ask(l, SQL, 1, values, &r, err);
    for (int i = 0; st == TW_OK && i < PQntuples(r); i++) {
        twi_ledger_station one = {.heard_us = number_at(r, i, 3),
                                  .usual_us = number_at(r, i, 4),
                                  .silent = PQgetvalue(r, i, 5)[0] == 't',
                                  .text = PQgetvalue(r, i, 6),
                                  .last_number = number_at(r, i, 7),
                                  .sightings = number_at(r, i, 8)};
        copy(one.name, sizeof one.name, r, i, 0);
        copy(one.state, sizeof one.state, r, i, 1);
        copy(one.series, sizeof one.series, r, i, 2);
        take(ctx, &one);
    }
    PQclear(r);
    return st;
}

static tw_status postgres_cameras(twi_ledger *l, twi_ledger_camera_fn take, void *ctx,
                                  tw_error *err)
{
    static const char SQL[] =
        "SELECT s.name, c.name, c.state, c.text FROM camera c JOIN station s ON s.id = "
        "c.station ORDER BY s.name COLLATE \"C\", c.name COLLATE \"C\"";
    PGresult *r = NULL;
    tw_status st = connected(l, err);
    if (st == TW_OK)
        st = ask(l, SQL, 0, NULL, &r, err);
    for (int i = 0; st == TW_OK && i < PQntuples(r); i++) {
        twi_ledger_camera one = {.text = PQgetvalue(r, i, 3)};
        copy(one.station, sizeof one.station, r, i, 0);
        copy(one.name, sizeof one.name, r, i, 1);
        copy(one.state, sizeof one.state, r, i, 2);
        take(ctx, &one);
    }
    PQclear(r);
    return st;
}

static void take_sighting(const PGresult *r, int i, twi_ledger_sighting_fn take,
                          void *ctx)
{
    twi_ledger_sighting one = {.number = number_at(r, i, 4),
                               .start_us = number_at(r, i, 5),
                               .end_us = number_at(r, i, 6),
                               .count = number_at(r, i, 7),
                               .phase = (twi_phase)number_at(r, i, 8),
                               .peak_ppm = (uint32_t)number_at(r, i, 9),
                               .text = PQgetvalue(r, i, 10)};
    copy(one.station, sizeof one.station, r, i, 0);
    copy(one.camera, sizeof one.camera, r, i, 1);
    copy(one.series, sizeof one.series, r, i, 2);
    copy(one.name, sizeof one.name, r, i, 3);
    take(ctx, &one);
}

/* One row after another as the server sends them: there may be millions. */
static tw_status each_sighting(const twi_ledger *l, const twi_question *q,
                               twi_ledger_sighting_fn take, void *ctx, tw_error *err)
{
    tw_status st = TW_OK;
    PGresult *r = NULL;
    if (PQsendQueryParams(l->db, q->sql, q->count, NULL, q->values, NULL, NULL, 0) != 1 ||
        PQsetSingleRowMode(l->db) != 1)
        st = fail(l, NULL, err);
    while ((r = PQgetResult(l->db)) != NULL) {
        const ExecStatusType got = PQresultStatus(r);
        if (got == PGRES_SINGLE_TUPLE)
            take_sighting(r, 0, take, ctx);
        else if (got != PGRES_TUPLES_OK && st == TW_OK)
            st = fail(l, r, err);
        PQclear(r);
    }
    return st;
}

/* Which series they are is found out first, so that an index can be gone through. */
static const twi_dialect DIALECT = {
    .mark = '$',
    .names = "SELECT json_array_elements_text(CAST(%s AS JSON))",
    .in = "= ANY(ARRAY",
    .end = ")",
    .by_letters = " COLLATE \"C\"",
    .finds = "strpos"};

/* All of them may take as long as they come; so many do not. */
static tw_status postgres_sightings(twi_ledger *l, const twi_ledger_filter *f,
                                    twi_ledger_sighting_fn take, void *ctx, tw_error *err)
{
    twi_question q;
    const bool all = f->most == 0;
    twi_question_make(f, &DIALECT, &q);
    tw_status st = connected(l, err);
    if (st == TW_OK && all)
        st = execute(l, "SET statement_timeout = 0", err);
    if (st == TW_OK)
        st = each_sighting(l, &q, take, ctx, err);
    if (all && PQstatus(l->db) == CONNECTION_OK) {
        const tw_status back = execute(l, TIMEOUT, NULL);
        st = st == TW_OK ? back : st;
    }
    return st;
}

static tw_status postgres_visit(twi_ledger *l, const char *who, int64_t now_us,
                                int64_t *since_us, tw_error *err)
{
    char now[24];
    const char *values[] = {who, now};
    PGresult *r = NULL;
    (void)snprintf(now, sizeof now, "%lld", (long long)now_us);
    tw_status st = connected(l, err);
    if (st == TW_OK)
        st = ask(l,
                 "INSERT INTO visit(who, since_us, last_us) VALUES ($1, 0, $2) ON "
                 "CONFLICT(who) DO UPDATE SET since_us = CASE WHEN excluded.last_us - "
                 "visit.last_us BETWEEN 0 AND 1800000000 THEN visit.since_us ELSE "
                 "least(visit.last_us, excluded.last_us) END, last_us = excluded.last_us "
                 "RETURNING since_us",
                 2, values, &r, err);
    if (st == TW_OK && PQntuples(r) == 1)
        *since_us = number_at(r, 0, 0);
    PQclear(r);
    return st;
}

static tw_status postgres_silence(twi_ledger *l, const char *station, bool *first,
                                  tw_error *err)
{
    const char *values[] = {station};
    PGresult *r = NULL;
    tw_status st = connected(l, err);
    if (st == TW_OK)
        st = ask(l, "UPDATE station SET silent = TRUE WHERE name = $1 AND NOT silent", 1,
                 values, &r, err);
    *first = st == TW_OK && strcmp(PQcmdTuples(r), "1") == 0;
    PQclear(r);
    return st;
}

static tw_status postgres_ask(twi_ledger *l, const char *words, const char *const *values,
                              int count, twi_ledger_row_fn take, void *ctx, tw_error *err)
{
    char sql[TWI_QUESTION_BYTES];
    PGresult *r = NULL;
    if (!twi_question_words(words, &DIALECT, sql, sizeof sql))
        return tw_fail(err, TW_ESIZE, "that is too much to ask for");
    tw_status st = connected(l, err);
    if (st == TW_OK)
        st = ask(l, sql, count, values, &r, err);
    const int columns = PQnfields(r);
    for (int i = 0; st == TW_OK && take && i < PQntuples(r); i++) {
        const char *row[TWI_LEDGER_COLUMNS] = {""};
        for (int k = 0; k < columns && k < TWI_LEDGER_COLUMNS; k++)
            row[k] = PQgetvalue(r, i, k);
        take(ctx, row);
    }
    PQclear(r);
    return st;
}

TW_API const twi_ledger_kind twi_postgres_table = {
    TWI_LEDGER_ABI, postgres_open,     postgres_close,   postgres_put,
    postgres_gaps,  postgres_stations, postgres_cameras, postgres_sightings,
    postgres_visit, postgres_ask,      postgres_silence};
