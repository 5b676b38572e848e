/* The catalogue: opening, bringing up to date, and writing.
 *
 * Rules: 1. each change is one transaction, and safe on the card when it returns; 2. a
 * capture is added only once its file is complete, and dropped only once its file is
 * gone, so that what the catalogue names is there; 3. the id of a sighting is never used
 * again. */
#include "catalogue_state.h"
#include "catalogue_write.h"
#include "../core/naming.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { WAIT_MS = 5000 };

static const char FIRST[] =
    "CREATE TABLE run(id INTEGER PRIMARY KEY AUTOINCREMENT, began_us INTEGER NOT NULL) "
    "STRICT;"
    "CREATE TABLE sighting(id INTEGER PRIMARY KEY AUTOINCREMENT,"
    " run INTEGER REFERENCES run(id), camera TEXT NOT NULL,"
    " number INTEGER NOT NULL, part INTEGER NOT NULL,"
    " start_us INTEGER NOT NULL, end_us INTEGER NOT NULL DEFAULT 0,"
    " peak_ppm INTEGER NOT NULL, frames INTEGER NOT NULL,"
    " start_ppm INTEGER NOT NULL, stay_ppm INTEGER NOT NULL, why TEXT NOT NULL,"
    " starred INTEGER NOT NULL DEFAULT 0 CHECK(starred IN (0, 1)),"
    " UNIQUE(run, camera, number, part)) STRICT;" /* run is NULL for what was adopted */
    "CREATE INDEX sighting_by_time ON sighting(start_us);"
    "CREATE TABLE capture(id INTEGER PRIMARY KEY,"
    " sighting INTEGER REFERENCES sighting(id), camera TEXT NOT NULL,"
    " kind TEXT NOT NULL, file TEXT NOT NULL UNIQUE, bytes INTEGER NOT NULL,"
    " start_us INTEGER NOT NULL) STRICT;"
    "CREATE INDEX capture_by_sighting ON capture(sighting);"
    "CREATE INDEX capture_by_time ON capture(start_us);"
    "CREATE INDEX capture_by_camera ON capture(camera, start_us);";

/* Order beside time, marks for times that are wrong, the trace, what happened, and sums
 * of bytes that are kept up to date by the data base itself. */
static const char SECOND[] =
    "ALTER TABLE sighting ADD COLUMN unsure INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE sighting ADD COLUMN order_us INTEGER NOT NULL DEFAULT 0;"
    "UPDATE sighting SET order_us = start_us;"
    "CREATE INDEX sighting_by_order ON sighting(order_us);"
    "CREATE INDEX sighting_by_number ON sighting(camera, number);"
    "ALTER TABLE capture ADD COLUMN run INTEGER REFERENCES run(id);"
    "ALTER TABLE capture ADD COLUMN unsure INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE capture ADD COLUMN order_us INTEGER NOT NULL DEFAULT 0;"
    "UPDATE capture SET order_us = start_us;"
    "UPDATE capture SET kind = 'timed-still' WHERE kind = 'timed';"
    "DROP INDEX capture_by_time; DROP INDEX capture_by_camera;"
    "CREATE INDEX capture_by_order ON capture(order_us);"
    "CREATE INDEX capture_by_camera ON capture(camera, order_us);"
    "CREATE INDEX capture_by_kind ON capture(camera, kind, order_us);"
    "CREATE INDEX capture_unsure ON capture(id) WHERE unsure = 1;"
    "CREATE TABLE held(camera TEXT NOT NULL, kind TEXT NOT NULL,"
    " captures INTEGER NOT NULL, bytes INTEGER NOT NULL, PRIMARY KEY(camera, kind))"
    " STRICT;"
    "INSERT INTO held SELECT camera, kind, count(*), sum(bytes) FROM capture"
    " GROUP BY camera, kind;"
    "CREATE TRIGGER capture_added AFTER INSERT ON capture BEGIN"
    " INSERT INTO held VALUES (new.camera, new.kind, 1, new.bytes) ON CONFLICT DO UPDATE"
    " SET captures = captures + 1, bytes = bytes + excluded.bytes; END;"
    "CREATE TRIGGER capture_dropped AFTER DELETE ON capture BEGIN"
    " UPDATE held SET captures = captures - 1, bytes = bytes - old.bytes"
    " WHERE camera = old.camera AND kind = old.kind; END;"
    "CREATE TRIGGER capture_changed AFTER UPDATE OF bytes ON capture BEGIN"
    " UPDATE held SET bytes = bytes - old.bytes + new.bytes"
    " WHERE camera = old.camera AND kind = old.kind; END;"
    "CREATE TABLE trace(id INTEGER PRIMARY KEY, run INTEGER REFERENCES run(id),"
    " camera TEXT NOT NULL, start_us INTEGER NOT NULL, unsure INTEGER NOT NULL,"
    " seconds BLOB NOT NULL) STRICT;"
    "CREATE INDEX trace_by_time ON trace(camera, start_us);"
    "CREATE TABLE happening(id INTEGER PRIMARY KEY, run INTEGER REFERENCES run(id),"
    " camera TEXT, at_us INTEGER NOT NULL, unsure INTEGER NOT NULL,"
    " what TEXT NOT NULL, text TEXT NOT NULL) STRICT;";

