/* What the user says: stars, marks, and what was missed. */
#include <sqlite3.h>
#include <string.h>

#include "catalogue_state.h"
#include "tawny/catalogue.h"

tw_status tw_catalogue_star(tw_catalogue *c, int64_t sighting, bool star, tw_error *err)
{
    const tw_status st =
        twi_catalogue_change_one(c,
                                 star ? "UPDATE sighting SET starred = 1 WHERE id = ?"
                                      : "UPDATE sighting SET starred = 0 WHERE id = ?",
                                 sighting, "sighting", err);
    if (st == TW_OK)
        twi_catalogue_journal_sighting(c, sighting);
    return st;
}

static const char *const NAMES[] = {
    [TW_MARK_NONE] = "none", [TW_MARK_RIGHT] = "right", [TW_MARK_NOTHING] = "nothing"};
enum { MARKS = sizeof NAMES / sizeof *NAMES };

const char *tw_mark_name(tw_mark mark)
{
    return mark >= 0 && mark < MARKS ? NAMES[mark] : "?";
}

bool tw_mark_find(const char *name, tw_mark *out)
{
    for (tw_mark i = 0; i < MARKS; i++)
        if (strcmp(name, NAMES[i]) == 0) {
            *out = i;
            return true;
        }
    return false;
}

tw_status tw_catalogue_mark(tw_catalogue *c, int64_t sighting, tw_mark mark,
                            tw_error *err)
{
    static const char *const SQL[MARKS] = {
        [TW_MARK_NONE] = "UPDATE sighting SET mark = 0 WHERE id = ?",
        [TW_MARK_RIGHT] = "UPDATE sighting SET mark = 1 WHERE id = ?",
        [TW_MARK_NOTHING] = "UPDATE sighting SET mark = 2 WHERE id = ?"};
    if (mark < 0 || mark >= MARKS)
        return tw_fail(err, TW_EINVAL, "%d is no mark", (int)mark);
    const tw_status st =
        twi_catalogue_change_one(c, SQL[mark], sighting, "sighting", err);
    if (st == TW_OK)
        twi_catalogue_journal_sighting(c, sighting);
    return st;
}

/* ---- what was missed -------------------------------------------------------------- */

tw_status tw_catalogue_add_missed(tw_catalogue *c, const char *camera, int64_t at_us,
                                  int64_t *id, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    if (!c || !camera || !camera[0] || at_us <= 0)
        return tw_fail(err, TW_EINVAL, "say by which camera it was missed, and when");
    tw_status st = twi_catalogue_prepare(
        c, "INSERT INTO missed(camera, at_us) VALUES (?, ?)", &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_text(s, 1, camera, -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(s, 2, at_us);
    st = twi_catalogue_finish(c, s, err);
    if (st != TW_OK)
        return st;
    const int64_t made = sqlite3_last_insert_rowid(c->db);
    twi_catalogue_journal_missed(c, made);
    if (id)
        *id = made;
    return TW_OK;
}

tw_status tw_catalogue_remove_missed(tw_catalogue *c, int64_t id, tw_error *err)
{
    const tw_status st = twi_catalogue_change_one(c, "DELETE FROM missed WHERE id = ?",
                                                  id, "missed sighting", err);
    if (st == TW_OK)
        twi_catalogue_journal_not_missed(c, id);
    return st;
}

tw_status tw_catalogue_missed(tw_catalogue *c, const char *camera, int64_t from_us,
                              int64_t until_us,
                              bool (*visit)(void *ctx, const tw_missed_record *record),
                              void *ctx, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    if (!c || !visit)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    tw_status st = twi_catalogue_prepare(
        c,
        "SELECT id, camera, at_us FROM missed WHERE (?1 IS NULL OR camera = ?1) AND "
        "at_us >= ?2 AND at_us < ?3 ORDER BY at_us, id",
        &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_text(s, 1, camera, -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(s, 2, from_us);
    (void)sqlite3_bind_int64(s, 3, until_us > 0 ? until_us : INT64_MAX);
    bool more = true;
    while (more && twi_catalogue_next(c, s, &st, err)) {
        const tw_missed_record record = {sqlite3_column_int64(s, 0),
                                         twi_catalogue_text(s, 1),
                                         sqlite3_column_int64(s, 2)};
        more = visit(ctx, &record);
    }
    (void)sqlite3_finalize(s);
    return st;
}
