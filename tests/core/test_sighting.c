/* The sighting state machine, frame by frame at ten a second. */
#include <string.h>

#include "../support/support.h"
#include "../../src/settings/sections.h"
#include "tawny/settings.h"

enum { MS100 = 100000, S = 1000000 };

static tw_sighting_config usual(void)
{
    return (tw_sighting_config){.start_ppm = 100,
                                .stay_ppm = 50,
                                .confirm_k = 2,
                                .confirm_n = 3,
                                .armed = true,
                                .pre_us = 1 * S,
                                .post_us = 1 * S,
                                .longest_us = 60 * S};
}

static tw_sighting_watch watch_with(const tw_sighting_config *config)
{
    tw_sighting_watch watch;
    assert_int_equal(tw_sighting_init(&watch, config), TW_OK);
    return watch;
}

static unsigned step(tw_sighting_watch *watch, int frame, uint32_t ppm)
{
    const tw_reading reading = {.t_us = (int64_t)frame * MS100, .activity_ppm = ppm};
    return tw_sighting_step(watch, &reading);
}

/* Feed a run of frames with one activity; returns all answers together. */
static unsigned feed(tw_sighting_watch *watch, int from, int to, uint32_t ppm)
{
    unsigned all = 0;
    for (int i = from; i <= to; i++)
        all |= step(watch, i, ppm);
    return all;
}

static void test_quiet_begins_nothing(void **state)
{
    (void)state;
    const tw_sighting_config config = usual();
    tw_sighting_watch watch = watch_with(&config);
    assert_int_equal(watch.state, TW_IDLE);
    assert_int_equal(feed(&watch, 0, 500, 99), 0);
    assert_int_equal(watch.state, TW_ARMED);
}

static void test_one_frame_is_not_enough(void **state)
{
    (void)state;
    const tw_sighting_config config = usual();
    tw_sighting_watch watch = watch_with(&config);
    for (int i = 0; i < 300; i++) /* one of three, forever */
        assert_int_equal(step(&watch, i, i % 3 == 0 ? 5000 : 0), 0);
}

static void test_two_of_three_begin_at_the_first(void **state)
{
    (void)state;
    const tw_sighting_config config = usual();
    tw_sighting_watch watch = watch_with(&config);
    assert_int_equal(feed(&watch, 0, 49, 0), 0);
    assert_int_equal(step(&watch, 50, 100), 0); /* exactly at the limit counts */
    assert_int_equal(step(&watch, 51, 0), 0);
    assert_int_equal(step(&watch, 52, 300), TW_SIGHTING_BEGAN);
    assert_int_equal(watch.state, TW_SIGHTING);
    assert_int_equal(watch.now.number, 1);
    assert_int_equal(watch.now.start_us, 50 * MS100);
    assert_int_equal(watch.now.confirmed_us, 52 * MS100);
    assert_int_equal(watch.now.end_us, 52 * MS100);
    assert_int_equal(watch.now.clip_start_us, 40 * MS100);
    assert_int_equal(watch.now.frames, 3);
    assert_int_equal(watch.now.peak_ppm, 300);
    assert_int_equal(watch.now.peak_us, 52 * MS100);
}

static void test_hits_of_long_ago_are_forgotten(void **state)
{
    (void)state;
    const tw_sighting_config config = usual();
    tw_sighting_watch watch = watch_with(&config);
    (void)step(&watch, 0, 200);
    (void)feed(&watch, 1, 2, 0);
    assert_int_equal(step(&watch, 3, 200), 0); /* frame 0 is the fourth back */
}

static void test_hysteresis_and_post_event(void **state)
{
    (void)state;
    const tw_sighting_config config = usual();
    tw_sighting_watch watch = watch_with(&config);
    (void)feed(&watch, 0, 9, 0);
    assert_int_equal(feed(&watch, 10, 11, 100), TW_SIGHTING_BEGAN);
    assert_int_equal(feed(&watch, 12, 30, 50), 0); /* under start_at, at stay_at */
    assert_int_equal(feed(&watch, 31, 39, 49), 0);
    assert_int_equal(step(&watch, 40, 49), TW_SIGHTING_ENDED);
    assert_int_equal(watch.ended.start_us, 10 * MS100);
    assert_int_equal(watch.ended.end_us, 30 * MS100);
    assert_int_equal(watch.ended.clip_start_us, 0);
    assert_int_equal(watch.ended.clip_end_us, 40 * MS100);
    assert_int_equal(watch.ended.frames, 21);
    assert_int_equal(watch.ended.why, TW_END_QUIET);
    assert_int_equal(watch.state, TW_ARMED);
}

