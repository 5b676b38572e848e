/* Intervals of the clock. */
#include "../support/support.h"

#define MIN INT64_C(60000000)

static void test_one_for_each_full_interval(void **state)
{
    (void)state;
    twi_interval interval = {false, 0};
    int due = 0;
    /* Three frames a minute, from half past: the first full five minutes come at 5. */
    for (int64_t t = MIN / 2; t < 21 * MIN; t += MIN / 3)
        due += twi_interval_due(&interval, t, 5 * MIN);
    assert_int_equal(due, 4);
    assert_false(twi_interval_due(&interval, 21 * MIN, 5 * MIN));
    assert_true(twi_interval_due(&interval, 25 * MIN, 5 * MIN));
}

static void test_a_gap_gives_one(void **state)
{
    (void)state;
    twi_interval interval = {false, 0};
    assert_false(twi_interval_due(&interval, MIN, 5 * MIN));
    assert_true(twi_interval_due(&interval, 500 * MIN, 5 * MIN));
    assert_false(twi_interval_due(&interval, 501 * MIN, 5 * MIN));
}

static void test_a_clock_that_is_set_back(void **state)
{
    (void)state;
    twi_interval interval = {false, 0};
    (void)twi_interval_due(&interval, 99 * MIN, 5 * MIN);
    assert_true(twi_interval_due(&interval, 100 * MIN, 5 * MIN));
    assert_false(
        twi_interval_due(&interval, 99 * MIN, 5 * MIN)); /* a little: none twice */
    assert_false(twi_interval_due(&interval, 101 * MIN, 5 * MIN));
    assert_false(twi_interval_due(&interval, 41 * MIN, 5 * MIN)); /* an hour: anew */
    assert_true(twi_interval_due(&interval, 45 * MIN, 5 * MIN));
}

static void test_off_is_never(void **state)
{
    (void)state;
    twi_interval interval = {false, 0};
    for (int64_t t = 0; t < 100 * MIN; t += MIN)
        assert_false(twi_interval_due(&interval, t, 0));
    assert_false(twi_interval_due(NULL, 0, MIN));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_one_for_each_full_interval),
        cmocka_unit_test(test_a_gap_gives_one),
        cmocka_unit_test(test_a_clock_that_is_set_back),
        cmocka_unit_test(test_off_is_never),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
