/* What other limits would have made of a trace. */
#include "../support/support.h"

enum { S = 1000000 };

static const tw_sighting_config usual = {.start_ppm = 5000,
                                         .stay_ppm = 2000,
                                         .confirm_k = 2,
                                         .confirm_n = 3,
                                         .armed = false,
                                         .settle_us = 60 * S,
                                         .pre_us = 5 * S,
                                         .post_us = 10 * S,
                                         .longest_us = 300 * INT64_C(1000000)};

/* Two subjects, 3 s and 1 s, a minute apart. */
static void run(const tw_sighting_config *config, bool seconds, twi_tryout *t)
{
    assert_int_equal(twi_tryout_begin(t, config, seconds), TW_OK);
    for (int s = 0; s < 120; s++) {
        const uint32_t level = s >= 20 && s < 23 ? 9000 : s == 80 ? 6000 : 100;
        const tw_reading r = {.t_us = s * (int64_t)S, .activity_ppm = level};
        (void)twi_tryout_step(t, &r);
    }
    twi_tryout_end(t);
}

static void test_a_second_over_the_limit_is_enough(void **state)
{
    (void)state;
    twi_tryout t;
    run(&usual, true, &t);
    assert_int_equal(t.sightings, 2);
    /* each with its pre- and post-event time */
    assert_int_equal(t.kept_us, (5 + 2 + 10 + 5 + 0 + 10) * (int64_t)S);
}

static void test_frames_must_be_confirmed(void **state)
{
    (void)state;
    twi_tryout t;
    run(&usual, false, &t);
    assert_int_equal(t.sightings, 1);
}

static void test_higher_limits_see_less(void **state)
{
    (void)state;
    tw_sighting_config c = usual;
    twi_tryout t;
    c.start_ppm = 7000;
    run(&c, true, &t);
    assert_int_equal(t.sightings, 1);
    c.start_ppm = 10000;
    run(&c, true, &t);
    assert_int_equal(t.sightings, 0);
    assert_int_equal(t.kept_us, 0);
}

static void test_parts_of_one_sighting_count_once(void **state)
{
    (void)state;
    tw_sighting_config c = usual;
    twi_tryout t;
    c.start_ppm = c.stay_ppm = 50; /* all of it */
    c.longest_us = 30 * S;
    run(&c, true, &t);
    assert_int_equal(t.sightings, 1);
    assert_true(t.kept_us >= 119 * (int64_t)S);
    assert_true(t.kept_us <= 121 * (int64_t)S);
}

static void test_bad_limits_are_refused(void **state)
{
    (void)state;
    tw_sighting_config c = usual;
    twi_tryout t;
    c.stay_ppm = 6000;
    assert_int_equal(twi_tryout_begin(&t, &c, true), TW_EINVAL);
    assert_int_equal(twi_tryout_begin(NULL, &usual, true), TW_EINVAL);
    assert_int_equal(twi_tryout_begin(&t, NULL, true), TW_EINVAL);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_second_over_the_limit_is_enough),
        cmocka_unit_test(test_frames_must_be_confirmed),
        cmocka_unit_test(test_higher_limits_see_less),
        cmocka_unit_test(test_parts_of_one_sighting_count_once),
        cmocka_unit_test(test_bad_limits_are_refused)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