static void test_motion_in_post_event_goes_on(void **state)
{
    (void)state;
    const tw_sighting_config config = usual();
    tw_sighting_watch watch = watch_with(&config);
    (void)feed(&watch, 0, 1, 100);
    assert_int_equal(feed(&watch, 2, 10, 0), 0);
    assert_int_equal(step(&watch, 11, 60), 0); /* comes back just in time */
    assert_int_equal(feed(&watch, 12, 20, 0), 0);
    assert_int_equal(step(&watch, 21, 0), TW_SIGHTING_ENDED);
    assert_int_equal(watch.ended.end_us, 11 * MS100);
    assert_int_equal(watch.ended.frames, 12);
    assert_int_equal(watch.ended.number, 1);
}

static void test_settling_holds_back(void **state)
{
    (void)state;
    tw_sighting_config config = usual();
    config.settle_us = 2 * S;
    tw_sighting_watch watch = watch_with(&config);
    assert_int_equal(feed(&watch, 0, 19, 5000), 0);
    assert_int_equal(watch.state, TW_SETTLING);
    assert_int_equal(step(&watch, 20, 5000), 0); /* armed from here: frames 20 and 21 */
    assert_int_equal(watch.state, TW_ARMED);
    assert_int_equal(step(&watch, 21, 5000), TW_SIGHTING_BEGAN);
    assert_int_equal(watch.now.start_us, 20 * MS100);
}

static void test_limits_change_while_it_watches(void **state)
{
    (void)state;
    tw_sighting_config config = usual();
    tw_sighting_watch watch = watch_with(&config);
    assert_int_equal(feed(&watch, 0, 20, 60), 0); /* below start_at */
    config.start_ppm = 60;
    assert_int_equal(tw_sighting_adjust(&watch, &config), TW_OK);
    assert_int_equal(watch.state, TW_ARMED); /* nothing settles */
    assert_int_equal(feed(&watch, 21, 22, 60), TW_SIGHTING_BEGAN);
    config.stay_ppm = 60;
    config.post_us = 3 * S;
    config.armed = false; /* tw_sighting_arm's to say */
    assert_int_equal(tw_sighting_adjust(&watch, &config), TW_OK);
    assert_int_equal(feed(&watch, 23, 51, 59), 0);  /* it goes on for its new time ... */
    assert_int_equal(watch.now.end_us, 22 * MS100); /* ... by its new limit */
    assert_int_equal(step(&watch, 52, 59), TW_SIGHTING_ENDED);
    assert_int_equal(watch.state, TW_ARMED);
    config.stay_ppm = 61; /* more than start_at: nothing of it holds */
    config.start_ppm = 60;
    assert_int_equal(tw_sighting_adjust(&watch, &config), TW_EINVAL);
    assert_int_equal(feed(&watch, 60, 61, 60), TW_SIGHTING_BEGAN);
    assert_int_equal(tw_sighting_adjust(NULL, &config), TW_EINVAL);
    assert_int_equal(tw_sighting_adjust(&watch, NULL), TW_EINVAL);
}

/* Of frames that were seen, no more count than now are looked at. */
static void test_a_shorter_window_forgets_old_hits(void **state)
{
    (void)state;
    tw_sighting_config config = usual();
    config.confirm_k = config.confirm_n = 4;
    tw_sighting_watch watch = watch_with(&config);
    assert_int_equal(feed(&watch, 0, 9, 0), 0);
    assert_int_equal(feed(&watch, 10, 11, 500), 0);
    assert_int_equal(feed(&watch, 12, 13, 0), 0);
    config.confirm_k = config.confirm_n = 2;
    assert_int_equal(tw_sighting_adjust(&watch, &config), TW_OK);
    assert_int_equal(step(&watch, 14, 500), 0);
    assert_int_equal(step(&watch, 15, 500), TW_SIGHTING_BEGAN);
    assert_int_equal(watch.now.start_us, 14 * MS100);
}

