/* The store: complete files with names, or nothing. Rules 1 to 3 of store.c. */
#include <stdlib.h>
#include <string.h>

#include "../../src/station/store.h"
#include "../support/support.h"
#include "../../src/core/naming.h"
#include "../../src/settings/sections.h"
#include "../../src/station/footage.h"

static const twi_station_settings SETTINGS = {.name = "hollin",
                                              .store = "captures",
                                              .names = "%Y/{camera}-%H%M%S-{kind}{n}",
                                              .queue_bytes = 8000000};

static twi_name_fields usual(void)
{
    twi_name_fields f = {
        .camera = "kerb", .kind = "clip", .sighting = 1, .extension = "mp4"};
    twi_civil_split(INT64_C(1804969815204567), 0, &f.time);
    return f;
}

/* One capture from begin to commit. */
static tw_status store_one(const twi_store *store, const char *content, char *name,
                           tw_error *err)
{
    twi_store_file file;
    const twi_name_fields fields = usual();
    tw_status st = twi_store_begin(store, &fields, &file, err);
    if (st != TW_OK)
        return st;
    st = twi_store_append(store, &file, content, strlen(content), err);
    if (st != TW_OK) {
        twi_store_abandon(store, &file);
        return st;
    }
    st = twi_store_commit(store, &file, err);
    if (st == TW_OK && name)
        (void)strcpy(name, file.name);
    return st;
}

static void test_a_capture_gets_its_name_when_complete(void **state)
{
    (void)state;
    tw_card card;
    twi_store store;
    twi_store_file file;
    const char *name = NULL;
    const uint8_t *data = NULL;
    size_t bytes = 0;
    const twi_name_fields fields = usual();
    assert_int_equal(tw_sim_card(NULL, &card), TW_OK);
    assert_int_equal(twi_store_open(&store, &card, &SETTINGS, NULL), TW_OK);
    assert_int_equal(tw_sim_card_count(&card), 0); /* trying it has left nothing */
    assert_int_equal(twi_store_begin(&store, &fields, &file, NULL), TW_OK);
    assert_int_equal(twi_store_append(&store, &file, "toad", 4, NULL), TW_OK);
    assert_int_equal(tw_sim_card_file(&card, 0, &name, &data, &bytes), TW_OK);
    assert_string_equal(name, "2027/kerb-203015-clip.mp4.part");
    assert_int_equal(twi_store_commit(&store, &file, NULL), TW_OK);
    assert_int_equal(tw_sim_card_file(&card, 0, &name, &data, &bytes), TW_OK);
    assert_string_equal(name, "2027/kerb-203015-clip.mp4");
    assert_string_equal(file.name, name);
    assert_int_equal(file.bytes, 4);
    assert_int_equal(tw_sim_card_open(&card), 0);
    card.ops->destroy(card.ctx);
}

static void test_names_never_collide(void **state)
{
    (void)state;
    tw_card card;
    twi_store store;
    char names[4][TWI_NAME_MAX];
    assert_int_equal(tw_sim_card(NULL, &card), TW_OK);
    assert_int_equal(twi_store_open(&store, &card, &SETTINGS, NULL), TW_OK);
    for (int i = 0; i < 4; i++) {
        const char content[] = {(char)('a' + i), '\0'};
        assert_int_equal(store_one(&store, content, names[i], NULL), TW_OK);
    }
    assert_string_equal(names[1], "2027/kerb-203015-clip-2.mp4");
    assert_string_equal(names[3], "2027/kerb-203015-clip-4.mp4");
    assert_int_equal(tw_sim_card_count(&card), 4);
    for (size_t i = 0; i < 4; i++) { /* the first still holds what it held */
        const char *name = NULL;
        const uint8_t *data = NULL;
        size_t bytes = 0;
        assert_int_equal(tw_sim_card_file(&card, i, &name, &data, &bytes), TW_OK);
        assert_int_equal(data[0], 'a' + (int)i);
    }
    card.ops->destroy(card.ctx);
}

static void test_two_at_once(void **state)
{
    (void)state;
    tw_card card;
    twi_store store;
    twi_store_file a, b;
    const twi_name_fields fields = usual();
    assert_int_equal(tw_sim_card(NULL, &card), TW_OK);
    assert_int_equal(twi_store_open(&store, &card, &SETTINGS, NULL), TW_OK);
    assert_int_equal(twi_store_begin(&store, &fields, &a, NULL), TW_OK);
    assert_int_equal(twi_store_begin(&store, &fields, &b, NULL), TW_OK);
    assert_string_not_equal(a.part, b.part);
    assert_int_equal(twi_store_commit(&store, &b, NULL), TW_OK);
    assert_int_equal(twi_store_commit(&store, &a, NULL), TW_OK);
    assert_string_not_equal(a.name, b.name);
    assert_int_equal(tw_sim_card_count(&card), 2);
    card.ops->destroy(card.ctx);
}

/* Break the first call of the card, then the second...: each time either the capture is
 * there, whole, or nothing at all is. */
