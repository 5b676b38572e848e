/* The outbox: what the routes put into it, and what becomes of it. */
#include <stdlib.h>
#include <string.h>

#include <sqlite3.h>

#include "../support/support.h"
#include "../../src/core/naming.h"
#include "../../src/station/backup.h"

#define S INT64_C(1000000)
#define WALL (INT64_C(1804969800) * S)

static const twi_route ROUTES[] = {{"kerb", "still", "mail", "still"},
                                   {"kerb", "still", "shed", "small"},
                                   {"kerb", "clip", "shed", "clip"},
                                   {"kerb", "", "mail", "record"}};

static tw_catalogue *opened(const char *path)
{
    tw_catalogue *c = NULL;
    tw_error err = {0};
    if (tw_catalogue_open(path, true, &c, &err) != TW_OK)
        fail_msg("%s", err.text);
    assert_int_equal(twi_catalogue_begin_run(c, WALL, "", NULL), TW_OK);
    return c;
}

static tw_catalogue *routed(void)
{
    tw_catalogue *c = opened(NULL);
    assert_int_equal(twi_outbox_route(c, ROUTES, 4, NULL, NULL), TW_OK);
    return c;
}

static int64_t note(tw_catalogue *c, const char *camera, uint32_t number, bool over)
{
    const tw_sighting s = {.number = number,
                           .part = 1,
                           .start_us = 10 * number * S,
                           .end_us = (10 * number + 5) * S};
    const twi_sighting_entry entry = {
        .camera = camera, .sighting = &s, .wall_offset_us = WALL, .over = over};
    int64_t id = 0;
    assert_int_equal(twi_catalogue_put(c, &entry, &id, NULL), TW_OK);
    return id;
}

static void add(tw_catalogue *c, int64_t id, const char *kind, const char *file)
{
    const tw_capture_record r = {.sighting = id,
                                 .camera = "kerb",
                                 .kind = kind,
                                 .file = file,
                                 .bytes = 100,
                                 .start_us = WALL + id * S};
    assert_int_equal(twi_catalogue_add(c, &r, NULL), TW_OK);
}

/* A sighting with a still and a clip. */
static int64_t sight(tw_catalogue *c, uint32_t number)
{
    char file[32];
    const int64_t id = note(c, "kerb", number, false);
    (void)snprintf(file, sizeof file, "%u.jpg", number);
    add(c, id, "still", file);
    (void)snprintf(file, sizeof file, "%u.mp4", number);
    add(c, id, "clip", file);
    (void)note(c, "kerb", number, true);
    return id;
}

static bool see(void *ctx, const twi_outbox_item *item)
{
    char *out = ctx;
    const size_t n = strlen(out);
    (void)snprintf(out + n, 512 - n, "%s%s:%s:%s", n > 0 ? " " : "", item->destination,
                   item->what, item->file);
    return true;
}

static const char *items(tw_catalogue *c, const char *destination, twi_item_state state,
                         char out[512])
{
    out[0] = '\0';
    assert_int_equal(twi_outbox_items(c, destination, state, see, out, NULL), TW_OK);
    return out;
}

static bool see_first(void *ctx, const twi_outbox_item *item)
{
    *(int64_t *)ctx = item->id;
    return false;
}

static void see_stopped(void *ctx, const char *destination, int64_t since_us,
                        const char *why)
{
    char *out = ctx;
    const size_t n = strlen(out);
    (void)snprintf(out + n, 512 - n, "%s since %lld s: %s;", destination,
                   (long long)((since_us - WALL) / S), why);
}

static twi_outbox_fill look(tw_catalogue *c, const char *destination)
{
    twi_outbox_fill fill;
    assert_int_equal(twi_outbox_inspect(c, destination, false, WALL, &fill, NULL), TW_OK);
    return fill;
}

