/* The catalogue: written, read back, and opened when it should not be. */
#include <stdlib.h>
#include <string.h>

#include <sqlite3.h>

#include "../support/support.h"
#include "../../src/core/naming.h"
#include "../../src/station/catalogue_state.h"

#define S INT64_C(1000000)
#define WALL (INT64_C(1804969800) * S)

static tw_catalogue *fresh(const char *path)
{
    tw_catalogue *c = NULL;
    tw_error err = {0};
    if (tw_catalogue_open(path, true, &c, &err) != TW_OK)
        fail_msg("%s", err.text);
    assert_int_equal(twi_catalogue_begin_run(c, WALL, "", NULL), TW_OK);
    return c;
}

static tw_sighting sighting(uint32_t number, int64_t start_s, int64_t end_s)
{
    return (tw_sighting){.number = number,
                         .part = 1,
                         .start_us = start_s * S,
                         .end_us = end_s * S,
                         .peak_ppm = 4200 * number,
                         .frames = 10 * number};
}

static int64_t note(tw_catalogue *c, const char *camera, const tw_sighting *s, bool over)
{
    const twi_sighting_entry entry = {.camera = camera,
                                      .sighting = s,
                                      .wall_offset_us = WALL,
                                      .start_ppm = 500,
                                      .stay_ppm = 400,
                                      .why = "2 of 3 frames",
                                      .over = over};
    int64_t id = 0;
    assert_int_equal(twi_catalogue_put(c, &entry, &id, NULL), TW_OK);
    return id;
}

static void add(tw_catalogue *c, int64_t id, const char *camera, const char *kind,
                const char *file, uint64_t bytes, int64_t start_s)
{
    const tw_capture_record r = {.sighting = id,
                                 .camera = camera,
                                 .kind = kind,
                                 .file = file,
                                 .bytes = bytes,
                                 .start_us = WALL + start_s * S};
    assert_int_equal(twi_catalogue_add(c, &r, NULL), TW_OK);
}

typedef struct seen {
    tw_sighting_record record[16];
    char camera[16][32], why[16][64];
    size_t count, most;
} seen;

static bool see(void *ctx, const tw_sighting_record *r)
{
    seen *s = ctx;
    assert_true(s->count < 16);
    s->record[s->count] = *r;
    (void)snprintf(s->camera[s->count], 32, "%s", r->camera);
    (void)snprintf(s->why[s->count], 64, "%s", r->why);
    return ++s->count != s->most;
}

static seen list(tw_catalogue *c, tw_sighting_filter filter)
{
    seen s = {0};
    assert_int_equal(tw_catalogue_sightings(c, &filter, see, &s, NULL), TW_OK);
    return s;
}

static void test_a_sighting_is_written_as_it_goes_on(void **state)
{
    (void)state;
    tw_catalogue *c = fresh(NULL);
    tw_sighting s = sighting(1, 10, 12);
    const int64_t id = note(c, "kerb", &s, false);
    seen all = list(c, (tw_sighting_filter){0});
    assert_int_equal(all.count, 1);
    assert_int_equal(all.record[0].end_us, 0); /* it is still running */
    assert_int_equal(all.record[0].start_us, WALL + 10 * S);
    add(c, id, "kerb", "still", "a.jpg", 1000, 11);
    s.end_us = 20 * S;
    s.peak_ppm = 9000;
    assert_int_equal(note(c, "kerb", &s, true), id);
    add(c, id, "kerb", "clip", "a.mp4", 50000, 5);
    all = list(c, (tw_sighting_filter){0});
    assert_int_equal(all.count, 1);
    assert_int_equal(all.record[0].id, id);
    assert_int_equal(all.record[0].end_us, WALL + 20 * S);
    assert_int_equal(all.record[0].peak_ppm, 9000);
    assert_int_equal(all.record[0].stills, 1);
    assert_int_equal(all.record[0].clips, 1);
    assert_int_equal(all.record[0].bytes, 51000);
    assert_int_equal(all.record[0].start_ppm, 500);
    assert_string_equal(all.camera[0], "kerb");
    assert_string_equal(all.why[0], "2 of 3 frames");
    tw_catalogue_close(c);
}

