/* What the parts of the catalogue share. */
#ifndef TWI_CATALOGUE_STATE_H
#define TWI_CATALOGUE_STATE_H

#include <sqlite3.h>

#include "catalogue_write.h"

struct tw_catalogue {
    sqlite3 *db;
    int64_t run;
    twi_cut_off cut_off_how;
    int64_t cut_off_us; /* the run before began then, and was not ended; 0: it was */
    char place[1024];   /* for messages */
    char journal[1024]; /* path; "": there is none */
    const char *held;   /* words of what waits, see twi_outbox_hold; NULL: none */
};

/** As tw_catalogue_open, to write, on a card that may have no room for the file that
 * connections share: nobody else can open it meanwhile. To drop captures by. */
tw_status twi_catalogue_open_alone(const char *path, tw_catalogue **out, tw_error *err);

/** The highest number that a sighting of this catalogue ever had; 0: there was none. */
tw_status twi_catalogue_last_number(tw_catalogue *catalogue, int64_t *out, tw_error *err);

/** What follows becomes safe on the card together, when the batch ends: one sync for many
 * changes. */
tw_status twi_catalogue_begin_batch(tw_catalogue *catalogue, tw_error *err);
tw_status twi_catalogue_end_batch(tw_catalogue *catalogue, tw_error *err);

/* catalogue_journal.c: what no name of a file tells. */

/** Where the journal of a catalogue is. @return false: it has none. */
bool twi_catalogue_journal_name(const char *path, char *out, size_t capacity);

/** Append a sighting as it is now; all of this run that are over; that one is removed. */
void twi_catalogue_journal_sighting(tw_catalogue *catalogue, int64_t id);
void twi_catalogue_journal_run(tw_catalogue *catalogue);
/** Append those that are of no run, and all that was missed. */
void twi_catalogue_journal_adopted(tw_catalogue *catalogue);
void twi_catalogue_journal_removed(tw_catalogue *catalogue, int64_t id);

/** Append what was missed, or that it was not. */
void twi_catalogue_journal_missed(tw_catalogue *catalogue, int64_t id);
void twi_catalogue_journal_not_missed(tw_catalogue *catalogue, int64_t id);

/** Take the sightings in that the journal knows, if the catalogue knows none. */
tw_status twi_catalogue_journal_read(tw_catalogue *catalogue, tw_error *err);

/** Word what the data base says. @return the status that stands for it. */
tw_status twi_catalogue_fail(const tw_catalogue *catalogue, int code, tw_error *err);

/** @return TW_OK: *out is to be finalized. */
tw_status twi_catalogue_prepare(tw_catalogue *catalogue, const char *sql,
                                sqlite3_stmt **out, tw_error *err);

/** Run statements that give nothing. */
tw_status twi_catalogue_execute(tw_catalogue *catalogue, const char *sql, tw_error *err);

/** Step to a statement's end and release it. @return TW_OK; err says why not. */
tw_status twi_catalogue_finish(tw_catalogue *catalogue, sqlite3_stmt *statement,
                               tw_error *err);

/** Step to the next row. @return false: there is none, or *st and err say why it cannot
 * be read; st is left alone else. */
bool twi_catalogue_next(const tw_catalogue *catalogue, sqlite3_stmt *statement,
                        tw_status *st, tw_error *err);

/** Run a statement with one number that changes one row.
 * @param what  Of which there may be none of that number, for err. @return TW_ENOENT
 * then.
 */
tw_status twi_catalogue_change_one(tw_catalogue *catalogue, const char *sql, int64_t id,
                                   const char *what, tw_error *err);

/** The text in a column, "" for NULL; borrowed until the next step. */
const char *twi_catalogue_text(sqlite3_stmt *statement, int column);

/** The capture that a statement gives as id, start_us, bytes and file; the statement is
 * released. @return TW_OK; TW_ENOENT: it gives none; TW_EIO... */
tw_status twi_catalogue_one(tw_catalogue *catalogue, sqlite3_stmt *statement,
                            twi_catalogue_oldest *out, tw_error *err);

/** A single number that a statement gives. @param text  Bound to ?1; NULL: SQL's NULL. */
tw_status twi_catalogue_ask(tw_catalogue *catalogue, const char *sql, const char *text,
                            int64_t *out, tw_error *err);

/** The same of a statement that is prepared and bound, which is released. */
tw_status twi_catalogue_number(tw_catalogue *catalogue, sqlite3_stmt *statement,
                               int64_t *out, tw_error *err);

#endif
