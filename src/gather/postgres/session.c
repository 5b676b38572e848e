/* See session.h. */
#include "session.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

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

tw_status twi_pg_fail(const twi_ledger *l, const PGresult *r, tw_error *err)
{
    char said[200];
    const char *state = r ? PQresultErrorField(r, PG_DIAG_SQLSTATE) : NULL;
    (void)snprintf(said, sizeof said, "%s", PQerrorMessage(l->db));
    said[strcspn(said, "\n")] = '\0';
    return tw_fail(err, status_of(state), "%s: %s", l->place, said);
}

/* Takes r over. */
static tw_status take_result(const twi_ledger *l, PGresult *r, PGresult **out,
                             tw_error *err)
{
    const ExecStatusType got = PQresultStatus(r);
    tw_status st = TW_OK;
    if (got != PGRES_COMMAND_OK && got != PGRES_TUPLES_OK)
        st = twi_pg_fail(l, r, err);
    if (st == TW_OK && out)
        *out = r;
    else
        PQclear(r);
    return st;
}

tw_status twi_pg_ask(const twi_ledger *l, const char *sql, int count,
                     const char *const *values, PGresult **out, tw_error *err)
{
    return take_result(l, PQexecParams(l->db, sql, count, NULL, values, NULL, NULL, 0),
                       out, err);
}

/* The name of a statement in this session, prepared if it is new. */
static tw_status prepare(twi_ledger *l, const char *sql, char name[16], tw_error *err)
{
    int at = 0;
    while (at < TWI_PG_FIXED && l->fixed[at] && l->fixed[at] != sql)
        at++;
    if (at == TWI_PG_FIXED)
        return tw_fail(err, TW_ESIZE, "more than %d statements", TWI_PG_FIXED);
    (void)snprintf(name, 16, "fixed_%d", at);
    if (l->fixed[at])
        return TW_OK;
    const tw_status st = take_result(l, PQprepare(l->db, name, sql, 0, NULL), NULL, err);
    l->fixed[at] = st == TW_OK ? sql : NULL;
    return st;
}

tw_status twi_pg_ask_again(twi_ledger *l, const char *sql, int count,
                           const char *const *values, PGresult **out, tw_error *err)
{
    char name[16];
    const tw_status st = prepare(l, sql, name, err);
    if (st != TW_OK)
        return st;
    return take_result(l, PQexecPrepared(l->db, name, count, values, NULL, NULL, 0), out,
                       err);
}

/* Statements without values; several at once. */
tw_status twi_pg_execute(const twi_ledger *l, const char *sql, tw_error *err)
{
    return take_result(l, PQexec(l->db, sql), NULL, err);
}

int64_t twi_pg_number(const PGresult *r, int row, int column)
{
    return strtoll(PQgetvalue(r, row, column), NULL, 10);
}

tw_status twi_pg_limit_time(const twi_ledger *l, bool limited, tw_error *err)
{
    return twi_pg_execute(
        l, limited ? "SET statement_timeout = '60s'" : "SET statement_timeout = 0", err);
}

/* ---- opening --------------------------------------------------------------------- */

void twi_pg_close(twi_ledger *l)
{
    if (!l)
        return;
    PQfinish(l->db);
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

static const char TABLES[] =
    "CREATE TEMP TABLE IF NOT EXISTS head(at INTEGER, station TEXT, series TEXT,"
    " last_number BIGINT) ON COMMIT DELETE ROWS;"
    "CREATE TEMP TABLE IF NOT EXISTS coming(at INTEGER, kind SMALLINT, station TEXT,"
    " camera TEXT, series TEXT, number BIGINT, told_us BIGINT, name TEXT, state TEXT,"
    " latitude BIGINT, longitude BIGINT, text TEXT) ON COMMIT DELETE ROWS";

static tw_status prepare_session(twi_ledger *l, tw_error *err)
{
    memset(l->month, 0, sizeof l->month);
    memset(l->fixed, 0, sizeof l->fixed);
    (void)PQsetNoticeReceiver(l->db, keep_quiet, NULL);
    if (PQstatus(l->db) != CONNECTION_OK || PQsetClientEncoding(l->db, "UTF8") != 0)
        return twi_pg_fail(l, NULL, err);
    const tw_status st = twi_pg_limit_time(l, true, err);
    return st == TW_OK ? twi_pg_execute(l, TABLES, err) : st;
}

tw_status twi_pg_connect(const char *place, twi_ledger **out, tw_error *err)
{
    twi_ledger *l = calloc(1, sizeof *l);
    if (!l)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    show_place(l, place);
    l->db = PQconnectdb(place);
    const tw_status st = prepare_session(l, err);
    if (st == TW_OK)
        *out = l;
    else
        twi_pg_close(l);
    return st;
}

/* A connection that broke is made again with the next batch. */
tw_status twi_pg_connected(twi_ledger *l, tw_error *err)
{
    if (PQstatus(l->db) == CONNECTION_OK)
        return TW_OK;
    PQreset(l->db);
    return prepare_session(l, err);
}
