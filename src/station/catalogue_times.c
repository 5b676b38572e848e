/* The catalogue over time: the trace, what happened, and times that have to be put right.
 */
#include <string.h>

#include "catalogue_state.h"
#include "catalogue_write.h"

/* ---- the trace ------------------------------------------------------------------- */

tw_status twi_catalogue_add_trace(tw_catalogue *c, const char *camera,
                                  const twi_trace_minute *minute, bool unsure,
                                  tw_error *err)
{
    sqlite3_stmt *s = NULL;
    if (!c || !camera || !minute || minute->seconds > TWI_TRACE_SECONDS)
        return tw_fail(err, TW_EINVAL, "no trace");
    const tw_status st = twi_catalogue_prepare(c,
                                               "INSERT INTO trace(run, camera, start_us, "
                                               "unsure, seconds) VALUES (?, ?, ?, ?, ?)",
                                               &s, err);
    if (st != TW_OK)
        return st;
    if (c->run != 0)
        (void)sqlite3_bind_int64(s, 1, c->run);
    (void)sqlite3_bind_text(s, 2, camera, -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(s, 3, minute->start_us);
    (void)sqlite3_bind_int64(s, 4, unsure);
    (void)sqlite3_bind_blob(s, 5, minute->bytes, minute->seconds * TWI_TRACE_STEP,
                            SQLITE_STATIC);
    return twi_catalogue_finish(c, s, err);
}

tw_status twi_catalogue_drop_trace(tw_catalogue *c, const char *camera, int64_t before_us,
                                   tw_error *err)
{
    sqlite3_stmt *s = NULL;
    if (!c || !camera)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    const tw_status st = twi_catalogue_prepare(
        c, "DELETE FROM trace WHERE camera = ? AND start_us < ?", &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_text(s, 1, camera, -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(s, 2, before_us);
    return twi_catalogue_finish(c, s, err);
}

typedef struct window {
    int64_t from_us, until_us;
    bool (*visit)(void *ctx, const tw_trace_point *point);
    void *ctx;
} window;

/* @return false: visit wants no more. */
static bool visit_seconds(const window *w, int64_t start_us, const uint8_t *bytes,
                          size_t size)
{
    for (size_t i = 0; i < size / TWI_TRACE_STEP; i++) {
        tw_trace_point point = {.t_us = start_us + (int64_t)i * 1000000};
        if (point.t_us < w->from_us || point.t_us >= w->until_us ||
            !twi_trace_read(bytes, i, &point.max_ppm, &point.mean_ppm))
            continue;
        if (!w->visit(w->ctx, &point))
            return false;
    }
    return true;
}

tw_status tw_catalogue_trace(tw_catalogue *c, const char *camera, int64_t from_us,
                             int64_t until_us,
                             bool (*visit)(void *ctx, const tw_trace_point *point),
                             void *ctx, tw_error *err)
{
    enum { MINUTE_US = TWI_TRACE_SECONDS * 1000000 };
    const window w = {from_us, until_us > 0 ? until_us : INT64_MAX, visit, ctx};
    sqlite3_stmt *s = NULL;
    if (!c || !camera || !visit)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    tw_status st = twi_catalogue_prepare(c,
                                         "SELECT start_us, seconds FROM trace WHERE "
                                         "camera = ? AND start_us > ? AND start_us < ? "
                                         "ORDER BY start_us, id",
                                         &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_text(s, 1, camera, -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(s, 2, from_us - MINUTE_US);
    (void)sqlite3_bind_int64(s, 3, w.until_us);
    bool more = true;
    while (more && twi_catalogue_next(c, s, &st, err))
        more = visit_seconds(&w, sqlite3_column_int64(s, 0), sqlite3_column_blob(s, 1),
                             (size_t)sqlite3_column_bytes(s, 1));
    (void)sqlite3_finalize(s);
    return st;
}

/* ---- sensors --------------------------------------------------------------------- */

static tw_status drop_values(tw_catalogue *c, const char *sensor, int64_t before_us,
                             tw_error *err)
{
    sqlite3_stmt *s = NULL;
    const tw_status st = twi_catalogue_prepare(
        c, "DELETE FROM sensor_value WHERE sensor = ? AND at_us < ?", &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_text(s, 1, sensor, -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(s, 2, before_us);
    return twi_catalogue_finish(c, s, err);
}

tw_status twi_catalogue_add_value(tw_catalogue *c, const tw_sensor_value *value,
                                  int64_t keep_from_us, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    if (!c || !value || !value->sensor)
        return tw_fail(err, TW_EINVAL, "no value");
    tw_status st = twi_catalogue_prepare(
        c,
        "INSERT INTO sensor_value(run, sensor, at_us, unsure, value) VALUES (?, ?, ?, ?, "
        "?)",
        &s, err);
    if (st != TW_OK)
        return st;
    if (c->run != 0)
        (void)sqlite3_bind_int64(s, 1, c->run);
    (void)sqlite3_bind_text(s, 2, value->sensor, -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(s, 3, value->at_us);
    (void)sqlite3_bind_int64(s, 4, value->unsure);
    (void)sqlite3_bind_int64(s, 5, value->value);
    st = twi_catalogue_finish(c, s, err);
    return st == TW_OK ? drop_values(c, value->sensor, keep_from_us, err) : st;
}

tw_status tw_catalogue_values(tw_catalogue *c, const char *sensor, int64_t from_us,
                              int64_t until_us,
                              bool (*visit)(void *ctx, const tw_sensor_value *value),
                              void *ctx, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    if (!c || !visit)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    tw_status st = twi_catalogue_prepare(
        c,
        "SELECT sensor, at_us, value, unsure FROM sensor_value WHERE (?1 IS NULL OR "
        "sensor = ?1) AND at_us >= ?2 AND at_us < ?3 ORDER BY at_us, id",
        &s, err);
    if (st != TW_OK)
        return st;
    if (sensor)
        (void)sqlite3_bind_text(s, 1, sensor, -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(s, 2, from_us);
    (void)sqlite3_bind_int64(s, 3, until_us > 0 ? until_us : INT64_MAX);
    bool more = true;
    while (more && twi_catalogue_next(c, s, &st, err)) {
        const tw_sensor_value v = {.sensor = twi_catalogue_text(s, 0),
                                   .at_us = sqlite3_column_int64(s, 1),
                                   .value = sqlite3_column_int64(s, 2),
                                   .unsure = sqlite3_column_int64(s, 3) != 0};
        more = visit(ctx, &v);
    }
    (void)sqlite3_finalize(s);
    return st;
}

/* ---- sums ------------------------------------------------------------------------ */

tw_status twi_catalogue_sum(tw_catalogue *c, int64_t since_us, int64_t bytes_since_us,
                            twi_catalogue_sums *out, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    *out = (twi_catalogue_sums){0};
    if (!c)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    tw_status st = twi_catalogue_prepare(
        c,
        "SELECT (SELECT count(*) FROM sighting WHERE start_us >= ?1),"
        " (SELECT count(*) FROM log_entry WHERE what = 'alarm' AND at_us >= ?1),"
        " coalesce(sum(bytes), 0), coalesce(min(start_us), 0) FROM capture"
        " WHERE start_us >= ?2",
        &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_int64(s, 1, since_us);
    (void)sqlite3_bind_int64(s, 2, bytes_since_us);
    if (twi_catalogue_next(c, s, &st, err))
        *out = (twi_catalogue_sums){.sightings = sqlite3_column_int64(s, 0),
                                    .alarms = sqlite3_column_int64(s, 1),
                                    .bytes = sqlite3_column_int64(s, 2),
                                    .first_us = sqlite3_column_int64(s, 3)};
    (void)sqlite3_finalize(s);
    return st;
}

/* ---- what happened --------------------------------------------------------------- */

static tw_status drop_first_log_entries(tw_catalogue *c, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    const tw_status st = twi_catalogue_prepare(
        c, "DELETE FROM log_entry WHERE id <= (SELECT max(id) FROM log_entry) - ?", &s,
        err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_int64(s, 1, TW_LOG_MAX);
    return twi_catalogue_finish(c, s, err);
}

tw_status twi_catalogue_happened(tw_catalogue *c, const tw_log_entry *h, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    if (!c || !h || !h->what || !h->text)
        return tw_fail(err, TW_EINVAL, "nothing happened");
    tw_status st = twi_catalogue_prepare(
        c,
        "INSERT INTO log_entry(run, camera, at_us, unsure, what, text) "
        "VALUES (?, ?, ?, ?, ?, ?)",
        &s, err);
    if (st != TW_OK)
        return st;
    if (c->run != 0)
        (void)sqlite3_bind_int64(s, 1, c->run);
    (void)sqlite3_bind_text(s, 2, h->camera, -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(s, 3, h->at_us);
    (void)sqlite3_bind_int64(s, 4, h->unsure);
    (void)sqlite3_bind_text(s, 5, h->what, -1, SQLITE_STATIC);
    (void)sqlite3_bind_text(s, 6, h->text, -1, SQLITE_STATIC);
    st = twi_catalogue_finish(c, s, err);
    return st == TW_OK ? drop_first_log_entries(c, err) : st;
}

tw_status tw_catalogue_did(tw_catalogue *c, const char *camera, int64_t at_us,
                           const char *text, tw_error *err)
{
    const tw_log_entry entry = {
        .camera = camera, .at_us = at_us, .what = TWI_LOG_ORDERED, .text = text};
    return twi_catalogue_happened(c, &entry, err);
}

tw_status tw_catalogue_log(tw_catalogue *c, const char *camera, int64_t from_us,
                           int64_t until_us,
                           bool (*visit)(void *ctx, const tw_log_entry *entry), void *ctx,
                           tw_error *err)
{
    sqlite3_stmt *s = NULL;
    if (!c || !visit)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    tw_status st = twi_catalogue_prepare(
        c,
        "SELECT camera, at_us, what, text, unsure FROM log_entry WHERE (?1 IS NULL OR "
        "camera = ?1) AND at_us >= ?2 AND at_us < ?3 ORDER BY id",
        &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_text(s, 1, camera, -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(s, 2, from_us);
    (void)sqlite3_bind_int64(s, 3, until_us > 0 ? until_us : INT64_MAX);
    bool more = true;
    while (more && twi_catalogue_next(c, s, &st, err)) {
        const bool of_camera = sqlite3_column_type(s, 0) != SQLITE_NULL;
        const tw_log_entry h = {.camera = of_camera ? twi_catalogue_text(s, 0) : NULL,
                                .at_us = sqlite3_column_int64(s, 1),
                                .what = twi_catalogue_text(s, 2),
                                .text = twi_catalogue_text(s, 3),
                                .unsure = sqlite3_column_int64(s, 4) != 0};
        more = visit(ctx, &h);
    }
    (void)sqlite3_finalize(s);
    return st;
}

/* ---- times ----------------------------------------------------------------------- */

int64_t twi_catalogue_newest(tw_catalogue *c)
{
    int64_t newest = 0;
    if (c)
        (void)twi_catalogue_ask(
            c,
            "SELECT max(coalesce((SELECT max(order_us) FROM sighting), "
            "0), coalesce((SELECT max(order_us) FROM capture), 0))",
            NULL, &newest, NULL);
    return newest;
}

/* One statement with the shift and the run. */
static tw_status shift(tw_catalogue *c, const char *sql, int64_t later_us,
                       uint32_t *changed, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    tw_status st = twi_catalogue_prepare(c, sql, &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_int64(s, 1, later_us);
    (void)sqlite3_bind_int64(s, 2, c->run);
    st = twi_catalogue_finish(c, s, err);
    if (st == TW_OK && changed)
        *changed += (uint32_t)sqlite3_changes(c->db);
    return st;
}

tw_status twi_catalogue_set_times(tw_catalogue *c, int64_t later_us, uint32_t *changed,
                                  tw_error *err)
{
    static const char *const sql[] = {
        "UPDATE sighting SET start_us = start_us + ?1, end_us = CASE end_us WHEN 0 "
        "THEN 0 ELSE end_us + ?1 END, unsure = 0 WHERE unsure = 1 AND run = ?2",
        "UPDATE trace SET start_us = start_us + ?1, unsure = 0 WHERE unsure = 1 AND "
        "run = ?2",
        "UPDATE log_entry SET at_us = at_us + ?1, unsure = 0 WHERE unsure = 1 AND "
        "run = ?2",
        "UPDATE sensor_value SET at_us = at_us + ?1, unsure = 0 WHERE unsure = 1 AND "
        "run = ?2"};
    if (!c)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    if (changed)
        *changed = 0;
    tw_status st = TW_OK;
    for (size_t i = 0; i < sizeof sql / sizeof *sql && st == TW_OK; i++)
        st = shift(c, sql[i], later_us, i == 0 ? changed : NULL, err);
    if (st == TW_OK)
        twi_catalogue_journal_run(c);
    return st;
}

tw_status twi_catalogue_find_unsure(tw_catalogue *c, int64_t above,
                                    twi_catalogue_oldest *out, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    if (!c || !out)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    const tw_status st = twi_catalogue_prepare(
        c,
        "SELECT id, start_us, bytes, file FROM capture WHERE unsure = 1 AND run = ? AND "
        "id > ? ORDER BY id LIMIT 1",
        &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_int64(s, 1, c->run);
    (void)sqlite3_bind_int64(s, 2, above);
    return twi_catalogue_one(c, s, out, err);
}

tw_status twi_catalogue_rename(tw_catalogue *c, int64_t capture, const char *file,
                               uint64_t bytes, int64_t start_us, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    if (!c || !file)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    tw_status st = twi_catalogue_prepare(
        c,
        "UPDATE capture SET file = ?, bytes = ?, start_us = ?, unsure = 0 WHERE id = ?",
        &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_text(s, 1, file, -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(s, 2, (int64_t)bytes);
    (void)sqlite3_bind_int64(s, 3, start_us);
    (void)sqlite3_bind_int64(s, 4, capture);
    st = twi_catalogue_finish(c, s, err);
    if (st == TW_OK && sqlite3_changes(c->db) == 0)
        st = tw_fail(err, TW_ENOENT, "there is no capture %lld", (long long)capture);
    return st;
}
