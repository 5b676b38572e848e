/* Who was seen. */
#include <sqlite3.h>
#include <string.h>

#include "../core/sized.h"
#include "catalogue_state.h"
#include "tawny/catalogue.h"

/* @return whether it is one line of so many bytes at most. */
static bool fits(const char *text, size_t most)
{
    const size_t n = text ? strlen(text) : 0;
    for (size_t i = 0; i < n; i++)
        if ((unsigned char)text[i] < 32 || text[i] == 127)
            return false;
    return n <= most;
}

static tw_status check(const tw_naming *n, tw_error *err)
{
    if (!fits(n->name, TW_NAME_MAX) || !fits(n->by, TW_NAME_MAX))
        return tw_fail(err, TW_EINVAL, "a name is one line of at most %d bytes",
                       TW_NAME_MAX);
    if (!fits(n->note, TW_NOTE_MAX))
        return tw_fail(err, TW_EINVAL, "a note is one line of at most %d bytes",
                       TW_NOTE_MAX);
    if (n->count > TW_COUNT_MAX || n->sure_ppm > 1000000)
        return tw_fail(err, TW_EINVAL, "more than %d of them are not counted",
                       TW_COUNT_MAX);
    return TW_OK;
}

/* Whether somebody has named it; a program's own word it may change. */
static tw_status check_whose(tw_catalogue *c, int64_t sighting, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    int64_t named = 0;
    tw_status st = twi_catalogue_prepare(
        c,
        "SELECT count(*) FROM sighting WHERE id = ? AND named_us > 0 AND named_by = ''",
        &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_int64(s, 1, sighting);
    st = twi_catalogue_number(c, s, &named, err);
    return st == TW_OK && named > 0
               ? tw_fail(err, TW_EEXIST, "somebody has named sighting %lld",
                         (long long)sighting)
               : st;
}

static void bind(sqlite3_stmt *s, int at, const char *text)
{
    (void)sqlite3_bind_text(s, at, text ? text : "", -1, SQLITE_STATIC);
}

tw_status tw_catalogue_name(tw_catalogue *c, int64_t sighting, const tw_naming *naming,
                            tw_error *err)
{
    sqlite3_stmt *s = NULL;
    tw_naming n;
    if (!c || !naming)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    TWI_TAKE(n, naming);
    tw_status st = check(&n, err);
    if (st == TW_OK && n.by && n.by[0])
        st = check_whose(c, sighting, err);
    if (st == TW_OK)
        st = twi_catalogue_prepare(c,
                                   "UPDATE sighting SET name = ?2, heads = ?3, note = "
                                   "?4, named_by = ?5, sure_ppm = ?6, named_us = ?7 "
                                   "WHERE id = ?1",
                                   &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_int64(s, 1, sighting);
    bind(s, 2, n.name);
    (void)sqlite3_bind_int64(s, 3, n.count);
    bind(s, 4, n.note);
    bind(s, 5, n.by);
    (void)sqlite3_bind_int64(s, 6, n.sure_ppm);
    const bool nothing =
        (!n.name || !n.name[0]) && (!n.note || !n.note[0]) && n.count == 0;
    (void)sqlite3_bind_int64(s, 7, nothing ? 0 : n.at_us);
    st = twi_catalogue_finish(c, s, err);
    if (st == TW_OK && sqlite3_changes(c->db) == 0)
        return tw_fail(err, TW_ENOENT, "there is no sighting %lld", (long long)sighting);
    if (st == TW_OK)
        twi_catalogue_journal_sighting(c, sighting);
    return st;
}

tw_status tw_catalogue_names(tw_catalogue *c,
                             bool (*visit)(void *ctx, const char *name, uint32_t named),
                             void *ctx, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    if (!c || !visit)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    tw_status st = twi_catalogue_prepare(
        c,
        "SELECT name, count(*) FROM sighting WHERE name <> '' GROUP BY name "
        "ORDER BY max(named_us) DESC, name",
        &s, err);
    if (st != TW_OK)
        return st;
    bool more = true;
    while (more && twi_catalogue_next(c, s, &st, err))
        more = visit(ctx, twi_catalogue_text(s, 0), (uint32_t)sqlite3_column_int64(s, 1));
    (void)sqlite3_finalize(s);
    return st;
}
