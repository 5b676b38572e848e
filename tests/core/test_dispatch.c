/* When what waits goes: each, digests, after so many, limits, hours. */
#include "../support/support.h"
#include "../../src/core/dispatch.h"

#define S INT64_C(1000000)
#define MIN (60 * S)
#define HOUR (60 * MIN)
#define NOW (INT64_C(1804969800) * S)

/* One sighting that is over and whole. */
static twi_dispatch_queue one(void)
{
    return (twi_dispatch_queue){.waiting = 2,
                                .sightings = 1,
                                .oldest_us = NOW - MIN,
                                .waited_us = 9 * S,
                                .quiet_us = 9 * S,
                                .over = true,
                                .within = true};
}

static twi_hold held(const twi_dispatch_rule *rule, const twi_dispatch_queue *q,
                     int64_t *wait_us)
{
    const twi_dispatch d = twi_dispatch_decide(rule, q, NOW);
    assert_false(d.go);
    assert_true(d.wait_us > 0);
    if (wait_us)
        *wait_us = d.wait_us;
    return d.hold;
}

static bool goes(const twi_dispatch_rule *rule, const twi_dispatch_queue *q, bool joined)
{
    const twi_dispatch d = twi_dispatch_decide(rule, q, NOW);
    return d.go && d.joined == joined;
}

static void test_a_message_waits_for_the_rest_of_its_sighting(void **state)
{
    (void)state;
    const twi_dispatch_rule mail = {.joins = true}, files = {.joins = false};
    twi_dispatch_queue q = one();
    int64_t wait_us = 0;
    assert_true(goes(&mail, &q, false));
    q.quiet_us = S / 2; /* the clip may be on its way */
    assert_int_equal(held(&mail, &q, &wait_us), TWI_HOLD_GATHER);
    assert_int_equal(wait_us, TWI_GATHER_US - S / 2);
    assert_true(goes(&files, &q, false));
    q.over = false; /* a first still leaves while it runs, though more keep coming... */
    assert_true(goes(&mail, &q, false));
    q.part_sent = true; /* ... and the others with the end */
    assert_int_equal(held(&mail, &q, NULL), TWI_HOLD_GATHER);
    assert_true(goes(&files, &q, false));
    q.waiting = 0;
    assert_int_equal(held(&files, &q, NULL), TWI_HOLD_NOTHING);
}

static void test_a_digest_goes_when_its_oldest_is_old_enough(void **state)
{
    (void)state;
    const twi_when when = {.kind = TWI_WHEN_DIGEST, .every_us = 10 * MIN};
    const twi_dispatch_rule mail = {.when = when, .joins = true}, files = {.when = when};
    twi_dispatch_queue q = one();
    int64_t wait_us = 0;
    q.oldest_us = NOW - 10 * MIN + 5 * S;
    assert_int_equal(held(&mail, &q, &wait_us), TWI_HOLD_DIGEST);
    assert_int_equal(wait_us, 5 * S);
    q.oldest_us -= 5 * S;
    assert_true(goes(&mail, &q, true));
    assert_true(goes(&files, &q, false));
    q.oldest_us = NOW; /* what is left of a digest of files goes on */
    q.released = true;
    assert_true(goes(&files, &q, false));
    q.released = false;
    q.oldest_us = NOW + HOUR; /* the clock was set back */
    assert_int_equal(held(&mail, &q, NULL), TWI_HOLD_DIGEST);
}

/* After an outage all that waits is old: two digests must not go within seconds. */
static void test_a_digest_waits_for_so_long_after_the_last(void **state)
{
    (void)state;
    const twi_dispatch_rule daily = {.joins = true,
                                     .when = {.kind = TWI_WHEN_DIGEST, .every_us = HOUR}};
    twi_dispatch_queue q = one();
    int64_t wait_us = 0;
    q.oldest_us = NOW - 5 * HOUR;
    assert_true(goes(&daily, &q, true));
    q.last_us = NOW - 2 * S;
    assert_int_equal(held(&daily, &q, NULL), TWI_HOLD_DIGEST);
    q.last_us = NOW - HOUR + 2 * S;
    assert_int_equal(held(&daily, &q, &wait_us), TWI_HOLD_DIGEST);
    assert_int_equal(wait_us, 2 * S);
    q.last_us = NOW - 2 * HOUR;
    assert_true(goes(&daily, &q, true));
    q.last_us = NOW + HOUR; /* by a clock that was wrong */
    assert_true(goes(&daily, &q, true));
}

