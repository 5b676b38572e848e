/* Many rows in one go: by COPY, or as lists that a statement unrolls. */
#ifndef TWI_GATHER_POSTGRES_BULK_H
#define TWI_GATHER_POSTGRES_BULK_H

#include <stdio.h>

#include "session.h"

/* Rows in the text form of COPY: fields with tabs between them, a line each. */
typedef struct twi_pg_rows {
    FILE *out; /* where they are written */
    char *text;
    size_t bytes;
} twi_pg_rows;

/** @param rows  To be freed whatever comes back. */
tw_status twi_pg_rows_begin(twi_pg_rows *rows, tw_error *err);
void twi_pg_rows_free(twi_pg_rows *rows); /* also zeros */

/** A tab and a text. */
void twi_pg_field(FILE *out, const char *text);

/** End the rows and send them; none: nothing is said to the server.
 * @param sql  "COPY x FROM STDIN" */
tw_status twi_pg_copy(const twi_ledger *l, const char *sql, twi_pg_rows *rows,
                      tw_error *err);

enum { TWI_PG_COLUMNS = 3 };

/* Columns of bigint[], "{1,2,3}" each. */
typedef struct twi_pg_lists {
    size_t columns, rows;
    FILE *out[TWI_PG_COLUMNS];
    char *text[TWI_PG_COLUMNS];
    size_t bytes[TWI_PG_COLUMNS];
} twi_pg_lists;

/** @param lists    To be freed whatever comes back.
 * @param columns  At most TWI_PG_COLUMNS. */
tw_status twi_pg_lists_begin(twi_pg_lists *lists, size_t columns, tw_error *err);
void twi_pg_lists_free(twi_pg_lists *lists); /* also zeros */

/** @param row  As many values as there are columns. */
void twi_pg_list(twi_pg_lists *lists, const int64_t *row);

/** End the lists and give them to a fixed statement; none: it is not asked.
 * @param sql  As of twi_pg_ask_again().
 * @param out  Its rows, NULL where it was not asked; NULL: none wanted. */
tw_status twi_pg_ask_lists(twi_ledger *l, const char *sql, twi_pg_lists *lists,
                           PGresult **out, tw_error *err);

#endif