/* Numbers begin anew with each run, ids never. */
static void test_runs_do_not_mix(void **state)
{
    (void)state;
    char *folder = make_folder(), *path = join(folder, TWI_CATALOGUE_FILE);
    const tw_sighting s = sighting(1, 10, 12);
    tw_catalogue *c = fresh(path);
    const int64_t first = note(c, "kerb", &s, false);
    add(c, first, "kerb", "still", "a.jpg", 1000, 17);
    tw_catalogue_close(c); /* the board died while it was running */
    c = fresh(path);
    seen all = list(c, (tw_sighting_filter){0});
    assert_int_equal(all.record[0].end_us, WALL + 17 * S);
    const int64_t second = note(c, "kerb", &s, true);
    assert_true(second > first);
    assert_int_equal(list(c, (tw_sighting_filter){0}).count, 2);
    tw_catalogue_close(c);
    assert_int_equal(tw_catalogue_open(path, false, &c, NULL), TW_OK);
    assert_int_equal(list(c, (tw_sighting_filter){0}).count, 2);
    tw_catalogue_close(c);
    free(path);
    remove_folder(folder);
}

static void test_filters(void **state)
{
    (void)state;
    tw_catalogue *c = fresh(NULL);
    int64_t id[6];
    for (uint32_t i = 0; i < 6; i++) {
        const tw_sighting s = sighting(i + 1, i * 100, i * 100 + 10);
        const char *camera = i % 2 ? "mere" : "kerb";
        char file[16];
        (void)snprintf(file, sizeof file, "%u.jpg", i);
        id[i] = note(c, camera, &s, true);
        add(c, id[i], camera, "still", file, 1000 * (i + 1), i * 100);
    }
    assert_int_equal(tw_catalogue_star(c, id[4], true, NULL), TW_OK);
    assert_int_equal(list(c, (tw_sighting_filter){.camera = "mere"}).count, 3);
    assert_int_equal(list(c, (tw_sighting_filter){.camera = "nobody"}).count, 0);
    seen some = list(
        c, (tw_sighting_filter){.from_us = WALL + 100 * S, .until_us = WALL + 300 * S});
    assert_int_equal(some.count, 2);
    assert_int_equal(some.record[0].id, id[1]);
    assert_int_equal(list(c, (tw_sighting_filter){.least_bytes = 4000}).count, 3);
    some = list(c, (tw_sighting_filter){.starred = true});
    assert_int_equal(some.count, 1);
    assert_int_equal(some.record[0].id, id[4]);
    some = list(c, (tw_sighting_filter){.most = 2}); /* the newest, in order */
    assert_int_equal(some.count, 2);
    assert_int_equal(some.record[0].id, id[4]);
    assert_int_equal(some.record[1].id, id[5]);
    assert_int_equal(tw_catalogue_star(c, id[4], false, NULL), TW_OK);
    assert_int_equal(list(c, (tw_sighting_filter){.starred = true}).count, 0);
    tw_error err = {0};
    assert_int_equal(tw_catalogue_star(c, 999, true, &err), TW_ENOENT);
    assert_has(err.text, "there is no sighting 999");
    tw_catalogue_close(c);
}

static void put_file(tw_card *card, const char *name)
{
    void *file = NULL;
    assert_int_equal(card->ops->create(card->ctx, name, &file, NULL), TW_OK);
    assert_int_equal(card->ops->append(card->ctx, file, "toad", 4, NULL), TW_OK);
    assert_int_equal(card->ops->close(card->ctx, file, NULL), TW_OK);
}

