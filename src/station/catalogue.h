/* What the parts of the catalogue share. */
#ifndef TW_STATION_CATALOGUE_H
#define TW_STATION_CATALOGUE_H

#include <sqlite3.h>

#include "tawny/catalogue.h"

struct tw_catalogue {
    sqlite3 *db;
    int64_t run;
    char place[1024]; /* for messages */
};

/** Word what the data base says. @return the status that stands for it. */
tw_status tw_catalogue_fail(const tw_catalogue *catalogue, int code, tw_error *err);

/** @return TW_OK: *out is to be finalized. */
tw_status tw_catalogue_prepare(tw_catalogue *catalogue, const char *sql,
                               sqlite3_stmt **out, tw_error *err);

/** A single number that a statement gives. @param text  Bound to ?1; NULL: SQL's NULL. */
tw_status tw_catalogue_ask(tw_catalogue *catalogue, const char *sql, const char *text,
                           int64_t *out, tw_error *err);

#endif
