/* Whether a place is louder than it usually is. */
#include "../support/support.h"
#include "../../src/core/loudness.h"

#define MOMENT INT64_C(100000)

/* Levels for so long, two in each moment. @return moments in which it was loud. */
static int hear(twi_loudness *l, int64_t *t_us, double seconds, int32_t level,
                int32_t stray)
{
    int loud = 0;
    const int64_t until_us = *t_us + (int64_t)(seconds * 1e6);
    for (int i = 0; *t_us < until_us; i++, *t_us += MOMENT / 2)
        loud += twi_loudness_hear(l, *t_us, level + (i * 7 % 11 - 5) * stray / 5, 100) &&
                i % 2;
    return loud;
}

static void test_a_call_in_a_quiet_place(void **state)
{
    (void)state;
    twi_loudness l = {0};
    int64_t t_us = 5000000;
    assert_int_equal(hear(&l, &t_us, 5, -200, 0),
                     0); /* who sets it up is loud, and learnt */
    assert_int_equal(hear(&l, &t_us, 300, -600, 20), 0);
    assert_in_range(l.usual, -600 * 100, -560 * 100);
    assert_int_equal(hear(&l, &t_us, 2, -400, 0) > 15, true);
    assert_int_equal(l.newest, -400);
    assert_in_range(hear(&l, &t_us, 2, -600, 20), 0,
                    2); /* its last moment is heard a while */
    assert_int_equal(hear(&l, &t_us, 10, -520, 0), 0); /* less than the margin */
}

/* One moment alone, a click, is nothing. */
static void test_a_click_is_nothing(void **state)
{
    (void)state;
    twi_loudness l = {0};
    int64_t t_us = 0;
    (void)hear(&l, &t_us, 60, -600, 10);
    for (int i = 0; i < 20; i++) {
        assert_int_equal(hear(&l, &t_us, 0.1, -100, 0), 0);
        assert_int_equal(hear(&l, &t_us, 3, -600, 10), 0);
    }
}

/* What stays loud becomes usual, a minute later at the latest; so does silence again. */
static void test_what_stays_becomes_usual(void **state)
{
    (void)state;
    twi_loudness l = {0};
    int64_t t_us = 0;
    (void)hear(&l, &t_us, 60, -700, 10);
    assert_true(hear(&l, &t_us, 5, -300, 10) > 5);
    (void)hear(&l, &t_us, 60, -300, 10);
    assert_int_equal(hear(&l, &t_us, 60, -300, 10), 0);
    (void)hear(&l, &t_us, 1800, -700, 10);
    assert_true(hear(&l, &t_us, 2, -500, 0) > 10);
}

static void test_times_that_jump(void **state)
{
    (void)state;
    twi_loudness l = {0};
    int64_t t_us = 0;
    (void)hear(&l, &t_us, 60, -600, 10);
    t_us -= 30000000;
    assert_int_equal(hear(&l, &t_us, 10, -600, 10), 0);
    t_us += INT64_C(3600000000);
    assert_int_equal(hear(&l, &t_us, 10, -600, 10), 0);
    assert_true(hear(&l, &t_us, 2, -200, 0) > 10);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_call_in_a_quiet_place),
        cmocka_unit_test(test_a_click_is_nothing),
        cmocka_unit_test(test_what_stays_becomes_usual),
        cmocka_unit_test(test_times_that_jump),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
