/* A connection to the server: what is said over it, and what it says. */
#ifndef TWI_GATHER_POSTGRES_SESSION_H
#define TWI_GATHER_POSTGRES_SESSION_H

#include <libpq-fe.h>
#include <stdint.h>

#include "../ledger.h"
#include "order.h"

enum {
    TWI_PG_PLACE = 160,
    TWI_PG_LOCK = 0x7461776E, /* held by who makes tables */
    TWI_PG_FIRST_YEAR = 2020,
    TWI_PG_YEARS = 80,
    TWI_PG_FIXED = 24 /* statements that are prepared */
};

struct twi_ledger {
    PGconn *db;
    char place[TWI_PG_PLACE];         /* to be shown */
    const char *fixed[TWI_PG_FIXED];  /* prepared in this session */
    unsigned puts;                    /* batches */
    uint8_t month[TWI_PG_YEARS * 12]; /* whose partition is there */
};

/** What the server says of r, NULL: of the connection.
 * @return never TW_OK; TW_EAGAIN: it may work later */
tw_status twi_pg_fail(const twi_ledger *l, const PGresult *r, tw_error *err);

/** One statement with values. @param out its rows, to be cleared; NULL: none wanted */
tw_status twi_pg_ask(const twi_ledger *l, const char *sql, int count,
                     const char *const *values, PGresult **out, tw_error *err);

/** The same for a statement that comes again and again: the server reads it once in a
 * session. @param sql static: it is known by where it stands */
tw_status twi_pg_ask_again(twi_ledger *l, const char *sql, int count,
                           const char *const *values, PGresult **out, tw_error *err);

/** Statements without values; several at once. */
tw_status twi_pg_execute(const twi_ledger *l, const char *sql, tw_error *err);

/** A connection that broke is made again. A session has the tables "head", a row of each
 * station and series of a batch, and "coming", what is no sighting as it came; empty but
 * within a batch. */
tw_status twi_pg_connected(twi_ledger *l, tw_error *err);

/** How long one statement may take. */
tw_status twi_pg_limit_time(const twi_ledger *l, bool limited, tw_error *err);

int64_t twi_pg_number(const PGresult *r, int row, int column);

tw_status twi_pg_connect(const char *place, twi_ledger **out, tw_error *err);
void twi_pg_close(twi_ledger *l); /* also NULL */

/** Make the tables, or bring them up to this version, schema.c.
 * @return TW_ENOTSUP: they are of a newer one */
tw_status twi_pg_bring_up(const twi_ledger *l, tw_error *err);

/** As of the ledger's interface, put.c. */
tw_status twi_pg_put(twi_ledger *l, const twi_heard *batch, size_t count, int64_t now_us,
                     tw_error *err);

/** The sightings of a batch to their places, seen.c. Its heads lie in "head", their
 * series are there and their stations held. */
tw_status twi_pg_put_seen(twi_ledger *l, const twi_pg_order *order, tw_error *err);

#endif