static void test_learning_anew_holds_back_but_ends_nothing(void **state)
{
    (void)state;
    tw_sighting_config config = usual();
    config.settle_us = 2 * S;
    tw_sighting_watch watch = watch_with(&config);
    tw_sighting_learns_anew(&watch); /* before the first frame: nothing to do */
    tw_sighting_learns_anew(NULL);
    assert_int_equal(feed(&watch, 0, 40, 0), 0);
    assert_int_equal(feed(&watch, 41, 42, 500), TW_SIGHTING_BEGAN);
    tw_sighting_learns_anew(&watch);
    assert_int_equal(watch.state, TW_SIGHTING);
    assert_int_equal(feed(&watch, 43, 51, 0), 0);
    assert_int_equal(step(&watch, 52, 0), TW_SIGHTING_ENDED);
    assert_int_equal(watch.now.number, 1);
    assert_int_equal(watch.state, TW_SETTLING);
    assert_int_equal(feed(&watch, 53, 61, 500), 0); /* 2 s after frame 42 */
    assert_int_equal(feed(&watch, 62, 63, 500), TW_SIGHTING_BEGAN);
    assert_int_equal(feed(&watch, 64, 80, 0), TW_SIGHTING_ENDED);
    assert_int_equal(watch.state, TW_ARMED); /* it is known again */
    assert_int_equal(feed(&watch, 81, 82, 500), TW_SIGHTING_BEGAN);
    tw_sighting_learns_anew(&watch);
    assert_int_equal(feed(&watch, 83, 104, 500), 0); /* settled before its end */
    assert_int_equal(feed(&watch, 105, 114, 0), TW_SIGHTING_ENDED);
    assert_int_equal(watch.state, TW_ARMED);
    tw_sighting_learns_anew(&watch);
    assert_int_equal(watch.state, TW_SETTLING);
    config.rest_us = 1 * S;
    assert_int_equal(tw_sighting_adjust(&watch, &config), TW_OK);
    assert_int_equal(tw_sighting_trigger(&watch), TW_SIGHTING_BEGAN);
    assert_int_equal(feed(&watch, 115, 129, 0), TW_SIGHTING_ENDED);
    assert_int_equal(watch.state, TW_RESTING);
    assert_int_equal(feed(&watch, 130, 133, 500), 0);
    assert_int_equal(feed(&watch, 134, 135, 500), TW_SIGHTING_BEGAN);
}

static void test_disarmed_begins_nothing(void **state)
{
    (void)state;
    tw_sighting_config config = usual();
    config.armed = false;
    tw_sighting_watch watch = watch_with(&config);
    assert_int_equal(feed(&watch, 0, 100, 5000), 0);
    assert_int_equal(watch.state, TW_IDLE);
}

static void test_arming_and_disarming(void **state)
{
    (void)state;
    tw_sighting_config config = usual();
    tw_sighting_watch watch = watch_with(&config);
    (void)feed(&watch, 0, 20, 0);
    tw_sighting_arm(&watch, false);
    assert_int_equal(watch.state, TW_IDLE);
    assert_int_equal(feed(&watch, 21, 40, 9000), 0); /* nothing begins */
    tw_sighting_arm(&watch, true);
    assert_int_not_equal(feed(&watch, 41, 45, 9000) & TW_SIGHTING_BEGAN, 0);
    tw_sighting_arm(&watch, false);
    assert_int_equal(watch.state, TW_SIGHTING); /* what runs goes on */
    assert_int_equal(feed(&watch, 46, 60, 9000), 0);
    assert_int_not_equal(feed(&watch, 61, 300, 0) & TW_SIGHTING_ENDED, 0);
    assert_int_equal(watch.state, TW_IDLE);
    assert_int_equal(feed(&watch, 301, 320, 9000), 0);
    tw_sighting_arm(NULL, true);
}