static twi_outbox_batch take(tw_catalogue *c, const char *destination, bool newest,
                             twi_outbox_take_what what, char in_it[512])
{
    twi_outbox_batch batch;
    tw_error err = {0};
    if (twi_outbox_take(c, destination, newest, what, &batch, &err) != TW_OK)
        fail_msg("%s", err.text);
    in_it[0] = '\0';
    assert_int_equal(twi_outbox_batch_items(c, &batch, see, in_it, NULL), TW_OK);
    return batch;
}

static void send(tw_catalogue *c, twi_outbox_batch *batch, int64_t when_us)
{
    assert_int_equal(twi_outbox_sent(c, batch, when_us, NULL), TW_OK);
    twi_outbox_batch_free(batch);
}

static void test_routes_fill_it(void **state)
{
    (void)state;
    char text[512];
    tw_catalogue *c = routed();
    const int64_t running = note(c, "kerb", 1, false);
    add(c, running, "still", "a.jpg");
    add(c, running, "segment", "a-all.mp4"); /* goes nowhere */
    assert_string_equal(items(c, NULL, TWI_ITEM_WAITING, text),
                        "mail:still:a.jpg shed:small:a.jpg");
    assert_false(look(c, "mail").over);
    (void)note(c, "kerb", 1, true);
    (void)note(c, "kerb", 1, true); /* said twice: a record once */
    assert_true(look(c, "mail").over);
    assert_string_equal(items(c, "mail", TWI_ITEM_WAITING, text),
                        "mail:still:a.jpg mail:record:");
    (void)note(c, "mere", 1, true); /* has no routes */
    assert_int_equal(look(c, "mail").waiting, 2);
    static const char *const kept[] = {"shed", NULL};
    assert_int_equal(twi_outbox_route(c, NULL, 0, kept, NULL), TW_OK);
    add(c, running, "still", "b.jpg");
    assert_int_equal(look(c, "mail").waiting, 2); /* what waits stays */
    assert_int_equal(look(c, "shed").waiting, 2);
    tw_catalogue_close(c);
}

/* A board that dies leaves a sighting open: its record goes with the next run. */
static void test_a_sighting_cut_short_is_recorded(void **state)
{
    (void)state;
    char *folder = make_folder(), *path = join(folder, "catalogue.db"), text[512];
    tw_catalogue *c = opened(path);
    assert_int_equal(twi_outbox_route(c, ROUTES, 4, NULL, NULL), TW_OK);
    add(c, note(c, "kerb", 1, false), "still", "a.jpg");
    tw_catalogue_close(c);
    c = opened(path);
    assert_string_equal(items(c, "mail", TWI_ITEM_WAITING, text),
                        "mail:still:a.jpg mail:record:");
    tw_catalogue_close(c);
    free(path);
    remove_folder(folder);
}

static void test_the_order_and_what_goes_together(void **state)
{
    (void)state;
    char text[512];
    tw_catalogue *c = routed();
    for (uint32_t n = 1; n <= 3; n++)
        (void)sight(c, n);
    twi_outbox_batch batch = take(c, "shed", false, TWI_TAKE_ONE, text);
    assert_string_equal(text, "shed:small:1.jpg");
    send(c, &batch, WALL);
    batch = take(c, "shed", true, TWI_TAKE_ONE, text);
    assert_string_equal(text, "shed:clip:3.mp4");
    send(c, &batch, WALL);
    batch = take(c, "mail", false, TWI_TAKE_SIGHTING, text);
    assert_string_equal(text, "mail:still:1.jpg mail:record:");
    send(c, &batch, WALL + S);
    batch = take(c, "mail", false, TWI_TAKE_ALL, text);
    assert_string_equal(text,
                        "mail:still:2.jpg mail:record: mail:still:3.jpg mail:record:");
    send(c, &batch, WALL + 9 * S);
    const twi_outbox_fill fill = look(c, "mail");
    assert_int_equal(fill.waiting, 0);
    assert_int_equal(fill.sent, 2); /* messages, not items */
    assert_int_equal(fill.sent_us, WALL + S);
    assert_int_equal(fill.last_us, WALL + 9 * S);
    assert_int_equal(twi_outbox_take(c, "mail", false, TWI_TAKE_ALL, &batch, NULL),
                     TW_ENOENT);
    tw_catalogue_close(c);
}

