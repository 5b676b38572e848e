/* Choosing settings, on made-up trials. */
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"

static twi_trial trial(uint16_t variant, uint32_t start, uint32_t found,
                       uint32_t is_false)
{
    return (twi_trial){
        variant, start, {.events = 10, .found = found, .is_false = is_false}};
}

static void test_cost_weighs_misses(void **state)
{
    (void)state;
    const twi_trial t = trial(0, 500, 8, 5);
    assert_int_equal(twi_tune_cost(&t, 3), 11);
    assert_int_equal(twi_tune_cost(&t, 1), 7);
}

static void test_what_is_set_stays_if_it_has_room_on_both_sides(void **state)
{
    (void)state;
    const twi_trial t[] = {trial(0, 200, 10, 0), trial(0, 500, 10, 0),
                           trial(0, 750, 10, 0), trial(0, 5000, 9, 0),
                           trial(1, 200, 10, 0), trial(1, 50000, 10, 0)};
    twi_choice c = twi_tune_choose(t, 6, 3, 500); /* 200 * 1.5 <= 500 <= 750 / 1.5 */
    assert_int_equal(c.chosen, 1);
    assert_int_equal(c.low_ppm, 200);
    assert_int_equal(c.high_ppm, 750);
    assert_false(c.better);
    c = twi_tune_choose(t, 6, 3, 750); /* at the edge: the middle is safer */
    assert_int_equal(c.chosen, 1);
    assert_false(c.better);
}

static void test_less_cost_wins_and_the_middle_is_taken(void **state)
{
    (void)state;
    const twi_trial t[] = {trial(0, 100, 10, 9),  trial(0, 1000, 10, 0),
                           trial(0, 3000, 10, 0), trial(0, 9000, 10, 0),
                           trial(0, 20000, 2, 0), trial(0, 30000, 10, 0)};
    const twi_choice c = twi_tune_choose(t, 6, 3, 100);
    assert_int_equal(c.chosen, 2); /* of the wider run of the two */
    assert_int_equal(c.low_ppm, 1000);
    assert_int_equal(c.high_ppm, 9000);
    assert_true(c.better);
}

static void test_another_variant_only_if_it_does_better(void **state)
{
    (void)state;
    twi_trial t[] = {trial(0, 500, 9, 0), trial(1, 500, 9, 0), trial(2, 500, 10, 0),
                     trial(3, 500, 10, 0)};
    assert_int_equal(twi_tune_choose(t, 4, 3, 500).chosen, 2);
    assert_int_equal(twi_tune_choose(t, 2, 3, 500).chosen, 0);
    t[2].score.is_false = 3; /* as bad as the miss it saves */
    t[3].score.is_false = 4;
    assert_int_equal(twi_tune_choose(t, 4, 3, 500).chosen, 0);
    assert_int_equal(twi_tune_choose(t, 4, 5, 500).chosen, 2);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_cost_weighs_misses),
        cmocka_unit_test(test_what_is_set_stays_if_it_has_room_on_both_sides),
        cmocka_unit_test(test_less_cost_wins_and_the_middle_is_taken),
        cmocka_unit_test(test_another_variant_only_if_it_does_better),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
