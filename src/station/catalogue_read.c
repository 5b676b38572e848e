/* Reading the catalogue. */
#include "../core/sized.h"
#include "catalogue_state.h"
#include "catalogue_write.h"
#include "../core/naming.h"

#include <stdio.h>
#include <string.h>

static tw_sighting_record sighting_at(sqlite3_stmt *s)
{
    return (tw_sighting_record){.id = sqlite3_column_int64(s, 0),
                                .camera = twi_catalogue_text(s, 1),
                                .number = (uint32_t)sqlite3_column_int64(s, 2),
                                .part = (uint16_t)sqlite3_column_int64(s, 3),
                                .start_us = sqlite3_column_int64(s, 4),
                                .end_us = sqlite3_column_int64(s, 5),
                                .peak_ppm = (uint32_t)sqlite3_column_int64(s, 6),
                                .frames = (uint32_t)sqlite3_column_int64(s, 7),
                                .start_ppm = (uint32_t)sqlite3_column_int64(s, 8),
                                .stay_ppm = (uint32_t)sqlite3_column_int64(s, 9),
                                .why = twi_catalogue_text(s, 10),
                                .starred = sqlite3_column_int64(s, 11) != 0,
                                .stills = (uint32_t)sqlite3_column_int64(s, 12),
                                .clips = (uint32_t)sqlite3_column_int64(s, 13),
                                .bytes = (uint64_t)sqlite3_column_int64(s, 14),
                                .unsure = sqlite3_column_int64(s, 15) != 0,
                                .sent = (uint32_t)sqlite3_column_int64(s, 16),
                                .unsent = (uint32_t)sqlite3_column_int64(s, 17),
                                .mark = (tw_mark)sqlite3_column_int64(s, 18),
                                .name = twi_catalogue_text(s, 19),
                                .count = (uint32_t)sqlite3_column_int64(s, 20),
                                .note = twi_catalogue_text(s, 21),
                                .named_by = twi_catalogue_text(s, 22),
                                .sure_ppm = (uint32_t)sqlite3_column_int64(s, 23),
                                .named_us = sqlite3_column_int64(s, 24)};
}

/* A list of names with blanks between; none is any. */
static void bind_cameras(sqlite3_stmt *s, int at, const char *cameras)
{
    (void)sqlite3_bind_text(s, at, cameras && cameras[0] ? cameras : NULL, -1,
                            SQLITE_STATIC);
}