/* What was begun has the same key and the same items until it is through, whatever has
 * come meanwhile and whatever the order. */
static void test_a_message_that_was_begun_is_finished(void **state)
{
    (void)state;
    char text[512], key[TWI_MESSAGE_KEY];
    tw_catalogue *c = routed();
    (void)sight(c, 1);
    twi_outbox_batch batch = take(c, "mail", true, TWI_TAKE_SIGHTING, text);
    assert_int_equal(batch.tries, 1);
    assert_int_equal(strlen(batch.message), TWI_MESSAGE_KEY - 1);
    memcpy(key, batch.message, sizeof key);
    twi_outbox_batch_free(&batch); /* killed here */
    (void)sight(c, 2);
    batch = take(c, "mail", true, TWI_TAKE_ALL, text);
    assert_int_equal(batch.tries, 2);
    assert_string_equal(batch.message, key);
    assert_string_equal(text, "mail:still:1.jpg mail:record:");
    assert_int_equal(twi_outbox_failed(c, &batch, false, "no answer", NULL), TW_OK);
    twi_outbox_batch_free(&batch);
    assert_true(look(c, "mail").begun);
    assert_string_equal(look(c, "mail").why, "no answer");
    batch = take(c, "mail", true, TWI_TAKE_ALL, text);
    send(c, &batch, WALL);
    batch = take(c, "mail", true, TWI_TAKE_ALL, text);
    assert_string_not_equal(batch.message, key);
    assert_string_equal(text, "mail:still:2.jpg mail:record:");
    twi_outbox_batch_free(&batch);
    tw_catalogue_close(c);
}

static void test_giving_up_and_trying_again(void **state)
{
    (void)state;
    char text[512];
    uint32_t changed = 0;
    tw_error err = {0};
    tw_catalogue *c = routed();
    (void)sight(c, 1);
    twi_outbox_batch batch = take(c, "mail", false, TWI_TAKE_ONE, text);
    assert_int_equal(twi_outbox_failed(c, &batch, true, "too large", NULL), TW_OK);
    twi_outbox_batch_free(&batch);
    assert_int_equal(look(c, "mail").given_up, 1);
    assert_int_equal(look(c, "mail").waiting, 1);
    assert_int_equal(twi_outbox_stop(c, "mail", WALL, "of-these", "refused", NULL),
                     TW_OK);
    assert_int_equal(look(c, "mail").stopped_us, WALL);
    assert_string_equal(look(c, "mail").of, "of-these");
    assert_string_equal(look(c, "mail").why, "refused");
    assert_int_equal(look(c, "shed").stopped_us, 0);
    text[0] = '\0';
    assert_int_equal(twi_outbox_stopped(c, see_stopped, text, NULL), TW_OK);
    assert_string_equal(text, "mail since 0 s: refused;");
    assert_int_equal(twi_outbox_retry(c, "mail", &changed, NULL), TW_OK);
    assert_int_equal(changed, 1);
    assert_int_equal(look(c, "mail").stopped_us, 0);
    assert_int_equal(look(c, "mail").waiting, 2);
    assert_int_equal(twi_outbox_drop(c, "mail", 999, NULL, &err), TW_ENOENT);
    assert_has(err.text, "nothing with number 999 waits");
    assert_int_equal(twi_outbox_drop(c, "mail", 0, &changed, NULL), TW_OK);
    assert_int_equal(changed, 2);
    assert_int_equal(look(c, "shed").waiting, 2);
    assert_int_equal(twi_outbox_bound(c, "shed", 1, &changed, NULL), TW_OK);
    assert_int_equal(changed, 1);
    assert_string_equal(items(c, "shed", TWI_ITEM_GIVEN_UP, text), "shed:small:1.jpg");
    tw_catalogue_close(c);
}

