/* The outbox: the queue in front of the destinations, in the catalogue's data base. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "catalogue_state.h"
#include "outbox.h"

/* ---- statements ------------------------------------------------------------------- */

/* What a statement is given, for those of :name, :text and :number that it has. */
typedef struct given {
    const char *name, *text;
    int64_t number;
} given;

/* @return 0: the statement does not have it. */
static int place_of(sqlite3_stmt *s, const char *parameter)
{
    return sqlite3_bind_parameter_index(s, parameter);
}

static tw_status prepare(tw_catalogue *c, const char *sql, const given *g,
                         sqlite3_stmt **s, tw_error *err)
{
    if (!c)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    const tw_status st = twi_catalogue_prepare(c, sql, s, err);
    if (st != TW_OK)
        return st;
    /* binding to place 0 does nothing */
    (void)sqlite3_bind_text(*s, place_of(*s, ":name"), g->name, -1, SQLITE_STATIC);
    (void)sqlite3_bind_text(*s, place_of(*s, ":text"), g->text, -1, SQLITE_STATIC);
    (void)sqlite3_bind_int64(*s, place_of(*s, ":number"), g->number);
    (void)sqlite3_bind_text(*s, place_of(*s, ":held"), c->held ? c->held : "", -1,
                            SQLITE_STATIC);
    return TW_OK;
}

/* Of a statement: what is held back is not there. */
#define NOT_HELD " AND instr(:held, ' ' || what || ' ') = 0 "

void twi_outbox_hold(tw_catalogue *c, const char *words)
{
    c->held = words;
}

static tw_status change(tw_catalogue *c, const char *sql, const given *g,
                        uint32_t *changed, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    tw_status st = prepare(c, sql, g, &s, err);
    if (st == TW_OK)
        st = twi_catalogue_finish(c, s, err);
    if (st == TW_OK && changed)
        *changed = (uint32_t)sqlite3_changes(c->db);
    return st;
}

/* Several changes in one transaction. */
static tw_status begin(tw_catalogue *c, tw_error *err)
{
    return c ? twi_catalogue_execute(c, "BEGIN IMMEDIATE", err)
             : tw_fail(err, TW_EINVAL, "no catalogue");
}

static tw_status end(tw_catalogue *c, tw_status st, tw_error *err)
{
    if (st == TW_OK)
        st = twi_catalogue_execute(c, "COMMIT", err);
    if (st != TW_OK)
        (void)twi_catalogue_execute(c, "ROLLBACK", NULL);
    return st;
}

/* ---- what goes where -------------------------------------------------------------- */

