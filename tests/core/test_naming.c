/* The calendar and the names of captures. */
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "../support/support.h"
#include "../../src/core/naming.h"

#define US INT64_C(1000000)

static twi_name_fields usual(void)
{
    twi_name_fields f = {.camera = "kerb",
                         .station = "hollin",
                         .kind = "still",
                         .sighting = 7,
                         .n = 2,
                         .extension = "jpg"};
    twi_civil_split(INT64_C(1804969815) * US + 204567, 3600, &f.time);
    return f;
}

static void check(const char *pattern, const char *expected)
{
    const twi_name_fields f = usual();
    char name[TWI_NAME_MAX];
    assert_int_equal(twi_name_expand(pattern, &f, name, sizeof name, NULL), TW_OK);
    assert_string_equal(name, expected);
}

static void test_calendar_agrees_with_the_c_library(void **state)
{
    (void)state;
    static const int32_t offsets[] = {0, 3600, -12600, 45900};
    for (int64_t day = -20000; day < 60000; day += 13) {
        const int64_t seconds = day * 86400 + (day * 7919) % 86400;
        for (size_t i = 0; i < 4; i++) {
            twi_civil c;
            struct tm tm;
            const time_t local = (time_t)(seconds + offsets[i]);
            assert_non_null(gmtime_r(&local, &tm));
            twi_civil_split(seconds * US + 250000, offsets[i], &c);
            assert_int_equal(c.year, tm.tm_year + 1900);
            assert_int_equal(c.month, tm.tm_mon + 1);
            assert_int_equal(c.day, tm.tm_mday);
            assert_int_equal(c.hour, tm.tm_hour);
            assert_int_equal(c.minute, tm.tm_min);
            assert_int_equal(c.second, tm.tm_sec);
            assert_int_equal(c.weekday, tm.tm_wday);
            assert_int_equal(c.yearday, tm.tm_yday + 1);
            assert_int_equal(c.microsecond, 250000);
            assert_true(twi_civil_join(&c) == seconds * US + 250000);
        }
    }
}

static void test_moments_before_1970(void **state)
{
    (void)state;
    twi_civil c;
    twi_civil_split(-1, 0, &c);
    assert_int_equal(c.year, 1969);
    assert_int_equal(c.month, 12);
    assert_int_equal(c.second, 59);
    assert_int_equal(c.microsecond, 999999);
    assert_true(twi_civil_join(&c) == -1);
}

static void test_conversions_agree_with_strftime(void **state)
{
    (void)state;
    static const char *const conversions[] = {"%Y", "%y", "%m", "%d", "%H", "%I", "%M",
                                              "%S", "%p", "%j", "%a", "%A", "%b", "%B",
                                              "%u", "%w", "%F", "%s", "%%"};
    const twi_name_fields f = usual();
    struct tm tm;
    const time_t t = 1804969815;
    (void)localtime_r(&t, &tm); /* the tests run in TZ=<+01>-1 */
    for (size_t i = 0; i < sizeof conversions / sizeof *conversions; i++) {
        char pattern[16], theirs[64], ours[TWI_NAME_MAX];
        (void)snprintf(pattern, sizeof pattern, "x%s", conversions[i]);
        assert_true(strftime(theirs, sizeof theirs, pattern, &tm) > 0);
        (void)strcat(theirs, ".jpg");
        assert_int_equal(twi_name_expand(pattern, &f, ours, sizeof ours, NULL), TW_OK);
        assert_string_equal(ours, theirs);
    }
}

static void test_fields(void **state)
{
    (void)state;
    check("{camera}-{station}-{sighting}-{kind}{n}-{ms}",
          "kerb-hollin-007-still2-204.jpg");
    check("%Y-%m-%d/{camera}/{camera}-%Y%m%dT%H%M%S.{ms}-{sighting}-{kind}{n}",
          "2027-03-13/kerb/kerb-20270313T213015.204-007-still2.jpg");
    check("a%z", "a+0100.jpg");
    check("%D-%R-%T", "03_13_27-21_30-21_30_15.jpg"); /* safe on FAT */
}

static void test_a_number_of_zero_is_left_out(void **state)
{
    (void)state;
    twi_name_fields f = usual();
    char name[TWI_NAME_MAX];
    f.n = 0;
    f.sighting = 12345;
    assert_int_equal(twi_name_expand("{kind}{n}-{sighting}", &f, name, sizeof name, NULL),
                     TW_OK);
    assert_string_equal(name, "still-12345.jpg");
}