static bool count_sent(void *ctx, const tw_sighting_record *r)
{
    uint32_t *out = ctx;
    out[0] += r->sent;
    out[1] += r->unsent;
    return true;
}

static void test_what_is_sent_is_counted_and_may_go(void **state)
{
    (void)state;
    char text[512];
    uint32_t counts[2] = {0};
    const tw_sighting_filter all = {0};
    twi_catalogue_oldest oldest;
    tw_catalogue *c = routed();
    (void)sight(c, 1);
    assert_int_equal(
        twi_catalogue_find_oldest(c, NULL, TWI_KIND_COUNT, false, &oldest, NULL),
        TW_ENOENT);
    assert_int_equal(
        twi_catalogue_find_oldest(c, NULL, TWI_KIND_COUNT, true, &oldest, NULL), TW_OK);
    twi_outbox_batch batch = take(c, "mail", false, TWI_TAKE_SIGHTING, text);
    send(c, &batch, WALL);
    assert_int_equal(tw_catalogue_sightings(c, &all, count_sent, counts, NULL), TW_OK);
    assert_int_equal(counts[0], 1); /* a record is no capture */
    assert_int_equal(counts[1], 2);
    batch = take(c, "shed", false, TWI_TAKE_SIGHTING, text);
    send(c, &batch, WALL);
    assert_int_equal(
        twi_catalogue_find_oldest(c, NULL, TWI_KIND_COUNT, false, &oldest, NULL), TW_OK);
    assert_int_equal(twi_catalogue_drop(c, oldest.id, NULL), TW_OK); /* and so it goes */
    assert_string_equal(items(c, "shed", TWI_ITEM_SENT, text), "shed:clip:1.mp4");
    tw_catalogue_close(c);
}

/* The number that the list gives is the one to drop it by. */
static void test_one_is_dropped_by_its_number(void **state)
{
    (void)state;
    char text[512];
    int64_t first = 0, next = 0;
    uint32_t changed = 0;
    tw_catalogue *c = routed();
    (void)sight(c, 1);
    (void)sight(c, 2);
    assert_int_equal(
        twi_outbox_items(c, "shed", TWI_ITEM_WAITING, see_first, &first, NULL), TW_OK);
    assert_true(first > 0);
    assert_int_equal(twi_outbox_drop(c, "shed", first, &changed, NULL), TW_OK);
    assert_int_equal(changed, 1);
    assert_string_equal(items(c, "shed", TWI_ITEM_WAITING, text),
                        "shed:clip:1.mp4 shed:small:2.jpg shed:clip:2.mp4");
    assert_int_equal(
        twi_outbox_items(c, "shed", TWI_ITEM_WAITING, see_first, &next, NULL), TW_OK);
    assert_true(next > first);
    tw_catalogue_close(c);
}

static void happens(tw_catalogue *c, const char *camera, const char *what,
                    const char *text)
{
    const tw_log_entry entry = {
        .camera = camera, .at_us = WALL, .what = what, .text = text};
    assert_int_equal(twi_catalogue_happened(c, &entry, NULL), TW_OK);
}

static bool see_alarm(void *ctx, const twi_outbox_item *item)
{
    assert_true(item->entry > 0 && item->sighting == 0 && item->capture == 0);
    (void)snprintf(ctx, 128, "%s|%s|%s|%lld", item->what, item->camera, item->text,
                   (long long)(item->start_us - WALL));
    return true;
}