static void test_a_sighting_that_is_asked_for(void **state)
{
    (void)state;
    tw_sighting_config config = usual();
    config.armed = false;
    tw_sighting_watch watch = watch_with(&config);
    assert_int_equal(tw_sighting_trigger(&watch), 0); /* no frame yet */
    tw_sighting_number_after(&watch, 41);
    (void)feed(&watch, 0, 100, 0);
    assert_int_equal(tw_sighting_trigger(&watch), TW_SIGHTING_BEGAN);
    assert_int_equal(watch.now.number, 42);
    assert_int_equal(watch.now.cause.of, 0);
    assert_int_equal(watch.now.cause.by, TW_CAUSE_ORDER);
    assert_int_equal(watch.now.start_us - watch.now.clip_start_us, config.pre_us);
    const int64_t asked_us = watch.now.start_us;
    (void)step(&watch, 101, 0);
    assert_int_equal(tw_sighting_trigger(&watch), 0); /* again: it goes on for longer */
    assert_true(watch.now.end_us > asked_us);
    assert_int_not_equal(feed(&watch, 102, 400, 0) & TW_SIGHTING_ENDED, 0);
    assert_int_equal(watch.ended.clip_end_us - watch.ended.end_us, config.post_us);
    assert_int_equal(watch.state, TW_IDLE);
}

/* Frames in which nothing moves, with what the sensor says. */
static unsigned sense(tw_sighting_watch *watch, int from, int to, bool there)
{
    unsigned all = 0;
    for (int i = from; i <= to; i++)
        all |= step(watch, i, 0) | tw_sighting_sense(watch, there);
    return all;
}

static void test_a_sensor_begins_and_holds_one(void **state)
{
    (void)state;
    tw_sighting_config config = usual();
    config.armed = false;
    tw_sighting_watch watch = watch_with(&config);
    assert_int_equal(sense(&watch, 0, 99, false), 0);
    assert_int_equal(sense(&watch, 100, 100, true), TW_SIGHTING_BEGAN);
    assert_int_equal(watch.now.cause.by, TW_CAUSE_SENSOR);
    assert_int_equal(watch.now.start_us, 100 * MS100);
    assert_int_equal(sense(&watch, 101, 300, true), 0); /* it goes on */
    assert_int_equal(watch.state, TW_SIGHTING);
    assert_int_equal(sense(&watch, 301, 310, false), 0);
    assert_int_equal(sense(&watch, 311, 312, false), TW_SIGHTING_ENDED);
    assert_in_range(watch.ended.end_us, 300 * MS100, 301 * MS100);
    assert_int_equal(watch.ended.number, 1);
    assert_int_equal(tw_sighting_sense(NULL, true), 0);
}

static void test_a_sensor_holds_what_motion_began(void **state)
{
    (void)state;
    const tw_sighting_config config = usual();
    tw_sighting_watch watch = watch_with(&config);
    assert_int_equal(feed(&watch, 0, 1, 100), TW_SIGHTING_BEGAN);
    assert_int_equal(watch.now.cause.by, TW_CAUSE_MOTION);
    assert_int_equal(sense(&watch, 2, 100, true), 0);
    assert_int_equal(sense(&watch, 101, 120, false), TW_SIGHTING_ENDED);
    assert_in_range(watch.ended.end_us, 100 * MS100, 101 * MS100);
}

/* One that is stuck splits what it holds, and begins no other after its end. */
static void test_a_sensor_that_stays_active_splits(void **state)
{
    (void)state;
    tw_sighting_config config = usual();
    config.longest_us = 10 * S;
    tw_sighting_watch watch = watch_with(&config);
    assert_int_equal(sense(&watch, 0, 50, true), TW_SIGHTING_BEGAN);
    assert_int_equal(sense(&watch, 51, 120, true), TW_SIGHTING_ENDED | TW_SIGHTING_BEGAN);
    assert_int_equal(watch.now.number, 1);
    assert_int_equal(watch.now.part, 2);
    assert_int_equal(watch.now.cause.by, TW_CAUSE_SENSOR);
    assert_int_equal(tw_sighting_finish(&watch), TW_SIGHTING_ENDED);
    assert_int_equal(sense(&watch, 121, 150, true), 0); /* it must let go first */
    assert_int_equal(sense(&watch, 151, 151, false), 0);
    assert_int_equal(sense(&watch, 152, 152, true), TW_SIGHTING_BEGAN);
}

