/* What sightings that were nothing have in common: sizes, places, hours. */
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"
#include "../../src/core/suggest.h"

#define PCT 10000

static twi_marked at(bool right, int left, int top, int right_pct, int bottom)
{
    return (twi_marked){.right = right,
                        .size_ppm = 1000,
                        .box = {left * PCT, top * PCT, right_pct * PCT, bottom * PCT}};
}

static twi_marked sized(bool right, uint32_t ppm)
{
    return (twi_marked){.right = right, .size_ppm = ppm};
}

static twi_marked timed(bool right, int hour, int minute)
{
    return (twi_marked){.right = right, .minute = (uint16_t)(hour * 60 + minute)};
}

static void test_sizes(void **state)
{
    (void)state;
    const twi_marked m[] = {sized(true, 4000),  sized(true, 9000),  sized(false, 1000),
                            sized(false, 500),  sized(false, 5000), sized(false, 40000),
                            sized(false, 90000)};
    assert_int_equal(twi_suggest_smallest(m, 7), 2000);  /* between 1000 and 4000 */
    assert_int_equal(twi_suggest_largest(m, 7), 18973);  /* between 9000 and 40000 */
    assert_int_equal(twi_suggest_smallest(m, 2), 0);     /* nothing was nothing */
    assert_int_equal(twi_suggest_smallest(m + 2, 5), 0); /* nothing was right */
    assert_int_equal(twi_suggest_largest(m + 2, 5), 0);
    const twi_marked same[] = {sized(true, 4000), sized(false, 4000)};
    assert_int_equal(twi_suggest_smallest(same, 2), 0);
    assert_int_equal(twi_suggest_largest(same, 2), 0);
    const twi_marked unknown[] = {sized(true, 0), sized(true, 4000), sized(false, 0)};
    assert_int_equal(twi_suggest_smallest(unknown, 3), 0);
    assert_int_equal(twi_suggest_smallest(NULL, 0), 0);
}

static void test_places(void **state)
{
    (void)state;
    twi_box out[TWI_SUGGEST_AREAS];
    const twi_marked m[] = {
        at(false, 10, 10, 20, 30), /* a branch: three times, in a chain */
        at(true, 12, 12, 18, 18),  /* what was right does not count */
        at(false, 60, 60, 70, 70), /* water, twice */
        at(false, 18, 20, 28, 35), at(false, 27, 30, 33, 40),
        at(false, 65, 62, 80, 75), at(false, 0, 0, 90, 90), /* a cloud, too large */
        at(false, 40, 5, 45, 9),                            /* once only */
    };
    assert_int_equal(twi_suggest_areas(m, 8, out), 2);
    assert_int_equal(out[0].left_ppm, 8 * PCT);
    assert_int_equal(out[0].top_ppm, 8 * PCT);
    assert_int_equal(out[0].right_ppm, 35 * PCT);
    assert_int_equal(out[0].bottom_ppm, 42 * PCT);
    assert_int_equal(out[1].left_ppm, 58 * PCT);
    assert_int_equal(out[1].bottom_ppm, 77 * PCT);
    assert_int_equal(twi_suggest_areas(m, 3, out), 0);
}

/* Overlapping ones do not grow over a quarter of the picture, and boxes stay within it.
 */
static void test_places_stay_small(void **state)
{
    (void)state;
    twi_box out[TWI_SUGGEST_AREAS];
    const twi_marked m[] = {at(false, 0, 0, 50, 30), at(false, 40, 20, 100, 50),
                            at(false, 0, 10, 10, 40)};
    assert_int_equal(twi_suggest_areas(m, 3, out), 1);
    assert_int_equal(out[0].left_ppm, 0);
    assert_int_equal(out[0].top_ppm, 0);
    assert_int_equal(out[0].right_ppm, 52 * PCT);
    assert_int_equal(out[0].bottom_ppm, 42 * PCT);
}

static void test_the_places_of_most_come_first(void **state)
{
    (void)state;
    enum { PLACES = 5 };
    static const int of[PLACES] = {2, 4, 3, 2, 5};
    twi_marked m[32];
    size_t n = 0;
    for (int p = 0; p < PLACES; p++)
        for (int i = 0; i < of[p]; i++)
            m[n++] = at(false, p * 20, 0, p * 20 + 10, 10);
    twi_box out[TWI_SUGGEST_AREAS];
    assert_int_equal(twi_suggest_areas(m, n, out), TWI_SUGGEST_AREAS);
    assert_int_equal(out[0].left_ppm, 78 * PCT);
    assert_int_equal(out[1].left_ppm, 18 * PCT);
    assert_int_equal(out[2].left_ppm, 38 * PCT);
}

static void test_hours(void **state)
{
    (void)state;
    uint16_t from = 0, until = 0;
    const twi_marked m[] = {
        timed(false, 5, 44), timed(false, 6, 10),  timed(false, 6, 58), timed(true, 7, 5),
        timed(true, 22, 0),  timed(false, 22, 11), timed(false, 12, 0)};
    assert_int_equal(twi_suggest_hours(m, 7, &from, &until), 4); /* over midnight */
    assert_int_equal(from, 22 * 60 + 10);
    assert_int_equal(until, 7 * 60);
    const twi_marked none[] = {timed(false, 5, 44), timed(false, 6, 10),
                               timed(true, 6, 5), timed(false, 6, 11)};
    assert_int_equal(twi_suggest_hours(none, 4, &from, &until), 0);
    assert_int_equal(twi_suggest_hours(m, 2, &from, &until), 0); /* too few */
}

static void test_the_shortest_hours_that_hold_as_many(void **state)
{
    (void)state;
    uint16_t from = 0, until = 0;
    const twi_marked m[] = {timed(false, 5, 44), timed(false, 6, 10), timed(false, 6, 9),
                            timed(true, 18, 0)};
    assert_int_equal(twi_suggest_hours(m, 4, &from, &until), 3);
    assert_int_equal(from, 5 * 60 + 40);
    assert_int_equal(until, 6 * 60 + 20);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_sizes),
        cmocka_unit_test(test_places),
        cmocka_unit_test(test_places_stay_small),
        cmocka_unit_test(test_the_places_of_most_come_first),
        cmocka_unit_test(test_hours),
        cmocka_unit_test(test_the_shortest_hours_that_hold_as_many),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