static void test_alarms_go_where_they_are_wanted_before_all_else(void **state)
{
    (void)state;
    char text[512], seen[128] = "";
    twi_outbox_fill fill;
    twi_outbox_batch batch;
    tw_catalogue *c = routed();
    const twi_route routes[] = {{"kerb", "still", "mail", "still"},
                                {"kerb", "still", "shed", "still"},
                                {"", "alarm", "mail", "alarm"}};
    assert_int_equal(twi_outbox_route(c, routes, 3, NULL, NULL), TW_OK);
    (void)sight(c, 1);
    happens(c, "kerb", "lost", "it is lost");
    happens(c, "kerb", "alarm", "it is lost for long");
    assert_string_equal(items(c, "shed", TWI_ITEM_WAITING, text), "shed:still:1.jpg");
    assert_int_equal(twi_outbox_peek(c, "mail", false, &fill, NULL), TW_OK);
    assert_true(fill.alarm && fill.over && !fill.begun);
    assert_int_equal(twi_outbox_take(c, "mail", false, TWI_TAKE_SIGHTING, &batch, NULL),
                     TW_OK);
    assert_int_equal(batch.count, 1);
    assert_int_equal(twi_outbox_batch_items(c, &batch, see_alarm, seen, NULL), TW_OK);
    assert_string_equal(seen, "alarm|kerb|it is lost for long|0");
    assert_int_equal(twi_outbox_sent(c, &batch, WALL + S, NULL), TW_OK);
    twi_outbox_batch_free(&batch);
    assert_int_equal(twi_outbox_peek(c, "mail", false, &fill, NULL), TW_OK);
    assert_true(!fill.alarm && fill.waiting == 1); /* the still is next */
    happens(c, NULL, "alarm", "mail takes nothing");
    assert_int_equal(twi_outbox_spare(c, "mail", NULL), TW_OK);
    assert_int_equal(twi_outbox_peek(c, "mail", false, &fill, NULL), TW_OK);
    assert_false(fill.alarm);
    tw_catalogue_close(c);
}

static void test_a_run_that_nobody_ended_is_known(void **state)
{
    (void)state;
    char *folder = make_folder(), *path = join(folder, "catalogue.db");
    twi_cut_off how = TWI_CUT_OFF_ALONE;
    tw_catalogue *c = opened(path);
    assert_int_equal(twi_catalogue_cut_off(c, &how), 0); /* the first */
    assert_int_equal(how, TWI_CUT_OFF);
    tw_catalogue *after = opened(path); /* as if power had gone meanwhile */
    assert_int_equal(twi_catalogue_cut_off(after, &how), WALL);
    assert_int_equal(how, TWI_CUT_OFF); /* nobody knows of the board */
    tw_catalogue_close(after);
    after = opened(path); /* that one was ended */
    assert_int_equal(twi_catalogue_cut_off(after, &how), 0);
    tw_catalogue_close(after);
    static const struct {
        const char *before, *now;
        twi_cut_off how;
    } cases[] = {{"one", "one", TWI_CUT_OFF_ALONE},
                 {"one", "two", TWI_CUT_OFF_WITH_BOARD},
                 {"", "two", TWI_CUT_OFF},
                 {"one", "", TWI_CUT_OFF}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        tw_catalogue *died = NULL;
        assert_int_equal(tw_catalogue_open(path, true, &died, NULL), TW_OK);
        assert_int_equal(twi_catalogue_begin_run(died, WALL, cases[i].before, NULL),
                         TW_OK);
        assert_int_equal(tw_catalogue_open(path, true, &after, NULL), TW_OK);
        assert_int_equal(twi_catalogue_begin_run(after, WALL + 5, cases[i].now, NULL),
                         TW_OK);
        assert_int_equal(twi_catalogue_cut_off(after, &how), WALL);
        assert_int_equal(how, cases[i].how);
        tw_catalogue_close(after);
        tw_catalogue_close(died);
    }
    tw_catalogue_close(c);
    free(path);
    remove_folder(folder);
}

/* What the version before kept is taken over. */
/* From another board: known from now on, sent nowhere; what waits here goes on waiting.
 */
