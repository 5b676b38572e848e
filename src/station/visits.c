/* When accounts of the page have looked. */
#include "visits.h"

#include "catalogue_state.h"

/* A clock that was set back begins a visit, too. */
static const char NOTE[] =
    "INSERT INTO visit(account, since_us, last_us) VALUES (?1, 0, ?2)"
    " ON CONFLICT(account) DO UPDATE SET since_us = CASE"
    " WHEN ?2 - last_us BETWEEN 0 AND 1800000000 THEN since_us ELSE min(last_us, ?2) END,"
    " last_us = ?2 RETURNING since_us";

tw_status twi_catalogue_visit(tw_catalogue *c, const char *account, int64_t now_us,
                              int64_t *since_us, tw_error *err)
{
    sqlite3_stmt *q = NULL;
    if (!c || !account || !since_us)
        return tw_fail(err, TW_EINVAL, "no visit");
    tw_status st = twi_catalogue_prepare(c, NOTE, &q, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_text(q, 1, account, -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(q, 2, now_us);
    while (twi_catalogue_next(c, q, &st, err))
        *since_us = sqlite3_column_int64(q, 0);
    (void)sqlite3_finalize(q);
    return st;
}