static void test_no_name_leaves_the_store(void **state)
{
    (void)state;
    check("../../etc/{kind}", "etc/still.jpg");
    check("/etc/./{kind}", "etc/still.jpg");
    check("a/..../b", "a/b.jpg");
    check("//a//b", "a/b.jpg");
    twi_name_fields f = usual();
    char name[TWI_NAME_MAX];
    f.camera = "../up";
    assert_int_equal(twi_name_expand("{camera}/x", &f, name, sizeof name, NULL), TW_OK);
    assert_string_equal(name, ".._up/x.jpg");
}

static void test_names_are_safe_on_fat(void **state)
{
    (void)state;
    check("a:b?c*d<e>f|g\"h\\i", "a_b_c_d_e_f_g_h_i.jpg");
    check("tab\there", "tab_here.jpg");
    check("dot./x", "dot_/x.jpg");
    check("blank /x", "blank_/x.jpg");
    check("con/aux/x", "_on/_ux/x.jpg");
    check("COM1/lpt9/com10/x", "_OM1/_pt9/com10/x.jpg");
    check("nul", "_ul.jpg");
    check("Ünïcode \xF0\x9F\xA6\x89", "Ünïcode \xF0\x9F\xA6\x89.jpg");
    /* no UTF-8: cut short, longer than needed, half of a pair, past the last */
    check("a\xC3", "a_.jpg");
    check("a\xC0\x80\xE0\x80\x80z", "a_____z.jpg");
    check("\xED\xA0\x80", "___.jpg");
    check("\xF4\x90\x80\x80\xFF", "_____.jpg");
}

static void test_long_parts_are_cut_in_whole_characters(void **state)
{
    (void)state;
    char pattern[900] = "", name[1200];
    for (int i = 0; i < 200; i++)
        (void)strcat(pattern, "\xC3\xA4"); /* 400 bytes */
    (void)strcat(pattern, "/x");
    const twi_name_fields f = usual();
    assert_int_equal(twi_name_expand(pattern, &f, name, sizeof name, NULL), TW_OK);
    const size_t part = strcspn(name, "/");
    assert_true(part <= 231 && part >= 227); /* room for a number and ".part" */
    for (size_t i = 0; i < part; i += 2)
        assert_memory_equal(name + i, "\xC3\xA4", 2);
}

static void test_long_fields_make_no_name_impossible(void **state)
{
    (void)state;
    char name[TWI_NAME_MAX], *camera = malloc(4097);
    twi_name_fields f = usual();
    assert_non_null(camera);
    memset(camera, 'k', 4096);
    memcpy(camera + 62, "\xE2\x82\xAC", 3); /* lies across the cut */
    camera[4096] = '\0';
    f.camera = f.station = camera;
    assert_int_equal(
        twi_name_expand("{camera}/{station}-{kind}", &f, name, sizeof name, NULL), TW_OK);
    assert_int_equal(strcspn(name, "/"), 62);
    assert_has(name, "kkk-still.jpg");
    free(camera);
}

/* Whatever comes in: every part of a name is one that FAT and ext4 accept. `make fuzz`
 * does the same for much longer. */
static void test_any_pattern_and_fields(void **state)
{
    (void)state;
    static const char *const pieces[] = {
        "%Y", "%D",  "%z",       "%n",   "{camera}", "{kind}", "/",         "..", ".",
        " ",  "con", "\xC3\xB6", "\xFF", "|",        "{n}",    "{station}", "x",  "lpt1"};
    uint32_t chance = 3;
    for (int i = 0; i < 20000; i++) {
        char pattern[256] = "", name[TWI_NAME_MAX], camera[80];
        for (int k = 0; k < 12; k++) {
            chance = chance * 1664525U + 1013904223U;
            (void)strcat(pattern,
                         pieces[(chance >> 10) % (sizeof pieces / sizeof *pieces)]);
        }
        for (size_t k = 0; k < sizeof camera - 1; k++) {
            chance = chance * 1664525U + 1013904223U;
            camera[k] = (char)(1 + (chance >> 12) % 255);
        }
        camera[(chance >> 20) % sizeof camera] = '\0';
        camera[sizeof camera - 1] = '\0';
        twi_name_fields f = usual();
        f.camera = f.station = camera;
        if (twi_name_expand(pattern, &f, name, sizeof name, NULL) != TW_OK)
            continue;
        assert_true(name[0] != '/');
        for (const char *at = name; *at;) {
            const size_t n = strcspn(at, "/");
            assert_in_range(n, 1, 231);
            assert_true(at[n - 1] != '.' && at[n - 1] != ' ');
            for (size_t k = 0; k < n; k++)
                assert_false((unsigned char)at[k] < 32 || strchr("<>:\"\\|?*", at[k]));
            at += n;
            at += *at == '/';
        }
    }
}