static void test_removing_takes_the_files_too(void **state)
{
    (void)state;
    tw_catalogue *c = fresh(NULL);
    tw_card card;
    const tw_sighting s = sighting(1, 10, 12), other = sighting(2, 20, 22);
    const int64_t id = note(c, "kerb", &s, true), kept = note(c, "kerb", &other, true);
    assert_int_equal(tw_sim_card(NULL, &card), TW_OK);
    put_file(&card, "a.jpg");
    put_file(&card, "b.jpg");
    add(c, id, "kerb", "still", "a.jpg", 4, 10);
    add(c, id, "kerb", "clip", "gone.mp4", 4, 10); /* somebody took it off the card */
    add(c, kept, "kerb", "still", "b.jpg", 4, 20);
    assert_int_equal(tw_catalogue_remove(c, &card, id, NULL), TW_OK);
    assert_int_equal(tw_sim_card_count(&card), 1);
    assert_false(twi_catalogue_knows(c, "a.jpg", NULL));
    assert_true(twi_catalogue_knows(c, "b.jpg", NULL));
    assert_int_equal(list(c, (tw_sighting_filter){0}).count, 1);
    assert_int_equal(tw_catalogue_remove(c, &card, id, NULL), TW_ENOENT);
    card.ops->destroy(card.ctx);
    tw_catalogue_close(c);
}

static void test_the_oldest_that_may_go(void **state)
{
    (void)state;
    tw_catalogue *c = fresh(NULL);
    twi_catalogue_oldest oldest;
    uint64_t bytes = 0;
    int64_t id[3];
    assert_int_equal(
        twi_catalogue_find_oldest(c, NULL, TWI_KIND_COUNT, false, &oldest, NULL),
        TW_ENOENT);
    for (uint32_t i = 0; i < 3; i++) {
        const tw_sighting s = sighting(i + 1, i * 100, i * 100 + 10);
        char file[16];
        (void)snprintf(file, sizeof file, "%u.jpg", i);
        id[i] = note(c, i == 1 ? "mere" : "kerb", &s, i < 2);
        add(c, id[i], i == 1 ? "mere" : "kerb", "still", file, 1000, i * 100);
    }
    assert_int_equal(twi_catalogue_bytes(c, NULL, TWI_KIND_COUNT, &bytes, NULL), TW_OK);
    assert_int_equal(bytes, 3000);
    assert_int_equal(twi_catalogue_bytes(c, "mere", TWI_KIND_COUNT, &bytes, NULL), TW_OK);
    assert_int_equal(bytes, 1000);
    assert_int_equal(
        twi_catalogue_find_oldest(c, NULL, TWI_KIND_COUNT, false, &oldest, NULL), TW_OK);
    assert_string_equal(oldest.file, "0.jpg");
    assert_int_equal(tw_catalogue_star(c, id[0], true, NULL), TW_OK);
    assert_int_equal(
        twi_catalogue_find_oldest(c, NULL, TWI_KIND_COUNT, false, &oldest, NULL), TW_OK);
    assert_string_equal(oldest.file, "1.jpg");
    assert_int_equal(twi_catalogue_drop(c, oldest.id, NULL), TW_OK);
    /* The third is still running. */
    assert_int_equal(
        twi_catalogue_find_oldest(c, NULL, TWI_KIND_COUNT, false, &oldest, NULL),
        TW_ENOENT);
    add(c, 0, "kerb", "timed-still", "t.jpg", 1000, 500); /* of no sighting */
    assert_int_equal(
        twi_catalogue_find_oldest(c, "kerb", TWI_KIND_COUNT, false, &oldest, NULL),
        TW_OK);
    assert_string_equal(oldest.file, "t.jpg");
    assert_int_equal(list(c, (tw_sighting_filter){0}).count, 3);
    tw_catalogue_close(c);
}

static void check_open(const char *path, tw_status expected, const char *line)
{
    tw_catalogue *c = NULL;
    tw_error err = {0};
    assert_int_equal(tw_catalogue_open(path, true, &c, &err), expected);
    assert_null(c);
    assert_has(err.text, line);
    assert_has(err.text, path);
}

