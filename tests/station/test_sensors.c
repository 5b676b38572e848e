/* Sensors of a station: what they say is kept, and what is wrong with it is told. */
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

#include "../support/support.h"
#include "../../src/settings/sections.h"
#include "../../src/station/sense.h"
#include "tawny/events.h"

/* What a sensor of the tests says, one after the other; NULL: it fails. The last stays.
 */
typedef struct script {
    const char *const *says;
    atomic_uint at;
} script;

static tw_status say(void *ctx, const tw_sensor_request *r, char *text, size_t capacity,
                     tw_error *err)
{
    script *s = ctx;
    const unsigned at = atomic_load(&s->at);
    const char *says = s->says[at];
    assert_string_equal(r->name, "board");
    assert_string_equal(r->file, "/of/the/board");
    if (s->says[at + 1])
        atomic_store(&s->at, at + 1);
    if (strcmp(says, "!") == 0)
        return tw_fail(err, TW_EIO, "it has gone");
    (void)snprintf(text, capacity, "%s", says);
    return TW_OK;
}

typedef struct heard {
    tw_station *station;
    problems alarms, troubles, words;
    tw_sensor_status last;
    unsigned seconds;
    unsigned until; /* of these, then it is stopped */
    int64_t begun_us;
} heard;

static void on_event(void *ctx, const tw_event *e)
{
    heard *h = ctx;
    const tw_clock clock = quick_clock();
    if (e->kind == TW_EVENT_ALARM)
        collect_problem(&h->alarms, e->text);
    if (e->kind == TW_EVENT_PROBLEM && strncmp(e->text, "sensor", 6) == 0)
        collect_problem(&h->troubles, e->text);
    if (e->kind == TW_EVENT_DAILY)
        collect_problem(&h->words, e->text);
    (void)tw_station_sensor(h->station, 0, &h->last);
    if (h->begun_us == 0)
        h->begun_us = clock.ops->now_us(clock.ctx);
    if (clock.ops->now_us(clock.ctx) - h->begun_us > h->until * INT64_C(1000000))
        tw_station_stop(h->station);
}

/* @param more  Lines of the settings. */
static void watch(const char *store, const char *more, script *s, heard *h)
{
    char text[1024];
    static const tw_sensors_ops ops = {sizeof ops, say};
    const tw_sensors sensors = {&ops, s};
    tw_card card;
    tw_error err = {0};
    (void)snprintf(text, sizeof text,
                   "[station]\nkeep_free = 0\n%s\n[camera kerb]\nsource = "
                   "sim:kerb,size=160x90\nfps = 5\narmed = no\n"
                   "pre_event_disarmed = no\n",
                   more);
    tw_settings *settings = settings_of(text);
    assert_int_equal(tw_linux_card(store, &card, &err), TW_OK);
    const tw_platform platform = {.size = sizeof platform,
                                  .makers = TEST_MAKERS,
                                  .clock = quick_clock(),
                                  .card = &card,
                                  .sensors = s ? &sensors : NULL};
    assert_int_equal(tw_station_new(&platform, settings, on_event, h, &h->station, &err),
                     TW_OK);
    assert_int_equal(tw_station_run(h->station), TW_OK);
    tw_station_free(h->station);
    card.ops->destroy(card.ctx);
    tw_settings_free(settings);
}

typedef struct kept {
    unsigned count;
    int64_t first, last;
} kept;

static bool take_value(void *ctx, const tw_sensor_value *v)
{
    kept *k = ctx;
    assert_string_equal(v->sensor, "board");
    if (k->count++ == 0)
        k->first = v->value;
    k->last = v->value;
    return true;
}

static bool count_words(void *ctx, const tw_log_entry *e)
{
    *(unsigned *)ctx += strcmp(e->what, "daily") == 0;
    return true;
}

static tw_catalogue *catalogue_of(const char *store)
{
    tw_catalogue *c = NULL;
    char *path = join(store, "catalogue.db");
    assert_int_equal(tw_catalogue_open(path, false, &c, NULL), TW_OK);
    free(path);
    return c;
}

