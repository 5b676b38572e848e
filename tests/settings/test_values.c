/* Types of settings: reading, writing, explaining. */
#include <string.h>

#include "../../src/settings/table.h"
#include "../support/support.h"
#include "../../src/core/dispatch.h"
#include "../../src/settings/sections.h"
#include "tawny/zones.h"

static bool parse(const char *key, const char *text, twi_value *out)
{
    const twi_row *row = twi_table_find("camera", key);
    if (!row)
        row = twi_table_find("station", key);
    assert_non_null(row);
    return row->type->parse(row, text, out);
}

static const twi_row *destination_row(const char *key)
{
    const twi_row *row = twi_table_find("destination", key);
    assert_non_null(row);
    return row;
}

static void test_budgets(void **state)
{
    (void)state;
    static const struct {
        const char *text;
        int64_t bytes, hours;
        const char *shown;
    } good[] = {{"200 MB/d", 200000000, 24, "200 MB/d"},
                {"5 GB/30 d", 5000000000, 720, "5 GB/30 d"},
                {"500kB/h", 500000, 1, "500 kB/h"},
                {"1 MB/24 h", 1000000, 24, "1 MB/d"},
                {"none", 0, 24, "none"}};
    static const char *const bad[] = {"",           "200 MB",  "200 MB/",    "/d",
                                      "0 MB/d",     "-1 MB/d", "200 MB/0 d", "1 MB/1 min",
                                      "1 MB/900 d", "20/d/h",  "MB/d",       "1 MB/dd"};
    const twi_row *row = destination_row("budget");
    twi_value v;
    for (size_t i = 0; i < sizeof good / sizeof *good; i++) {
        char shown[64];
        assert_true(row->type->parse(row, good[i].text, &v));
        assert_true(v.budget.bytes == good[i].bytes);
        assert_true(v.budget.in_us == good[i].hours * INT64_C(3600000000));
        row->type->print(row, &v, shown, sizeof shown);
        assert_string_equal(shown, good[i].shown);
    }
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++)
        if (row->type->parse(row, bad[i], &v))
            fail_msg("%s is taken", bad[i]);
}

static void test_when_and_limits(void **state)
{
    (void)state;
    twi_value v = {0};
    const twi_row *when = destination_row("when"), *limit = destination_row("limit");
    assert_true(when->type->parse(when, "each", &v));
    assert_int_equal(v.when.kind, TWI_WHEN_EACH);
    assert_true(when->type->parse(when, "digest 10 min", &v));
    assert_int_equal(v.when.kind, TWI_WHEN_DIGEST);
    assert_true(v.when.every_us == INT64_C(600000000));
    assert_true(when->type->parse(when, "after 3", &v));
    assert_int_equal(v.when.kind, TWI_WHEN_AFTER);
    assert_int_equal(v.when.count, 3);
    static const char *const bad_when[] = {
        "",          "digest",  "digest 1 s",
        "after",     "after 0", "after -1",
        "after 3 x", "often",   "after 99999999999999999999"};
    for (size_t i = 0; i < sizeof bad_when / sizeof *bad_when; i++)
        assert_false(when->type->parse(when, bad_when[i], &v));
    assert_true(limit->type->parse(limit, "20/h", &v));
    assert_int_equal(v.limit.most, 20);
    assert_true(v.limit.in_us == INT64_C(3600000000));
    assert_true(limit->type->parse(limit, "100/d", &v));
    assert_true(v.limit.in_us == INT64_C(86400000000));
    assert_true(limit->type->parse(limit, "none", &v));
    assert_int_equal(v.limit.most, 0);
    static const char *const bad_limit[] = {"",   "20",        "20/m", "0/h",
                                            "/h", "1000000/h", "x/h",  "20/hour"};
    for (size_t i = 0; i < sizeof bad_limit / sizeof *bad_limit; i++)
        assert_false(limit->type->parse(limit, bad_limit[i], &v));
}

static int64_t number(const char *key, const char *text)
{
    twi_value v = {0};
    if (!parse(key, text, &v))
        fail_msg("%s = %s was refused", key, text);
    return v.number;
}

static void refused(const char *key, const char *text)
{
    twi_value v = {.number = 4242};
    if (parse(key, text, &v))
        fail_msg("%s = %s was taken", key, text);
    assert_true(v.number == 4242);
}