static void test_kinds_have_names(void **state)
{
    (void)state;
    for (int k = 0; k < TWI_KIND_COUNT; k++)
        assert_int_equal(twi_kind_find(twi_kind_name((twi_kind)k)), k);
    assert_int_equal(twi_kind_find("film"), TWI_KIND_COUNT);
    assert_int_equal(twi_kind_find(NULL), TWI_KIND_COUNT);
    assert_string_equal(twi_kind_name(TWI_KIND_COUNT), "?");
    assert_true(twi_kind_is_video(TWI_KIND_SEGMENT) &&
                !twi_kind_is_video(TWI_KIND_STILL));
    assert_true(twi_kind_of_sighting(TWI_KIND_CAPTIONED_CLIP) &&
                !twi_kind_of_sighting(TWI_KIND_TIMED_CLIP));
}

/* All kinds, and the offset of local time where it is told. */
static void test_kinds_and_offsets_are_read(void **state)
{
    (void)state;
    for (int k = 0; k < TWI_KIND_COUNT; k++) {
        char name[TWI_NAME_MAX];
        twi_name_parts parts;
        twi_name_fields f = usual();
        f.kind = twi_kind_name((twi_kind)k);
        f.n = 0;
        twi_civil_split(INT64_C(1804969815) * US, -16200, &f.time);
        static const char *const patterns[] = {"{camera}-%F-%H%M%S%z-{kind}{n}",
                                               "{kind}-%z-{camera}-%F_%T"};
        for (size_t i = 0; i < 2; i++) {
            assert_int_equal(twi_name_expand(patterns[i], &f, name, sizeof name, NULL),
                             TW_OK);
            assert_int_equal(twi_name_read(patterns[i], name, &parts), TW_OK);
            assert_string_equal(parts.kind, f.kind);
            assert_string_equal(parts.camera, "kerb");
            assert_true(parts.offset_given);
            assert_int_equal(parts.time.offset_s, -16200);
            assert_int_equal(twi_civil_join(&parts.time), INT64_C(1804969815) * US);
        }
    }
}

static void test_mistakes_are_pointed_at(void **state)
{
    (void)state;
    static const struct {
        const char *pattern;
        size_t at;
    } cases[] = {{"a%Q", 1}, {"ab{cam}", 2}, {"x{camera", 1}, {"%", 0}, {"abc%", 3}};
    const twi_name_fields f = usual();
    char name[TWI_NAME_MAX];
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        const char *problem = NULL;
        assert_int_equal(
            twi_name_expand(cases[i].pattern, &f, name, sizeof name, &problem),
            TW_ESYNTAX);
        assert_ptr_equal(problem, cases[i].pattern + cases[i].at);
    }
    assert_int_equal(twi_name_expand("", &f, name, sizeof name, NULL), TW_ESYNTAX);
    assert_int_equal(twi_name_expand("a/", &f, name, sizeof name, NULL), TW_ESYNTAX);
    assert_int_equal(twi_name_expand("..", &f, name, sizeof name, NULL), TW_OK);
    assert_string_equal(name, "...jpg");
}

static void test_capacity_is_kept(void **state)
{
    (void)state;
    const twi_name_fields f = usual();
    char name[16];
    memset(name, 'Z', sizeof name);
    assert_int_equal(twi_name_expand("12345678", &f, name, 12, NULL), TW_ESIZE);
    assert_int_equal(name[12], 'Z');
    assert_int_equal(twi_name_expand("12345678", &f, name, 13, NULL), TW_OK);
    assert_string_equal(name, "12345678.jpg");
    assert_int_equal(twi_name_expand(NULL, &f, name, 13, NULL), TW_EINVAL);
    assert_int_equal(twi_name_expand("a", &f, name, 0, NULL), TW_EINVAL);
}

/* What was put into a name comes out of it again, whatever the pattern. */
static void test_names_can_be_read(void **state)
{
    (void)state;
    static const char *const patterns[] = {
        "%Y-%m-%d/{camera}/{camera}-%Y%m%dT%H%M%S.{ms}-{sighting}-{kind}{n}",
        "%Y/%m/{camera}-%d-%H%M%S-{kind}{n}", "{camera}%Y%m%d%H%M%S{ms}{kind}",
        "{station}/%A/%F_%H.%M.%S {camera} {sighting} {kind}-{n}",
        "100%%/{kind}/%Y%j/%m%d%H%M%S/{camera}"};
    static const char *const cameras[] = {"kerb", "mere-2", "a", "wald_rand"};
    for (size_t i = 0; i < sizeof patterns / sizeof *patterns; i++) {
        for (size_t k = 0; k < sizeof cameras / sizeof *cameras; k++) {
            char name[TWI_NAME_MAX];
            twi_name_parts parts;
            twi_name_fields f = usual();
            f.camera = cameras[k];
            assert_int_equal(twi_name_expand(patterns[i], &f, name, sizeof name, NULL),
                             TW_OK);
            assert_int_equal(twi_name_read(patterns[i], name, &parts), TW_OK);
            assert_string_equal(parts.camera, cameras[k]);
            assert_string_equal(parts.kind, "still");
            assert_true(parts.sighting == 7 || !strstr(patterns[i], "{sighting}"));
            assert_true(parts.n == 2 || !strstr(patterns[i], "{n}"));
            const bool to_ms = strstr(patterns[i], "{ms}") != NULL;
            parts.time.offset_s = 3600;
            assert_int_equal(twi_civil_join(&parts.time),
                             twi_civil_join(&f.time) -
                                 f.time.microsecond % (to_ms ? 1000 : 1000000));
        }
    }
}