static const char BOARD[] =
    "alarm_after = 3 s\n[sensor board]\nfile = /of/the/board\nfactor = "
    "0.001\nunit = \xc2\xb0"
    "C\nevery = 1 s\nalarm_above = 60\n";

static void test_values_are_kept_and_limits_told(void **state)
{
    (void)state;
    static const char *const says[] = {"41500\n", "41500\n", "71000\n", "41500\n",
                                       "71000\n", "71000\n", "71500\n", "71500\n",
                                       "40250\n", NULL};
    char *store = make_folder();
    script s = {.says = says};
    heard h = {.until = 14};
    kept k = {0};
    watch(store, BOARD, &s, &h);
    assert_int_equal(h.alarms.count, 2);
    assert_has(h.alarms.text, "board is at 71.5 \xc2\xb0"
                              "C, above 60 \xc2\xb0"
                              "C");
    assert_has(h.alarms.text, "board is within its limits again: 40.25 \xc2\xb0"
                              "C");
    assert_int_equal(h.troubles.count, 0);
    assert_true(h.last.known && !h.last.beyond);
    assert_string_equal(h.last.unit, "\xc2\xb0"
                                     "C");
    assert_int_equal(h.last.value, 40250000);
    tw_catalogue *c = catalogue_of(store);
    assert_int_equal(tw_catalogue_values(c, "board", 0, 0, take_value, &k, NULL), TW_OK);
    assert_true(k.count >= 9);
    assert_int_equal(k.first, 41500000);
    assert_int_equal(k.last, 40250000);
    tw_catalogue_close(c);
    remove_folder(store);
}

static void test_one_that_fails_is_told_once_and_for_long(void **state)
{
    (void)state;
    static const char *const says[] = {"41500", "!", "!", "no number", "!",     "!",
                                       "!",     "!", "!", "!",         "41500", NULL};
    char *store = make_folder();
    script s = {.says = says};
    heard h = {.until = 16};
    watch(store, BOARD, &s, &h);
    assert_int_equal(h.troubles.count, 1);
    assert_has(h.troubles.text, "sensor board: it has gone");
    assert_int_equal(h.alarms.count, 2);
    assert_has(h.alarms.text, "sensor board has given no number for ");
    assert_has(h.alarms.text, "sensor board gives a number again");
    assert_true(h.last.known && h.last.why[0] == '\0');
    remove_folder(store);
}

/* Each time anew; but not each time that it is read. */
static void test_one_that_fails_again_is_told_again(void **state)
{
    (void)state;
    static const char *const says[] = {"41500", "!", "!", "41500", "41500", "!", NULL};
    char *store = make_folder();
    script s = {.says = says};
    heard h = {.until = 7};
    char patient[sizeof BOARD + 16]; /* on a busy machine it takes longer */
    (void)snprintf(patient, sizeof patient, "alarm_after = 5 min\n%s",
                   strchr(BOARD, '\n') + 1);
    watch(store, patient, &s, &h);
    assert_int_equal(h.troubles.count, 2);
    assert_int_equal(h.alarms.count, 0);
    assert_false(h.last.known);
    remove_folder(store);
}

static void test_without_alarms_nobody_is_told(void **state)
{
    (void)state;
    static const char *const says[] = {"90000", "90000", "90000", "90000", "!", NULL};
    char *store = make_folder();
    script s = {.says = says};
    heard h = {.until = 12};
    char text[512];
    (void)snprintf(text, sizeof text, "alarm_after = 0 s\n%s", strchr(BOARD, '\n') + 1);
    watch(store, text, &s, &h);
    assert_int_equal(h.alarms.count, 0);
    assert_int_equal(h.troubles.count, 1);
    assert_has(h.last.why, "it has gone");
    remove_folder(store);
}

