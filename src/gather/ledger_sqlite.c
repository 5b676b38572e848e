/* The ledger of one machine: a file. */
#include <sqlite3.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "ledger.h"
#include "question.h"

enum { WAIT_MS = 10000, PUTS = 9, SHOWN = 160 };

static const char SCHEMA[] =
    "CREATE TABLE station(id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE,"
    " state TEXT NOT NULL DEFAULT '', series TEXT NOT NULL DEFAULT '',"
    " told_us INTEGER NOT NULL DEFAULT 0, heard_us INTEGER NOT NULL DEFAULT 0,"
    " usual_us INTEGER NOT NULL DEFAULT 0, asked_us INTEGER NOT NULL DEFAULT 0,"
    " vain INTEGER NOT NULL DEFAULT 0,"
    " silent INTEGER NOT NULL DEFAULT 0, text TEXT NOT NULL DEFAULT '') STRICT;"
    "CREATE TABLE series(id INTEGER PRIMARY KEY, station INTEGER NOT NULL"
    " REFERENCES station(id), word TEXT NOT NULL, last_number INTEGER NOT NULL DEFAULT 0,"
    " whole_to INTEGER NOT NULL DEFAULT 0, UNIQUE(station, word)) STRICT;"
    "CREATE TABLE camera(station INTEGER NOT NULL REFERENCES station(id),"
    " name TEXT NOT NULL, state TEXT NOT NULL, told_us INTEGER NOT NULL,"
    " text TEXT NOT NULL, PRIMARY KEY(station, name)) STRICT;"
    "CREATE TABLE sighting(series INTEGER NOT NULL REFERENCES series(id),"
    " number INTEGER NOT NULL, camera TEXT NOT NULL, phase INTEGER NOT NULL,"
    " start_us INTEGER NOT NULL, end_us INTEGER NOT NULL, peak_ppm INTEGER NOT NULL,"
    " name TEXT NOT NULL, count INTEGER NOT NULL, mark TEXT NOT NULL, text TEXT NOT NULL,"
    " PRIMARY KEY(series, number)) STRICT, WITHOUT ROWID;"
    "CREATE INDEX sighting_by_time ON sighting(start_us);"
    "CREATE TABLE alarm(id INTEGER PRIMARY KEY, station INTEGER NOT NULL"
    " REFERENCES station(id), camera TEXT NOT NULL, told_us INTEGER NOT NULL,"
    " text TEXT NOT NULL, UNIQUE(station, camera, told_us, text)) STRICT;";

/* When accounts of the page have looked; and a station's time, which its page asks for.
 */
static const char SECOND[] =
    "CREATE TABLE visit(who TEXT PRIMARY KEY, since_us INTEGER NOT NULL,"
    " last_us INTEGER NOT NULL) STRICT, WITHOUT ROWID;"
    "CREATE INDEX sighting_by_series ON sighting(series, start_us);";

/* What stations told of their settings, and words that wait for them. */
static const char THIRD[] =
    "ALTER TABLE station ADD COLUMN settings_now TEXT NOT NULL DEFAULT '';"
    "ALTER TABLE station ADD COLUMN settings_of TEXT NOT NULL DEFAULT '';"
    "ALTER TABLE station ADD COLUMN settings TEXT NOT NULL DEFAULT '';"
    "ALTER TABLE station ADD COLUMN settings_asked_us INTEGER NOT NULL DEFAULT 0;"
    "CREATE TABLE word(id INTEGER PRIMARY KEY, station INTEGER NOT NULL"
    " REFERENCES station(id), what TEXT NOT NULL, who TEXT NOT NULL, text TEXT NOT NULL,"
    " made_us INTEGER NOT NULL, told_us INTEGER NOT NULL DEFAULT 0,"
    " state TEXT NOT NULL DEFAULT 'waits', answered_us INTEGER NOT NULL DEFAULT 0,"
    " answer TEXT NOT NULL DEFAULT '') STRICT;"
    "CREATE INDEX word_by_station ON word(station, id);"
    "CREATE INDEX word_waiting ON word(id) WHERE state = 'waits';";

