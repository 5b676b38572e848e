/* Hours: by the clock, over midnight, by weekday, across changes of the clock, by the
 * sun. */
#include <string.h>

#include "../support/support.h"
#include "../../src/core/naming.h"

#define S INT64_C(1000000)

/* A moment by a clock on the wall. */
static int64_t at(int month, int day, int hour, int minute, int32_t offset_s)
{
    const twi_civil t = {.year = 2027,
                         .month = (uint8_t)month,
                         .day = (uint8_t)day,
                         .hour = (uint8_t)hour,
                         .minute = (uint8_t)minute,
                         .offset_s = offset_s};
    return twi_civil_join(&t);
}

static twi_hours parse(const char *text)
{
    twi_hours hours;
    const char *problem = text;
    if (twi_hours_parse(text, &hours, &problem) != TW_OK)
        fail_msg("%s: wrong at \"%s\"", text, problem);
    return hours;
}

static void check(const char *text, int day, int hour, int minute, bool within)
{
    const twi_hours hours = parse(text);
    if (twi_hours_within(&hours, at(3, day, hour, minute, 3600), 3600, NULL) != within)
        fail_msg("%s at %02d %02d:%02d", text, day, hour, minute);
}

static void test_by_the_clock(void **state)
{
    (void)state;
    check("always", 13, 4, 0, true);
    check("08:00-17:30", 13, 7, 59, false);
    check("08:00-17:30", 13, 8, 0, true);
    check("08:00-17:30", 13, 17, 29, true);
    check("08:00-17:30", 13, 17, 30, false);
    check("18:00-24:00", 13, 23, 59, true);
    check("18:00-24:00", 14, 0, 0, false);
    check("00:00-24:00", 14, 0, 0, true);
    check("7:00-8:00, 20:15-21:00", 13, 7, 30, true);
    check("7:00-8:00, 20:15-21:00", 13, 20, 15, true);
    check("7:00-8:00, 20:15-21:00", 13, 12, 0, false);
}

static void test_over_midnight(void **state)
{
    (void)state;
    check("22:00-06:30", 13, 21, 59, false);
    check("22:00-06:30", 13, 22, 0, true);
    check("22:00-06:30", 14, 6, 29, true);
    check("22:00-06:30", 14, 6, 30, false);
    check("05:00-05:00", 14, 4, 0, true); /* round the clock */
}

/* 2027-03-13 is a Saturday. A range belongs to the day on which it begins. */
static void test_by_weekday(void **state)
{
    (void)state;
    check("mon-fri 08:00-17:00", 13, 12, 0, false);
    check("mon-fri 08:00-17:00", 15, 12, 0, true);
    check("sat,sun 08:00-17:00", 13, 12, 0, true);
    check("sat,sun 08:00-17:00", 15, 12, 0, false);
    check("fri-mon 08:00-17:00", 14, 12, 0, true); /* over the week's end */
    check("fri-mon 08:00-17:00", 16, 12, 0, false);
    check("fri 22:00-06:00", 13, 5, 0, true); /* still Friday's */
    check("sat 22:00-06:00", 13, 5, 0, false);
    check("sat 22:00-06:00, mon 10:00-11:00", 15, 10, 30, true);
}

/* On 2027-03-28 clocks in Berlin go from 02:00 to 03:00, on 2027-10-31 from 03:00 back.
 */
static void test_across_changes_of_the_clock(void **state)
{
    (void)state;
    const twi_hours night = parse("22:00-06:00"), early = parse("02:30-03:30");
    assert_true(twi_hours_within(&night, at(3, 28, 1, 59, 3600), 3600, NULL));
    assert_true(twi_hours_within(&night, at(3, 28, 3, 0, 7200), 7200, NULL));
    assert_true(twi_hours_within(&night, at(3, 28, 5, 59, 7200), 7200, NULL));
    assert_false(twi_hours_within(&night, at(3, 28, 6, 0, 7200), 7200, NULL));
    assert_false(twi_hours_within(&early, at(3, 28, 1, 59, 3600), 3600, NULL));
    assert_true(twi_hours_within(&early, at(3, 28, 3, 0, 7200), 7200, NULL));
    assert_true(twi_hours_within(&early, at(10, 31, 2, 30, 7200), 7200, NULL));
    assert_true(
        twi_hours_within(&early, at(10, 31, 2, 45, 3600), 3600, NULL)); /* again */
    assert_false(twi_hours_within(&early, at(10, 31, 2, 15, 3600), 3600, NULL));
}

static twi_hours_place place(double latitude, double longitude)
{
    return (twi_hours_place){(int64_t)(latitude * 1e6), (int64_t)(longitude * 1e6), true};
}

/* Against an almanac, within three minutes. */
static void check_sun(twi_hours_place p, int64_t noon, int32_t height, bool rising,
                      int64_t expected)
{
    int64_t found = 0;
    assert_int_equal(twi_sun_passes(&p, noon, height, rising, &found), TW_OK);
    const int64_t off = (found - expected) / S;
    if (off < -180 || off > 180)
        fail_msg("the sun is %lld s off", (long long)off);
}