static void test_what_is_no_catalogue(void **state)
{
    (void)state;
    char *folder = make_folder(), *path = join(folder, "x.db");
    tw_catalogue *c = NULL;
    tw_error err = {0};
    assert_int_equal(tw_catalogue_open(path, false, &c, &err), TW_ENOENT);
    assert_has(err.text, "there is no catalogue");
    write_text(path, "these are notes about toads, and no data base at all, "
                     "however long this line may get before it ends");
    check_open(path, TW_EDAMAGED, "not a database");
    char *text = read_file(path, NULL); /* and it is left as it was */
    assert_has(text, "notes about toads");
    free(text);
    free(path);
    path = join(folder, "new.db");
    sqlite3 *db = NULL;
    assert_int_equal(sqlite3_open(path, &db), SQLITE_OK);
    assert_int_equal(sqlite3_exec(db, "PRAGMA user_version = 99", NULL, NULL, NULL),
                     SQLITE_OK);
    (void)sqlite3_close(db);
    check_open(path, TW_ENOTSUP, "written by a newer tawny");
    free(path);
    remove_folder(folder);
}

/* As the first version wrote them. */
static const char OLD[] =
    "CREATE TABLE run(id INTEGER PRIMARY KEY AUTOINCREMENT, began_us INTEGER NOT NULL) "
    "STRICT;"
    "CREATE TABLE sighting(id INTEGER PRIMARY KEY AUTOINCREMENT,"
    " run INTEGER REFERENCES run(id), camera TEXT NOT NULL,"
    " number INTEGER NOT NULL, part INTEGER NOT NULL,"
    " start_us INTEGER NOT NULL, end_us INTEGER NOT NULL DEFAULT 0,"
    " peak_ppm INTEGER NOT NULL, frames INTEGER NOT NULL,"
    " start_ppm INTEGER NOT NULL, stay_ppm INTEGER NOT NULL, why TEXT NOT NULL,"
    " starred INTEGER NOT NULL DEFAULT 0 CHECK(starred IN (0, 1)),"
    " UNIQUE(run, camera, number, part)) STRICT;"
    "CREATE INDEX sighting_by_time ON sighting(start_us);"
    "CREATE TABLE capture(id INTEGER PRIMARY KEY,"
    " sighting INTEGER REFERENCES sighting(id), camera TEXT NOT NULL,"
    " kind TEXT NOT NULL, file TEXT NOT NULL UNIQUE, bytes INTEGER NOT NULL,"
    " start_us INTEGER NOT NULL) STRICT;"
    "CREATE INDEX capture_by_sighting ON capture(sighting);"
    "CREATE INDEX capture_by_time ON capture(start_us);"
    "CREATE INDEX capture_by_camera ON capture(camera, start_us);"
    "INSERT INTO run VALUES (1, 5);"
    "INSERT INTO sighting VALUES (4, 1, 'kerb', 1, 1, 100, 200, 9, 9, 5, 5, 'why', 1);"
    "INSERT INTO capture VALUES (1, 4, 'kerb', 'clip', 'a.mp4', 700, 90);"
    "INSERT INTO capture VALUES (2, NULL, 'kerb', 'timed', 'b.jpg', 30, 95);"
    "PRAGMA user_version = 1;";

static void test_an_old_one_is_brought_up_to_date(void **state)
{
    (void)state;
    char *folder = make_folder(), *path = join(folder, "old.db");
    sqlite3 *db = NULL;
    tw_catalogue *c = NULL;
    twi_catalogue_oldest oldest;
    uint64_t bytes = 0;
    assert_int_equal(sqlite3_open(path, &db), SQLITE_OK);
    assert_int_equal(sqlite3_exec(db, OLD, NULL, NULL, NULL), SQLITE_OK);
    (void)sqlite3_close(db);
    for (int i = 0; i < 2; i++) { /* the second time nothing is left to do */
        assert_int_equal(tw_catalogue_open(path, true, &c, NULL), TW_OK);
        const seen all = list(c, (tw_sighting_filter){0});
        assert_int_equal(all.count, 1);
        assert_int_equal(all.record[0].id, 4);
        assert_true(all.record[0].starred);
        assert_int_equal(all.record[0].bytes, 700);
        assert_int_equal(all.record[0].mark, TW_MARK_NONE);
        assert_int_equal(twi_catalogue_bytes(c, "kerb", TWI_KIND_CLIP, &bytes, NULL),
                         TW_OK);
        assert_int_equal(bytes, 700);
        assert_int_equal(twi_catalogue_bytes(c, NULL, TWI_KIND_COUNT, &bytes, NULL),
                         TW_OK);
        assert_int_equal(bytes, 730);
        assert_int_equal(twi_catalogue_find_oldest(c, "kerb", TWI_KIND_TIMED_STILL, false,
                                                   &oldest, NULL),
                         TW_OK);
        assert_string_equal(oldest.file, "b.jpg");
        tw_catalogue_close(c);
    }
    free(path);
    remove_folder(folder);
}