/* Where cameras stood, and since when: one that is moved is another deployment. */
static const char FOURTH[] =
    "CREATE TABLE stand(station INTEGER NOT NULL REFERENCES station(id),"
    " camera TEXT NOT NULL, since_us INTEGER NOT NULL, latitude INTEGER NOT NULL,"
    " longitude INTEGER NOT NULL, PRIMARY KEY(station, camera, since_us))"
    " STRICT, WITHOUT ROWID;";

/* Each brings up what the one before left. */
static const char *const STEPS[] = {SCHEMA, SECOND, THIRD, FOURTH};
enum { VERSION = sizeof STEPS / sizeof *STEPS };

/* What is put, in the order of PUT_*; each says nothing that is there already. Of a
 * sighting the last word counts, but that it is gone is none. */
enum {
    PUT_STATION,
    PUT_SERIES,
    PUT_STATE,
    PUT_CAMERA,
    PUT_SIGHTING,
    PUT_ALARM,
    PUT_SETTINGS,
    PUT_ANSWER,
    PUT_STAND
};
static const char *const PUT[PUTS] = {
    "INSERT INTO station(name) VALUES (?1) ON CONFLICT DO NOTHING",
    "INSERT INTO series(station, word, last_number) SELECT id, ?2, max(?3, 0) FROM "
    "station WHERE name = ?1 ON CONFLICT(station, word) DO UPDATE SET last_number = "
    "max(last_number, excluded.last_number)",
    "UPDATE station SET state = ?2, series = CASE WHEN ?3 = '' THEN series ELSE ?3 END, "
    "told_us = ?4, text = ?5, settings_now = "
    "CASE WHEN ?2 IN ('dead', 'down') THEN settings_now ELSE ?6 END WHERE name = ?1 AND "
    "(told_us <= ?4 OR ?4 = 0)",
    "INSERT INTO camera(station, name, state, told_us, text) SELECT id, ?2, ?3, ?4, ?5 "
    "FROM station WHERE name = ?1 ON CONFLICT(station, name) DO UPDATE SET state = "
    "excluded.state, told_us = excluded.told_us, text = excluded.text WHERE "
    "excluded.told_us >= camera.told_us",
    "INSERT INTO sighting SELECT r.id, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12 FROM "
    "series r JOIN station s ON s.id = r.station WHERE s.name = ?1 AND r.word = ?2 "
    "ON CONFLICT(series, number) DO UPDATE SET camera = excluded.camera, phase = "
    "excluded.phase, start_us = excluded.start_us, end_us = excluded.end_us, peak_ppm = "
    "excluded.peak_ppm, name = excluded.name, count = excluded.count, mark = "
    "excluded.mark, text = excluded.text WHERE excluded.phase = 1",
    "INSERT INTO alarm(station, camera, told_us, text) SELECT id, ?2, ?3, ?4 FROM "
    "station WHERE name = ?1 ON CONFLICT DO NOTHING",
    "UPDATE station SET settings = ?3, settings_of = ?2 WHERE name = ?1",
    ("UPDATE word SET state = ?3, answered_us = ?4, answer = ?5 WHERE id = ?2 AND state "
     "= 'waits' AND station = (SELECT id FROM station WHERE name = ?1)"),
    /* where it stood until then is left out */
    ("INSERT INTO stand SELECT s.id, ?2, ?3, ?4, ?5 FROM station s WHERE s.name = ?1 AND "
     "(?4, ?5) IS NOT (SELECT p.latitude, p.longitude FROM stand p WHERE p.station = s.id "
     "AND p.camera = ?2 AND p.since_us <= ?3 ORDER BY p.since_us DESC LIMIT 1) ON "
     "CONFLICT DO NOTHING")};

struct twi_ledger {
    sqlite3 *db;
    sqlite3_stmt *put[PUTS];
    char place[SHOWN];
};

