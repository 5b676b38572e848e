/* How long is waited before trying again. */
#include "../support/support.h"

#define S INT64_C(1000000)

static void test_it_doubles_up_to_the_most(void **state)
{
    (void)state;
    twi_backoff b = {S, 60 * S, 7, 0};
    int64_t usual = S;
    for (int i = 0; i < 20; i++) {
        const int64_t wait = twi_backoff_next(&b);
        assert_in_range(wait, usual - usual / 4, usual + usual / 4);
        usual = usual * 2 > 60 * S ? 60 * S : usual * 2;
    }
    twi_backoff_reset(&b);
    assert_in_range(twi_backoff_next(&b), S * 3 / 4, S * 5 / 4);
}

static void test_many_do_not_come_back_together(void **state)
{
    (void)state;
    int64_t least = INT64_MAX, most = 0;
    for (uint32_t seed = 0; seed < 200; seed++) {
        twi_backoff b = {8 * S, 8 * S, seed * 2654435761U, 0};
        const int64_t wait = twi_backoff_next(&b);
        least = wait < least ? wait : least;
        most = wait > most ? wait : most;
    }
    assert_true(most - least > 3 * S);
    assert_true(least >= 6 * S && most <= 10 * S);
}

static void test_any_number_of_tries(void **state)
{
    (void)state;
    twi_backoff b = {S, INT64_MAX / 4, 1, 0};
    for (int i = 0; i < 2000; i++)
        assert_true(twi_backoff_next(&b) > 0);
    assert_int_equal(twi_backoff_next(NULL), 0);
    twi_backoff_reset(NULL);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_it_doubles_up_to_the_most),
        cmocka_unit_test(test_many_do_not_come_back_together),
        cmocka_unit_test(test_any_number_of_tries),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
