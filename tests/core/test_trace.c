/* The trace: one second at a time, whatever comes in. */
#include "../support/support.h"

#define S INT64_C(1000000)
#define T0 (INT64_C(1804969800) * S)

static void check_second(const twi_trace_minute *m, size_t i, uint32_t max, uint32_t mean)
{
    uint32_t a = 0, b = 0;
    assert_true(twi_trace_read(m->bytes, i, &a, &b));
    assert_int_equal(a, max);
    assert_int_equal(b, mean);
}

static void test_seconds_have_maximum_and_mean(void **state)
{
    (void)state;
    twi_trace t = {0};
    twi_trace_minute m;
    for (int i = 0; i < 595; i++) { /* ten a second, from half a second on */
        const uint32_t ppm = i % 10 == 5 ? 1000000 : 100;
        assert_false(twi_trace_add(&t, T0 + S / 2 + i * S / 10, ppm, &m));
    }
    for (int i = 0; i < 5; i++)
        assert_int_equal(
            twi_trace_add(&t, T0 + 60 * S + i * S / 10, i == 0 ? 1000000 : 100, &m),
            i == 0);
    assert_false(twi_trace_add(&t, T0 + 61 * S, 7, &m));
    assert_int_equal(m.start_us, T0); /* whole seconds */
    assert_int_equal(m.seconds, 60);
    check_second(&m, 0, 100, 100); /* the first is half a one */
    for (size_t i = 1; i < 60; i++)
        check_second(&m, i, 1000000, 100090);
    assert_true(twi_trace_end(&t, &m));
    assert_int_equal(m.start_us, T0 + 60 * S);
    check_second(&m, 0, 1000000, 200080); /* the other half: 5 frames */
    check_second(&m, 1, 7, 7);
    assert_int_equal(m.seconds, 2);
    assert_false(twi_trace_end(&t, &m)); /* nothing is told twice */
}

static void test_gaps_are_told_from_quiet(void **state)
{
    (void)state;
    twi_trace t = {0};
    twi_trace_minute m;
    uint32_t a = 0, b = 0;
    assert_false(twi_trace_add(&t, T0, 0, &m));
    assert_false(twi_trace_add(&t, T0 + 3 * S, 5, &m));
    assert_true(twi_trace_end(&t, &m));
    check_second(&m, 0, 0, 0);
    assert_false(twi_trace_read(m.bytes, 1, &a, &b));
    check_second(&m, 3, 5, 5);
    assert_int_equal(m.seconds, 4);
    assert_false(twi_trace_read(m.bytes, 60, &a, &b));
    assert_false(twi_trace_read(NULL, 0, &a, &b));
}

static void test_a_jump_of_the_clock_begins_anew(void **state)
{
    (void)state;
    twi_trace t = {0};
    twi_trace_minute m;
    assert_false(twi_trace_add(&t, T0, 1, &m));
    assert_false(twi_trace_add(&t, T0 + S, 2, &m));
    assert_true(twi_trace_add(&t, T0 - 3600 * S, 3, &m)); /* back */
    assert_int_equal(m.start_us, T0);
    assert_int_equal(m.seconds, 2);
    assert_true(twi_trace_add(&t, T0 + 3600 * S, 4, &m)); /* and forward */
    assert_int_equal(m.start_us, T0 - 3600 * S);
    assert_int_equal(m.seconds, 1);
    check_second(&m, 0, 3, 3);
    assert_false(twi_trace_add(&t, -1, 4, &m));
    assert_false(twi_trace_add(NULL, 1, 4, &m));
}

/* Whatever times come: no minute is longer than one, and no reading is lost. */
static void test_any_times(void **state)
{
    (void)state;
    twi_trace t = {0};
    twi_trace_minute m;
    uint32_t chance = 5, most = 0;
    for (int i = 0; i < 20000; i++) {
        chance = chance * 1664525U + 1013904223U;
        const int64_t at = T0 + (int64_t)(chance >> 14) * S / 100;
        if (!twi_trace_add(&t, at, (uint32_t)i, &m))
            continue;
        assert_in_range(m.seconds, 1, TWI_TRACE_SECONDS);
        for (size_t s = 0; s < m.seconds; s++) {
            uint32_t a = 0, b = 0;
            if (twi_trace_read(m.bytes, s, &a, &b) && a > most)
                most = a;
            assert_true(b <= a);
        }
    }
    assert_in_range(most, 19900, 20000);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_seconds_have_maximum_and_mean),
        cmocka_unit_test(test_gaps_are_told_from_quiet),
        cmocka_unit_test(test_a_jump_of_the_clock_begins_anew),
        cmocka_unit_test(test_any_times),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