/* Where captures are to be sent, and whether they have been. */
static const char THIRD[] =
    "CREATE TABLE delivery(capture INTEGER NOT NULL REFERENCES capture(id)"
    " ON DELETE CASCADE, destination TEXT NOT NULL, sent_us INTEGER NOT NULL DEFAULT 0,"
    " PRIMARY KEY(capture, destination)) STRICT;"
    "CREATE INDEX delivery_waiting ON delivery(capture) WHERE sent_us = 0;";

/* The outbox: what goes where, what waits, what was sent. Items are made by the data base
 * with the capture, or the end of a sighting, that they are of. */
static const char FOURTH[] =
    "CREATE TABLE route(camera TEXT NOT NULL, kind TEXT NOT NULL,"
    " destination TEXT NOT NULL, what TEXT NOT NULL,"
    " PRIMARY KEY(camera, kind, destination, what)) STRICT;"
    "CREATE TABLE outbox(id INTEGER PRIMARY KEY AUTOINCREMENT,"
    " destination TEXT NOT NULL, what TEXT NOT NULL,"
    " sighting INTEGER REFERENCES sighting(id) ON DELETE CASCADE,"
    " capture INTEGER REFERENCES capture(id) ON DELETE CASCADE,"
    " state INTEGER NOT NULL DEFAULT 0," /* a twi_item_state */
    " message TEXT, tries INTEGER NOT NULL DEFAULT 0,"
    " sent_us INTEGER NOT NULL DEFAULT 0, why TEXT NOT NULL DEFAULT '') STRICT;"
    "INSERT INTO outbox(destination, what, sighting, capture, state, sent_us)"
    " SELECT destination, 'still', sighting, capture, sent_us > 0, sent_us"
    " FROM delivery JOIN capture ON capture.id = delivery.capture;"
    "DROP TABLE delivery;"
    "CREATE INDEX outbox_waiting ON outbox(destination, id) WHERE state = 0;"
    "CREATE INDEX outbox_begun ON outbox(destination, id)"
    " WHERE state = 0 AND message IS NOT NULL;"
    "CREATE INDEX outbox_sent ON outbox(destination, sent_us) WHERE state = 1;"
    "CREATE INDEX outbox_given_up ON outbox(destination) WHERE state = 2;"
    "CREATE INDEX outbox_by_capture ON outbox(capture);"
    "CREATE INDEX outbox_by_sighting ON outbox(sighting);"
    "CREATE TABLE stopped(destination TEXT PRIMARY KEY, since_us INTEGER NOT NULL,"
    " made_of TEXT NOT NULL, why TEXT NOT NULL) STRICT;"
    "CREATE TRIGGER capture_routed AFTER INSERT ON capture BEGIN"
    " INSERT INTO outbox(destination, what, sighting, capture)"
    " SELECT destination, what, new.sighting, new.id FROM route"
    " WHERE camera = new.camera AND kind = new.kind; END;"
    "CREATE TRIGGER sighting_over AFTER UPDATE OF end_us ON sighting"
    " WHEN old.end_us = 0 AND new.end_us > 0 BEGIN"
    " INSERT INTO outbox(destination, what, sighting)"
    " SELECT destination, what, new.id FROM route"
    " WHERE camera = new.camera AND kind = ''; END;"
    "CREATE TRIGGER sighting_made_over AFTER INSERT ON sighting"
    " WHEN new.end_us > 0 AND new.run IS NOT NULL BEGIN"
    " INSERT INTO outbox(destination, what, sighting)"
    " SELECT destination, what, new.id FROM route"
    " WHERE camera = new.camera AND kind = ''; END;";

