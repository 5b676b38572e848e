/* The ledger on PostgreSQL, by libpq: what is missing, and what is read. */
#include <stdio.h>
#include <string.h>

#include "../question.h"
#include "session.h"
#include "tawny/version.h"

static tw_status postgres_open(const char *place, twi_ledger **out, tw_error *err)
{
    twi_ledger *l = NULL;
    tw_status st = twi_pg_connect(place, &l, err);
    if (st == TW_OK)
        st = twi_pg_bring_up(l, err);
    if (st == TW_OK)
        *out = l;
    else
        twi_pg_close(l);
    return st;
}

static void copy(char *out, size_t capacity, const PGresult *r, int row, int column)
{
    (void)snprintf(out, capacity, "%s", PQgetvalue(r, row, column));
}

/* ---- gaps ------------------------------------------------------------------------ */

/* Numbers that follow one another make a group by what is left when their rank is taken
 * away. What is whole is moved on first, so that little is looked at. */
static const char WHOLE[] =
    "WITH moved AS (UPDATE series r SET whole_to = n.to_number FROM (SELECT o.id, "
    "o.whole_to + count(*) AS to_number FROM (SELECT r.id, r.whole_to, t.number, "
    "row_number() OVER (PARTITION BY r.id ORDER BY t.number) AS rank FROM series r "
    "JOIN station s ON s.id = r.station AND s.series = r.word JOIN told t ON t.series "
    "= r.id AND t.number > r.whole_to AND t.number <= r.last_number WHERE "
    "r.last_number > r.whole_to) o WHERE o.number = o.whole_to + o.rank GROUP BY o.id, "
    "o.whole_to) n WHERE r.id = n.id RETURNING r.station) UPDATE station s SET vain = "
    "0 FROM moved WHERE s.id = moved.station AND s.vain > 0";
static const char MISSING[] =
    "SELECT s.name, r.word, m.first, m.last, s.id FROM (SELECT r.* FROM series r JOIN "
    "station s ON s.id = r.station AND s.series = r.word WHERE r.last_number > "
    "r.whole_to AND s.asked_us <= $1::bigint - ($3::bigint << s.vain) ORDER BY "
    "s.asked_us LIMIT $2::int) r JOIN station s ON s.id = r.station CROSS JOIN LATERAL "
    "(SELECT b.after + 1 AS first, coalesce(b.next, r.last_number + 1) - 1 AS last "
    "FROM (SELECT a.after, lead(a.after) OVER (ORDER BY a.after) AS next FROM (SELECT "
    "r.whole_to AS after UNION ALL SELECT t.number FROM told t WHERE t.series = r.id "
    "AND t.number > r.whole_to AND t.number <= r.last_number) a) b) m WHERE m.first <= "
    "m.last LIMIT $2::int";

