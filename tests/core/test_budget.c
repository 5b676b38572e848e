/* What goes where little may be sent. */
#include <string.h>

#include "../../src/core/budget.h"
#include "../support/support.h"

static void test_what_is_worth_least_for_its_bytes_waits_first(void **state)
{
    (void)state;
    const twi_budget budget = {1000, 1};
    static const struct {
        int64_t spent;
        twi_thrift thrift;
    } all[] = {{0, TWI_THRIFT_NONE},     {699, TWI_THRIFT_NONE},
               {700, TWI_THRIFT_CLIPS},  {849, TWI_THRIFT_CLIPS},
               {850, TWI_THRIFT_STILLS}, {949, TWI_THRIFT_STILLS},
               {950, TWI_THRIFT_SMALL},  {999, TWI_THRIFT_SMALL},
               {1000, TWI_THRIFT_ALL},   {99999, TWI_THRIFT_ALL}};
    for (size_t i = 0; i < sizeof all / sizeof *all; i++)
        assert_int_equal(twi_budget_thrift(&budget, all[i].spent), all[i].thrift);
}

static void test_without_a_budget_everything_goes(void **state)
{
    (void)state;
    const twi_budget none = {0, 1}, most = {INT64_MAX, 1}, least = {1, 1};
    assert_int_equal(twi_budget_thrift(&none, INT64_MAX), TWI_THRIFT_NONE);
    assert_int_equal(twi_budget_thrift(&most, INT64_MAX / 2), TWI_THRIFT_NONE);
    assert_int_equal(twi_budget_thrift(&most, INT64_MAX), TWI_THRIFT_ALL);
    assert_int_equal(twi_budget_thrift(&least, 1), TWI_THRIFT_ALL);
}

/* Each step leaves out what the one before did, and one more. */
static void test_words_grow(void **state)
{
    (void)state;
    static const char *const kinds[] = {" clip ",  " timed ", " segment ",
                                        " still ", " small ", " record "};
    for (int t = TWI_THRIFT_NONE; t < TWI_THRIFT_ALL; t++)
        for (size_t k = 0; k < sizeof kinds / sizeof *kinds; k++)
            if (strstr(twi_thrift_words((twi_thrift)t), kinds[k]))
                assert_non_null(strstr(twi_thrift_words((twi_thrift)(t + 1)), kinds[k]));
    assert_string_equal(twi_thrift_words(TWI_THRIFT_NONE), "");
    for (size_t k = 0; k < sizeof kinds / sizeof *kinds; k++)
        assert_non_null(strstr(twi_thrift_words(TWI_THRIFT_ALL), kinds[k]));
    assert_null(strstr(twi_thrift_words(TWI_THRIFT_ALL), "alarm"));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_what_is_worth_least_for_its_bytes_waits_first),
        cmocka_unit_test(test_without_a_budget_everything_goes),
        cmocka_unit_test(test_words_grow),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