/* What the user says of sightings, and of what there was none of. */
static const char FIFTH[] =
    "ALTER TABLE sighting ADD COLUMN mark INTEGER NOT NULL DEFAULT 0"
    " CHECK(mark IN (0, 1, 2));" /* a tw_mark */
    "CREATE INDEX sighting_marked ON sighting(order_us) WHERE mark > 0;"
    "CREATE TABLE missed(id INTEGER PRIMARY KEY AUTOINCREMENT, camera TEXT NOT NULL,"
    " at_us INTEGER NOT NULL) STRICT;"
    "CREATE INDEX missed_by_time ON missed(at_us);"
    "ALTER TABLE happening RENAME TO log_entry;";

/* What happened goes out as well, where it is wanted; and whether a run was ended, or cut
 * off by its power or its end. */
static const char SIXTH[] =
    "ALTER TABLE outbox ADD COLUMN entry INTEGER REFERENCES log_entry(id)"
    " ON DELETE CASCADE;"
    "CREATE INDEX outbox_by_entry ON outbox(entry) WHERE entry IS NOT NULL;"
    "CREATE INDEX outbox_entry_waiting ON outbox(destination, id)"
    " WHERE state = 0 AND entry IS NOT NULL;"
    "CREATE TRIGGER entry_routed AFTER INSERT ON log_entry"
    " WHEN new.what = 'alarm' BEGIN"
    " INSERT INTO outbox(destination, what, entry)"
    " SELECT destination, what, new.id FROM route"
    " WHERE camera = '' AND kind = new.what; END;"
    "ALTER TABLE run ADD COLUMN ended INTEGER NOT NULL DEFAULT 0;"
    "UPDATE run SET ended = 1;";

/* What sensors say; the word of the day goes out as well; and in which of the board's
 * runs a run of the station was. */
static const char SEVENTH[] =
    "CREATE TABLE sensor_value(id INTEGER PRIMARY KEY, run INTEGER REFERENCES run(id),"
    " sensor TEXT NOT NULL, at_us INTEGER NOT NULL, unsure INTEGER NOT NULL,"
    " value INTEGER NOT NULL) STRICT;" /* millionths of its unit */
    "CREATE INDEX sensor_value_by_time ON sensor_value(sensor, at_us);"
    "DROP TRIGGER entry_routed;"
    "CREATE TRIGGER entry_routed AFTER INSERT ON log_entry"
    " WHEN new.what IN ('alarm', 'daily') BEGIN"
    " INSERT INTO outbox(destination, what, entry)"
    " SELECT destination, what, new.id FROM route"
    " WHERE camera = '' AND kind = new.what; END;"
    "ALTER TABLE run ADD COLUMN boot TEXT NOT NULL DEFAULT '';";

/* Who was seen, by whose word. */
static const char EIGHTH[] =
    "ALTER TABLE sighting ADD COLUMN name TEXT NOT NULL DEFAULT '';"
    "ALTER TABLE sighting ADD COLUMN heads INTEGER NOT NULL DEFAULT 0"
    " CHECK(heads >= 0);" /* 0: not said */
    "ALTER TABLE sighting ADD COLUMN note TEXT NOT NULL DEFAULT '';"
    "ALTER TABLE sighting ADD COLUMN named_by TEXT NOT NULL DEFAULT '';" /* '': a human */
    "ALTER TABLE sighting ADD COLUMN sure_ppm INTEGER NOT NULL DEFAULT 0;"
    "ALTER TABLE sighting ADD COLUMN named_us INTEGER NOT NULL DEFAULT 0;"
    "CREATE INDEX sighting_named ON sighting(name, order_us) WHERE name <> '';";

