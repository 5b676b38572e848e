/* Scores, with times on the edge of each tolerance. */
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"

#define S INT64_C(1000000)

static twi_truth_event event(int64_t start_us, int64_t end_us)
{
    return (twi_truth_event){.when = {start_us, end_us}};
}

static twi_score_sighting sighting(int64_t start_us, int64_t end_us)
{
    return (twi_score_sighting){.when = {start_us, end_us}};
}

static void test_an_event_is_found_within_half_a_second(void **state)
{
    (void)state;
    twi_truth_event e[2] = {event(10 * S, 12 * S), event(20 * S, 22 * S)};
    twi_score_sighting s[2] = {sighting(12 * S + S / 2, 14 * S),
                               sighting(22 * S + S / 2 + 1, 24 * S)};
    twi_score score = {0};
    assert_int_equal(twi_score_add(&score, 3600 * S, e, 2, s, 2), TW_OK);
    assert_true(e[0].found);
    assert_int_equal(e[0].late_us, 2 * S + S / 2);
    assert_false(e[1].found);
    assert_int_equal(score.events, 2);
    assert_int_equal(score.found, 1);
    assert_int_equal(twi_score_recall_ppm(&score), 500000);
    assert_int_equal(score.is_false, 0); /* both are within a second of an event */
}

static void test_a_sighting_is_false_beyond_a_second(void **state)
{
    (void)state;
    twi_truth_event e = event(10 * S, 12 * S);
    twi_score_sighting s[3] = {sighting(5 * S, 9 * S), sighting(13 * S, 14 * S),
                               sighting(13 * S + 1, 14 * S)};
    twi_score score = {0};
    assert_int_equal(twi_score_add(&score, 1800 * S, &e, 1, s, 3), TW_OK);
    assert_false(s[0].is_false);
    assert_false(s[1].is_false);
    assert_true(s[2].is_false);
    assert_int_equal(score.sightings, 3);
    assert_int_equal(score.is_false, 1);
    assert_int_equal(twi_score_false_per_1000h(&score), 2000); /* one in half an hour */
    assert_int_equal(twi_score_precision_ppm(&score), 666666);
    assert_int_equal(twi_score_f1_ppm(&score), 0); /* found none */
}

static void test_the_earliest_sighting_counts_for_latency_and_never_negative(void **state)
{
    (void)state;
    twi_truth_event e = event(10 * S, 20 * S);
    twi_score_sighting late[2] = {sighting(15 * S, 18 * S), sighting(12 * S, 14 * S)};
    twi_score_sighting early = sighting(8 * S, 18 * S);
    twi_score score = {0};
    (void)twi_score_add(&score, 60 * S, &e, 1, late, 2);
    assert_int_equal(e.late_us, 2 * S);
    assert_int_equal(score.covered_us, 5 * S);
    (void)twi_score_add(&score, 60 * S, &e, 1, &early, 1);
    assert_int_equal(e.late_us, 0);
    assert_int_equal(score.covered_us, 13 * S);
    assert_int_equal(twi_score_cover_ppm(&score), 650000);
}

static void test_ten_seconds_of_nothing_are_false_too(void **state)
{
    (void)state;
    twi_truth_event e[2] = {event(10 * S, 12 * S), event(30 * S, 31 * S)};
    twi_score_sighting just = sighting(9 * S, 24 * S - 1), over = sighting(9 * S, 24 * S);
    twi_score_sighting bridge = sighting(9 * S, 33 * S); /* 14 to 28 s in between */
    twi_score score = {0};
    (void)twi_score_add(&score, 60 * S, e, 2, &just, 1);
    assert_int_equal(just.overrun_us, 10 * S - 1);
    assert_int_equal(score.is_false, 0);
    (void)twi_score_add(&score, 60 * S, e, 2, &over, 1);
    assert_int_equal(over.overrun_us, 10 * S);
    assert_false(over.is_false);
    assert_int_equal(score.is_false, 1);
    (void)twi_score_add(&score, 60 * S, e, 2, &bridge, 1);
    assert_int_equal(bridge.overrun_us, 14 * S);
    assert_int_equal(score.is_false, 2);
}

static void test_what_is_unclear_counts_for_nothing(void **state)
{
    (void)state;
    twi_truth_event e = event(10 * S, 40 * S);
    twi_score_sighting s = sighting(11 * S, 39 * S);
    twi_score score = {0};
    e.unclear = true;
    (void)twi_score_add(&score, 60 * S, &e, 1, &s, 1);
    assert_int_equal(score.events, 0);
    assert_int_equal(score.sightings, 0);
    assert_int_equal(score.is_false, 0);
    assert_int_equal(twi_score_f1_ppm(&score), 1000000); /* nothing to be wrong about */
}

static void test_refuses_what_is_no_span(void **state)
{
    (void)state;
    twi_truth_event e = event(2, 1);
    twi_score_sighting s = sighting(2, 1);
    twi_score score = {0};
    assert_int_equal(twi_score_add(NULL, 1, NULL, 0, NULL, 0), TW_EINVAL);
    assert_int_equal(twi_score_add(&score, 1, NULL, 1, NULL, 0), TW_EINVAL);
    assert_int_equal(twi_score_add(&score, 1, &e, 1, NULL, 0), TW_EINVAL);
    assert_int_equal(twi_score_add(&score, 1, NULL, 0, &s, 1), TW_EINVAL);
    assert_int_equal(score.length_us, 0);
    assert_int_equal(twi_score_false_per_1000h(&score), 0);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_an_event_is_found_within_half_a_second),
        cmocka_unit_test(test_a_sighting_is_false_beyond_a_second),
        cmocka_unit_test(
            test_the_earliest_sighting_counts_for_latency_and_never_negative),
        cmocka_unit_test(test_ten_seconds_of_nothing_are_false_too),
        cmocka_unit_test(test_what_is_unclear_counts_for_nothing),
        cmocka_unit_test(test_refuses_what_is_no_span),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
