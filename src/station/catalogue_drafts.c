/* The last settings that came from afar. */
#include <stdio.h>

#include "catalogue_state.h"
#include "drafts.h"

tw_status twi_catalogue_draft(tw_catalogue *c, twi_draft_word *out, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    tw_status st = twi_catalogue_prepare(
        c, "SELECT id, taken, text FROM draft ORDER BY id DESC LIMIT 1", &s, err);
    *out = (twi_draft_word){0};
    if (st == TW_OK && twi_catalogue_next(c, s, &st, err)) {
        out->id = sqlite3_column_int64(s, 0);
        out->taken = sqlite3_column_int(s, 1) != 0;
        (void)snprintf(out->text, sizeof out->text, "%s", twi_catalogue_text(s, 2));
    }
    (void)sqlite3_finalize(s);
    return st;
}

tw_status twi_catalogue_note_draft(tw_catalogue *c, const twi_draft_word *word,
                                   tw_error *err)
{
    sqlite3_stmt *s = NULL;
    const tw_status st = twi_catalogue_prepare(
        c, "INSERT OR REPLACE INTO draft(only, id, taken, text) VALUES (1, ?1, ?2, ?3)",
        &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_int64(s, 1, word->id);
    (void)sqlite3_bind_int(s, 2, word->taken);
    (void)sqlite3_bind_text(s, 3, word->text, -1, SQLITE_STATIC);
    return twi_catalogue_finish(c, s, err);
}