/* What was spent of a destination's budget. */
static const char NINTH[] =
    "CREATE TABLE spent(id INTEGER PRIMARY KEY, destination TEXT NOT NULL,"
    " at_us INTEGER NOT NULL, bytes INTEGER NOT NULL) STRICT;"
    "CREATE INDEX spent_by_time ON spent(destination, at_us);";

/* When an account looked last, and when before that. */
static const char TENTH[] =
    "CREATE TABLE visit(account TEXT PRIMARY KEY, since_us INTEGER NOT NULL,"
    " last_us INTEGER NOT NULL) STRICT;";

/* What tells its numbers from those of another catalogue at the same place. */
static const char ELEVENTH[] = "CREATE TABLE series(word TEXT NOT NULL) STRICT;"
                               "INSERT INTO series VALUES (lower(hex(randomblob(8))));";

/* The last settings that came from afar, and what became of them. */
static const char TWELFTH[] =
    "CREATE TABLE draft(only INTEGER PRIMARY KEY CHECK(only = 1), id INTEGER NOT NULL,"
    " taken INTEGER NOT NULL, text TEXT NOT NULL) STRICT;";

/* How a catalogue of each version becomes one of the next. */
static const char *const STEPS[] = {FIRST,   SECOND, THIRD, FOURTH, FIFTH,    SIXTH,
                                    SEVENTH, EIGHTH, NINTH, TENTH,  ELEVENTH, TWELFTH};
enum { VERSION = sizeof STEPS / sizeof *STEPS };

/* ---- opening --------------------------------------------------------------------- */

static tw_status upgrade(tw_catalogue *c, tw_error *err)
{
    int64_t version = 0;
    tw_status st = twi_catalogue_ask(c, "PRAGMA user_version", NULL, &version, err);
    if (st != TW_OK)
        return st;
    if (version > VERSION)
        return tw_fail(err, TW_ENOTSUP,
                       "catalogue %s was written by a newer tawny: use that, or move the "
                       "file away",
                       c->place);
    if (version == VERSION)
        return TW_OK;
    char set[48];
    (void)snprintf(set, sizeof set, "PRAGMA user_version = %d; COMMIT", VERSION);
    st = twi_catalogue_execute(c, "BEGIN IMMEDIATE", err);
    for (int64_t v = version < 0 ? 0 : version; v < VERSION && st == TW_OK; v++)
        st = twi_catalogue_execute(c, STEPS[v], err);
    if (st == TW_OK)
        st = twi_catalogue_execute(c, set, err);
    if (st != TW_OK)
        (void)twi_catalogue_execute(c, "ROLLBACK", NULL);
    return st;
}

/* Whether all tables, indexes and triggers are there as this version makes them. One
 * whose text was damaged opens, and fails later at whatever needs it. */
static tw_status check_schema(tw_catalogue *c, tw_error *err)
{
    static const char LIST[] = "SELECT name, sql FROM sqlite_schema WHERE sql NOT NULL";
    static const char FIND[] = "SELECT count(*) FROM sqlite_schema WHERE sql = ?1";
    tw_catalogue sound = {0};
    sqlite3_stmt *s = NULL;
    (void)snprintf(sound.place, sizeof sound.place, "in memory");
    const int code = sqlite3_open(":memory:", &sound.db);
    tw_status st = code == SQLITE_OK ? TW_OK : twi_catalogue_fail(&sound, code, err);
    for (size_t v = 0; v < VERSION && st == TW_OK; v++)
        st = twi_catalogue_execute(&sound, STEPS[v], err);
    if (st == TW_OK)
        st = twi_catalogue_prepare(&sound, LIST, &s, err);
    while (st == TW_OK && sqlite3_step(s) == SQLITE_ROW) {
        int64_t found = 0;
        st = twi_catalogue_ask(c, FIND, twi_catalogue_text(s, 1), &found, err);
        if (st == TW_OK && found == 0)
            st = tw_fail(err, TW_EDAMAGED, "catalogue %s: its %s is not as it should be",
                         c->place, twi_catalogue_text(s, 0));
    }
    (void)sqlite3_finalize(s);
    (void)sqlite3_close(sound.db);
    return st;
}

/* Readers and the station do not hold each other up. The log beside the data base stays
 * small, as a card may be. */
