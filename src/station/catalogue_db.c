/* Statements of the catalogue, and what is wrong with them. */
#include <stdlib.h>
#include <string.h>

#include "catalogue_state.h"
#include "catalogue_write.h"

tw_status twi_catalogue_fail(const tw_catalogue *c, int code, tw_error *err)
{
    tw_status st = TW_EIO;
    if (code == SQLITE_CORRUPT || code == SQLITE_NOTADB)
        st = TW_EDAMAGED;
    else if (code == SQLITE_FULL)
        st = TW_ENOSPC;
    else if (code == SQLITE_NOMEM)
        st = TW_ENOMEM;
    else if (code == SQLITE_READONLY || code == SQLITE_PERM)
        st = TW_EACCES;
    return tw_fail(err, st, "catalogue %s: %s", c->place,
                   c->db ? sqlite3_errmsg(c->db) : sqlite3_errstr(code));
}

tw_status twi_catalogue_prepare(tw_catalogue *c, const char *sql, sqlite3_stmt **out,
                                tw_error *err)
{
    const int code = sqlite3_prepare_v2(c->db, sql, -1, out, NULL);
    return code == SQLITE_OK ? TW_OK : twi_catalogue_fail(c, code, err);
}

tw_status twi_catalogue_execute(tw_catalogue *c, const char *sql, tw_error *err)
{
    const int code = sqlite3_exec(c->db, sql, NULL, NULL, NULL);
    return code == SQLITE_OK ? TW_OK : twi_catalogue_fail(c, code, err);
}

tw_status twi_catalogue_ask(tw_catalogue *c, const char *sql, const char *text,
                            int64_t *out, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    tw_status st = twi_catalogue_prepare(c, sql, &s, err);
    if (st == TW_OK) {
        if (text)
            (void)sqlite3_bind_text(s, 1, text, -1, SQLITE_STATIC);
        st = twi_catalogue_number(c, s, out, err);
    }
    return st;
}

tw_status twi_catalogue_number(tw_catalogue *c, sqlite3_stmt *s, int64_t *out,
                               tw_error *err)
{
    tw_status st = TW_OK;
    const int code = sqlite3_step(s);
    if (code == SQLITE_ROW)
        *out = sqlite3_column_int64(s, 0);
    else
        st = twi_catalogue_fail(c, code, err);
    (void)sqlite3_finalize(s);
    return st;
}

/* Steps to the statement's end and releases it. @return TW_OK; err says why not. */
tw_status twi_catalogue_finish(tw_catalogue *c, sqlite3_stmt *s, tw_error *err)
{
    const int code = sqlite3_step(s);
    const tw_status st = code == SQLITE_DONE || code == SQLITE_ROW
                             ? TW_OK
                             : twi_catalogue_fail(c, code, err);
    (void)sqlite3_finalize(s);
    return st;
}

bool twi_catalogue_next(const tw_catalogue *c, sqlite3_stmt *s, tw_status *st,
                        tw_error *err)
{
    const int code = sqlite3_step(s);
    if (code != SQLITE_ROW && code != SQLITE_DONE)
        *st = twi_catalogue_fail(c, code, err);
    return code == SQLITE_ROW;
}

tw_status twi_catalogue_change_one(tw_catalogue *c, const char *sql, int64_t id,
                                   const char *what, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    if (!c)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    tw_status st = twi_catalogue_prepare(c, sql, &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_int64(s, 1, id);
    st = twi_catalogue_finish(c, s, err);
    if (st == TW_OK && sqlite3_changes(c->db) == 0)
        st = tw_fail(err, TW_ENOENT, "there is no %s %lld", what, (long long)id);
    return st;
}

tw_status twi_catalogue_begin_batch(tw_catalogue *c, tw_error *err)
{
    return c ? twi_catalogue_execute(c, "BEGIN IMMEDIATE", err) : TW_EINVAL;
}

tw_status twi_catalogue_end_batch(tw_catalogue *c, tw_error *err)
{
    if (!c || sqlite3_get_autocommit(c->db)) /* it was rolled back */
        return c ? TW_OK : TW_EINVAL;
    const tw_status st = twi_catalogue_execute(c, "COMMIT", err);
    if (st != TW_OK)
        (void)twi_catalogue_execute(c, "ROLLBACK", NULL);
    return st;
}

const char *twi_catalogue_text(sqlite3_stmt *s, int column)
{
    const unsigned char *text = sqlite3_column_text(s, column);
    return text ? (const char *)text : "";
}