static void test_names_that_are_not_of_the_pattern(void **state)
{
    (void)state;
    static const char *const pattern = "%Y-%m-%d/{camera}-%H%M%S-{sighting}-{kind}{n}";
    static const char *const names[] = {
        "",
        "notes.txt",
        "2027-03-13/kerb-203015-001-still.jpg.old/x",
        "2027-13-13/kerb-203015-001-still.jpg", /* no such month */
        "2027-03-13/kerb-250015-001-still.jpg",
        "2027-03-13/kerb-203015-01-still.jpg",
        "2027-03-13/-203015-001-still.jpg",
        "x2027-03-13/kerb-203015-001-still.jpg"};
    twi_name_parts parts;
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        assert_int_equal(twi_name_read(pattern, names[i], &parts), TW_ENOENT);
    assert_int_equal(
        twi_name_read(pattern, "2027-03-13/kerb-203015-001-still3-2.jpg", &parts), TW_OK);
    assert_string_equal(parts.kind, "still"); /* the -2 was put there as it was taken */
    assert_int_equal(parts.n, 3);
    assert_int_equal(twi_name_read("%Y/{camera}", "2027/kerb.jpg", &parts), TW_ENOENT);
    assert_int_equal(twi_name_read(NULL, "a", &parts), TW_EINVAL);
}

/* A name that could be taken apart in very many ways ends all the same. */
static void test_hostile_names_end(void **state)
{
    (void)state;
    char name[TWI_NAME_MAX];
    twi_name_parts parts;
    memset(name, '1', sizeof name - 1);
    name[sizeof name - 1] = '\0';
    assert_int_equal(
        twi_name_read("{camera}{kind}{station}{sighting}{n}{ms}%Y%m%dx", name, &parts),
        TW_ENOENT);
    uint32_t chance = 9;
    for (int round = 0; round < 3000; round++) {
        for (size_t i = 0; i < 60; i++) {
            chance = chance * 1664525U + 1013904223U;
            name[i] = "0123-/.{}%YmdHMSkerb still\xC3\xA4"[(chance >> 16) % 29];
        }
        name[60] = '\0';
        (void)twi_name_read(name, name, &parts);
        (void)twi_name_read("%Y%m%d{camera}-%H%M%S{n}", name, &parts);
    }
}

static void test_media_types(void **state)
{
    (void)state;
    assert_string_equal(twi_media_type("2027-03-13/kerb.jpg"), "image/jpeg");
    assert_string_equal(twi_media_type("a.mp4"), "video/mp4");
    static const char *const others[] = {"", "jpg", "a.jpg.part", "a.JPG", "a.json"};
    for (size_t i = 0; i < sizeof others / sizeof *others; i++)
        assert_string_equal(twi_media_type(others[i]), "application/octet-stream");
    assert_string_equal(twi_media_type(NULL), "application/octet-stream");
}

int main(void)
{
    (void)setenv("TZ", "<+01>-1", 1);
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_media_types),
        cmocka_unit_test(test_calendar_agrees_with_the_c_library),
        cmocka_unit_test(test_moments_before_1970),
        cmocka_unit_test(test_conversions_agree_with_strftime),
        cmocka_unit_test(test_fields),
        cmocka_unit_test(test_a_number_of_zero_is_left_out),
        cmocka_unit_test(test_no_name_leaves_the_store),
        cmocka_unit_test(test_names_are_safe_on_fat),
        cmocka_unit_test(test_long_parts_are_cut_in_whole_characters),
        cmocka_unit_test(test_long_fields_make_no_name_impossible),
        cmocka_unit_test(test_any_pattern_and_fields),
        cmocka_unit_test(test_kinds_have_names),
        cmocka_unit_test(test_kinds_and_offsets_are_read),
        cmocka_unit_test(test_mistakes_are_pointed_at),
        cmocka_unit_test(test_capacity_is_kept),
        cmocka_unit_test(test_names_can_be_read),
        cmocka_unit_test(test_names_that_are_not_of_the_pattern),
        cmocka_unit_test(test_hostile_names_end),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