static void test_durations(void **state)
{
    (void)state;
    assert_true(number("post_event", "8 s") == 8000000);
    assert_true(number("post_event", "8s") == 8000000);
    assert_true(number("post_event", "0") == 0);
    assert_true(number("post_event", "250 ms") == 250000);
    assert_true(number("post_event", "1.5 min") == 90000000);
    assert_true(number("post_event", "1 min 30 s") == 90000000);
    assert_true(number("post_event", "0.000001 s") == 1);
    assert_true(number("rest", "1 d") == INT64_C(86400000000));
    assert_true(number("settle", "1 h") == INT64_C(3600000000));
    static const char *const bad[] = {"8",     "s",      "8 sec", "-1 s",
                                      "8 s s", "11 min", "8 px",  "1..5 s",
                                      "",      "8 S",    "1e3 s", "99999999999 s"};
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++)
        refused("post_event", bad[i]);
}

static void test_shares(void **state)
{
    (void)state;
    assert_true(number("start_at", "0.5 %") == 5000);
    assert_true(number("start_at", "0.5%") == 5000);
    assert_true(number("start_at", "100 %") == 1000000);
    assert_true(number("start_at", "0.0001 %") == 1);
    assert_true(number("smallest", "0 %") == 0);
    static const char *const bad[] = {"0.5",       "5 px",       "100.1 %", "0 %",
                                      "0.00001 %", "-0.5 %",     "% 5",     "0,5 %",
                                      "5 % %",     "0.5 percent"};
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++)
        refused("start_at", bad[i]);
}

static void test_numbers_and_words(void **state)
{
    (void)state;
    twi_value v;
    assert_true(number("still_quality", "1") == 1);
    assert_true(number("still_quality", "100") == 100);
    refused("still_quality", "0");
    refused("still_quality", "101");
    refused("still_quality", "50.5");
    refused("still_quality", "fifty");
    assert_true(number("fps", "25") == 25);
    assert_true(number("fps", "25 fps") == 25);
    refused("fps", "25 Hz");
    assert_true(number("difference", "auto") == 0);
    assert_true(number("difference", "12") == 12);
    assert_true(number("difference", "12 levels") == 12);
    refused("difference", "0");
    refused("difference", "256");
    assert_true(number("noise_margin", "150 %") == 150);
    refused("noise_margin", "150");
    assert_true(number("clip_video", "auto") == TWI_VIDEO_AUTO);
    assert_true(number("clip_video", "copy") == TWI_VIDEO_COPY);
    assert_true(number("clip_video", "h264") == TWI_VIDEO_H264);
    assert_true(number("clip_video", "mjpeg") == TWI_VIDEO_MJPEG);
    refused("clip_video", "h26");
    assert_true(number("queue", "8 MB") == 8000000);
    assert_true(number("queue", "1500 kB") == 1500000);
    assert_true(number("queue", "1 GB") == 1000000000);
    refused("queue", "8 MiB");
    assert_true(parse("armed", "yes", &v) && v.yes);
    assert_true(parse("armed", "no", &v) && !v.yes);
    refused("armed", "true");
    refused("armed", "YES");
}

static void test_degrees(void **state)
{
    (void)state;
    assert_true(number("latitude", "54.125") == 54125000);
    assert_true(number("latitude", "-0.000001") == -1);
    assert_true(number("latitude", "90") == 90000000);
    assert_true(number("longitude", "-180") == -180000000);
    assert_true(number("latitude", "") == TWI_NOWHERE);
    static const char *const bad[] = {"90.000001", "-91", "north", ".5",
                                      "-",         "5x",  "5,5",   "1 2"};
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++)
        refused("latitude", bad[i]);
}

/* The library of sound opens files and starts programs for some names. */
static void test_microphones(void **state)
{
    (void)state;
    static const char *const good[] = {"none",         "stream",
                                       "alsa:hw:1",    "alsa:plughw:1,0",
                                       "alsa:default", "alsa:sysdefault:CARD=Webcam",
                                       "alsa:my_array"};
    static const char *const bad[] = {"",
                                      "alsa",
                                      "alsa:",
                                      "alsa:hw:",
                                      "yes",
                                      "hw:1",
                                      "alsa:file:x",
                                      "alsa:file:'|id',raw",
                                      "alsa:plug:'file:x'",
                                      "alsa:hw:1;id",
                                      "alsa:hw:../1",
                                      "alsa:{ type file }",
                                      "alsa:hw:1 x",
                                      "stream:1"};
    for (size_t i = 0; i < sizeof good / sizeof *good; i++) {
        twi_value v = {0};
        assert_true(parse("sound", good[i], &v));
        assert_string_equal(v.text, good[i]);
    }
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++)
        refused("sound", bad[i]);
}

static void test_confirm(void **state)
{
    (void)state;
    twi_value v;
    assert_true(parse("confirm", "2 of 3", &v));
    assert_int_equal(v.confirm.k, 2);
    assert_int_equal(v.confirm.n, 3);
    assert_true(parse("confirm", "16of16", &v));
    static const char *const bad[] = {"4 of 3", "0 of 3", "2",    "2 of 17",
                                      "2/3",    "2 of",   "of 3", "1.5 of 3"};
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++)
        refused("confirm", bad[i]);
}