static void test_the_sun_against_an_almanac(void **state)
{
    (void)state;
    const twi_hours_place london = place(51.5074, -0.1278), equator = place(0, 0),
                          sydney = place(-33.8688, 151.2093);
    check_sun(london, at(6, 21, 12, 0, 0), -833, true, at(6, 21, 3, 43, 0));
    check_sun(london, at(6, 21, 12, 0, 0), -833, false, at(6, 21, 20, 21, 0));
    check_sun(london, at(12, 21, 12, 0, 0), -833, true, at(12, 21, 8, 4, 0));
    check_sun(london, at(12, 21, 12, 0, 0), -833, false, at(12, 21, 15, 53, 0));
    check_sun(equator, at(3, 20, 12, 0, 0), -833, true, at(3, 20, 6, 4, 0));
    check_sun(equator, at(3, 20, 12, 0, 0), -833, false, at(3, 20, 18, 11, 0));
    check_sun(sydney, at(1, 1, 2, 0, 0), -833, true, at(1, 1, 5, 48, 39600));
    check_sun(sydney, at(1, 1, 2, 0, 0), -833, false, at(1, 1, 20, 9, 39600));
}

static void test_where_it_does_not_set(void **state)
{
    (void)state;
    const twi_hours_place north = place(69.65, 18.96);
    int64_t out = 0;
    assert_int_equal(twi_sun_passes(&north, at(6, 21, 11, 0, 0), -833, true, &out),
                     TW_ENOENT);
    assert_int_equal(twi_sun_passes(&north, at(12, 21, 11, 0, 0), -833, true, &out),
                     TW_EEND);
    const twi_hours night = parse("sunset-sunrise"), day = parse("sunrise-sunset");
    const int64_t june = at(6, 21, 23, 0, 7200), december = at(12, 21, 10, 0, 3600);
    assert_false(twi_hours_within(&night, june, 7200, &north));
    assert_true(twi_hours_within(&day, june, 7200, &north));
    assert_true(twi_hours_within(&night, december, 3600, &north));
    assert_false(twi_hours_within(&day, december, 3600, &north));
}

static void test_from_dusk_to_dawn(void **state)
{
    (void)state;
    const twi_hours_place p = place(51.5, -1.25);
    const twi_hours night = parse("dusk-dawn"), later = parse("dusk+1h-dawn-30min"),
                    evening = parse("sat dusk-23:00");
    /* Civil dusk there on 2027-03-13 is at about 18:36, dawn on the 14th at 05:48. */
    assert_false(twi_hours_within(&night, at(3, 13, 18, 25, 0), 0, &p));
    assert_true(twi_hours_within(&night, at(3, 13, 18, 45, 0), 0, &p));
    assert_true(twi_hours_within(&night, at(3, 14, 5, 35, 0), 0, &p));
    assert_false(twi_hours_within(&night, at(3, 14, 6, 0, 0), 0, &p));
    assert_false(twi_hours_within(&later, at(3, 13, 19, 25, 0), 0, &p));
    assert_true(twi_hours_within(&later, at(3, 13, 19, 45, 0), 0, &p));
    assert_false(twi_hours_within(&later, at(3, 14, 5, 30, 0), 0, &p));
    assert_true(twi_hours_within(&evening, at(3, 13, 22, 59, 0), 0, &p));
    assert_false(twi_hours_within(&evening, at(3, 13, 23, 0, 0), 0, &p));
    assert_false(twi_hours_within(&evening, at(3, 14, 22, 0, 0), 0, &p));
    assert_false(twi_hours_within(&night, at(3, 14, 0, 0, 0), 0, NULL)); /* where? */
    assert_true(twi_hours_need_place(&night));
    assert_true(twi_hours_need_place(&evening));
    const twi_hours clock = parse("1:00-2:00");
    assert_false(twi_hours_need_place(&clock));
}

static void test_mistakes_are_pointed_at(void **state)
{
    (void)state;
    static const char *const wrong[] = {"",
                                        "8-17",
                                        "08:00",
                                        "25:00-1:00",
                                        "08:60-09:00",
                                        "xyz 08:00-09:00",
                                        "mon- 08:00-09:00",
                                        "08:00-09:00,",
                                        "dusk+30-dawn",
                                        "08:00-09:00 mon",
                                        "always 1:00-2:00"};
    twi_hours hours;
    for (size_t i = 0; i < sizeof wrong / sizeof *wrong; i++) {
        const char *problem = NULL;
        if (twi_hours_parse(wrong[i], &hours, &problem) != TW_ESYNTAX)
            fail_msg("\"%s\" is taken", wrong[i]);
        assert_non_null(problem);
    }
    char many[400] = "1:00-2:00";
    for (int i = 0; i < TWI_HOURS_MAX; i++)
        (void)strcat(many, ", 1:00-2:00");
    assert_int_equal(twi_hours_parse(many, &hours, NULL), TW_ESIZE);
    assert_int_equal(twi_hours_parse(NULL, &hours, NULL), TW_EINVAL);
    assert_true(twi_hours_within(NULL, 0, 0, NULL));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_by_the_clock),
        cmocka_unit_test(test_over_midnight),
        cmocka_unit_test(test_by_weekday),
        cmocka_unit_test(test_across_changes_of_the_clock),
        cmocka_unit_test(test_the_sun_against_an_almanac),
        cmocka_unit_test(test_where_it_does_not_set),
        cmocka_unit_test(test_from_dusk_to_dawn),
        cmocka_unit_test(test_mistakes_are_pointed_at),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