/* ---- marks --------------------------------------------------------------------------
 */

typedef struct missed_list {
    int64_t id[8], at_us[8];
    char camera[8][32];
    size_t count;
} missed_list;

static bool see_missed(void *ctx, const tw_missed_record *r)
{
    missed_list *l = ctx;
    assert_true(l->count < 8);
    l->id[l->count] = r->id;
    l->at_us[l->count] = r->at_us;
    (void)snprintf(l->camera[l->count++], 32, "%s", r->camera);
    return true;
}

static missed_list list_missed(tw_catalogue *c, const char *camera, int64_t from_us,
                               int64_t until_us)
{
    missed_list l = {0};
    assert_int_equal(
        tw_catalogue_missed(c, camera, from_us, until_us, see_missed, &l, NULL), TW_OK);
    return l;
}

static void test_marks(void **state)
{
    (void)state;
    tw_catalogue *c = fresh(NULL);
    tw_error err = {0};
    int64_t id[3];
    for (uint32_t i = 0; i < 3; i++) {
        const tw_sighting s = sighting(i + 1, 10 * (i + 1), 10 * (i + 1) + 2);
        id[i] = note(c, "kerb", &s, true);
    }
    assert_int_equal(list(c, (tw_sighting_filter){.marked = true}).count, 0);
    assert_int_equal(tw_catalogue_mark(c, id[0], TW_MARK_RIGHT, NULL), TW_OK);
    assert_int_equal(tw_catalogue_mark(c, id[2], TW_MARK_RIGHT, NULL), TW_OK);
    assert_int_equal(tw_catalogue_mark(c, id[2], TW_MARK_NOTHING, NULL), TW_OK);
    seen some = list(c, (tw_sighting_filter){.marked = true});
    assert_int_equal(some.count, 2);
    assert_int_equal(some.record[0].mark, TW_MARK_RIGHT);
    assert_int_equal(some.record[1].id, id[2]);
    assert_int_equal(some.record[1].mark, TW_MARK_NOTHING);
    assert_int_equal(tw_catalogue_mark(c, id[0], TW_MARK_NONE, NULL), TW_OK);
    some = list(c, (tw_sighting_filter){.marked = true});
    assert_int_equal(some.count, 1);
    assert_int_equal(some.record[0].id, id[2]);
    assert_int_equal(list(c, (tw_sighting_filter){0}).count, 3);
    assert_int_equal(tw_catalogue_mark(c, 99, TW_MARK_RIGHT, &err), TW_ENOENT);
    assert_string_equal(err.text, "there is no sighting 99");
    assert_int_equal(tw_catalogue_mark(c, id[0], 3, &err), TW_EINVAL);
    assert_int_equal(tw_catalogue_mark(c, id[0], -1, &err), TW_EINVAL);
    assert_int_equal(tw_catalogue_mark(NULL, 1, TW_MARK_RIGHT, &err), TW_EINVAL);
    tw_catalogue_close(c);
}