static const char WRITES[] =
    "PRAGMA journal_mode = WAL; PRAGMA wal_autocheckpoint = 250; "
    "PRAGMA journal_size_limit = 1048576";

/* Without the file that connections share, for which there may be no room: to be said
 * before anything is read. */
static const char ALONE[] = "PRAGMA locking_mode = EXCLUSIVE";

static tw_status open_with(const char *path, bool write, bool alone, tw_catalogue **out,
                           tw_error *err)
{
    tw_catalogue *c = calloc(1, sizeof *c);
    if (!c)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    (void)snprintf(c->place, sizeof c->place, "%s", path ? path : "in memory");
    (void)twi_catalogue_journal_name(path, c->journal, sizeof c->journal);
    const int flags =
        (write ? SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE : SQLITE_OPEN_READWRITE) |
        SQLITE_OPEN_FULLMUTEX;
    const int code = sqlite3_open_v2(path ? path : ":memory:", &c->db, flags, NULL);
    tw_status st = TW_OK;
    if (code == SQLITE_CANTOPEN && !write)
        st = tw_fail(err, TW_ENOENT, "there is no catalogue %s", c->place);
    else if (code != SQLITE_OK)
        st = twi_catalogue_fail(c, code, err);
    if (c->db)
        (void)sqlite3_busy_timeout(c->db, WAIT_MS);
    if (st == TW_OK && alone)
        st = twi_catalogue_execute(c, ALONE, err);
    if (st == TW_OK)
        st = twi_catalogue_execute(
            c, "PRAGMA foreign_keys = ON; PRAGMA synchronous = FULL", err);
    int64_t unused = 0;
    if (st == TW_OK && path && write)
        st = twi_catalogue_execute(c, WRITES, err);
    if (st == TW_OK)
        st = twi_catalogue_ask(c, "SELECT count(*) FROM sqlite_schema", NULL, &unused,
                               err);
    if (st == TW_OK && (write || unused > 0))
        st = upgrade(c, err);
    else if (st == TW_OK)
        st = tw_fail(err, TW_EDAMAGED, "%s is empty, no catalogue", c->place);
    if (st == TW_OK && path && write)
        st = check_schema(c, err);
    if (st == TW_OK)
        *out = c;
    else
        tw_catalogue_close(c);
    return st;
}

tw_status tw_catalogue_open(const char *path, bool write, tw_catalogue **out,
                            tw_error *err)
{
    if (!out || (!path && !write))
        return tw_fail(err, TW_EINVAL, "no catalogue is named");
    return open_with(path, write, false, out, err);
}

tw_status twi_catalogue_open_alone(const char *path, tw_catalogue **out, tw_error *err)
{
    return open_with(path, true, true, out, err);
}

void tw_catalogue_close(tw_catalogue *c)
{
    if (!c)
        return;
    if (c->run != 0)
        (void)twi_catalogue_execute(c, "UPDATE run SET ended = 1 WHERE ended = 0", NULL);
    (void)sqlite3_close(c->db);
    free(c);
}

/* ---- writing --------------------------------------------------------------------- */

/* When the run before began, if nobody ended it, and whether the board has run on. */
static tw_status look_back(tw_catalogue *c, const char *boot, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    tw_status st = twi_catalogue_prepare(
        c, "SELECT began_us, boot FROM run WHERE ended = 0 ORDER BY id DESC LIMIT 1", &s,
        err);
    if (st != TW_OK)
        return st;
    if (twi_catalogue_next(c, s, &st, err)) {
        c->cut_off_us = sqlite3_column_int64(s, 0);
        const char *before = twi_catalogue_text(s, 1);
        c->cut_off_how = before[0] == '\0' || boot[0] == '\0' ? TWI_CUT_OFF
                         : strcmp(before, boot) == 0          ? TWI_CUT_OFF_ALONE
                                                              : TWI_CUT_OFF_WITH_BOARD;
    }
    (void)sqlite3_finalize(s);
    return st;
}

int64_t twi_catalogue_cut_off(const tw_catalogue *c, twi_cut_off *how)
{
    *how = c ? c->cut_off_how : TWI_CUT_OFF;
    return c ? c->cut_off_us : 0;
}

