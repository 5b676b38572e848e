/* Limits of what sensors say, and numbers in what they say. */
#include "../support/support.h"
#include "../../src/core/limits.h"

static void test_three_in_a_row_decide(void **state)
{
    (void)state;
    twi_limits l = {.above = 100, .below = 10};
    static const struct {
        int64_t value;
        twi_limits_news news;
    } steps[] = {
        {50, TWI_LIMITS_SAME},   {101, TWI_LIMITS_SAME}, {101, TWI_LIMITS_SAME},
        {100, TWI_LIMITS_SAME}, /* the limit itself is within: it begins anew */
        {101, TWI_LIMITS_SAME},  {200, TWI_LIMITS_SAME}, {101, TWI_LIMITS_BEYOND},
        {500, TWI_LIMITS_SAME},  {50, TWI_LIMITS_SAME},  {50, TWI_LIMITS_SAME},
        {101, TWI_LIMITS_SAME},  {50, TWI_LIMITS_SAME},  {10, TWI_LIMITS_SAME},
        {50, TWI_LIMITS_WITHIN}, {9, TWI_LIMITS_SAME},   {101, TWI_LIMITS_SAME},
        {-9, TWI_LIMITS_BEYOND}};
    for (size_t i = 0; i < sizeof steps / sizeof *steps; i++)
        assert_int_equal(twi_limits_judge(&l, steps[i].value), steps[i].news);
    twi_limits none = {.above = INT64_MAX, .below = INT64_MIN};
    for (int i = 0; i < 10; i++)
        assert_int_equal(twi_limits_judge(&none, i % 2 ? INT64_MAX : INT64_MIN),
                         TWI_LIMITS_SAME);
}

static void test_numbers_are_found(void **state)
{
    (void)state;
    static const struct {
        const char *text;
        bool found;
        int64_t micro;
    } cases[] = {{"48312\n", true, 48312000000},
                 {"temp=48.3'C", true, 48300000},
                 {"-2.5 V", true, -2500000},
                 {"12.0000014", true, 12000001},
                 {"a-b 7", true, 7000000},
                 {"3.", true, 3000000},
                 {".5", true, 5000000}, /* a number begins with a digit */
                 {"1000000000000", true, 1000000000000000000},
                 {"1000000000001", false, 0},
                 {"99999999999999999999999999", false, 0},
                 {"", false, 0},
                 {"none", false, 0},
                 {"-", false, 0}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        int64_t micro = 0;
        assert_int_equal(twi_number_find(cases[i].text, &micro), cases[i].found);
        assert_int_equal(micro, cases[i].micro);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_three_in_a_row_decide),
        cmocka_unit_test(test_numbers_are_found),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