static void test_what_was_missed(void **state)
{
    (void)state;
    tw_catalogue *c = fresh(NULL);
    tw_error err = {0};
    int64_t late = 0, early = 0;
    assert_int_equal(tw_catalogue_add_missed(c, "mere", WALL + 9 * S, &late, NULL),
                     TW_OK);
    assert_int_equal(tw_catalogue_add_missed(c, "kerb", WALL + 2 * S, &early, NULL),
                     TW_OK);
    missed_list l = list_missed(c, NULL, 0, 0);
    assert_int_equal(l.count, 2);
    assert_int_equal(l.id[0], early);
    assert_string_equal(l.camera[0], "kerb");
    assert_int_equal(l.at_us[1], WALL + 9 * S);
    l = list_missed(c, "mere", 0, 0);
    assert_int_equal(l.count, 1);
    assert_int_equal(l.id[0], late);
    assert_int_equal(list_missed(c, NULL, WALL + 3 * S, 0).count, 1);
    assert_int_equal(list_missed(c, NULL, 0, WALL + 9 * S).count, 1); /* past the last */
    assert_int_equal(list_missed(c, NULL, WALL + 9 * S, 0).count, 1);
    assert_int_equal(tw_catalogue_remove_missed(c, early, NULL), TW_OK);
    assert_int_equal(tw_catalogue_remove_missed(c, early, &err), TW_ENOENT);
    assert_int_equal(list_missed(c, NULL, 0, 0).count, 1);
    assert_int_equal(tw_catalogue_add_missed(c, "", WALL, NULL, &err), TW_EINVAL);
    assert_int_equal(tw_catalogue_add_missed(c, NULL, WALL, NULL, &err), TW_EINVAL);
    assert_int_equal(tw_catalogue_add_missed(c, "kerb", 0, NULL, &err), TW_EINVAL);
    tw_catalogue_close(c);
}

/* The journal beside the catalogue has them, and gives them back. */
static void test_marks_survive_a_lost_catalogue(void **state)
{
    (void)state;
    char *folder = make_folder(), *path = join(folder, TWI_CATALOGUE_FILE);
    tw_catalogue *c = fresh(path);
    const tw_sighting first = sighting(1, 10, 12), second = sighting(2, 20, 22);
    const int64_t right = note(c, "kerb", &first, true),
                  nothing = note(c, "ke\"missed\"rb", &second, true);
    int64_t stays = 0, goes = 0;
    assert_int_equal(tw_catalogue_mark(c, right, TW_MARK_RIGHT, NULL), TW_OK);
    assert_int_equal(tw_catalogue_mark(c, nothing, TW_MARK_NOTHING, NULL), TW_OK);
    assert_int_equal(tw_catalogue_add_missed(c, "kerb", WALL, &stays, NULL), TW_OK);
    assert_int_equal(tw_catalogue_add_missed(c, "kerb", WALL + S, &goes, NULL), TW_OK);
    assert_int_equal(tw_catalogue_remove_missed(c, goes, NULL), TW_OK);
    tw_catalogue_close(c);
    char *journal = join(folder, TWI_JOURNAL_FILE), *lines = read_file(journal, NULL);
    char *more = malloc(strlen(lines) + 512);
    (void)sprintf(
        more,
        "%s{\"id\":7,\"camera\":\"old\",\"number\":7,\"part\":1,\"start_us\":5,"
        "\"end_us\":6,\"order_us\":5,\"peak_ppm\":1,\"frames\":1,\"start_ppm\":1,"
        "\"stay_ppm\":1,\"why\":\"\",\"unsure\":0,\"starred\":0}\n"
        "{\"id\":8,\"camera\":\"new\",\"number\":8,\"part\":1,\"start_us\":7,"
        "\"end_us\":8,\"order_us\":7,\"peak_ppm\":1,\"frames\":1,\"start_ppm\":1,"
        "\"stay_ppm\":1,\"why\":\"\",\"unsure\":0,\"starred\":0,\"mark\":9}\n",
        lines);
    write_text(journal, more);
    assert_int_equal(remove(path), 0);
    c = fresh(path);
    assert_int_equal(twi_catalogue_journal_read(c, NULL), TW_OK);
    const seen all = list(c, (tw_sighting_filter){0});
    assert_int_equal(all.count, 4); /* of an older journal and a newer one, unmarked */
    assert_int_equal(all.record[0].mark, TW_MARK_NONE);
    assert_int_equal(all.record[1].mark, TW_MARK_NONE);
    assert_int_equal(all.record[2].mark, TW_MARK_RIGHT);
    assert_int_equal(all.record[3].mark, TW_MARK_NOTHING);
    const missed_list l = list_missed(c, NULL, 0, 0);
    assert_int_equal(l.count, 1);
    assert_int_equal(l.id[0], stays);
    assert_int_equal(l.at_us[0], WALL);
    tw_catalogue_close(c);
    free(more);
    free(lines);
    free(journal);
    free(path);
    remove_folder(folder);
}