static void test_every_failure_leaves_nothing_behind(void **state)
{
    (void)state;
    bool done = false;
    uint32_t fail = 1;
    for (; !done; fail++) {
        const tw_sim_faults faults = {.fail_call = fail, .fail_with = TW_EIO};
        tw_card card;
        twi_store store;
        tw_error err = {0};
        assert_int_equal(tw_sim_card(&faults, &card), TW_OK);
        tw_status st = twi_store_open(&store, &card, &SETTINGS, &err);
        if (st == TW_OK)
            st = store_one(&store, "toad", NULL, &err);
        done = tw_sim_card_calls(&card) < fail;
        if (done) {
            assert_int_equal(st, TW_OK);
        } else {
            assert_int_equal(st, TW_EIO);
            assert_has(err.text, "simulated card");
            for (size_t i = 0; i < tw_sim_card_count(&card); i++) {
                const char *name = NULL;
                const uint8_t *data = NULL;
                size_t bytes = 0;
                assert_int_equal(tw_sim_card_file(&card, i, &name, &data, &bytes), TW_OK);
                assert_null(strstr(name, "clip"));
            }
        }
        assert_int_equal(tw_sim_card_open(&card), 0);
        card.ops->destroy(card.ctx);
        assert_true(fail < 50);
    }
    assert_int_equal(fail, 7); /* six calls store it: then it works */
}

static void test_patterns_are_checked_at_the_start(void **state)
{
    (void)state;
    static const struct {
        const char *names, *line;
    } cases[] = {{"%Y-{cam}", "names = %Y-{cam}: \"{cam}\" is no conversion or field"},
                 {"%Q", "names = %Q: \"%Q\" is no conversion"},
                 {"", "or the name is empty"}};
    tw_card card;
    assert_int_equal(tw_sim_card(NULL, &card), TW_OK);
    for (size_t i = 0; i < 3; i++) {
        twi_station_settings settings = SETTINGS;
        tw_error err = {0};
        settings.names = cases[i].names;
        assert_int_equal(twi_store_try(&card, &settings, &err), TW_ESYNTAX);
        assert_has(err.text, cases[i].line);
    }
    assert_int_equal(tw_sim_card_calls(&card), 0);
    card.ops->destroy(card.ctx);
}

static void test_a_full_card(void **state)
{
    (void)state;
    const tw_sim_faults faults = {.capacity = 30};
    tw_card card;
    twi_store store;
    tw_error err = {0};
    assert_int_equal(tw_sim_card(&faults, &card), TW_OK);
    assert_int_equal(twi_store_open(&store, &card, &SETTINGS, NULL), TW_OK);
    assert_int_equal(store_one(&store, "0123456789012345", NULL, &err), TW_OK);
    assert_int_equal(store_one(&store, "0123456789012345", NULL, &err), TW_ENOSPC);
    assert_has(err.text, "no space left");
    assert_int_equal(tw_sim_card_count(&card), 1);
    assert_int_equal(store_one(&store, "small", NULL, &err), TW_OK); /* and goes on */
    card.ops->destroy(card.ctx);
}

/* The longest station, in a real folder, many times at the same moment: each capture gets
 * a name of its own that the file system takes, in the store. */
static void test_hostile_names_in_a_real_folder(void **state)
{
    (void)state;
    char *folder = make_folder(), *place = join(folder, "captures");
    char *station = malloc(4097);
    tw_card card;
    twi_store store;
    tw_error err = {0};
    assert_non_null(station);
    for (int i = 0; i < 4096; i++)
        station[i] = (char)(1 + (i * 37 + 90) % 255);
    memcpy(station, "/../../", 7);
    station[4096] = '\0';
    twi_station_settings settings = SETTINGS;
    settings.name = station;
    settings.names = "{station}/{station}{station}{station}-{kind}";
    assert_int_equal(tw_linux_card(place, &card, &err), TW_OK);
    if (twi_store_open(&store, &card, &settings, &err) != TW_OK)
        fail_msg("%s", err.text);
    for (int i = 0; i < 50; i++)
        if (store_one(&store, "toad", NULL, &err) != TW_OK)
            fail_msg("%s", err.text);
    char **files = list_files(place), **all = list_files(folder);
    assert_int_equal(list_length(files), 50);
    assert_int_equal(list_length(all), 50); /* nothing outside of the store */
    assert_int_equal(count_ending(files, ".mp4"), 50);
    free_list(all);
    free_list(files);
    card.ops->destroy(card.ctx);
    free(station);
    free(place);
    remove_folder(folder);
}

static unsigned tries;

static tw_status taken(void *ctx, const char *from, const char *to, tw_error *err)
{
    (void)ctx;
    (void)from;
    (void)err;
    tries++;
    return strcmp(to, "a-999.jpg") == 0 ? TW_OK : TW_EEXIST;
}

/* Up to the last number there is, and no further. */
static void test_another_name_is_looked_for_to_the_end(void **state)
{
    (void)state;
    const tw_card_ops ops = {.size = sizeof ops, .rename = taken};
    const tw_card card = {&ops, NULL};
    char name[TWI_NAME_MAX];
    tries = 0;
    assert_int_equal(twi_store_rename(&card, "x", "a", "jpg", name, NULL), TW_OK);
    assert_string_equal(name, "a-999.jpg");
    assert_int_equal(tries, 999);
    assert_int_equal(twi_store_rename(&card, "x", "b", "jpg", name, NULL), TW_EEXIST);
    assert_int_equal(tries, 2 * 999);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_capture_gets_its_name_when_complete),
        cmocka_unit_test(test_names_never_collide),
        cmocka_unit_test(test_another_name_is_looked_for_to_the_end),
        cmocka_unit_test(test_two_at_once),
        cmocka_unit_test(test_every_failure_leaves_nothing_behind),
        cmocka_unit_test(test_patterns_are_checked_at_the_start),
        cmocka_unit_test(test_a_full_card),
        cmocka_unit_test(test_hostile_names_in_a_real_folder),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