static void test_rest_holds_back(void **state)
{
    (void)state;
    tw_sighting_config config = usual();
    config.rest_us = 3 * S;
    tw_sighting_watch watch = watch_with(&config);
    (void)feed(&watch, 0, 1, 100);
    assert_int_equal(feed(&watch, 2, 11, 0), TW_SIGHTING_ENDED); /* clip ends at 1.1 s */
    assert_int_equal(watch.state, TW_RESTING);
    assert_int_equal(feed(&watch, 12, 40, 5000), 0);
    assert_int_equal(feed(&watch, 41, 42, 5000), TW_SIGHTING_BEGAN); /* 1.1 s + 3 s */
    assert_int_equal(watch.now.start_us, 41 * MS100);
    assert_int_equal(watch.now.number, 2);
}

static void test_clips_do_not_overlap(void **state)
{
    (void)state;
    tw_sighting_config config = usual();
    config.pre_us = 10 * S;
    tw_sighting_watch watch = watch_with(&config);
    (void)feed(&watch, 0, 1, 100);
    (void)feed(&watch, 2, 15, 0);
    const int64_t end = watch.ended.clip_end_us;
    (void)feed(&watch, 16, 17, 100);
    assert_int_equal(watch.now.clip_start_us, end);
}

static void test_longest_splits_without_a_gap(void **state)
{
    (void)state;
    tw_sighting_config config = usual();
    config.longest_us = 3 * S;
    tw_sighting_watch watch = watch_with(&config);
    (void)feed(&watch, 0, 9, 0);
    unsigned splits = 0;
    int64_t reached = 0;
    for (int i = 10; i < 100; i++) {
        const unsigned what = step(&watch, i, 200);
        if (!(what & TW_SIGHTING_ENDED))
            continue;
        splits++;
        assert_int_equal(what, TW_SIGHTING_ENDED | TW_SIGHTING_BEGAN);
        assert_int_equal(watch.ended.why, TW_END_LONGEST);
        assert_int_equal(watch.ended.part, splits);
        assert_int_equal(watch.now.part, splits + 1);
        assert_int_equal(watch.now.number, 1);
        assert_int_equal(watch.ended.clip_end_us, watch.now.clip_start_us);
        if (splits > 1)
            assert_int_equal(watch.ended.clip_start_us, reached);
        reached = watch.ended.clip_end_us;
        assert_true(watch.ended.clip_end_us - watch.ended.clip_start_us >= 3 * S);
    }
    assert_int_equal(splits, 3);
}

static void test_post_event_may_run_over_longest(void **state)
{
    (void)state;
    tw_sighting_config config = usual();
    config.longest_us = 2 * S;
    tw_sighting_watch watch = watch_with(&config);
    (void)feed(&watch, 0, 18, 100);
    assert_int_equal(feed(&watch, 19, 27, 0), 0); /* over 2 s, but nothing moves */
    assert_int_equal(step(&watch, 28, 0), TW_SIGHTING_ENDED);
    assert_int_equal(watch.ended.why, TW_END_QUIET);
}

static void test_a_turned_picture_neither_begins_nor_ends(void **state)
{
    (void)state;
    const tw_sighting_config config = usual();
    tw_sighting_watch watch = watch_with(&config);
    tw_reading turned = {.activity_ppm = 900000, .whole_picture = true};
    for (int i = 0; i < 20; i++) {
        turned.t_us = (int64_t)i * MS100;
        assert_int_equal(tw_sighting_step(&watch, &turned), 0);
    }
    (void)feed(&watch, 20, 21, 100);
    turned.activity_ppm = 0;
    for (int i = 22; i < 50; i++) { /* 2.8 s, longer than post_event */
        turned.t_us = (int64_t)i * MS100;
        assert_int_equal(tw_sighting_step(&watch, &turned), 0);
    }
    assert_int_equal(watch.state, TW_SIGHTING);
}

static void test_a_picture_that_never_calms_down_is_ended(void **state)
{
    (void)state;
    tw_sighting_config config = usual();
    config.longest_us = 5 * S;
    tw_sighting_watch watch = watch_with(&config);
    (void)feed(&watch, 0, 1, 100);
    unsigned ended = 0;
    for (int i = 2; i < 100; i++) {
        const tw_reading turned = {.t_us = (int64_t)i * MS100, .whole_picture = true};
        ended += (tw_sighting_step(&watch, &turned) & TW_SIGHTING_ENDED) != 0;
    }
    assert_int_equal(ended, 1);
    assert_int_equal(watch.ended.why, TW_END_LONGEST);
}

