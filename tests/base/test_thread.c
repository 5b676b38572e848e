/* Moments until which threads wait. */
#include <stdlib.h>
#include <time.h>

#include "../../src/base/thread.h"
#include "../support/support.h"

static int64_t ns_of(struct timespec t)
{
    return (int64_t)t.tv_sec * 1000000000 + t.tv_nsec;
}

static void test_a_deadline_is_so_long_from_now(void **state)
{
    (void)state;
    static const int64_t spans_us[] = {0, 1, 999999, 1000000, 2500000, 3600000000};
    for (size_t i = 0; i < sizeof spans_us / sizeof *spans_us; i++) {
        struct timespec before, after;
        (void)clock_gettime(CLOCK_MONOTONIC, &before);
        const struct timespec until = twi_deadline(spans_us[i]);
        (void)clock_gettime(CLOCK_MONOTONIC, &after);
        assert_true(ns_of(until) - ns_of(before) >= spans_us[i] * 1000);
        assert_true(ns_of(until) - ns_of(after) <= spans_us[i] * 1000);
        assert_in_range(until.tv_nsec, 0, 999999999);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_deadline_is_so_long_from_now),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