static void test_what_is_taken_in_is_not_sent(void **state)
{
    (void)state;
    char *folder = make_folder(), *one = join(folder, "one.db"),
         *copy = join(folder, "copy.db"), before[512], after[512];
    tw_catalogue *from = opened(one), *into = routed();
    twi_merged merged;
    assert_int_equal(twi_outbox_route(from, ROUTES, 4, NULL, NULL), TW_OK);
    (void)sight(from, 7);
    const tw_log_entry alarm = {.at_us = WALL, .what = "alarm", .text = "it was lost"};
    assert_int_equal(twi_catalogue_happened(from, &alarm, NULL), TW_OK);
    assert_int_equal(twi_catalogue_copy(from, copy, NULL), TW_OK);
    assert_int_not_equal(twi_catalogue_copy(from, copy, NULL), TW_OK); /* it is there */
    tw_catalogue_close(from);
    (void)sight(into, 1);
    (void)items(into, NULL, TWI_ITEM_WAITING, before);
    assert_has(before, "mail:still:1.jpg");
    assert_int_equal(twi_catalogue_merge(into, copy, true, &merged, NULL), TW_OK);
    assert_int_equal(merged.sightings, 1);
    assert_int_equal(merged.captures, 2);
    assert_int_equal(merged.shift, 1); /* both had the id 1 */
    assert_string_equal(items(into, NULL, TWI_ITEM_WAITING, after), before);
    assert_int_equal(twi_catalogue_merge(into, copy, true, &merged, NULL), TW_EEXIST);
    assert_string_equal(items(into, NULL, TWI_ITEM_WAITING, after), before);
    assert_int_equal(note(into, "kerb", 2, true), 3); /* its number is taken: the next */
    tw_catalogue_close(into);
    free(copy);
    free(one);
    remove_folder(folder);
}

/* What is held back is as if it were not there; what was begun ends, and alarms go. */
static void test_what_is_held_back_waits(void **state)
{
    (void)state;
    char text[512];
    tw_catalogue *c = opened(NULL);
    twi_outbox_fill fill;
    assert_int_equal(twi_outbox_route(c, ROUTES, 4, NULL, NULL), TW_OK);
    add(c, note(c, "kerb", 1, true), "still", "a.jpg");
    twi_outbox_hold(c, " still clip ");
    assert_int_equal(twi_outbox_inspect(c, "mail", false, WALL, &fill, NULL), TW_OK);
    assert_int_equal(fill.waiting, 1); /* the record */
    twi_outbox_batch batch = take(c, "mail", false, TWI_TAKE_ALL, text);
    assert_int_equal(batch.count, 1);
    assert_has(text, "record:");
    twi_outbox_batch_free(&batch);
    assert_int_equal(twi_outbox_peek(c, "mail", false, &fill, NULL), TW_OK);
    twi_outbox_hold(c, " record still clip ");
    assert_int_equal(twi_outbox_peek(c, "mail", false, &fill, NULL), TW_OK);
    assert_true(fill.waiting == 1 && fill.begun); /* it goes on */
    twi_outbox_hold(c, "");
    assert_int_equal(twi_outbox_inspect(c, "mail", false, WALL, &fill, NULL), TW_OK);
    assert_int_equal(fill.waiting, 2);
    tw_catalogue_close(c);
}

static void test_what_was_spent_is_forgotten_in_time(void **state)
{
    (void)state;
    tw_catalogue *c = opened(NULL);
    int64_t bytes = 0;
    for (int i = 0; i < 5; i++)
        assert_int_equal(twi_outbox_spend(c, "mail", WALL + i, 100, 3, NULL), TW_OK);
    assert_int_equal(twi_outbox_spend(c, "shed", WALL, 7, 3, NULL), TW_OK);
    assert_int_equal(twi_outbox_spent(c, "mail", 0, &bytes, NULL), TW_OK);
    assert_int_equal(bytes, 300); /* those of the last three */
    assert_int_equal(twi_outbox_spent(c, "mail", WALL + 3, &bytes, NULL), TW_OK);
    assert_int_equal(bytes, 100);
    assert_int_equal(twi_outbox_spent(c, "none", 0, &bytes, NULL), TW_OK);
    assert_int_equal(bytes, 0);
    tw_catalogue_close(c);
}