static void test_finish_ends_what_runs(void **state)
{
    (void)state;
    const tw_sighting_config config = usual();
    tw_sighting_watch watch = watch_with(&config);
    assert_int_equal(tw_sighting_finish(&watch), 0);
    (void)feed(&watch, 0, 5, 100);
    assert_int_equal(tw_sighting_finish(&watch), TW_SIGHTING_ENDED);
    assert_int_equal(watch.ended.why, TW_END_FINISHED);
    assert_int_equal(watch.ended.clip_end_us, 5 * MS100); /* no footage after that */
    assert_int_equal(tw_sighting_finish(&watch), 0);
}

static void test_settling_again_keeps_the_count(void **state)
{
    (void)state;
    tw_sighting_config config = usual();
    config.settle_us = 1 * S;
    tw_sighting_watch watch = watch_with(&config);
    (void)feed(&watch, 0, 20, 100);
    (void)tw_sighting_finish(&watch);
    tw_sighting_settle_again(&watch);
    assert_int_equal(watch.state, TW_IDLE);
    assert_int_equal(step(&watch, 21, 100), 0);
    assert_int_equal(watch.state, TW_SETTLING);
    assert_int_equal(feed(&watch, 22, 33, 100), TW_SIGHTING_BEGAN);
    assert_int_equal(watch.now.number, 2);
}

static void test_confirm_at_its_ends(void **state)
{
    (void)state;
    tw_sighting_config config = usual();
    config.confirm_k = config.confirm_n = 1;
    tw_sighting_watch watch = watch_with(&config);
    assert_int_equal(step(&watch, 0, 100), TW_SIGHTING_BEGAN);
    config.confirm_k = config.confirm_n = TW_CONFIRM_MAX;
    watch = watch_with(&config);
    assert_int_equal(feed(&watch, 0, TW_CONFIRM_MAX - 2, 100), 0);
    assert_int_equal(step(&watch, TW_CONFIRM_MAX - 1, 100), TW_SIGHTING_BEGAN);
    assert_int_equal(watch.now.start_us, 0);
}

static void test_refuses_contradictions(void **state)
{
    (void)state;
    tw_sighting_watch watch;
    tw_sighting_config bad[9];
    for (size_t i = 0; i < 9; i++)
        bad[i] = usual();
    bad[0].start_ppm = 0;
    bad[1].stay_ppm = 101;
    bad[2].stay_ppm = 0;
    bad[3].confirm_k = 4;
    bad[4].confirm_k = 0;
    bad[5].confirm_n = TW_CONFIRM_MAX + 1;
    bad[6].pre_us = -1;
    bad[7].longest_us = 0;
    bad[8].rest_us = -1;
    for (size_t i = 0; i < 9; i++)
        assert_int_equal(tw_sighting_init(&watch, &bad[i]), TW_EINVAL);
    assert_int_equal(tw_sighting_init(NULL, &bad[0]), TW_EINVAL);
    assert_int_equal(tw_sighting_step(NULL, NULL), 0);
}

static void test_states_have_names(void **state)
{
    (void)state;
    assert_string_equal(tw_watch_state_name(TW_IDLE), "idle");
    assert_string_equal(tw_watch_state_name(TW_SETTLING), "settling");
    assert_string_equal(tw_watch_state_name(TW_ARMED), "armed");
    assert_string_equal(tw_watch_state_name(TW_SIGHTING), "sighting");
    assert_string_equal(tw_watch_state_name(TW_RESTING), "resting");
}