tw_status tw_catalogue_sightings(tw_catalogue *c, const tw_sighting_filter *filter,
                                 bool (*visit)(void *ctx,
                                               const tw_sighting_record *record),
                                 void *ctx, tw_error *err)
{
    /* The newest so many, put into the order of time; sums only of those. */
    static const char SQL[] =
        "SELECT g.id, g.camera, g.number, g.part, g.start_us, g.end_us, g.peak_ppm, "
        "g.frames, g.start_ppm, g.stay_ppm, g.why, g.starred, (SELECT count(*) FROM "
        "capture WHERE sighting = g.id AND kind LIKE '%still'), (SELECT count(*) FROM "
        "capture WHERE sighting = g.id AND kind LIKE '%clip'), (SELECT "
        "coalesce(sum(bytes), 0) FROM capture WHERE sighting = g.id), g.unsure, "
        "(SELECT count(*) FROM outbox WHERE sighting = g.id AND capture IS NOT NULL "
        "AND state = 1), (SELECT count(*) FROM outbox WHERE sighting = g.id AND "
        "capture IS NOT NULL AND state = 0), g.mark, g.name, g.heads, g.note, "
        "g.named_by, g.sure_ppm, g.named_us FROM (SELECT * FROM sighting WHERE (?1 = 0 "
        "OR id = ?1) AND (?2 IS NULL OR camera = ?2) AND (?13 IS NULL OR instr(' ' || "
        "?13 || ' ', ' ' || camera || ' ') > 0) AND start_us >= ?3 AND start_us < ?4 "
        "AND (?5 = 0 OR starred = 1) AND (?8 = 0 OR mark > 0) AND (?9 = 0 OR mark = "
        "?9) AND peak_ppm >= ?10 AND peak_ppm <= ?11 AND (?12 IS NULL OR "
        "instr(lower(name), lower(?12)) > 0) AND (?6 = 0 OR (SELECT "
        "coalesce(sum(bytes), 0) FROM capture WHERE sighting = sighting.id) >= ?6) "
        "ORDER BY order_us DESC, id DESC LIMIT ?7) AS g ORDER BY g.order_us, g.id";
    if (!c || !filter || !visit)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    tw_sighting_filter own;
    TWI_TAKE(own, filter);
    const tw_sighting_filter *f = &own;
    sqlite3_stmt *s = NULL;
    tw_status st = twi_catalogue_prepare(c, SQL, &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_int64(s, 1, f->id);
    (void)sqlite3_bind_text(s, 2, f->camera, -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(s, 3, f->from_us);
    (void)sqlite3_bind_int64(s, 4, f->until_us > 0 ? f->until_us : INT64_MAX);
    (void)sqlite3_bind_int64(s, 5, f->starred);
    (void)sqlite3_bind_int64(s, 6, (int64_t)f->least_bytes);
    (void)sqlite3_bind_int64(s, 7, f->most > 0 ? (int64_t)f->most : -1);
    (void)sqlite3_bind_int64(s, 8, f->marked);
    (void)sqlite3_bind_int64(s, 9, f->mark);
    (void)sqlite3_bind_int64(s, 10, f->least_peak_ppm);
    (void)sqlite3_bind_int64(s, 11, f->most_peak_ppm > 0 ? f->most_peak_ppm : UINT32_MAX);
    (void)sqlite3_bind_text(s, 12, f->name, -1, SQLITE_STATIC);
    bind_cameras(s, 13, f->cameras);
    bool more = true;
    while (more && twi_catalogue_next(c, s, &st, err)) {
        const tw_sighting_record record = sighting_at(s);
        more = visit(ctx, &record);
    }
    (void)sqlite3_finalize(s);
    return st;
}

tw_status tw_catalogue_captures(tw_catalogue *c, int64_t sighting,
                                bool (*visit)(void *ctx, const tw_capture_record *record),
                                void *ctx, tw_error *err)
{
    if (!c || !visit)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    sqlite3_stmt *s = NULL;
    tw_status st =
        twi_catalogue_prepare(c,
                              "SELECT id, sighting, camera, kind, file, bytes, start_us, "
                              "order_us, unsure FROM capture "
                              "WHERE ?1 = 0 OR sighting = ?1 ORDER BY order_us, id",
                              &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_int64(s, 1, sighting);
    bool more = true;
    while (more && twi_catalogue_next(c, s, &st, err)) {
        const tw_capture_record r = {.id = sqlite3_column_int64(s, 0),
                                     .sighting = sqlite3_column_int64(s, 1),
                                     .camera = twi_catalogue_text(s, 2),
                                     .kind = twi_catalogue_text(s, 3),
                                     .file = twi_catalogue_text(s, 4),
                                     .bytes = (uint64_t)sqlite3_column_int64(s, 5),
                                     .start_us = sqlite3_column_int64(s, 6),
                                     .order_us = sqlite3_column_int64(s, 7),
                                     .unsure = sqlite3_column_int64(s, 8) != 0};
        more = visit(ctx, &r);
    }
    (void)sqlite3_finalize(s);
    return st;
}

bool twi_catalogue_knows(tw_catalogue *c, const char *file, const char *cameras)
{
    sqlite3_stmt *s = NULL;
    if (!c || !file ||
        twi_catalogue_prepare(
            c,
            "SELECT 1 FROM capture WHERE file = ?1 "
            "AND (?2 IS NULL OR instr(' ' || ?2 || ' ', ' ' || camera || ' ') > 0)",
            &s, NULL) != TW_OK)
        return false;
    (void)sqlite3_bind_text(s, 1, file, -1, SQLITE_STATIC);
    bind_cameras(s, 2, cameras);
    const bool known = sqlite3_step(s) == SQLITE_ROW;
    (void)sqlite3_finalize(s);
    return known;
}

tw_status twi_catalogue_one(tw_catalogue *c, sqlite3_stmt *s, twi_catalogue_oldest *out,
                            tw_error *err)
{
    tw_status st = TW_OK;
    const int code = sqlite3_step(s);
    if (code == SQLITE_ROW) {
        out->id = sqlite3_column_int64(s, 0);
        out->start_us = sqlite3_column_int64(s, 1);
        out->bytes = (uint64_t)sqlite3_column_int64(s, 2);
        (void)sqlite3_snprintf((int)sizeof out->file, out->file, "%s",
                               twi_catalogue_text(s, 3));
    } else {
        st = code == SQLITE_DONE ? TW_ENOENT : twi_catalogue_fail(c, code, err);
    }
    (void)sqlite3_finalize(s);
    return st;
}

/* What is asked for decides which index serves, so it stands in the statement. */
static void add_which(char *sql, size_t capacity, const char *camera, twi_kind kind)
{
    const size_t n = strlen(sql);
    (void)snprintf(sql + n, capacity - n, "%s%s",
                   camera ? " AND capture.camera = ?1" : "",
                   kind < TWI_KIND_COUNT ? " AND capture.kind = ?2" : "");
}

tw_status twi_catalogue_find_oldest(tw_catalogue *c, const char *camera, twi_kind kind,
                                    bool unsent, twi_catalogue_oldest *out, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    if (!c || !out)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    char sql[640] = "SELECT capture.id, capture.start_us, bytes, file FROM capture "
                    "LEFT JOIN sighting ON sighting.id = capture.sighting "
                    "WHERE (sighting.id IS NULL OR (starred = 0 AND end_us > 0))";
    add_which(sql, sizeof sql, camera, kind);
    const size_t n = strlen(sql);
    (void)snprintf(sql + n, sizeof sql - n,
                   "%s ORDER BY capture.order_us, capture.id LIMIT 1",
                   unsent ? ""
                          : " AND NOT EXISTS (SELECT 1 FROM outbox WHERE "
                            "outbox.capture = capture.id AND state = 0)");
    const tw_status st = twi_catalogue_prepare(c, sql, &s, err);
    if (st != TW_OK)
        return st;
    if (camera)
        (void)sqlite3_bind_text(s, 1, camera, -1, SQLITE_STATIC);
    if (kind < TWI_KIND_COUNT)
        (void)sqlite3_bind_text(s, 2, twi_kind_name(kind), -1, SQLITE_STATIC);
    return twi_catalogue_one(c, s, out, err);
}

tw_status twi_catalogue_bytes(tw_catalogue *c, const char *camera, twi_kind kind,
                              uint64_t *bytes, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    if (!c || !bytes)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    tw_status st = twi_catalogue_prepare(
        c,
        "SELECT coalesce(sum(bytes), 0) FROM held WHERE (?1 IS NULL OR camera = ?1) "
        "AND (?2 IS NULL OR kind = ?2)",
        &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_text(s, 1, camera, -1, SQLITE_STATIC);
    (void)sqlite3_bind_text(s, 2, kind < TWI_KIND_COUNT ? twi_kind_name(kind) : NULL, -1,
                            SQLITE_STATIC);
    int64_t sum = 0;
    st = twi_catalogue_number(c, s, &sum, err);
    if (st == TW_OK)
        *bytes = (uint64_t)sum;
    return st;
}