typedef struct values {
    size_t count;
    int64_t at_us[8], value[8];
    bool unsure[8];
} values;

static bool take_value(void *ctx, const tw_sensor_value *v)
{
    values *all = ctx;
    assert_string_equal(v->sensor, "board");
    all->at_us[all->count] = v->at_us;
    all->value[all->count] = v->value;
    all->unsure[all->count++] = v->unsure;
    return all->count < 4;
}

static values values_of(tw_catalogue *c, const char *sensor, int64_t from_us,
                        int64_t until_us)
{
    values all = {.count = 0};
    assert_int_equal(
        tw_catalogue_values(c, sensor, from_us, until_us, take_value, &all, NULL), TW_OK);
    return all;
}

/* What sensors said is kept as long as is wanted, and gets right times with the rest. */
static void test_values_of_sensors(void **state)
{
    (void)state;
    char *folder = make_folder(), *path = join(folder, "catalogue.db");
    tw_catalogue *c = NULL;
    assert_int_equal(tw_catalogue_open(path, true, &c, NULL), TW_OK);
    assert_int_equal(twi_catalogue_begin_run(c, WALL, "", NULL), TW_OK);
    for (int i = 0; i < 6; i++) {
        const tw_sensor_value board = {"board", WALL + i, 40 + i, i == 5},
                              battery = {"battery", WALL + i, 12, false};
        assert_int_equal(
            twi_catalogue_add_value(c, &board, i == 4 ? WALL + 2 : INT64_MIN, NULL),
            TW_OK);
        assert_int_equal(twi_catalogue_add_value(c, &battery, WALL + i, NULL), TW_OK);
    }
    values all = values_of(c, "board", 0, 0);
    assert_int_equal(all.count, 4); /* the first two are too old */
    assert_true(all.at_us[0] == WALL + 2 && all.value[0] == 42);
    assert_true(all.unsure[3] && !all.unsure[2]);
    all = values_of(c, "board", WALL + 3, WALL + 5);
    assert_int_equal(all.count, 2);
    assert_int_equal(values_of(c, "none", 0, 0).count, 0);
    assert_int_equal(twi_catalogue_set_times(c, 1000, NULL, NULL), TW_OK);
    all = values_of(c, "board", 0, 0);
    assert_true(all.at_us[3] == WALL + 1005 && !all.unsure[3] &&
                all.at_us[2] == WALL + 4);
    assert_int_equal(tw_catalogue_values(NULL, NULL, 0, 0, take_value, &all, NULL),
                     TW_EINVAL);
    tw_catalogue_close(c);
    free(path);
    remove_folder(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_values_of_sensors),
        cmocka_unit_test(test_a_sighting_is_written_as_it_goes_on),
        cmocka_unit_test(test_runs_do_not_mix),
        cmocka_unit_test(test_filters),
        cmocka_unit_test(test_marks),
        cmocka_unit_test(test_what_was_missed),
        cmocka_unit_test(test_marks_survive_a_lost_catalogue),
        cmocka_unit_test(test_removing_takes_the_files_too),
        cmocka_unit_test(test_the_oldest_that_may_go),
        cmocka_unit_test(test_an_old_one_is_brought_up_to_date),
        cmocka_unit_test(test_what_is_no_catalogue),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
