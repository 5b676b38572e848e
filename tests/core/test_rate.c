/* Frame rates that do not hold. */
#include "../support/support.h"

enum { S = 1000000 };

/* One that is looked at every second. */
typedef struct looking {
    twi_rate rate;
    twi_rate_counts counts;
    int64_t now_us;
    unsigned told[4]; /* by what */
} looking;

static void pass(looking *l, int seconds, unsigned frames, unsigned dropped,
                 int64_t busy_us)
{
    for (int i = 0; i < seconds; i++) {
        l->now_us += S;
        l->counts.frames += frames;
        l->counts.dropped += dropped;
        l->counts.busy_us += busy_us;
        l->told[twi_rate_sample(&l->rate, l->now_us, &l->counts, 10000)]++;
    }
}

static void test_a_rate_that_holds(void **state)
{
    (void)state;
    looking l = {.now_us = 77 * S};
    pass(&l, 600, 9, 0, 100000); /* a little less is fine */
    assert_int_equal(l.told[TWI_RATE_NOTHING], 600);
    assert_int_equal(l.rate.milli_fps, 9000);
    assert_int_equal(l.rate.busy_ppm, 100000);
}

static void test_told_once_each_way(void **state)
{
    (void)state;
    looking l = {.now_us = 1};
    pass(&l, 60, 10, 0, 1000);
    pass(&l, 10, 2, 0, 1000); /* a short lapse */
    pass(&l, 60, 10, 0, 1000);
    assert_int_equal(l.told[TWI_RATE_NOTHING], 130);
    pass(&l, 300, 5, 0, 1000);
    assert_int_equal(l.told[TWI_RATE_SLOW], 1);
    pass(&l, 300, 10, 0, 1000);
    assert_int_equal(l.told[TWI_RATE_HOLDS], 1);
    pass(&l, 300, 5, 0, 1000);
    assert_int_equal(l.told[TWI_RATE_SLOW], 2);
    assert_int_equal(l.told[TWI_RATE_BUSY], 0);
}

static void test_who_holds_it_up(void **state)
{
    (void)state;
    looking dropping = {.now_us = 1}, busy = {.now_us = 1}, unknown = {.now_us = 1};
    pass(&dropping, 60, 5, 5, 300000);
    assert_int_equal(dropping.told[TWI_RATE_BUSY], 1);
    pass(&busy, 60, 5, 0, 950000);
    assert_int_equal(busy.told[TWI_RATE_BUSY], 1);
    for (int i = 0; i < 100; i++) {
        unknown.now_us += S;
        unknown.counts.frames++;
        assert_int_equal(
            twi_rate_sample(&unknown.rate, unknown.now_us, &unknown.counts, 0),
            TWI_RATE_NOTHING);
    }
    assert_int_equal(unknown.rate.milli_fps, 1000);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_rate_that_holds),
        cmocka_unit_test(test_told_once_each_way),
        cmocka_unit_test(test_who_holds_it_up),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
