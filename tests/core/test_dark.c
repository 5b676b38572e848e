/* Day and night: told by signs that go to and fro, without going to and fro with them. */
#include "../../src/core/dark.h"
#include "../support/support.h"

#define S INT64_C(1000000)

static void test_the_first_sign_is_believed(void **state)
{
    (void)state;
    twi_dark d = {0};
    assert_false(twi_dark_take(&d, TWI_SIGN_NONE, 0, 30 * S));
    assert_false(d.known);
    assert_true(twi_dark_take(&d, TWI_SIGN_DARK, S, 30 * S));
    assert_true(d.known && d.dark);
    d = (twi_dark){0};
    assert_true(twi_dark_take(&d, TWI_SIGN_LIGHT, S, 30 * S));
    assert_true(d.known && !d.dark);
}

static void test_it_goes_over_once_all_signs_say_so_for_long_enough(void **state)
{
    (void)state;
    twi_dark d = {.known = true, .dark = false};
    for (int64_t t = 10; t < 40; t++)
        assert_false(twi_dark_take(&d, TWI_SIGN_DARK, t * S, 30 * S));
    assert_true(twi_dark_take(&d, TWI_SIGN_DARK, 40 * S, 30 * S));
    assert_true(d.dark);
    for (int64_t t = 50; t < 80; t++)
        assert_false(twi_dark_take(&d, TWI_SIGN_LIGHT, t * S, 30 * S));
    assert_true(twi_dark_take(&d, TWI_SIGN_LIGHT, 80 * S, 30 * S));
    assert_false(d.dark);
    assert_true(twi_dark_take(&d, TWI_SIGN_DARK, 81 * S, 0)); /* at once, if asked to */
}

static void test_a_break_begins_the_time_anew(void **state)
{
    (void)state;
    static const twi_dark_sign breaks[] = {TWI_SIGN_NONE, TWI_SIGN_LIGHT};
    for (int i = 0; i < 2; i++) {
        twi_dark d = {.known = true, .dark = false};
        for (int64_t t = 0; t < 300; t++)
            assert_false(twi_dark_take(&d, t % 29 == 28 ? breaks[i] : TWI_SIGN_DARK,
                                       t * S, 30 * S));
    }
}

static void test_light_about_the_limit_says_nothing(void **state)
{
    (void)state;
    const twi_dark d = {.known = true}, unknown = {0};
    assert_int_equal(twi_dark_by_light(&d, 149999, 150000), TWI_SIGN_DARK);
    assert_int_equal(twi_dark_by_light(&d, 150000, 150000), TWI_SIGN_NONE);
    assert_int_equal(twi_dark_by_light(&d, 224999, 150000), TWI_SIGN_NONE);
    assert_int_equal(twi_dark_by_light(&d, 225000, 150000), TWI_SIGN_LIGHT);
    assert_int_equal(twi_dark_by_light(&d, 999999, 1000000), TWI_SIGN_DARK); /* always */
    assert_int_equal(twi_dark_by_light(&d, 0, 0), TWI_SIGN_LIGHT);           /* never */
    assert_int_equal(twi_dark_by_light(&unknown, 150000, 150000), TWI_SIGN_LIGHT);
    assert_int_equal(twi_dark_by_light(&unknown, 149999, 150000), TWI_SIGN_DARK);
}

static void test_colour_about_the_limit_says_nothing(void **state)
{
    (void)state;
    const twi_dark d = {.known = true}, unknown = {0};
    assert_int_equal(twi_dark_by_colour(&d, 0), TWI_SIGN_DARK);
    assert_int_equal(twi_dark_by_colour(&d, 9999), TWI_SIGN_DARK);
    assert_int_equal(twi_dark_by_colour(&d, 10000), TWI_SIGN_NONE);
    assert_int_equal(twi_dark_by_colour(&d, 50000), TWI_SIGN_LIGHT);
    assert_int_equal(twi_dark_by_colour(&unknown, 10000), TWI_SIGN_LIGHT);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_the_first_sign_is_believed),
        cmocka_unit_test(test_it_goes_over_once_all_signs_say_so_for_long_enough),
        cmocka_unit_test(test_a_break_begins_the_time_anew),
        cmocka_unit_test(test_light_about_the_limit_says_nothing),
        cmocka_unit_test(test_colour_about_the_limit_says_nothing),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