/* ---- talking --------------------------------------------------------------------- */

static tw_status fail(const twi_ledger *l, int code, tw_error *err)
{
    const char *said = sqlite3_errmsg(l->db);
    switch (code & 0xFF) {
    case SQLITE_BUSY:
    case SQLITE_LOCKED:
        return tw_fail(err, TW_EAGAIN, "%s: others write to it: %s", l->place, said);
    case SQLITE_FULL: return tw_fail(err, TW_ENOSPC, "%s: %s", l->place, said);
    case SQLITE_CONSTRAINT:
    case SQLITE_MISMATCH:
    case SQLITE_TOOBIG: return tw_fail(err, TW_EINVAL, "%s: %s", l->place, said);
    case SQLITE_CORRUPT:
    case SQLITE_NOTADB:
        return tw_fail(err, TW_EDAMAGED, "%s is damaged: %s", l->place, said);
    default: return tw_fail(err, TW_EIO, "%s: %s", l->place, said);
    }
}

static tw_status execute(const twi_ledger *l, const char *sql, tw_error *err)
{
    const int code = sqlite3_exec(l->db, sql, NULL, NULL, NULL);
    return code == SQLITE_OK ? TW_OK : fail(l, code, err);
}

static tw_status prepare(const twi_ledger *l, const char *sql, sqlite3_stmt **out,
                         tw_error *err)
{
    const int code = sqlite3_prepare_v2(l->db, sql, -1, out, NULL);
    return code == SQLITE_OK ? TW_OK : fail(l, code, err);
}

static tw_status finish(const twi_ledger *l, sqlite3_stmt *s, tw_error *err)
{
    const int code = sqlite3_finalize(s);
    return code == SQLITE_OK ? TW_OK : fail(l, code, err);
}

static void bind_text(sqlite3_stmt *s, int at, const char *text)
{
    (void)sqlite3_bind_text(s, at, text, -1, SQLITE_STATIC);
}

static const char *text_at(sqlite3_stmt *s, int column)
{
    const char *text = (const char *)sqlite3_column_text(s, column);
    return text ? text : "";
}

static void copy(char *out, size_t capacity, sqlite3_stmt *s, int column)
{
    (void)snprintf(out, capacity, "%s", text_at(s, column));
}

/* ---- opening --------------------------------------------------------------------- */

static void sqlite_close(twi_ledger *l)
{
    if (!l)
        return;
    for (int i = 0; i < PUTS; i++)
        (void)sqlite3_finalize(l->put[i]);
    (void)sqlite3_close(l->db);
    free(l);
}

static tw_status bring_up(twi_ledger *l, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    char set[64];
    tw_status st = execute(l, "BEGIN IMMEDIATE", err);
    if (st == TW_OK)
        st = prepare(l, "PRAGMA user_version", &s, err);
    const int version =
        st == TW_OK && sqlite3_step(s) == SQLITE_ROW ? sqlite3_column_int(s, 0) : VERSION;
    (void)sqlite3_finalize(s);
    if (st == TW_OK && version > VERSION)
        st = tw_fail(err, TW_ENOTSUP, "%s was written by a newer tawny: use that",
                     l->place);
    for (int i = version; i < VERSION && st == TW_OK; i++)
        st = execute(l, STEPS[i], err);
    (void)snprintf(set, sizeof set, "PRAGMA user_version = %d; COMMIT", VERSION);
    if (st == TW_OK)
        st = execute(l, set, err);
    if (st != TW_OK)
        (void)execute(l, "ROLLBACK", NULL);
    return st;
}

