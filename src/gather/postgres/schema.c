/* The tables, and how older ones are brought up. Sightings lie in partitions by the month
 * of their start, and beside them one row for each number says where its sighting lies.
 */
#include <stdio.h>

#include "session.h"

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

/* Where cameras stood, and since when: one that is moved is another deployment. */
static const char FOURTH[] =
    "CREATE TABLE stand(station BIGINT NOT NULL REFERENCES station(id),"
    " camera TEXT NOT NULL, since_us BIGINT NOT NULL, latitude BIGINT NOT NULL,"
    " longitude BIGINT NOT NULL, PRIMARY KEY(station, camera, since_us));"
    "UPDATE schema_version SET version = 4";

/* Rows that change with every batch have room beside them, so that what they were is
 * cleared away where it lies. */
static const char FIFTH[] = "ALTER TABLE station SET (fillfactor = 50);"
                            "ALTER TABLE series SET (fillfactor = 50);"
                            "UPDATE schema_version SET version = 5";

/* Each brings up what the one before left. */
static const char *const STEPS[] = {SCHEMA, SECOND, THIRD, FOURTH, FIFTH};
enum { VERSION = sizeof STEPS / sizeof *STEPS };

/* @return TW_ENOTSUP: of a newer one. */
static tw_status read_version(const twi_ledger *l, int64_t *version, tw_error *err)
{
    PGresult *r = NULL;
    tw_status st = twi_pg_ask(l, "SELECT version FROM schema_version", 0, NULL, &r, err);
    *version = st == TW_OK && PQntuples(r) == 1 ? twi_pg_number(r, 0, 0) : VERSION + 1;
    if (st == TW_OK && *version > VERSION)
        st = tw_fail(err, TW_ENOTSUP, "%s was written by a newer tawny: use that",
                     l->place);
    PQclear(r);
    return st;
}

/* One makes the tables, whoever else begins at the same time. */
tw_status twi_pg_bring_up(const twi_ledger *l, tw_error *err)
{
    char lock[64];
    int64_t version = 0;
    PGresult *r = NULL;
    (void)snprintf(lock, sizeof lock, "SELECT pg_advisory_xact_lock(%d)", TWI_PG_LOCK);
    tw_status st = twi_pg_execute(l, "BEGIN", err);
    if (st == TW_OK)
        st = twi_pg_execute(l, lock, err);
    if (st == TW_OK)
        st = twi_pg_ask(l, "SELECT to_regclass('schema_version') IS NOT NULL", 0, NULL,
                        &r, err);
    const bool there = st == TW_OK && PQgetvalue(r, 0, 0)[0] == 't';
    PQclear(r);
    if (there)
        st = read_version(l, &version, err);
    for (int64_t i = version; i < VERSION && st == TW_OK; i++)
        st = twi_pg_execute(l, STEPS[i], err);
    const tw_status ended = twi_pg_execute(l, st == TW_OK ? "COMMIT" : "ROLLBACK", NULL);
    return st == TW_OK ? ended : st;
}