static void test_after_so_many(void **state)
{
    (void)state;
    const twi_dispatch_rule mail = {.when = {.kind = TWI_WHEN_AFTER, .count = 3},
                                    .joins = true};
    twi_dispatch_queue q = one();
    q.sightings = 2;
    assert_int_equal(held(&mail, &q, NULL), TWI_HOLD_AFTER);
    q.sightings = 3;
    assert_true(goes(&mail, &q, true));
}

static void test_a_limit_delays_and_joins(void **state)
{
    (void)state;
    const twi_dispatch_rule mail = {.limit = {.most = 3, .in_us = HOUR}, .joins = true};
    twi_dispatch_queue q = one();
    int64_t wait_us = 0;
    q.sent = 2;
    q.sent_us = NOW - HOUR + 7 * S;
    assert_true(goes(&mail, &q, false));
    q.sightings = 2; /* one message is left for two sightings */
    assert_true(goes(&mail, &q, true));
    q.sent = 3;
    assert_int_equal(held(&mail, &q, &wait_us), TWI_HOLD_LIMIT);
    assert_int_equal(wait_us, 7 * S);
    const twi_dispatch_rule files = {.limit = {.most = 3, .in_us = HOUR}};
    q.sent = 2;
    assert_true(goes(&files, &q, false));
}

static void test_nothing_goes_outside_the_hours(void **state)
{
    (void)state;
    const twi_dispatch_rule files = {.joins = false};
    twi_dispatch_queue q = one();
    q.within = false;
    assert_int_equal(held(&files, &q, NULL), TWI_HOLD_HOURS);
}

/* A week of sightings, some close together: no more goes than the limit says, all of it
 * goes, and the last within an hour of coming. */
static void test_over_a_week_all_goes_and_no_more_than_allowed(void **state)
{
    (void)state;
    const twi_dispatch_rule mail = {.limit = {.most = 4, .in_us = HOUR}, .joins = true};
    int64_t sent_at[1000];
    size_t sent = 0, came = 0, gone = 0, waiting = 0;
    int64_t oldest = 0, longest = 0;
    uint32_t seed = 7;
    for (int64_t t = NOW; t < NOW + 7 * 24 * HOUR; t += 10 * S) {
        seed = seed * 1664525U + 1013904223U;
        const bool busy = (t / HOUR) % 6 == 0;
        if (seed >> 16 < (busy ? 8000U : 200U)) {
            oldest = waiting == 0 ? t : oldest;
            waiting++;
            came++;
        }
        twi_dispatch_queue q = one();
        q.waiting = q.sightings = (uint32_t)waiting;
        q.oldest_us = oldest;
        for (size_t i = 0; i < sent; i++)
            if (sent_at[i] > t - HOUR) {
                q.sent_us = q.sent == 0 ? sent_at[i] : q.sent_us;
                q.sent++;
            }
        const twi_dispatch d = twi_dispatch_decide(&mail, &q, t);
        assert_true(q.sent <= 4);
        if (!d.go)
            continue;
        longest = t - oldest > longest ? t - oldest : longest;
        assert_true(sent < 1000);
        sent_at[sent++] = t;
        gone += d.joined ? waiting : 1;
        waiting = d.joined ? 0 : waiting - 1;
        oldest = t;
    }
    assert_true(came > 500);
    assert_int_equal(gone + waiting, came);
    assert_true(longest <= HOUR);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_message_waits_for_the_rest_of_its_sighting),
        cmocka_unit_test(test_a_digest_goes_when_its_oldest_is_old_enough),
        cmocka_unit_test(test_a_digest_waits_for_so_long_after_the_last),
        cmocka_unit_test(test_after_so_many),
        cmocka_unit_test(test_a_limit_delays_and_joins),
        cmocka_unit_test(test_nothing_goes_outside_the_hours),
        cmocka_unit_test(test_over_a_week_all_goes_and_no_more_than_allowed),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
