/* What a catalogue knows, taken to another board. */
#include "backup.h"

#include <string.h>

#include "catalogue_state.h"

/* A statement with a text in it. */
static tw_status run_with(tw_catalogue *c, const char *sql, const char *text,
                          tw_error *err)
{
    sqlite3_stmt *s = NULL;
    const tw_status st = twi_catalogue_prepare(c, sql, &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_text(s, 1, text, -1, SQLITE_STATIC);
    return twi_catalogue_finish(c, s, err);
}

tw_status twi_catalogue_copy(tw_catalogue *c, const char *path, tw_error *err)
{
    return c && path ? run_with(c, "VACUUM INTO ?", path, err)
                     : tw_fail(err, TW_EINVAL, "no catalogue");
}

/* Of sightings there is no run: so none of them is sent, nor goes on. */
static const char SIGHTINGS[] =
    "INSERT INTO sighting(id, camera, number, part, start_us, end_us, order_us, "
    "peak_ppm, frames, start_ppm, stay_ppm, why, unsure, starred, mark, name, heads, "
    "note, named_by, sure_ppm, named_us) SELECT id + ?1, camera, number, part, "
    "start_us, max(start_us, end_us), order_us, peak_ppm, frames, start_ppm, stay_ppm, "
    "why, unsure, starred, mark, name, heads, note, named_by, sure_ppm, named_us FROM "
    "copy.sighting";
static const char CAPTURES[] = "INSERT OR IGNORE INTO capture(sighting, camera, kind, "
                               "file, bytes, start_us, unsure, "
                               "order_us) SELECT sighting + ?1, camera, kind, file, "
                               "bytes, start_us, unsure, order_us "
                               "FROM copy.capture";
static const char MISSED[] =
    "INSERT INTO missed(camera, at_us) SELECT camera, at_us FROM "
    "copy.missed WHERE ?1 >= 0";
static const char TRACE[] = "INSERT INTO trace(camera, start_us, unsure, seconds) SELECT "
                            "camera, start_us, unsure, "
                            "seconds FROM copy.trace WHERE ?1 >= 0";
static const char VALUES[] = "INSERT INTO sensor_value(sensor, at_us, unsure, value) "
                             "SELECT sensor, at_us, unsure, "
                             "value FROM copy.sensor_value WHERE ?1 >= 0";
static const char LOG[] = "INSERT INTO log_entry(camera, at_us, unsure, what, text) "
                          "SELECT camera, at_us, unsure, "
                          "what, text FROM copy.log_entry WHERE ?1 >= 0 ORDER BY id";

static tw_status take_rows(tw_catalogue *c, const char *sql, int64_t shift,
                           int64_t *count, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    tw_status st = twi_catalogue_prepare(c, sql, &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_int64(s, 1, shift);
    st = twi_catalogue_finish(c, s, err);
    if (st == TW_OK && count)
        *count = sqlite3_changes64(c->db);
    return st;
}

/* Numbers stay where nothing has one of them. */
static tw_status find_shift(tw_catalogue *c, int64_t *shift, tw_error *err)
{
    int64_t taken = 0;
    tw_status st = twi_catalogue_ask(
        c, "SELECT count(*) FROM sighting WHERE id IN (SELECT id FROM copy.sighting)",
        NULL, &taken, err);
    *shift = 0;
    return st == TW_OK && taken > 0 ? twi_catalogue_last_number(c, shift, err) : st;
}

/* Twice would be two of each. */
static tw_status check_new(tw_catalogue *c, tw_error *err)
{
    int64_t same = 0;
    const tw_status st = twi_catalogue_ask(
        c,
        "SELECT count(*) FROM sighting AS a JOIN copy.sighting AS b ON a.camera = "
        "b.camera AND a.start_us = b.start_us AND a.number = b.number AND a.part = "
        "b.part",
        NULL, &same, err);
    return st == TW_OK && same > 0
               ? tw_fail(
                     err, TW_EEXIST,
                     "%lld sightings of it are in the store already: nothing was taken "
                     "in",
                     (long long)same)
               : st;
}

static tw_status take_all(tw_catalogue *c, bool captures, twi_merged *out, tw_error *err)
{
    static const char *const others[] = {MISSED, TRACE, VALUES, LOG};
    int64_t outbox = 0;
    tw_status st = check_new(c, err);
    if (st == TW_OK)
        st = find_shift(c, &out->shift, err);
    if (st == TW_OK)
        st = twi_catalogue_ask(c, "SELECT coalesce(max(id), 0) FROM outbox", NULL,
                               &outbox, err);
    if (st == TW_OK)
        st = take_rows(c, SIGHTINGS, out->shift, &out->sightings, err);
    if (st == TW_OK && captures)
        st = take_rows(c, CAPTURES, out->shift, &out->captures, err);
    for (size_t i = 0; st == TW_OK && i < sizeof others / sizeof *others; i++)
        st = take_rows(c, others[i], 0, NULL, err);
    if (st == TW_OK) /* what their triggers have put there */
        st = take_rows(c, "DELETE FROM outbox WHERE id > ?1", outbox, NULL, err);
    return st;
}

/* In one transaction, so that a station that writes meanwhile sees all of it or nothing.
 */
static tw_status take_in(tw_catalogue *c, bool captures, twi_merged *out, tw_error *err)
{
    tw_status st = twi_catalogue_execute(c, "BEGIN IMMEDIATE", err);
    if (st != TW_OK)
        return st;
    st = take_all(c, captures, out, err);
    if (st == TW_OK)
        st = twi_catalogue_execute(c, "COMMIT", err);
    if (st != TW_OK)
        (void)twi_catalogue_execute(c, "ROLLBACK", NULL);
    return st;
}

tw_status twi_catalogue_merge(tw_catalogue *into, const char *path, bool captures,
                              twi_merged *out, tw_error *err)
{
    tw_catalogue *copy = NULL;
    memset(out, 0, sizeof *out);
    if (!into || !path)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    tw_status st = tw_catalogue_open(path, true, &copy, err); /* brought up to date */
    tw_catalogue_close(copy);
    if (st == TW_OK)
        st = run_with(into, "ATTACH ? AS copy", path, err);
    if (st != TW_OK)
        return st;
    st = take_in(into, captures, out, err);
    (void)twi_catalogue_execute(into, "DETACH copy", NULL);
    if (st == TW_OK)
        twi_catalogue_journal_adopted(into);
    return st;
}
