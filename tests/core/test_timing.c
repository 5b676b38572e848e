/* What is made of a wall clock that may be wrong. */
#include "../support/support.h"

#define S INT64_C(1000000)
#define WALL (INT64_C(1804969800) * S)
#define HOUR (3600 * S)

static void test_order_goes_on_whatever_the_clock_does(void **state)
{
    (void)state;
    twi_timing t;
    twi_timing_begin(&t, 10 * S, WALL, true, 0);
    const int64_t before = twi_timing_order(&t, WALL + 5 * S);
    assert_int_equal(before,
                     WALL + 5 * S); /* as long as nothing happens, it is the time */
    assert_int_equal(twi_timing_sample(&t, 20 * S, WALL + 10 * S, true), 0);
    assert_int_equal(twi_timing_sample(&t, 30 * S, WALL + 20 * S - HOUR, true),
                     TWI_CLOCK_JUMPED);
    assert_int_equal(t.jump_us, -HOUR);
    const int64_t after = twi_timing_order(&t, WALL + 21 * S - HOUR);
    assert_int_equal(after - before, 16 * S);
    assert_int_equal(twi_timing_sample(&t, 40 * S, WALL + 30 * S, true),
                     TWI_CLOCK_JUMPED);
    assert_int_equal(twi_timing_order(&t, WALL + 31 * S) - before, 26 * S);
}

static void test_it_goes_on_after_earlier_runs(void **state)
{
    (void)state;
    twi_timing t;
    twi_timing_begin(&t, 0, WALL - 24 * HOUR, true, WALL); /* the clock was ahead then */
    assert_true(twi_timing_order(&t, WALL - 24 * HOUR) > WALL);
    assert_true(twi_timing_order(&t, WALL - 23 * HOUR) >
                twi_timing_order(&t, WALL - 24 * HOUR));
}

static void test_a_clock_that_is_set_after_boot(void **state)
{
    (void)state;
    twi_timing t;
    bool trusted = false;
    twi_timing_begin(&t, 2 * S, 5 * S, false, WALL - HOUR);
    const int64_t order = twi_timing_order(&t, 6 * S);
    assert_true(order > WALL - HOUR); /* not lost among what is older */
    assert_int_equal(twi_timing_right(&t, 6 * S, &trusted), 6 * S); /* not known yet */
    assert_false(trusted);
    assert_int_equal(twi_timing_later(&t), 0);
    assert_int_equal(twi_timing_sample(&t, 12 * S, 15 * S, false), 0);
    assert_int_equal(twi_timing_sample(&t, 22 * S, WALL, true), TWI_CLOCK_SET);
    assert_int_equal(twi_timing_later(&t), WALL - 25 * S);
    assert_int_equal(twi_timing_right(&t, 6 * S, &trusted), WALL - 19 * S);
    assert_true(trusted);
    assert_int_equal(twi_timing_right(&t, WALL + S, &trusted), WALL + S);
    assert_int_equal(twi_timing_sample(&t, 23 * S, WALL + S, true), 0); /* told once */
    assert_true(twi_timing_order(&t, WALL + 2 * S) > order);
}

static void test_small_steps_are_no_jumps(void **state)
{
    (void)state;
    twi_timing t;
    twi_timing_begin(&t, 0, WALL, true, 0);
    for (int i = 1; i < 100; i++)
        assert_int_equal(twi_timing_sample(&t, i * S, WALL + i * S + i * 1000, true), 0);
    assert_int_equal(twi_timing_sample(NULL, 0, 0, true), 0);
    assert_int_equal(twi_timing_order(NULL, 7), 7);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_order_goes_on_whatever_the_clock_does),
        cmocka_unit_test(test_it_goes_on_after_earlier_runs),
        cmocka_unit_test(test_a_clock_that_is_set_after_boot),
        cmocka_unit_test(test_small_steps_are_no_jumps),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