static tw_status add_route(tw_catalogue *c, const twi_route *r, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    const tw_status st = twi_catalogue_prepare(
        c, "INSERT OR IGNORE INTO route VALUES (?, ?, ?, ?)", &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_text(s, 1, r->camera, -1, SQLITE_STATIC);
    (void)sqlite3_bind_text(s, 2, r->kind, -1, SQLITE_STATIC);
    (void)sqlite3_bind_text(s, 3, r->destination, -1, SQLITE_STATIC);
    (void)sqlite3_bind_text(s, 4, r->what, -1, SQLITE_STATIC);
    return twi_catalogue_finish(c, s, err);
}

static bool is_kept(const char *const *kept, const char *name)
{
    while (kept && *kept && strcmp(*kept, name) != 0)
        kept++;
    return kept && *kept;
}

/* All but those of destinations that keep theirs. */
static tw_status drop_routes(tw_catalogue *c, const char *const *kept, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    tw_status st =
        twi_catalogue_prepare(c, "SELECT DISTINCT destination FROM route", &s, err);
    int code = SQLITE_DONE;
    while (st == TW_OK && (code = sqlite3_step(s)) == SQLITE_ROW)
        if (!is_kept(kept, twi_catalogue_text(s, 0)))
            st = change(c, "DELETE FROM route WHERE destination = :name",
                        &(given){.name = twi_catalogue_text(s, 0)}, NULL, err);
    if (st == TW_OK && code != SQLITE_DONE)
        st = twi_catalogue_fail(c, code, err);
    (void)sqlite3_finalize(s);
    return st;
}

tw_status twi_outbox_route(tw_catalogue *c, const twi_route *routes, size_t count,
                           const char *const *kept, tw_error *err)
{
    tw_status st = begin(c, err);
    if (st != TW_OK)
        return st;
    st = drop_routes(c, kept, err);
    for (size_t i = 0; i < count && st == TW_OK; i++)
        st = add_route(c, &routes[i], err);
    return end(c, st, err);
}

tw_status twi_outbox_spare(tw_catalogue *c, const char *destination, tw_error *err)
{
    return change(
        c,
        "DELETE FROM outbox WHERE destination = :name AND state = 0 AND entry = "
        "(SELECT max(id) FROM log_entry)",
        &(given){.name = destination}, NULL, err);
}

tw_status twi_outbox_add(tw_catalogue *c, const char *file, const char *destination,
                         const char *what, tw_error *err)
{
    uint32_t changed = 0;
    sqlite3_stmt *s = NULL;
    if (!c || !file || !destination || !what)
        return tw_fail(err, TW_EINVAL, "no capture or no destination");
    tw_status st =
        twi_catalogue_prepare(c,
                              "INSERT INTO outbox(destination, what, sighting, capture) "
                              "SELECT ?2, ?3, sighting, id FROM capture WHERE file = ?1",
                              &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_text(s, 1, file, -1, SQLITE_STATIC);
    (void)sqlite3_bind_text(s, 2, destination, -1, SQLITE_STATIC);
    (void)sqlite3_bind_text(s, 3, what, -1, SQLITE_STATIC);
    st = twi_catalogue_finish(c, s, err);
    changed = (uint32_t)sqlite3_changes(c->db);
    if (st == TW_OK && changed == 0)
        st = tw_fail(err, TW_ENOENT, "there is no capture %s", file);
    return st;
}

/* ---- looking ---------------------------------------------------------------------- */

#define COLUMNS                                                                          \
    "outbox.id, outbox.destination, outbox.what, outbox.state, outbox.sighting, "        \
    "outbox.capture, coalesce(capture.camera, sighting.camera, log_entry.camera, ''), "  \
    "capture.file, "                                                                     \
    "capture.bytes, coalesce(capture.start_us, sighting.start_us, log_entry.at_us, 0), " \
    "outbox.message, "                                                                   \
    "outbox.tries, outbox.sent_us, outbox.why, outbox.entry, log_entry.text FROM "       \
    "outbox "                                                                            \
    "LEFT JOIN capture ON capture.id = outbox.capture "                                  \
    "LEFT JOIN sighting ON sighting.id = outbox.sighting "                               \
    "LEFT JOIN log_entry ON log_entry.id = outbox.entry "

static twi_outbox_item item_at(sqlite3_stmt *s)
{
    return (twi_outbox_item){.id = sqlite3_column_int64(s, 0),
                             .destination = twi_catalogue_text(s, 1),
                             .what = twi_catalogue_text(s, 2),
                             .state = (twi_item_state)sqlite3_column_int(s, 3),
                             .sighting = sqlite3_column_int64(s, 4),
                             .capture = sqlite3_column_int64(s, 5),
                             .camera = twi_catalogue_text(s, 6),
                             .file = twi_catalogue_text(s, 7),
                             .bytes = (uint64_t)sqlite3_column_int64(s, 8),
                             .start_us = sqlite3_column_int64(s, 9),
                             .message = twi_catalogue_text(s, 10),
                             .tries = (uint32_t)sqlite3_column_int64(s, 11),
                             .sent_us = sqlite3_column_int64(s, 12),
                             .why = twi_catalogue_text(s, 13),
                             .entry = sqlite3_column_int64(s, 14),
                             .text = twi_catalogue_text(s, 15)};
}

/* Visit what a statement gives, and release it. */
static tw_status visit_all(tw_catalogue *c, sqlite3_stmt *s,
                           bool (*visit)(void *ctx, const twi_outbox_item *item),
                           void *ctx, tw_error *err)
{
    tw_status st = TW_OK;
    bool more = true;
    while (more && twi_catalogue_next(c, s, &st, err)) {
        const twi_outbox_item item = item_at(s);
        more = visit(ctx, &item);
    }
    (void)sqlite3_finalize(s);
    return st;
}

tw_status twi_outbox_items(tw_catalogue *c, const char *destination, twi_item_state state,
                           bool (*visit)(void *ctx, const twi_outbox_item *item),
                           void *ctx, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    if (!visit)
        return tw_fail(err, TW_EINVAL, "nobody to visit");
    const tw_status st =
        prepare(c,
                "SELECT " COLUMNS "WHERE (:name IS NULL OR outbox.destination = :name) "
                "AND outbox.state = :number ORDER BY outbox.id",
                &(given){destination, NULL, state}, &s, err);
    return st == TW_OK ? visit_all(c, s, visit, ctx, err) : st;
}

typedef struct first_item {
    int64_t id, sighting; /* 0: there is none */
    bool alarm;
    char message[TWI_MESSAGE_KEY];
} first_item;

static tw_status find_by(tw_catalogue *c, const char *sql, const char *destination,
                         first_item *out, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    tw_status st = prepare(c, sql, &(given){.name = destination}, &s, err);
    if (st != TW_OK)
        return st;
    const int code = sqlite3_step(s);
    if (code == SQLITE_ROW) {
        out->id = sqlite3_column_int64(s, 0);
        out->sighting = sqlite3_column_int64(s, 1);
        out->alarm = sqlite3_column_int64(s, 3) != 0;
        (void)snprintf(out->message, sizeof out->message, "%s", twi_catalogue_text(s, 2));
    } else if (code != SQLITE_DONE) {
        st = twi_catalogue_fail(c, code, err);
    }
    (void)sqlite3_finalize(s);
    return st;
}

/* The item that is next: what was begun first, so that it ends; then alarms. */
static tw_status find_first(tw_catalogue *c, const char *destination, bool newest_first,
                            first_item *out, tw_error *err)
{
    *out = (first_item){0};
    tw_status st = find_by(c,
                           "SELECT id, sighting, message, entry FROM outbox WHERE "
                           "destination = :name AND state = 0 AND message IS NOT NULL "
                           "ORDER BY id LIMIT 1",
                           destination, out, err);
    if (st == TW_OK && out->id == 0)
        st = find_by(c,
                     "SELECT id, sighting, message, entry FROM outbox WHERE destination "
                     "= :name AND state = 0 AND entry IS NOT NULL ORDER BY id LIMIT 1",
                     destination, out, err);
    if (st == TW_OK && out->id == 0)
        st = find_by(
            c,
            newest_first
                ? "SELECT id, sighting, message, entry FROM outbox WHERE "
                  "destination = :name AND state = 0" NOT_HELD "ORDER BY id DESC LIMIT 1"
                : "SELECT id, sighting, message, entry FROM outbox WHERE "
                  "destination = :name AND state = 0" NOT_HELD "ORDER BY id LIMIT 1",
            destination, out, err);
    return st;
}

/* One row of numbers and texts that a statement gives into what is asked for. */
static tw_status examine(tw_catalogue *c, const char *sql, const given *g,
                         void (*read)(sqlite3_stmt *s, twi_outbox_fill *out),
                         twi_outbox_fill *out, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    tw_status st = prepare(c, sql, g, &s, err);
    if (st != TW_OK)
        return st;
    const int code = sqlite3_step(s);
    if (code == SQLITE_ROW)
        read(s, out);
    else if (code != SQLITE_DONE)
        st = twi_catalogue_fail(c, code, err);
    (void)sqlite3_finalize(s);
    return st;
}

static void read_waiting(sqlite3_stmt *s, twi_outbox_fill *out)
{
    out->waiting = (uint32_t)sqlite3_column_int64(s, 0);
    out->sightings = (uint32_t)sqlite3_column_int64(s, 1);
    out->newest = sqlite3_column_int64(s, 2);
}

static void read_oldest(sqlite3_stmt *s, twi_outbox_fill *out)
{
    out->oldest_us = sqlite3_column_int64(s, 0);
    if (!out->why[0])
        (void)snprintf(out->why, sizeof out->why, "%s", twi_catalogue_text(s, 1));
}

static void read_sent(sqlite3_stmt *s, twi_outbox_fill *out)
{
    out->sent = (uint32_t)sqlite3_column_int64(s, 0);
    out->sent_us = sqlite3_column_int64(s, 1);
    out->last_us = sqlite3_column_int64(s, 2);
    out->given_up = (uint32_t)sqlite3_column_int64(s, 3);
}

static void read_first(sqlite3_stmt *s, twi_outbox_fill *out)
{
    out->over = sqlite3_column_int(s, 0) != 0;
    out->part_sent = sqlite3_column_int(s, 1) != 0;
    out->first_newest = sqlite3_column_int64(s, 2);
}

static void read_stopped(sqlite3_stmt *s, twi_outbox_fill *out)
{
    out->stopped_us = sqlite3_column_int64(s, 0);
    (void)snprintf(out->why, sizeof out->why, "%s", twi_catalogue_text(s, 1));
    (void)snprintf(out->of, sizeof out->of, "%s", twi_catalogue_text(s, 2));
}

/* What is next, and whether the destination was stopped. */
static tw_status examine_first(tw_catalogue *c, const char *destination,
                               bool newest_first, twi_outbox_fill *out, tw_error *err)
{
    first_item first;
    const given of_it = {.name = destination};
    memset(out, 0, sizeof *out);
    tw_status st = find_first(c, destination, newest_first, &first, err);
    if (st != TW_OK)
        return st;
    out->first = first.id;
    out->begun = first.message[0] != '\0';
    out->alarm = first.alarm;
    if (first.sighting == 0) { /* it is whole in itself */
        out->over = true;
        out->first_newest = first.id;
    } else {
        st = examine(
            c,
            "SELECT end_us > 0, EXISTS (SELECT 1 FROM outbox WHERE sighting = "
            ":number AND destination = :name AND state = 1), (SELECT max(id) FROM "
            "outbox WHERE sighting = :number AND destination = :name AND state = 0) "
            "FROM sighting WHERE id = :number",
            &(given){destination, NULL, first.sighting}, read_first, out, err);
    }
    if (st == TW_OK)
        st = examine(
            c, "SELECT since_us, why, made_of FROM stopped WHERE destination = :name",
            &of_it, read_stopped, out, err);
    return st;
}

tw_status twi_outbox_peek(tw_catalogue *c, const char *destination, bool newest_first,
                          twi_outbox_fill *out, tw_error *err)
{
    if (!destination || !out)
        return tw_fail(err, TW_EINVAL, "no destination");
    const tw_status st = examine_first(c, destination, newest_first, out, err);
    out->waiting = out->sightings = out->first != 0;
    return st;
}

tw_status twi_outbox_inspect(tw_catalogue *c, const char *destination, bool newest_first,
                             int64_t since_us, twi_outbox_fill *out, tw_error *err)
{
    const given of_it = {destination, NULL, since_us};
    if (!destination || !out)
        return tw_fail(err, TW_EINVAL, "no destination");
    tw_status st = examine_first(c, destination, newest_first, out, err);
    if (st == TW_OK)
        st = examine(c,
                     "SELECT count(*), count(DISTINCT coalesce(sighting, -id)), "
                     "(SELECT coalesce(max(id), 0) FROM outbox) FROM outbox "
                     "WHERE destination = :name AND state = 0" NOT_HELD,
                     &of_it, read_waiting, out, err);
    if (st == TW_OK)
        st =
            examine(c,
                    "SELECT count(DISTINCT message), coalesce(min(sent_us), 0), "
                    "coalesce((SELECT max(sent_us) FROM outbox WHERE destination = :name "
                    "AND state = 1), 0), (SELECT count(*) FROM outbox WHERE "
                    "destination = :name AND state = 2) FROM outbox WHERE "
                    "destination = :name AND state = 1 AND sent_us > :number",
                    &of_it, read_sent, out, err);
    if (st == TW_OK && out->first != 0)
        st = examine(c,
                     "SELECT coalesce(capture.start_us, sighting.start_us, "
                     "log_entry.at_us, 0), "
                     "outbox.why FROM outbox LEFT JOIN capture ON capture.id = "
                     "outbox.capture LEFT JOIN sighting ON sighting.id = "
                     "outbox.sighting LEFT JOIN log_entry ON log_entry.id = outbox.entry "
                     "WHERE outbox.id = (SELECT min(id) FROM outbox "
                     "WHERE destination = :name AND state = 0)",
                     &of_it, read_oldest, out, err);
    return st;
}

tw_status twi_outbox_destinations(tw_catalogue *c,
                                  void (*visit)(void *ctx, const char *name), void *ctx,
                                  tw_error *err)
{
    sqlite3_stmt *s = NULL;
    const tw_status st =
        prepare(c,
                "SELECT destination FROM outbox UNION SELECT destination FROM route "
                "UNION SELECT destination FROM stopped ORDER BY 1",
                &(given){0}, &s, err);
    if (st != TW_OK)
        return st;
    int code = SQLITE_DONE;
    while ((code = sqlite3_step(s)) == SQLITE_ROW)
        visit(ctx, twi_catalogue_text(s, 0));
    (void)sqlite3_finalize(s);
    return code == SQLITE_DONE ? TW_OK : twi_catalogue_fail(c, code, err);
}

tw_status twi_outbox_stopped(tw_catalogue *c,
                             void (*visit)(void *ctx, const char *destination,
                                           int64_t since_us, const char *why),
                             void *ctx, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    const tw_status st =
        prepare(c,
                "SELECT destination, since_us, why FROM stopped WHERE destination IN "
                "(SELECT destination FROM route UNION SELECT destination FROM outbox "
                "WHERE state = 0) ORDER BY 1",
                &(given){0}, &s, err);
    if (st != TW_OK)
        return st;
    int code = SQLITE_DONE;
    while ((code = sqlite3_step(s)) == SQLITE_ROW)
        visit(ctx, twi_catalogue_text(s, 0), sqlite3_column_int64(s, 1),
              twi_catalogue_text(s, 2));
    (void)sqlite3_finalize(s);
    return code == SQLITE_DONE ? TW_OK : twi_catalogue_fail(c, code, err);
}

tw_status twi_outbox_span(tw_catalogue *c, const char *destination, int64_t *first,
                          int64_t *last, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    *first = *last = 0;
    if (!c || !destination)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    tw_status st = twi_catalogue_prepare(c,
                                         "SELECT coalesce(min(id), 0), coalesce(max(id), "
                                         "0) FROM outbox WHERE destination = "
                                         "? AND state = 0",
                                         &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_text(s, 1, destination, -1, SQLITE_STATIC);
    if (twi_catalogue_next(c, s, &st, err)) {
        *first = sqlite3_column_int64(s, 0);
        *last = sqlite3_column_int64(s, 1);
    }
    (void)sqlite3_finalize(s);
    return st;
}

tw_status twi_outbox_relax(tw_catalogue *c, tw_error *err)
{
    return c ? twi_catalogue_execute(c, "PRAGMA synchronous = NORMAL", err)
             : tw_fail(err, TW_EINVAL, "no catalogue");
}

/* ---- what goes in one message ----------------------------------------------------- */

/* Give a message's key to what is to go in it. */
static tw_status mark(tw_catalogue *c, const char *destination, const first_item *first,
                      twi_outbox_take_what what, bool newest_first, const char *key,
                      tw_error *err)
{
    static const char *const SQL[] = {
        "UPDATE outbox SET message = :text WHERE destination = :name AND state = 0 AND "
        "id = :number",
        "UPDATE outbox SET message = :text WHERE id IN (SELECT id FROM outbox WHERE "
        "destination = :name AND state = 0 AND message IS NULL AND sighting = "
        ":number" NOT_HELD "ORDER BY id LIMIT 2000)",
        "UPDATE outbox SET message = :text WHERE id IN (SELECT id FROM outbox WHERE "
        "destination = :name AND state = 0 AND message IS NULL" NOT_HELD
        "ORDER BY id LIMIT 2000)",
        "UPDATE outbox SET message = :text WHERE id IN (SELECT id FROM outbox WHERE "
        "destination = :name AND state = 0 AND message IS NULL" NOT_HELD
        "ORDER BY id DESC LIMIT 2000)"};
    _Static_assert(TWI_OUTBOX_BATCH == 2000, "as the statements say");
    if (what == TWI_TAKE_SIGHTING && first->sighting == 0)
        what = TWI_TAKE_ONE;
    const int which = what == TWI_TAKE_ALL && newest_first ? 3 : (int)what;
    const given g = {destination, key,
                     what == TWI_TAKE_SIGHTING ? first->sighting : first->id};
    return change(c, SQL[which], &g, NULL, err);
}

/* The items that have a key, and that one more try was made of. */
static tw_status collect(tw_catalogue *c, const char *destination, twi_outbox_batch *out,
                         tw_error *err)
{
    const given g = {destination, out->message, 0};
    sqlite3_stmt *s = NULL;
    uint32_t changed = 0;
    tw_status st = change(c,
                          "UPDATE outbox SET tries = tries + 1 WHERE destination = :name "
                          "AND state = 0 AND message = :text",
                          &g, &changed, err);
    if (st != TW_OK)
        return st;
    out->ids = calloc(changed + 1U, sizeof *out->ids);
    if (!out->ids)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    st = prepare(c,
                 "SELECT id, tries FROM outbox WHERE destination = :name AND state = 0 "
                 "AND message = :text ORDER BY id",
                 &g, &s, err);
    while (st == TW_OK && out->count < changed && sqlite3_step(s) == SQLITE_ROW) {
        out->ids[out->count++] = sqlite3_column_int64(s, 0);
        if (sqlite3_column_int64(s, 1) > out->tries)
            out->tries = (uint32_t)sqlite3_column_int64(s, 1);
    }
    (void)sqlite3_finalize(s);
    return st;
}

static tw_status make_key(tw_catalogue *c, char out[TWI_MESSAGE_KEY], tw_error *err)
{
    sqlite3_stmt *s = NULL;
    tw_status st = twi_catalogue_prepare(c, "SELECT lower(hex(randomblob(16)))", &s, err);
    if (st == TW_OK && sqlite3_step(s) == SQLITE_ROW)
        (void)snprintf(out, TWI_MESSAGE_KEY, "%s", twi_catalogue_text(s, 0));
    else if (st == TW_OK)
        st = twi_catalogue_fail(c, SQLITE_ERROR, err);
    (void)sqlite3_finalize(s);
    return st;
}

tw_status twi_outbox_take(tw_catalogue *c, const char *destination, bool newest_first,
                          twi_outbox_take_what what, twi_outbox_batch *out, tw_error *err)
{
    first_item first;
    if (!destination || !out)
        return tw_fail(err, TW_EINVAL, "no destination");
    memset(out, 0, sizeof *out);
    tw_status st = begin(c, err);
    if (st != TW_OK)
        return st;
    st = find_first(c, destination, newest_first, &first, err);
    if (st == TW_OK && first.id == 0)
        st = TW_ENOENT;
    if (st == TW_OK && first.message[0])
        memcpy(out->message, first.message, sizeof out->message);
    else if (st == TW_OK && (st = make_key(c, out->message, err)) == TW_OK)
        st = mark(c, destination, &first, what, newest_first, out->message, err);
    if (st == TW_OK)
        st = collect(c, destination, out, err);
    st = end(c, st, err);
    if (st != TW_OK)
        twi_outbox_batch_free(out);
    return st;
}

void twi_outbox_batch_free(twi_outbox_batch *batch)
{
    if (!batch)
        return;
    free(batch->ids);
    memset(batch, 0, sizeof *batch);
}

tw_status twi_outbox_batch_items(tw_catalogue *c, const twi_outbox_batch *batch,
                                 bool (*visit)(void *ctx, const twi_outbox_item *item),
                                 void *ctx, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    if (!batch || !visit)
        return tw_fail(err, TW_EINVAL, "no message");
    const tw_status st =
        prepare(c,
                "SELECT " COLUMNS "WHERE outbox.message = :text AND outbox.state = 0 "
                "ORDER BY coalesce(sighting.order_us, capture.order_us, 0), "
                "outbox.sighting, capture.id IS NULL, capture.order_us, outbox.id",
                &(given){.text = batch->message}, &s, err);
    return st == TW_OK ? visit_all(c, s, visit, ctx, err) : st;
}

/* The same change to each item of a batch, as one. */
static tw_status change_batch(tw_catalogue *c, const twi_outbox_batch *batch,
                              const char *sql, const char *text, int64_t number,
                              tw_error *err)
{
    sqlite3_stmt *s = NULL;
    if (!batch)
        return tw_fail(err, TW_EINVAL, "no message");
    tw_status st = begin(c, err);
    if (st != TW_OK)
        return st;
    st = prepare(c, sql, &(given){NULL, text, number}, &s, err);
    for (uint32_t i = 0; i < batch->count && st == TW_OK; i++) {
        (void)sqlite3_bind_int64(s, place_of(s, ":id"), batch->ids[i]);
        const int code = sqlite3_step(s);
        if (code != SQLITE_DONE)
            st = twi_catalogue_fail(c, code, err);
        (void)sqlite3_reset(s);
    }
    (void)sqlite3_finalize(s);
    return end(c, st, err);
}

tw_status twi_outbox_sent(tw_catalogue *c, const twi_outbox_batch *batch, int64_t when_us,
                          tw_error *err)
{
    return change_batch(
        c, batch,
        "UPDATE outbox SET state = 1, sent_us = :number, why = :text WHERE "
        "id = :id",
        "", when_us, err);
}

tw_status twi_outbox_failed(tw_catalogue *c, const twi_outbox_batch *batch, bool for_good,
                            const char *why, tw_error *err)
{
    return change_batch(
        c, batch, "UPDATE outbox SET state = :number, why = :text WHERE id = :id",
        why ? why : "", for_good ? TWI_ITEM_GIVEN_UP : TWI_ITEM_WAITING, err);
}

/* ---- what was spent --------------------------------------------------------------- */

tw_status twi_outbox_spend(tw_catalogue *c, const char *destination, int64_t at_us,
                           uint64_t bytes, int64_t keep_us, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    tw_status st =
        prepare(c, "DELETE FROM spent WHERE destination = :name AND at_us <= :number",
                &(given){destination, NULL, at_us - keep_us}, &s, err);
    if (st == TW_OK)
        st = twi_catalogue_finish(c, s, err);
    if (st == TW_OK)
        st = prepare(
            c,
            "INSERT INTO spent(destination, at_us, bytes) VALUES (:name, :number, "
            ":bytes)",
            &(given){destination, NULL, at_us}, &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_int64(s, place_of(s, ":bytes"), (int64_t)bytes);
    return twi_catalogue_finish(c, s, err);
}

tw_status twi_outbox_spent(tw_catalogue *c, const char *destination, int64_t since_us,
                           int64_t *bytes, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    const tw_status st = prepare(c,
                                 "SELECT coalesce(sum(bytes), 0) FROM spent WHERE "
                                 "destination = :name AND at_us > :number",
                                 &(given){destination, NULL, since_us}, &s, err);
    return st == TW_OK ? twi_catalogue_number(c, s, bytes, err) : st;
}

/* ---- stopping and trying again ---------------------------------------------------- */

tw_status twi_outbox_stop(tw_catalogue *c, const char *destination, int64_t since_us,
                          const char *of, const char *why, tw_error *err)
{
    sqlite3_stmt *s = NULL;
    tw_status st = prepare(c,
                           "INSERT OR REPLACE INTO stopped(destination, why, since_us, "
                           "made_of) VALUES (:name, :text, :number, :of)",
                           &(given){destination, why, since_us}, &s, err);
    if (st != TW_OK)
        return st;
    (void)sqlite3_bind_text(s, place_of(s, ":of"), of, -1, SQLITE_STATIC);
    return twi_catalogue_finish(c, s, err);
}

tw_status twi_outbox_retry(tw_catalogue *c, const char *destination, uint32_t *changed,
                           tw_error *err)
{
    const given g = {.name = destination};
    tw_status st = begin(c, err);
    if (st != TW_OK)
        return st;
    st = change(c, "DELETE FROM stopped WHERE :name IS NULL OR destination = :name", &g,
                NULL, err);
    if (st == TW_OK)
        st = change(c,
                    "UPDATE outbox SET state = 0, why = '' WHERE state = 2 AND "
                    "(:name IS NULL OR destination = :name)",
                    &g, changed, err);
    return end(c, st, err);
}

tw_status twi_outbox_drop(tw_catalogue *c, const char *destination, int64_t id,
                          uint32_t *changed, tw_error *err)
{
    uint32_t count = 0;
    const tw_status st = change(
        c,
        "DELETE FROM outbox WHERE state <> 1 AND (:name IS NULL OR destination = :name) "
        "AND (:number = 0 OR id = :number)",
        &(given){destination, NULL, id}, &count, err);
    if (changed)
        *changed = count;
    if (st == TW_OK && id != 0 && count == 0)
        return tw_fail(err, TW_ENOENT, "nothing with number %lld waits", (long long)id);
    return st;
}

tw_status twi_outbox_bound(tw_catalogue *c, const char *destination, uint32_t most,
                           uint32_t *given_up, tw_error *err)
{
    return change(c,
                  "UPDATE outbox SET state = 2, why = 'too many waited' WHERE id IN "
                  "(SELECT id FROM outbox WHERE destination = :name AND "
                  "state = 0 ORDER BY id DESC LIMIT -1 OFFSET :number)",
                  &(given){destination, NULL, most}, given_up, err);
}