static void test_deliveries_of_an_older_version_are_kept(void **state)
{
    (void)state;
    char *folder = make_folder(), *path = join(folder, "catalogue.db"), text[512];
    tw_catalogue *c = opened(path);
    add(c, note(c, "kerb", 1, true), "still", "a.jpg");
    tw_catalogue_close(c);
    sqlite3 *db = NULL;
    assert_int_equal(sqlite3_open(path, &db), SQLITE_OK);
    assert_int_equal(
        sqlite3_exec(
            db,
            "DROP TABLE draft; DROP TABLE series; DROP TABLE visit; DROP TABLE spent; "
            "DROP INDEX sighting_named; ALTER TABLE sighting DROP COLUMN name; ALTER "
            "TABLE sighting DROP COLUMN heads; ALTER TABLE sighting DROP COLUMN note; "
            "ALTER TABLE sighting DROP COLUMN named_by; ALTER TABLE sighting DROP "
            "COLUMN sure_ppm; ALTER TABLE sighting DROP COLUMN named_us; DROP TRIGGER "
            "entry_routed; DROP TABLE sensor_value; ALTER TABLE run DROP COLUMN boot; "
            "ALTER TABLE run DROP COLUMN ended; DROP INDEX sighting_marked; ALTER "
            "TABLE sighting DROP COLUMN mark; DROP TABLE missed; ALTER TABLE log_entry "
            "RENAME TO happening; DROP TRIGGER capture_routed; DROP TRIGGER "
            "sighting_over; DROP TRIGGER sighting_made_over; DROP TABLE route; DROP "
            "TABLE outbox; DROP TABLE stopped; CREATE TABLE delivery(capture INTEGER "
            "NOT NULL REFERENCES capture(id) ON DELETE CASCADE, destination TEXT NOT "
            "NULL, sent_us INTEGER NOT NULL DEFAULT 0, PRIMARY KEY(capture, "
            "destination)) STRICT; INSERT INTO delivery VALUES (1, 'mail', 0), (1, "
            "'shed', 5); PRAGMA user_version = 3",
            NULL, NULL, NULL),
        SQLITE_OK);
    (void)sqlite3_close(db);
    c = opened(path);
    assert_string_equal(items(c, NULL, TWI_ITEM_WAITING, text), "mail:still:a.jpg");
    assert_string_equal(items(c, NULL, TWI_ITEM_SENT, text), "shed:still:a.jpg");
    tw_catalogue_close(c);
    free(path);
    remove_folder(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_routes_fill_it),
        cmocka_unit_test(test_a_sighting_cut_short_is_recorded),
        cmocka_unit_test(test_the_order_and_what_goes_together),
        cmocka_unit_test(test_a_message_that_was_begun_is_finished),
        cmocka_unit_test(test_giving_up_and_trying_again),
        cmocka_unit_test(test_what_is_sent_is_counted_and_may_go),
        cmocka_unit_test(test_one_is_dropped_by_its_number),
        cmocka_unit_test(test_alarms_go_where_they_are_wanted_before_all_else),
        cmocka_unit_test(test_a_run_that_nobody_ended_is_known),
        cmocka_unit_test(test_what_is_taken_in_is_not_sent),
        cmocka_unit_test(test_what_is_held_back_waits),
        cmocka_unit_test(test_what_was_spent_is_forgotten_in_time),
        cmocka_unit_test(test_deliveries_of_an_older_version_are_kept),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