static tw_status sqlite_open(const char *place, twi_ledger **out, tw_error *err)
{
    twi_ledger *l = calloc(1, sizeof *l);
    if (!l)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    (void)snprintf(l->place, sizeof l->place, "%s", place);
    const int code =
        sqlite3_open_v2(place, &l->db, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE, NULL);
    tw_status st = code == SQLITE_OK ? TW_OK : fail(l, code, err);
    if (st == TW_OK) {
        (void)sqlite3_busy_timeout(l->db, WAIT_MS);
        st = execute(l,
                     "PRAGMA journal_mode = WAL; PRAGMA synchronous = FULL; PRAGMA "
                     "foreign_keys = ON",
                     err);
    }
    if (st == TW_OK)
        st = bring_up(l, err);
    for (int i = 0; i < PUTS && st == TW_OK; i++)
        st = prepare(l, PUT[i], &l->put[i], err);
    if (st != TW_OK) {
        sqlite_close(l);
        return st;
    }
    *out = l;
    return TW_OK;
}

/* ---- putting --------------------------------------------------------------------- */

static tw_status run(const twi_ledger *l, int which, tw_error *err)
{
    const int code = sqlite3_step(l->put[which]);
    tw_status st = TW_OK;
    if (code != SQLITE_DONE)
        st = fail(l, code, err);
    (void)sqlite3_reset(l->put[which]);
    (void)sqlite3_clear_bindings(l->put[which]);
    return st;
}

static tw_status put_series(const twi_ledger *l, const twi_heard *h, tw_error *err)
{
    sqlite3_stmt *s = l->put[PUT_SERIES];
    bind_text(s, 1, h->station);
    bind_text(s, 2, h->series);
    (void)sqlite3_bind_int64(s, 3, h->number);
    return run(l, PUT_SERIES, err);
}

static tw_status put_state(const twi_ledger *l, const twi_heard *h, tw_error *err)
{
    const int which = h->kind == TWI_HEARD_STATION ? PUT_STATE : PUT_CAMERA;
    sqlite3_stmt *s = l->put[which];
    bind_text(s, 1, h->station);
    bind_text(s, 2, which == PUT_STATE ? h->state : h->camera);
    bind_text(s, 3, which == PUT_STATE ? h->series : h->state);
    (void)sqlite3_bind_int64(s, 4, h->time_us);
    bind_text(s, 5, h->text);
    if (which == PUT_STATE)
        bind_text(s, 6, h->name);
    return run(l, which, err);
}

static tw_status put_stand(const twi_ledger *l, const twi_heard *h, tw_error *err)
{
    sqlite3_stmt *s = l->put[PUT_STAND];
    bind_text(s, 1, h->station);
    bind_text(s, 2, h->camera);
    (void)sqlite3_bind_int64(s, 3, h->time_us);
    (void)sqlite3_bind_int64(s, 4, h->latitude);
    (void)sqlite3_bind_int64(s, 5, h->longitude);
    return run(l, PUT_STAND, err);
}

static tw_status put_camera(const twi_ledger *l, const twi_heard *h, tw_error *err)
{
    const tw_status st = put_state(l, h, err);
    return st == TW_OK && h->placed && h->time_us > 0 ? put_stand(l, h, err) : st;
}

static tw_status put_settings(const twi_ledger *l, const twi_heard *h, tw_error *err)
{
    sqlite3_stmt *s = l->put[PUT_SETTINGS];
    bind_text(s, 1, h->station);
    bind_text(s, 2, h->name);
    bind_text(s, 3, h->text);
    return run(l, PUT_SETTINGS, err);
}

static tw_status put_answer(const twi_ledger *l, const twi_heard *h, int64_t now_us,
                            tw_error *err)
{
    sqlite3_stmt *s = l->put[PUT_ANSWER];
    bind_text(s, 1, h->station);
    (void)sqlite3_bind_int64(s, 2, h->number);
    bind_text(s, 3, h->state);
    (void)sqlite3_bind_int64(s, 4, now_us);
    bind_text(s, 5, h->text);
    return run(l, PUT_ANSWER, err);
}