/* A zone with its own limits: what moves there is held against them alone. */
static void test_a_zone_with_its_own_limits(void **state)
{
    (void)state;
    tw_sighting_config config = usual();
    config.own_count = 1;
    config.own[0] = (tw_own_limits){5000, 2000};
    tw_sighting_watch watch = watch_with(&config);
    tw_reading r = {.activity_ppm = 900}; /* all of it in the zone */
    unsigned all = 0;
    for (int i = 0; i < 20; i++) {
        r.t_us = (int64_t)i * MS100;
        r.area_ppm[1] = i < 10 ? 4999 : 5000;
        all |= tw_sighting_step(&watch, &r);
        assert_int_equal(all != 0, i >= 11); /* two frames over its own limit */
    }
    assert_int_equal(watch.now.cause.area, 1);
    assert_int_equal(watch.now.cause.activity_ppm, 5000);
    assert_int_equal(watch.now.cause.start_ppm, 5000);
    r.t_us += MS100;
    r.area_ppm[1] = 2000; /* it stays by its own limit too */
    (void)tw_sighting_step(&watch, &r);
    assert_int_equal(watch.now.end_us, r.t_us);
    r.t_us += MS100;
    r.area_ppm[1] = 1999;
    r.area_ppm[0] = 50; /* or by the camera's elsewhere */
    (void)tw_sighting_step(&watch, &r);
    assert_int_equal(watch.now.end_us, r.t_us);
    config.own[0].stay_ppm = 5001;
    assert_int_equal(tw_sighting_init(&watch, &config), TW_EINVAL);
    config.own_count = TW_OWN_LIMITS_MAX + 1;
    assert_int_equal(tw_sighting_init(&watch, &config), TW_EINVAL);
}

/* Settings that say nothing have the same. */
static void test_the_built_in_values(void **state)
{
    (void)state;
    tw_sighting_config config;
    tw_sighting_watch watch;
    twi_camera_settings c;
    tw_settings *settings = settings_of("[camera kerb]\nsource = sim:kerb\n");
    memset(&config, 0xEE, sizeof config);
    tw_sighting_defaults(&config);
    assert_int_equal(tw_sighting_init(&watch, &config), TW_OK);
    assert_int_equal(twi_settings_camera(settings, "kerb", &c), TW_OK);
    assert_int_equal(config.start_ppm, c.start_ppm);
    assert_int_equal(config.stay_ppm, c.stay_ppm);
    assert_int_equal(config.own_count, 0);
    assert_int_equal(config.confirm_k, c.confirm.k);
    assert_int_equal(config.confirm_n, c.confirm.n);
    assert_int_equal(config.armed, c.armed);
    assert_int_equal(config.settle_us, c.settle_us);
    assert_int_equal(config.pre_us, c.pre_us);
    assert_int_equal(config.post_us, c.post_us);
    assert_int_equal(config.rest_us, c.rest_us);
    assert_int_equal(config.longest_us, c.longest_us);
    tw_settings_free(settings);
    tw_sighting_defaults(NULL);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_quiet_begins_nothing),
        cmocka_unit_test(test_one_frame_is_not_enough),
        cmocka_unit_test(test_two_of_three_begin_at_the_first),
        cmocka_unit_test(test_hits_of_long_ago_are_forgotten),
        cmocka_unit_test(test_hysteresis_and_post_event),
        cmocka_unit_test(test_motion_in_post_event_goes_on),
        cmocka_unit_test(test_settling_holds_back),
        cmocka_unit_test(test_limits_change_while_it_watches),
        cmocka_unit_test(test_a_shorter_window_forgets_old_hits),
        cmocka_unit_test(test_learning_anew_holds_back_but_ends_nothing),
        cmocka_unit_test(test_disarmed_begins_nothing),
        cmocka_unit_test(test_arming_and_disarming),
        cmocka_unit_test(test_a_sighting_that_is_asked_for),
        cmocka_unit_test(test_a_sensor_begins_and_holds_one),
        cmocka_unit_test(test_a_sensor_holds_what_motion_began),
        cmocka_unit_test(test_a_sensor_that_stays_active_splits),
        cmocka_unit_test(test_rest_holds_back),
        cmocka_unit_test(test_clips_do_not_overlap),
        cmocka_unit_test(test_longest_splits_without_a_gap),
        cmocka_unit_test(test_post_event_may_run_over_longest),
        cmocka_unit_test(test_a_turned_picture_neither_begins_nor_ends),
        cmocka_unit_test(test_a_picture_that_never_calms_down_is_ended),
        cmocka_unit_test(test_finish_ends_what_runs),
        cmocka_unit_test(test_settling_again_keeps_the_count),
        cmocka_unit_test(test_confirm_at_its_ends),
        cmocka_unit_test(test_refuses_contradictions),
        cmocka_unit_test(test_states_have_names),
        cmocka_unit_test(test_a_zone_with_its_own_limits),
        cmocka_unit_test(test_the_built_in_values),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
