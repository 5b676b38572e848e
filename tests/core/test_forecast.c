/* When a card will be full. */
#include "../support/support.h"
#include "../../src/core/forecast.h"

#define HOUR INT64_C(3600000000)
#define GB UINT64_C(1000000000)

static void assert_near(int64_t us, int64_t hours)
{
    assert_in_range((uint64_t)us, (uint64_t)(hours * HOUR - HOUR / 50),
                    (uint64_t)(hours * HOUR + HOUR / 50));
}

static void test_it_follows_the_last_day(void **state)
{
    (void)state;
    twi_forecast f = {0};
    /* a gigabyte an hour, of a hundred, ten of which stay free */
    assert_int_equal(twi_forecast_full(&f, 0, 100 * GB, 10 * GB), INT64_MAX);
    assert_int_equal(twi_forecast_full(&f, HOUR / 2, 99 * GB, 10 * GB), INT64_MAX);
    for (int64_t h = 1; h < 30; h++)
        assert_near(twi_forecast_full(&f, h * HOUR, (100 - (uint64_t)h) * GB, 10 * GB),
                    90 - h);
    /* it stands still: what was a day ago counts less and less, then not at all */
    int64_t last = 0;
    for (int64_t h = 30; h < 60; h++)
        last = twi_forecast_full(&f, h * HOUR, 71 * GB, 10 * GB);
    assert_int_equal(last, INT64_MAX);
    /* somebody makes room */
    assert_int_equal(twi_forecast_full(&f, 61 * HOUR, 95 * GB, 10 * GB), INT64_MAX);
}

static void test_a_full_card_goes_round(void **state)
{
    (void)state;
    twi_forecast f = {0};
    (void)twi_forecast_full(&f, 0, 12 * GB, 10 * GB);
    assert_int_equal(twi_forecast_full(&f, 2 * HOUR, 10 * GB, 10 * GB), INT64_MAX);
    assert_int_equal(twi_forecast_full(&f, 3 * HOUR, 9 * GB, 10 * GB), INT64_MAX);
}

static void test_it_is_news_once(void **state)
{
    (void)state;
    twi_forecast f = {0};
    assert_false(twi_forecast_news(&f, 25 * HOUR));
    assert_true(twi_forecast_news(&f, 23 * HOUR));
    assert_false(twi_forecast_news(&f, 20 * HOUR));
    assert_false(twi_forecast_news(&f, 30 * HOUR)); /* about a day: not told each time */
    assert_false(twi_forecast_news(&f, 22 * HOUR));
    assert_false(twi_forecast_news(&f, INT64_MAX));
    assert_true(twi_forecast_news(&f, HOUR));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_it_follows_the_last_day),
        cmocka_unit_test(test_a_full_card_goes_round),
        cmocka_unit_test(test_it_is_news_once),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