static tw_status put_sighting(const twi_ledger *l, const twi_heard *h, tw_error *err)
{
    sqlite3_stmt *s = l->put[PUT_SIGHTING];
    bind_text(s, 1, h->station);
    bind_text(s, 2, h->series);
    (void)sqlite3_bind_int64(s, 3, h->number);
    bind_text(s, 4, h->camera);
    (void)sqlite3_bind_int64(s, 5, h->phase);
    (void)sqlite3_bind_int64(s, 6, h->start_us);
    (void)sqlite3_bind_int64(s, 7, h->end_us);
    (void)sqlite3_bind_int64(s, 8, h->peak_ppm);
    bind_text(s, 9, h->name);
    (void)sqlite3_bind_int64(s, 10, h->count);
    bind_text(s, 11, h->mark);
    bind_text(s, 12, h->text);
    return run(l, PUT_SIGHTING, err);
}

static tw_status put_alarm(const twi_ledger *l, const twi_heard *h, tw_error *err)
{
    sqlite3_stmt *s = l->put[PUT_ALARM];
    bind_text(s, 1, h->station);
    bind_text(s, 2, h->camera);
    (void)sqlite3_bind_int64(s, 3, h->time_us);
    bind_text(s, 4, h->text);
    return run(l, PUT_ALARM, err);
}

static tw_status put_one(const twi_ledger *l, const twi_heard *h, int64_t now_us,
                         tw_error *err)
{
    bind_text(l->put[PUT_STATION], 1, h->station);
    tw_status st = run(l, PUT_STATION, err);
    if (st == TW_OK && h->series[0])
        st = put_series(l, h, err);
    if (st != TW_OK)
        return st;
    switch (h->kind) {
    case TWI_HEARD_STATION: return put_state(l, h, err);
    case TWI_HEARD_CAMERA: return put_camera(l, h, err);
    case TWI_HEARD_ALARM: return put_alarm(l, h, err);
    case TWI_HEARD_SETTINGS: return put_settings(l, h, err);
    case TWI_HEARD_ANSWER: return put_answer(l, h, now_us, err);
    default: return put_sighting(l, h, err);
    }
}

/* A station is heard once a batch, whatever it told in that. */
static tw_status put_heard(const twi_ledger *l, const twi_heard *h, int64_t now_us,
                           tw_error *err)
{
    sqlite3_stmt *s = NULL;
    tw_status st = prepare(
        l, "SELECT usual_us, heard_us FROM station WHERE name = ?1 AND heard_us < ?2", &s,
        err);
    if (st != TW_OK)
        return st;
    bind_text(s, 1, h->station);
    (void)sqlite3_bind_int64(s, 2, now_us);
    const bool later = sqlite3_step(s) == SQLITE_ROW;
    const int64_t usual_us = later ? sqlite3_column_int64(s, 0) : 0,
                  before_us = later ? sqlite3_column_int64(s, 1) : 0;
    st = finish(l, s, err);
    if (st != TW_OK || !later)
        return st;
    st = prepare(l,
                 "UPDATE station SET heard_us = ?2, usual_us = ?3, silent = 0 WHERE name "
                 "= ?1",
                 &s, err);
    if (st != TW_OK)
        return st;
    bind_text(s, 1, h->station);
    (void)sqlite3_bind_int64(s, 2, now_us);
    (void)sqlite3_bind_int64(
        s, 3, before_us > 0 ? twi_usual_next(usual_us, now_us - before_us) : 0);
    (void)sqlite3_step(s);
    return finish(l, s, err);
}

static tw_status sqlite_put(twi_ledger *l, const twi_heard *batch, size_t count,
                            int64_t now_us, tw_error *err)
{
    tw_status st = execute(l, "BEGIN IMMEDIATE", err);
    if (st != TW_OK)
        return st;
    for (size_t i = 0; i < count && st == TW_OK; i++) {
        st = put_one(l, &batch[i], now_us, err);
        if (st == TW_OK &&
            (i == 0 || strcmp(batch[i].station, batch[i - 1].station) != 0))
            st = put_heard(l, &batch[i], now_us, err);
    }
    if (st == TW_OK)
        st = execute(l, "COMMIT", err);
    if (st != TW_OK)
        (void)execute(l, "ROLLBACK", NULL);
    return st;
}