tw_status twi_catalogue_begin_run(tw_catalogue *c, int64_t wall_us, const char *boot,
                                  tw_error *err)
{
    if (!c)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    /* What was running when the board died ended, at the least, with its last capture. */
    tw_status st = twi_catalogue_execute(
        c,
        "UPDATE sighting SET end_us = max(start_us, coalesce((SELECT max(start_us) FROM "
        "capture WHERE capture.sighting = sighting.id), start_us)) WHERE end_us = 0",
        err);
    sqlite3_stmt *s = NULL;
    if (st == TW_OK)
        st = look_back(c, boot, err);
    if (st == TW_OK)
        st = twi_catalogue_execute(c, "UPDATE run SET ended = 1 WHERE ended = 0", err);
    if (st == TW_OK)
        st = twi_catalogue_prepare(c, "INSERT INTO run(began_us, boot) VALUES (?, ?)", &s,
                                   err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_int64(s, 1, wall_us);
    (void)sqlite3_bind_text(s, 2, boot, -1, SQLITE_STATIC);
    st = twi_catalogue_finish(c, s, err);
    if (st == TW_OK)
        c->run = sqlite3_last_insert_rowid(c->db);
    return st;
}

/* Bind what a sighting says: the same places in both statements. */
static void bind_entry(const tw_catalogue *c, const twi_sighting_entry *e,
                       sqlite3_stmt *s)
{
    const tw_sighting *g = e->sighting;
    (void)sqlite3_bind_int64(s, 1, c->run);
    (void)sqlite3_bind_text(s, 2, e->camera, -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(s, 3, g->number);
    (void)sqlite3_bind_int64(s, 4, g->part);
    (void)sqlite3_bind_int64(s, 5, g->start_us + e->wall_offset_us);
    (void)sqlite3_bind_int64(s, 6, e->over ? g->end_us + e->wall_offset_us : 0);
    (void)sqlite3_bind_int64(s, 7, g->peak_ppm);
    (void)sqlite3_bind_int64(s, 8, g->frames);
    (void)sqlite3_bind_int64(s, 9, e->start_ppm);
    (void)sqlite3_bind_int64(s, 10, e->stay_ppm);
    (void)sqlite3_bind_text(s, 11, e->why ? e->why : "", -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(s, 12, e->unsure);
    (void)sqlite3_bind_int64(s, 13,
                             e->order_us ? e->order_us : g->start_us + e->wall_offset_us);
    (void)sqlite3_bind_int64(s, 14, e->by_number);
}

/* @return TW_OK; TW_ENOENT: it gave no row; else err. */
static tw_status write_entry(tw_catalogue *c, const char *sql,
                             const twi_sighting_entry *e, int64_t *id, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    tw_status st = twi_catalogue_prepare(c, sql, &s, err);
    if (st != TW_OK)
        return st;
    bind_entry(c, e, s);
    int code = sqlite3_step(s);
    const bool row = code == SQLITE_ROW;
    if (row) {
        if (id)
            *id = sqlite3_column_int64(s, 0);
        code = sqlite3_step(s); /* to its end: it takes effect then */
    }
    if (code != SQLITE_DONE)
        st = twi_catalogue_fail(c, code, err);
    else if (!row)
        st = TW_ENOENT;
    (void)sqlite3_finalize(s);
    return st;
}

/* The number as the id, if it is the store's and not taken; else the data base chooses.
 */
#define ID_OF                                                                            \
    "CASE WHEN ?14 AND NOT EXISTS(SELECT 1 FROM sighting WHERE id = ?3) THEN ?3 END"

tw_status twi_catalogue_last_number(tw_catalogue *c, int64_t *out, tw_error *err)
{
    return twi_catalogue_ask(c,
                             "SELECT max(coalesce((SELECT seq FROM sqlite_sequence WHERE "
                             "name = 'sighting'), 0), coalesce((SELECT max(number) FROM "
                             "sighting), 0))",
                             NULL, out, err);
}

tw_status twi_catalogue_put(tw_catalogue *c, const twi_sighting_entry *e, int64_t *id,
                            tw_error *err)
{
    static const char UPDATE[] =
        "UPDATE sighting SET end_us = max(end_us, ?6), peak_ppm = max(peak_ppm, ?7), "
        "frames = max(frames, ?8) WHERE run = ?1 AND camera = ?2 AND number = ?3 "
        "AND part = ?4 RETURNING id";
    static const char INSERT[] =
        "INSERT INTO sighting(id, run, camera, number, part, start_us, end_us, peak_ppm, "
        "frames, start_ppm, stay_ppm, why, unsure, order_us) VALUES (" ID_OF
        ", ?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13) RETURNING id";
    if (!c || !e || !e->camera || !e->sighting)
        return tw_fail(err, TW_EINVAL, "no sighting");
    int64_t own = 0;
    tw_status st = write_entry(c, UPDATE, e, &own, err);
    if (st == TW_ENOENT)
        st = write_entry(c, INSERT, e, &own, err);
    if (st == TW_OK && e->over)
        twi_catalogue_journal_sighting(c, own);
    if (id)
        *id = own;
    return st;
}

tw_status twi_catalogue_add(tw_catalogue *c, const tw_capture_record *r, tw_error *err)
{
    if (!c || !r || !r->file || !r->kind || !r->camera)
        return tw_fail(err, TW_EINVAL, "no capture");
    sqlite3_stmt *s = NULL;
    const tw_status st = twi_catalogue_prepare(
        c,
        "INSERT INTO capture(sighting, camera, kind, file, bytes, "
        "start_us, order_us, unsure, run) VALUES (?, ?, ?, ?, ?, ?, "
        "?, ?, ?)",
        &s, err);
    if (st != TW_OK)
        return st;
    if (r->sighting != 0)
        (void)sqlite3_bind_int64(s, 1, r->sighting);
    (void)sqlite3_bind_text(s, 2, r->camera, -1, SQLITE_STATIC);
    (void)sqlite3_bind_text(s, 3, r->kind, -1, SQLITE_STATIC);
    (void)sqlite3_bind_text(s, 4, r->file, -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(s, 5, (int64_t)r->bytes);
    (void)sqlite3_bind_int64(s, 6, r->start_us);
    (void)sqlite3_bind_int64(s, 7, r->order_us ? r->order_us : r->start_us);
    (void)sqlite3_bind_int64(s, 8, r->unsure);
    if (c->run != 0)
        (void)sqlite3_bind_int64(s, 9, c->run);
    return twi_catalogue_finish(c, s, err);
}

/* @return the sighting that a capture lies in, 0: none is known. */
static tw_status find_home(tw_catalogue *c, const tw_capture_record *r, uint32_t number,
                           int64_t *id, tw_error *err)
{
    enum { NEAR_US = 600000000 }; /* footage lies so far around its sighting at most */
    sqlite3_stmt *s = NULL;
    tw_status st = twi_catalogue_prepare(
        c,
        "SELECT id FROM sighting WHERE camera = ?1 AND number = ?2 "
        "AND ?3 >= start_us - ?4 AND ?3 <= max(start_us, end_us) + ?4 "
        "ORDER BY abs(start_us - ?3) LIMIT 1",
        &s, err);
    *id = 0;
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_text(s, 1, r->camera, -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(s, 2, number);
    (void)sqlite3_bind_int64(s, 3, r->start_us);
    (void)sqlite3_bind_int64(s, 4, NEAR_US);
    const int code = sqlite3_step(s);
    if (code == SQLITE_ROW)
        *id = sqlite3_column_int64(s, 0);
    else if (code != SQLITE_DONE)
        st = twi_catalogue_fail(c, code, err);
    (void)sqlite3_finalize(s);
    return st;
}

static tw_status make_home(tw_catalogue *c, const tw_capture_record *r, uint32_t number,
                           int64_t *id, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    tw_status st = twi_catalogue_prepare(
        c,
        "INSERT INTO sighting(id, camera, number, part, start_us, end_us, order_us, "
        "peak_ppm, frames, start_ppm, stay_ppm, why) VALUES (CASE WHEN ?2 > 0 AND NOT "
        "EXISTS(SELECT 1 FROM sighting WHERE id = ?2) THEN ?2 END, ?1, ?2, 1, ?3, ?3, "
        "?3, 0, 0, 0, 0, '')",
        &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_text(s, 1, r->camera, -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(s, 2, number);
    (void)sqlite3_bind_int64(s, 3, r->start_us);
    st = twi_catalogue_finish(c, s, err);
    if (st == TW_OK)
        *id = sqlite3_last_insert_rowid(c->db);
    return st;
}

tw_status twi_catalogue_adopt(tw_catalogue *c, const tw_capture_record *r,
                              uint32_t number, tw_error *err)
{
    int64_t id = 0;
    if (!c || !r || !r->camera || !r->kind)
        return tw_fail(err, TW_EINVAL, "no capture");
    const bool homeless = !twi_kind_of_sighting(twi_kind_find(r->kind));
    tw_status st = homeless ? TW_OK : find_home(c, r, number, &id, err);
    if (st == TW_OK && id == 0 && !homeless)
        st = make_home(c, r, number, &id, err);
    tw_capture_record at_home = *r;
    at_home.sighting = id;
    return st == TW_OK ? twi_catalogue_add(c, &at_home, err) : st;
}

/* On a full card the log of changes (WAL) grows with each file that goes, by more than a
 * small file sets free: it is emptied then. */
tw_status twi_catalogue_drop(tw_catalogue *c, int64_t capture, tw_error *err)
{
    static const char sql[] = "DELETE FROM capture WHERE id = ?";
    const tw_status st = twi_catalogue_change_one(c, sql, capture, "capture", err);
    if (st != TW_ENOSPC)
        return st;
    (void)twi_catalogue_execute(c, "PRAGMA wal_checkpoint(TRUNCATE)", NULL);
    return twi_catalogue_change_one(c, sql, capture, "capture", err);
}

/* ---- what is on the card --------------------------------------------------------- */

tw_status twi_catalogue_seen(tw_catalogue *c, const char *file, tw_error *err)
{
    if (!c)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    if (!file)
        return twi_catalogue_execute(
            c,
            "CREATE TEMP TABLE IF NOT EXISTS seen(file TEXT PRIMARY KEY) STRICT;"
            "DELETE FROM temp.seen",
            err);
    sqlite3_stmt *s = NULL;
    const tw_status st = twi_catalogue_prepare(
        c, "INSERT OR IGNORE INTO temp.seen(file) VALUES (?)", &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_text(s, 1, file, -1, SQLITE_STATIC);
    return twi_catalogue_finish(c, s, err);
}

tw_status twi_catalogue_forget_unseen(tw_catalogue *c, uint32_t *gone, tw_error *err)
{
    if (!c)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    const tw_status st = twi_catalogue_execute(
        c, "DELETE FROM capture WHERE file NOT IN (SELECT file FROM temp.seen)", err);
    if (st == TW_OK && gone)
        *gone = (uint32_t)sqlite3_changes(c->db);
    return st == TW_OK ? twi_catalogue_execute(c, "DELETE FROM temp.seen", err) : st;
}

/* ---- removing -------------------------------------------------------------------- */

enum { FILES_MAX = 64 }; /* in one go */

typedef struct doomed {
    int64_t id[FILES_MAX];
    char file[FILES_MAX][512];
    size_t count;
} doomed;

static bool collect(void *ctx, const tw_capture_record *r)
{
    doomed *d = ctx;
    d->id[d->count] = r->id;
    (void)snprintf(d->file[d->count], sizeof d->file[0], "%s", r->file);
    return ++d->count < FILES_MAX;
}

tw_status tw_catalogue_remove(tw_catalogue *c, const tw_card *card, int64_t sighting,
                              tw_error *err)
{
    if (!c || !card)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    doomed *d = calloc(1, sizeof *d);
    if (!d)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    tw_status st = TW_OK;
    do { /* each round takes some out, so it ends */
        d->count = 0;
        st = tw_catalogue_captures(c, sighting, collect, d, err);
        for (size_t i = 0; i < d->count && st == TW_OK; i++) {
            st = card->ops->remove(card->ctx, d->file[i], err);
            if (st == TW_OK || st == TW_ENOENT)
                st = twi_catalogue_drop(c, d->id[i], err);
        }
    } while (st == TW_OK && d->count > 0);
    if (st == TW_OK)
        st = twi_catalogue_change_one(c, "DELETE FROM sighting WHERE id = ?", sighting,
                                      "sighting", err);
    if (st == TW_OK)
        twi_catalogue_journal_removed(c, sighting);
    free(d);
    return st;
}