static tw_status mark_asked(const twi_ledger *l, const PGresult *r, int64_t now_us,
                            tw_error *err)
{
    char now[24];
    tw_status st = TW_OK;
    (void)snprintf(now, sizeof now, "%lld", (long long)now_us);
    for (int i = 0; i < PQntuples(r) && st == TW_OK; i++) {
        const char *values[] = {now, PQgetvalue(r, i, 4)};
        if (i == 0 || strcmp(values[1], PQgetvalue(r, i - 1, 4)) != 0)
            st = twi_pg_ask(
                l,
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
    tw_status st = twi_pg_connected(l, err);
    if (st == TW_OK)
        st = twi_pg_ask_again(l, WHOLE, 0, NULL, NULL, err);
    if (st == TW_OK)
        st = twi_pg_ask_again(l, MISSING, 3, values, &r, err);
    for (int i = 0; st == TW_OK && i < PQntuples(r) && *found < TWI_LEDGER_GAPS; i++) {
        twi_ledger_gap *g = &out[(*found)++];
        copy(g->station, sizeof g->station, r, i, 0);
        copy(g->series, sizeof g->series, r, i, 1);
        g->first = twi_pg_number(r, i, 2);
        g->last = twi_pg_number(r, i, 3);
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
        "r.word = s.series), 0), CASE WHEN $1::boolean THEN (SELECT count(*) FROM told "
        "t JOIN series r ON r.id = t.series WHERE r.station = s.id AND t.phase = 1) "
        "ELSE 0 END FROM station s ORDER BY s.name COLLATE \"C\"";
    const char *values[] = {counted ? "t" : "f"};
    PGresult *r = NULL;
    tw_status st = twi_pg_connected(l, err);
    if (st == TW_OK)
        st = twi_pg_ask(l, SQL, 1, values, &r, err);
    for (int i = 0; st == TW_OK && i < PQntuples(r); i++) {
        twi_ledger_station one = {.heard_us = twi_pg_number(r, i, 3),
                                  .usual_us = twi_pg_number(r, i, 4),
                                  .silent = PQgetvalue(r, i, 5)[0] == 't',
                                  .text = PQgetvalue(r, i, 6),
                                  .last_number = twi_pg_number(r, i, 7),
                                  .sightings = twi_pg_number(r, i, 8)};
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
    tw_status st = twi_pg_connected(l, err);
    if (st == TW_OK)
        st = twi_pg_ask(l, SQL, 0, NULL, &r, err);
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
    twi_ledger_sighting one = {.number = twi_pg_number(r, i, 4),
                               .start_us = twi_pg_number(r, i, 5),
                               .end_us = twi_pg_number(r, i, 6),
                               .count = twi_pg_number(r, i, 7),
                               .phase = (twi_phase)twi_pg_number(r, i, 8),
                               .peak_ppm = (uint32_t)twi_pg_number(r, i, 9),
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
        st = twi_pg_fail(l, NULL, err);
    while ((r = PQgetResult(l->db)) != NULL) {
        const ExecStatusType got = PQresultStatus(r);
        if (got == PGRES_SINGLE_TUPLE)
            take_sighting(r, 0, take, ctx);
        else if (got != PGRES_TUPLES_OK && st == TW_OK)
            st = twi_pg_fail(l, r, err);
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
    tw_status st = twi_pg_connected(l, err);
    if (st == TW_OK && all)
        st = twi_pg_limit_time(l, false, err);
    if (st == TW_OK)
        st = each_sighting(l, &q, take, ctx, err);
    if (all && PQstatus(l->db) == CONNECTION_OK) {
        const tw_status back = twi_pg_limit_time(l, true, NULL);
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
    tw_status st = twi_pg_connected(l, err);
    if (st == TW_OK)
        st = twi_pg_ask(
            l,
            "INSERT INTO visit(who, since_us, last_us) VALUES ($1, 0, $2) ON "
            "CONFLICT(who) DO UPDATE SET since_us = CASE WHEN excluded.last_us - "
            "visit.last_us BETWEEN 0 AND 1800000000 THEN visit.since_us ELSE "
            "least(visit.last_us, excluded.last_us) END, last_us = excluded.last_us "
            "RETURNING since_us",
            2, values, &r, err);
    if (st == TW_OK && PQntuples(r) == 1)
        *since_us = twi_pg_number(r, 0, 0);
    PQclear(r);
    return st;
}

static tw_status postgres_silence(twi_ledger *l, const char *station, bool *first,
                                  tw_error *err)
{
    const char *values[] = {station};
    PGresult *r = NULL;
    tw_status st = twi_pg_connected(l, err);
    if (st == TW_OK)
        st = twi_pg_ask(l,
                        "UPDATE station SET silent = TRUE WHERE name = $1 AND NOT silent",
                        1, values, &r, err);
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
    tw_status st = twi_pg_connected(l, err);
    if (st == TW_OK)
        st = twi_pg_ask(l, sql, count, values, &r, err);
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
    TWI_LEDGER_ABI, postgres_open,     twi_pg_close,     twi_pg_put,
    postgres_gaps,  postgres_stations, postgres_cameras, postgres_sightings,
    postgres_visit, postgres_ask,      postgres_silence};