static void test_what_is_no_value(void **state)
{
    (void)state;
    static const struct {
        const char *says;
        int64_t factor;
        tw_status st;
        int64_t value;
        const char *text;
    } cases[] = {{"12", 1000000, TW_OK, 12000000, ""},
                 {"-3.5", 2000000, TW_OK, -7000000, ""},
                 {"48312", 1000, TW_OK, 48312000, ""},
                 {"7", 0, TW_OK, 0, ""},
                 {"warm\nvery", 1000000, TW_EDAMAGED, 0,
                  "/of/the/board: there is no number in \"warm\""},
                 {"", 1000000, TW_EDAMAGED, 0, "/of/the/board: it says nothing"},
                 {"900000000000", 1000000000, TW_EDAMAGED, 0, "is too large"}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        const char *const says[] = {cases[i].says, NULL};
        script s = {.says = says};
        static const tw_sensors_ops ops = {sizeof ops, say};
        const tw_sensors port = {&ops, &s};
        const twi_sensor_settings set = {.name = "board",
                                         .file = "/of/the/board",
                                         .run = "",
                                         .factor = cases[i].factor};
        tw_error err = {0};
        int64_t value = 0;
        assert_int_equal(twi_sensor_read(&port, &set, &value, &err), cases[i].st);
        assert_int_equal(value, cases[i].value);
        assert_has(err.text, cases[i].text);
    }
}

static void test_of_a_board_without_any(void **state)
{
    (void)state;
    char *store = make_folder();
    heard h = {.until = 5};
    watch(store, BOARD, NULL, &h);
    assert_int_equal(h.troubles.count, 1);
    assert_has(h.troubles.text, "sensor board: this board has no sensors");
    remove_folder(store);
}

/* Said once a day, whatever is started anew; and what it says is so. */
static void test_the_word_of_the_day(void **state)
{
    (void)state;
    static const char *const warm[] = {"90000", NULL};
    char *store = make_folder();
    script s = {.says = warm};
    heard none = {.until = 70}, first = {.until = 100}, second = {.until = 70};
    unsigned words = 0;
    watch(store, "daily_word = none\n", NULL, &none);
    assert_int_equal(none.words.count, 0);
    char text[512];
    (void)snprintf(text, sizeof text, "daily_word = 00:00\n%s", BOARD);
    watch(store, text, &s, &first);
    assert_int_equal(first.words.count, 1);
    assert_has(first.words.text, "not all is well: board 90 \xc2\xb0"
                                 "C, 1 camera, 0 sightings, 1 alarm "
                                 "in a day, card with ");
    watch(store, "daily_word = 00:00\n", NULL, &second);
    assert_int_equal(second.words.count, 0);
    tw_catalogue *c = catalogue_of(store);
    assert_int_equal(tw_catalogue_log(c, NULL, 0, 0, count_words, &words, NULL), TW_OK);
    assert_int_equal(words, 1);
    tw_catalogue_close(c);
    remove_folder(store);
}

/* Not before its time: a minute before midnight, which is most of a day away. */
static void test_the_word_waits_for_its_time(void **state)
{
    (void)state;
    const tw_clock clock = quick_clock();
    const int64_t wall_us = clock.ops->wall_us(clock.ctx);
    const int64_t local_us =
        wall_us + clock.ops->offset_s(clock.ctx, wall_us) * INT64_C(1000000);
    const int64_t hour = local_us / INT64_C(3600000000) % 24;
    char *store = make_folder();
    heard h = {.until = 70};
    watch(store, "daily_word = 23:59\n", NULL, &h);
    if (hour < 23) /* in its last hour it may have come */
        assert_int_equal(h.words.count, 0);
    remove_folder(store);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_values_are_kept_and_limits_told),
        cmocka_unit_test(test_one_that_fails_is_told_once_and_for_long),
        cmocka_unit_test(test_one_that_fails_again_is_told_again),
        cmocka_unit_test(test_without_alarms_nobody_is_told),
        cmocka_unit_test(test_what_is_no_value),
        cmocka_unit_test(test_of_a_board_without_any),
        cmocka_unit_test(test_the_word_of_the_day),
        cmocka_unit_test(test_the_word_waits_for_its_time),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