static void test_stills(void **state)
{
    (void)state;
    twi_value v;
    assert_true(parse("stills", "none", &v) && v.stills.which == TWI_STILLS_NONE);
    assert_true(parse("stills", "first", &v) && v.stills.which == TWI_STILLS_FIRST);
    assert_true(parse("stills", "best", &v) && v.stills.which == TWI_STILLS_BEST);
    assert_true(parse("stills", "every 2 s", &v) && v.stills.which == TWI_STILLS_EVERY);
    assert_true(v.stills.every_us == 2000000);
    refused("stills", "every");
    refused("stills", "every 2");
    refused("stills", "every 50 ms");
    refused("stills", "last");
}

static void test_areas(void **state)
{
    (void)state;
    tw_point p[TWI_AREA_MAX];
    assert_int_equal(twi_area_parse("0,60 40.5,55 100,100", p), 3);
    assert_int_equal(p[1].x_ppm, 405000);
    assert_int_equal(p[1].y_ppm, 550000);
    assert_int_equal(p[2].x_ppm, 1000000);
    static const char *const bad[] = {"0,0 1,1",      "0,0 1,1 101,0", "0,0 1,1 1",
                                      "0 0 1 1 2 2",  "0,0;1,1;2,2",   "",
                                      "0,0 1,1 -1,0", "0, 0 1, 1 2, 2"};
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++)
        assert_int_equal(twi_area_parse(bad[i], p), 0);
    char many[TWI_AREA_MAX * 4 + 8] = "";
    for (int i = 0; i < TWI_AREA_MAX; i++)
        (void)strcat(many, "1,1 ");
    assert_int_equal(twi_area_parse(many, p), TWI_AREA_MAX);
    (void)strcat(many, "1,1");
    assert_int_equal(twi_area_parse(many, p), 0);
}

/* For every row: the preset is taken, what is printed is read back as the same, and the
 * example too is taken. */
static void test_every_row_reads_what_it_prints(void **state)
{
    (void)state;
    size_t count = 0;
    const twi_row *rows = twi_table(&count);
    assert_true(count > 30);
    for (size_t i = 0; i < count; i++) {
        const twi_row *row = &rows[i];
        char printed[TWI_VALUE_MAX], again[TWI_VALUE_MAX], range[TWI_VALUE_MAX];
        twi_value v = {0};
        if (row->preset[0] && !row->type->parse(row, row->preset, &v))
            fail_msg("%s: its preset %s is refused", row->key, row->preset);
        assert_true(row->type->parse(row, row->example, &v));
        row->type->print(row, &v, printed, sizeof printed);
        memset(&v, 0, sizeof v);
        if (!row->type->parse(row, printed, &v))
            fail_msg("%s: %s is printed and refused", row->key, printed);
        row->type->print(row, &v, again, sizeof again);
        assert_string_equal(printed, again);
        row->type->explain(row, range, sizeof range);
        assert_true(strlen(range) > 3);
        assert_true(strlen(row->help) > 20);
        assert_int_equal(row->help[strlen(row->help) - 1], '.');
    }
}

static void test_keys_are_unique_and_nearest_is_found(void **state)
{
    (void)state;
    size_t count = 0;
    const twi_row *rows = twi_table(&count);
    for (size_t i = 0; i < count; i++)
        for (size_t k = i + 1; k < count; k++)
            assert_false(strcmp(rows[i].key, rows[k].key) == 0 &&
                         strcmp(rows[i].section, rows[k].section) == 0);
    assert_string_equal(twi_table_nearest("camera", "start_ta"), "start_at");
    assert_string_equal(twi_table_nearest("camera", "preevent"), "pre_event");
    assert_string_equal(twi_table_nearest("camera", "lite_guard"), "light_guard");
    assert_string_equal(twi_table_nearest("station", "sotre"), "store");
    assert_null(twi_table_nearest("camera", "zebra"));
    assert_null(
        twi_table_nearest("camera", "a_key_that_is_longer_than_any_key_could_ever_be"));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_durations),
        cmocka_unit_test(test_budgets),
        cmocka_unit_test(test_when_and_limits),
        cmocka_unit_test(test_shares),
        cmocka_unit_test(test_numbers_and_words),
        cmocka_unit_test(test_degrees),
        cmocka_unit_test(test_microphones),
        cmocka_unit_test(test_confirm),
        cmocka_unit_test(test_stills),
        cmocka_unit_test(test_areas),
        cmocka_unit_test(test_every_row_reads_what_it_prints),
        cmocka_unit_test(test_keys_are_unique_and_nearest_is_found),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