/* ---- gaps ------------------------------------------------------------------------ */

/* Series that end behind what is whole of them, oldest question first. */
static const char OPEN_SERIES[] =
    "SELECT r.id, r.whole_to, r.last_number, s.name, r.word, s.id FROM series r JOIN "
    "station s ON s.id = r.station WHERE r.last_number > r.whole_to AND s.series = "
    "r.word AND s.asked_us <= ?1 - (?3 << s.vain) ORDER BY s.asked_us LIMIT ?2";

/* Numbers that are over, or gone, behind those that are whole. */
static const char HELD[] =
    "SELECT number FROM sighting WHERE series = ?1 AND number > ?2 "
    "AND number <= ?3 ORDER BY number";

typedef struct open_series {
    int64_t id, whole_to, last_number, station;
    char name[TWI_HEARD_NAME], word[TWI_HEARD_SERIES];
} open_series;

static tw_status set_number(const twi_ledger *l, const char *sql, int64_t id,
                            int64_t value, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    const tw_status st = prepare(l, sql, &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_int64(s, 1, id);
    (void)sqlite3_bind_int64(s, 2, value);
    (void)sqlite3_step(s);
    return finish(l, s, err);
}

static void add_gap(const open_series *o, int64_t first, int64_t last,
                    twi_ledger_gap *out, size_t *found)
{
    if (first > last || *found == TWI_LEDGER_GAPS)
        return;
    twi_ledger_gap *g = &out[(*found)++];
    (void)snprintf(g->station, sizeof g->station, "%s", o->name);
    (void)snprintf(g->series, sizeof g->series, "%s", o->word);
    g->first = first;
    g->last = last;
}

static tw_status find_gaps(const twi_ledger *l, const open_series *o, twi_ledger_gap *out,
                           size_t *found, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    int64_t next = o->whole_to + 1, whole_to = o->whole_to;
    tw_status st = prepare(l, HELD, &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_int64(s, 1, o->id);
    (void)sqlite3_bind_int64(s, 2, o->whole_to);
    (void)sqlite3_bind_int64(s, 3, o->last_number);
    while (sqlite3_step(s) == SQLITE_ROW && *found < TWI_LEDGER_GAPS) {
        const int64_t number = sqlite3_column_int64(s, 0);
        whole_to = whole_to + 1 == number ? number : whole_to;
        add_gap(o, next, number - 1, out, found);
        next = number + 1;
    }
    add_gap(o, next, o->last_number, out, found);
    st = finish(l, s, err);
    if (st == TW_OK && whole_to > o->whole_to)
        st = set_number(l, "UPDATE series SET whole_to = ?2 WHERE id = ?1", o->id,
                        whole_to, err);
    if (st == TW_OK && whole_to > o->whole_to) /* it was not in vain */
        st = set_number(l, "UPDATE station SET vain = ?2 WHERE id = ?1", o->station, 0,
                        err);
    return st;
}

static tw_status list_open(const twi_ledger *l, int64_t now_us, int64_t again_us,
                           open_series *out, size_t *count, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    const tw_status st = prepare(l, OPEN_SERIES, &s, err);
    *count = 0;
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_int64(s, 1, now_us);
    (void)sqlite3_bind_int64(s, 2, TWI_LEDGER_GAPS);
    (void)sqlite3_bind_int64(s, 3, again_us);
    while (*count < TWI_LEDGER_GAPS && sqlite3_step(s) == SQLITE_ROW) {
        open_series *o = &out[(*count)++];
        o->id = sqlite3_column_int64(s, 0);
        o->whole_to = sqlite3_column_int64(s, 1);
        o->last_number = sqlite3_column_int64(s, 2);
        copy(o->name, sizeof o->name, s, 3);
        copy(o->word, sizeof o->word, s, 4);
        o->station = sqlite3_column_int64(s, 5);
    }
    return finish(l, s, err);
}

static tw_status sqlite_gaps(twi_ledger *l, int64_t now_us, int64_t again_us,
                             twi_ledger_gap *out, size_t *found, tw_error *err)
{
    open_series open[TWI_LEDGER_GAPS];
    size_t count = 0;
    *found = 0;
    tw_status st = execute(l, "BEGIN IMMEDIATE", err);
    if (st != TW_OK)
        return st;
    st = list_open(l, now_us, again_us, open, &count, err);
    for (size_t i = 0; i < count && st == TW_OK && *found < TWI_LEDGER_GAPS; i++) {
        const size_t before = *found;
        st = find_gaps(l, &open[i], out, found, err);
        if (st == TW_OK && *found > before)
            st = set_number(l,
                            "UPDATE station SET asked_us = ?2, vain = min(vain + 1, 10) "
                            "WHERE id = ?1",
                            open[i].station, now_us, err);
    }
    if (st == TW_OK)
        st = execute(l, "COMMIT", err);
    if (st != TW_OK)
        (void)execute(l, "ROLLBACK", NULL);
    return st;
}

/* ---- reading --------------------------------------------------------------------- */

static tw_status sqlite_stations(twi_ledger *l, bool counted, twi_ledger_station_fn take,
                                 void *ctx, tw_error *err)
{
    static const char SQL[] =
        "SELECT s.name, s.state, s.series, s.heard_us, s.usual_us, s.silent, s.text, "
        "coalesce((SELECT max(last_number) FROM series r WHERE r.station = s.id AND "
        "r.word = s.series), 0), CASE WHEN ?1 THEN (SELECT count(*) FROM sighting g "
        "JOIN series r ON r.id = g.series WHERE r.station = s.id AND g.phase = 1) ELSE "
        "0 END FROM station s ORDER BY s.name";
    sqlite3_stmt *s = NULL;
    const tw_status st = prepare(l, SQL, &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_int(s, 1, counted);
    while (sqlite3_step(s) == SQLITE_ROW) {
        twi_ledger_station one = {.heard_us = sqlite3_column_int64(s, 3),
                                  .usual_us = sqlite3_column_int64(s, 4),
                                  .silent = sqlite3_column_int(s, 5) != 0,
                                  .text = text_at(s, 6),
                                  .last_number = sqlite3_column_int64(s, 7),
                                  .sightings = sqlite3_column_int64(s, 8)};
        copy(one.name, sizeof one.name, s, 0);
        copy(one.state, sizeof one.state, s, 1);
        copy(one.series, sizeof one.series, s, 2);
        take(ctx, &one);
    }
    return finish(l, s, err);
}

static tw_status sqlite_cameras(twi_ledger *l, twi_ledger_camera_fn take, void *ctx,
                                tw_error *err)
{
    static const char SQL[] =
        "SELECT s.name, c.name, c.state, c.text FROM camera c JOIN station s ON s.id = "
        "c.station ORDER BY s.name, c.name";
    sqlite3_stmt *s = NULL;
    const tw_status st = prepare(l, SQL, &s, err);
    if (st != TW_OK)
        return st;
    while (sqlite3_step(s) == SQLITE_ROW) {
        twi_ledger_camera one = {.text = text_at(s, 3)};
        copy(one.station, sizeof one.station, s, 0);
        copy(one.name, sizeof one.name, s, 1);
        copy(one.state, sizeof one.state, s, 2);
        take(ctx, &one);
    }
    return finish(l, s, err);
}

static const twi_dialect DIALECT = {.mark = '?',
                                    .names = "SELECT value FROM json_each(%s)",
                                    .in = "IN ",
                                    .end = "",
                                    .by_letters = "",
                                    .finds = "instr"};

static tw_status sqlite_sightings(twi_ledger *l, const twi_ledger_filter *f,
                                  twi_ledger_sighting_fn take, void *ctx, tw_error *err)
{
    twi_question q;
    sqlite3_stmt *s = NULL;
    twi_question_make(f, &DIALECT, &q);
    const tw_status st = prepare(l, q.sql, &s, err);
    if (st != TW_OK)
        return st;
    for (int i = 0; i < q.count; i++)
        bind_text(s, i + 1, q.values[i]);
    while (sqlite3_step(s) == SQLITE_ROW) {
        twi_ledger_sighting one = {.number = sqlite3_column_int64(s, 4),
                                   .start_us = sqlite3_column_int64(s, 5),
                                   .end_us = sqlite3_column_int64(s, 6),
                                   .count = sqlite3_column_int64(s, 7),
                                   .phase = (twi_phase)sqlite3_column_int(s, 8),
                                   .peak_ppm = (uint32_t)sqlite3_column_int64(s, 9),
                                   .text = text_at(s, 10)};
        copy(one.station, sizeof one.station, s, 0);
        copy(one.camera, sizeof one.camera, s, 1);
        copy(one.series, sizeof one.series, s, 2);
        copy(one.name, sizeof one.name, s, 3);
        take(ctx, &one);
    }
    return finish(l, s, err);
}

static tw_status sqlite_silence(twi_ledger *l, const char *station, bool *first,
                                tw_error *err)
{
    sqlite3_stmt *s = NULL;
    const tw_status st = prepare(
        l, "UPDATE station SET silent = 1 WHERE name = ?1 AND silent = 0", &s, err);
    if (st != TW_OK)
        return st;
    bind_text(s, 1, station);
    (void)sqlite3_step(s);
    *first = sqlite3_changes(l->db) == 1;
    return finish(l, s, err);
}

static tw_status sqlite_visit(twi_ledger *l, const char *who, int64_t now_us,
                              int64_t *since_us, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    const tw_status st = prepare(
        l,
        "INSERT INTO visit(who, since_us, last_us) VALUES (?1, 0, ?2) ON CONFLICT(who) "
        "DO UPDATE SET since_us = CASE WHEN ?2 - last_us BETWEEN 0 AND 1800000000 THEN "
        "since_us ELSE min(last_us, ?2) END, last_us = ?2 RETURNING since_us",
        &s, err);
    if (st != TW_OK)
        return st;
    bind_text(s, 1, who);
    (void)sqlite3_bind_int64(s, 2, now_us);
    if (sqlite3_step(s) == SQLITE_ROW)
        *since_us = sqlite3_column_int64(s, 0);
    (void)sqlite3_step(s);
    return finish(l, s, err);
}

static tw_status sqlite_ask(twi_ledger *l, const char *words, const char *const *values,
                            int count, twi_ledger_row_fn take, void *ctx, tw_error *err)
{
    char sql[TWI_QUESTION_BYTES];
    sqlite3_stmt *s = NULL;
    if (!twi_question_words(words, &DIALECT, sql, sizeof sql))
        return tw_fail(err, TW_ESIZE, "that is too much to ask for");
    const tw_status st = prepare(l, sql, &s, err);
    if (st != TW_OK)
        return st;
    for (int i = 0; i < count; i++)
        bind_text(s, i + 1, values[i]);
    const int columns = sqlite3_column_count(s);
    while (sqlite3_step(s) == SQLITE_ROW) {
        const char *row[TWI_LEDGER_COLUMNS] = {""};
        for (int i = 0; i < columns && i < TWI_LEDGER_COLUMNS; i++)
            row[i] = text_at(s, i);
        if (take)
            take(ctx, row);
    }
    return finish(l, s, err);
}

const twi_ledger_kind twi_ledger_sqlite = {
    TWI_LEDGER_ABI, sqlite_open,     sqlite_close,   sqlite_put,
    sqlite_gaps,    sqlite_stations, sqlite_cameras, sqlite_sightings,
    sqlite_visit,   sqlite_ask,      sqlite_silence};
