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

/* A date from the card: by hours too early, and nothing but the server says so. */
static void test_a_clock_that_shows_a_date_and_is_wrong(void **state)
{
    (void)state;
    twi_timing t;
    bool right = true;
    twi_timing_begin(&t, 2 * S, WALL - HOUR, false, 0);
    assert_false(twi_timing_is_set(&t));
    assert_int_equal(twi_timing_sample(&t, 12 * S, WALL - HOUR + 10 * S, false), 0);
    assert_int_equal(twi_timing_right(&t, WALL - HOUR + 8 * S, &right),
                     WALL - HOUR + 8 * S);
    assert_false(right);
    assert_int_equal(twi_timing_sample(&t, 22 * S, WALL + 20 * S, true), TWI_CLOCK_SET);
    assert_true(twi_timing_is_set(&t));
    assert_int_equal(twi_timing_later(&t), HOUR);
    /* What is on its way, from before; and what comes now. */
    assert_int_equal(twi_timing_right(&t, WALL - HOUR + 18 * S, &right), WALL + 18 * S);
    assert_true(right);
    assert_int_equal(twi_timing_right(&t, WALL + 21 * S, &right), WALL + 21 * S);
    assert_true(right);
    /* A day later nothing is on its way, and a clock set back by hours is no reason. */
    (void)twi_timing_sample(&t, 25 * HOUR, WALL + 25 * HOUR, true);
    assert_int_equal(twi_timing_right(&t, WALL - 2 * HOUR, &right), WALL - 2 * HOUR);
}

static void test_a_clock_that_was_ahead(void **state)
{
    (void)state;
    twi_timing t;
    bool right = false;
    twi_timing_begin(&t, 0, WALL + HOUR, false, 0);
    assert_int_equal(twi_timing_sample(&t, 10 * S, WALL + 10 * S, true), TWI_CLOCK_SET);
    assert_int_equal(twi_timing_right(&t, WALL + HOUR + 8 * S, &right), WALL + 8 * S);
    assert_int_equal(twi_timing_right(&t, WALL + 11 * S, &right), WALL + 11 * S);
}

/* By hand, so that no server ever says so; to a year that cannot be, it is not set. */
static void test_a_clock_that_is_set_by_hand(void **state)
{
    (void)state;
    twi_timing t;
    twi_timing_begin(&t, 0, 5 * S, false, 0);
    assert_int_equal(twi_timing_sample(&t, 10 * S, 10000 * HOUR, false), 0);
    assert_false(twi_timing_is_set(&t));
    assert_int_equal(twi_timing_sample(&t, 20 * S, WALL, false), TWI_CLOCK_SET);
    assert_int_equal(twi_timing_sample(&t, 30 * S, WALL + 10 * S, false), 0);
    assert_true(twi_timing_is_set(&t));                              /* and stays so */
    assert_int_equal(twi_timing_sample(&t, 40 * S, 7 * S, true), 0); /* back in 1970 */
    assert_false(twi_timing_is_set(&t));
}

static void test_servers_that_are_lost(void **state)
{
    (void)state;
    twi_timing t;
    twi_timing_begin(&t, 0, WALL, true, 0);
    assert_int_equal(twi_timing_sample(&t, 10 * S, WALL + 10 * S, false), 0);
    assert_true(twi_timing_is_set(&t));
    assert_int_equal(twi_timing_sample(&t, 20 * S, WALL + HOUR, false), TWI_CLOCK_JUMPED);
    assert_true(twi_timing_is_set(&t));
}

static void test_when_to_look(void **state)
{
    (void)state;
    twi_timing t;
    twi_timing_begin(&t, 0, WALL, true, 0);
    assert_false(twi_timing_is_due(&t, S - 1, WALL + S - 1));
    assert_true(twi_timing_is_due(&t, S, WALL + S));
    assert_true(twi_timing_is_due(&t, 1, WALL + HOUR)); /* it jumped */
    assert_true(twi_timing_is_due(&t, 1, WALL - HOUR));
    (void)twi_timing_sample(&t, S, WALL + S, true);
    assert_false(twi_timing_is_due(&t, S + 1, WALL + S + 1));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_order_goes_on_whatever_the_clock_does),
        cmocka_unit_test(test_it_goes_on_after_earlier_runs),
        cmocka_unit_test(test_a_clock_that_is_set_after_boot),
        cmocka_unit_test(test_a_clock_that_shows_a_date_and_is_wrong),
        cmocka_unit_test(test_a_clock_that_was_ahead),
        cmocka_unit_test(test_a_clock_that_is_set_by_hand),
        cmocka_unit_test(test_servers_that_are_lost),
        cmocka_unit_test(test_when_to_look),
        cmocka_unit_test(test_small_steps_are_no_jumps),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
