/* A motion sensor, a lamp and a pulse, on pins that follow a script; the place gets
 * brighter when the lamp is lit. */
#include <stdlib.h>
#include <string.h>

#include "../../src/media/jpeg.h"
#include "../../src/station/pipeline.h"
#include "../../src/station/why.h"
#include "../support/support.h"
#include "../../src/settings/sections.h"
#include "tawny/events.h"
#include "tawny/settings.h"

enum { W = 160, H = 120, S = 1000000, STEP = 100000 };

/* One camera, fed frame by frame. */
typedef struct place {
    tw_settings *settings;
    twi_camera_settings camera;
    tw_sim_time time;
    tw_pins pins;
    twi_orders orders;
    twi_channel channel;
    twi_writer writer;
    twi_pipeline *pipeline;
    uint8_t px[W * H];
    uint32_t chance;
    size_t began, ended;
    size_t unsaid; /* readings that say nothing: the light is being switched */
    int64_t began_us;
    tw_sighting last; /* that ended */
    problems problems;
} place;

static void on_event(void *ctx, const tw_event *e)
{
    place *p = ctx;
    p->began += e->kind == TW_EVENT_BEGAN;
    p->ended += e->kind == TW_EVENT_ENDED;
    if (e->kind == TW_EVENT_ENDED)
        p->last = *e->sighting;
    if (e->kind == TW_EVENT_BEGAN)
        p->began_us = e->t_us;
    p->unsaid += e->kind == TW_EVENT_READING && e->reading->whole_picture;
    if (e->kind == TW_EVENT_PROBLEM)
        collect_problem(&p->problems, e->text);
}

/* Nothing is stored here. */
static bool give(void *ctx, twi_job *job, bool wait)
{
    (void)ctx;
    (void)wait;
    twi_buffer_unref(job->buffer);
    return true;
}

static place *set_up(const char *lines, const tw_sim_signal *signals, size_t count)
{
    place *p = calloc(1, sizeof *p);
    char text[512];
    tw_error err = {0};
    const tw_stream stream = {.codec = TW_CODEC_RAW, .codec_name = "grey", .fps_den = 1};
    assert_non_null(p);
    p->chance = 3;
    p->settings = tw_settings_new();
    (void)snprintf(text, sizeof text,
                   "[camera mere]\nsource = x\npost_event = 3 s\nstills = none\n%s",
                   lines);
    assert_int_equal(
        tw_settings_read_text(p->settings, "test", text, strlen(text), NULL, NULL),
        TW_OK);
    assert_int_equal(twi_settings_camera(p->settings, "mere", &p->camera), TW_OK);
    assert_int_equal(tw_sim_pins(signals, count, tw_sim_clock(&p->time), &p->pins),
                     TW_OK);
    p->channel.camera = &p->camera;
    atomic_init(&p->orders.armed, TWI_AS_SET);
    const twi_sink sink = {.channel = &p->channel,
                           .jobs = {give, NULL},
                           .orders = &p->orders,
                           .pins = &p->pins};
    if (twi_pipeline_new(&p->camera, tw_sim_clock(&p->time), &stream, NULL, &sink,
                         on_event, p, &p->pipeline, &err) != TW_OK)
        fail_msg("%s", err.text);
    return p;
}

static void take_down(place *p)
{
    twi_pipeline_finish(p->pipeline);
    twi_pipeline_free(p->pipeline);
    p->pins.ops->destroy(p->pins.ctx);
    tw_settings_free(p->settings);
    free(p);
}

static bool is_on(const place *p, const char *line, uint32_t times)
{
    uint32_t switched = 0;
    const bool on = tw_sim_pins_output(&p->pins, line, &switched);
    assert_int_equal(switched, times);
    return on;
}

static bool lamp_lit(const place *p)
{
    uint32_t switched = 0;
    return tw_sim_pins_output(&p->pins, "lamp", &switched);
}

/* A square crosses from one time to another. The lamp reaches a fifth of the picture, and
 * throws shadows there: too little for a picture that has turned, too odd for light. */
static void watch(place *p, int seconds, int64_t from_us, int64_t to_us)
{
    for (int i = 0; i < seconds * S / STEP; i++, p->time.now_us += STEP) {
        const int64_t t = p->time.now_us;
        for (int k = 0; k < W * H; k++) {
            p->chance = p->chance * 1664525U + 1013904223U;
            p->px[k] =
                (uint8_t)(15 + k % W / 16 + k / W / 16 * 2 + (int)(p->chance >> 30));
        }
        for (int k = 0; k < W * H / 5 && lamp_lit(p); k++)
            p->px[k] = (uint8_t)(k % W / 9 % 2 ? 100 : p->px[k]);
        const int x = (int)((t - from_us) * (W - 24) / (to_us - from_us));
        for (int y = 50; y < 70 && t >= from_us && t < to_us; y++)
            memset(p->px + (ptrdiff_t)y * W + x, 55, 20);
        const tw_frame frame = {.packet = {.t_us = t, .wall_us = t},
                                .picture = {.px = {p->px},
                                            .stride = {W},
                                            .width = W,
                                            .height = H,
                                            .pixels = TW_PIXELS_GREY}};
        assert_int_equal(twi_pipeline_frame(p->pipeline, &frame, NULL), TW_OK);
    }
}

static void test_a_sensor_begins_a_sighting(void **state)
{
    (void)state;
    static const tw_sim_signal signals[] = {{"sensor", 20 * S, 22 * S}};
    place *p = set_up("sensor_pin = sensor\n", signals, 1);
    watch(p, 40, 60 * S, 61 * S); /* nothing moves */
    assert_int_equal(p->began, 1);
    assert_int_equal(p->ended, 1);
    assert_in_range(p->began_us, 20 * S, 20 * S + STEP);
    take_down(p);
    p = set_up("sensor_pin = sensor\narmed = no\n", signals, 1);
    watch(p, 40, 60 * S, 61 * S);
    assert_int_equal(p->began, 0);
    take_down(p);
}

/* It says so for ten seconds: one sighting, that ends three seconds after. */
static void test_a_sensor_holds_a_sighting(void **state)
{
    (void)state;
    static const tw_sim_signal signals[] = {{"sensor", 20 * S, 30 * S}};
    place *p = set_up("sensor_pin = sensor\n", signals, 1);
    watch(p, 29, 60 * S, 61 * S);
    assert_int_equal(p->began, 1);
    watch(p, 3, 60 * S, 61 * S);
    assert_int_equal(p->ended, 0);
    watch(p, 8, 60 * S, 61 * S);
    assert_int_equal(p->began, 1);
    assert_int_equal(p->ended, 1);
    assert_in_range(p->last.end_us, 30 * S - 2 * STEP, 30 * S + STEP);
    char why[128];
    assert_string_equal(twi_why_began(&p->last, why, sizeof why),
                        "the motion sensor saw something");
    take_down(p);
}

static void test_who_begins_one(void **state)
{
    (void)state;
    static const tw_sim_signal early[] = {{"sensor", 5 * S, 6 * S}},
                               with[] = {{"sensor", 18 * S, 23 * S}};
    static const struct {
        const char *lines;
        const tw_sim_signal *signals;
        size_t began;
    } cases[] = {
        {"sensor_starts = either\n", early, 2}, /* once by each */
        {"sensor_starts = both\n", early, 0},
        {"sensor_starts = both\n", with, 1},
        {"sensor_starts = both\nsensor_holds = 30 s\n", early, 1},
        {"sensor_starts = alone\n", early, 1},
        {"sensor_starts = alone\n", with, 1},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char lines[128];
        (void)snprintf(lines, sizeof lines, "sensor_pin = sensor\n%s", cases[i].lines);
        place *p = set_up(lines, cases[i].signals, 1);
        watch(p, 40, 20 * S, 28 * S);
        if (p->began != cases[i].began)
            fail_msg("case %zu: %zu sightings", i, p->began);
        assert_string_equal(p->problems.text, "");
        take_down(p);
    }
}

static void test_a_lamp_in_the_dark(void **state)
{
    (void)state;
    static const tw_sim_signal none[] = {{"unused", 0, 0}};
    place *p = set_up(
        "lamp_pin = lamp\npulse_pin = buzzer\npulse = 0.5 s\ntravel = 0 %\n", none, 1);
    watch(p, 19, 20 * S, 28 * S);
    assert_false(is_on(p, "lamp", 0));
    for (int i = 0; i < 10 && p->began == 0; i++)
        watch(p, 1, 20 * S, 28 * S);
    assert_int_equal(p->began, 1);
    assert_true(is_on(p, "lamp", 1));
    watch(p, 1, 20 * S, 28 * S);
    assert_false(is_on(p, "buzzer", 2)); /* it has been on, and is off again */
    watch(p, 60, 20 * S, 28 * S);
    assert_false(is_on(p, "lamp", 2));
    assert_in_range(p->unsaid, 2 * 19, 2 * 21); /* two seconds each time */
    /* Neither its going on nor its going off is motion. */
    assert_int_equal(p->began, 1);
    assert_int_equal(p->ended, 1);
    take_down(p);
}

static void test_no_lamp_where_it_is_bright_enough(void **state)
{
    (void)state;
    static const tw_sim_signal none[] = {{"unused", 0, 0}};
    place *p = set_up("lamp_pin = lamp\ndark_below = 5 %\n", none, 1);
    watch(p, 40, 20 * S, 28 * S);
    assert_int_equal(p->began, 1);
    assert_false(is_on(p, "lamp", 0));
    take_down(p);
}

static void test_what_is_not_wired(void **state)
{
    (void)state;
    static const tw_sim_signal none[] = {{"unused", 0, 0}};
    place *p = set_up("sensor_pin = door\nsensor_starts = both\n", none, 1);
    watch(p, 40, 20 * S, 28 * S);
    assert_int_equal(p->problems.count, 1); /* told once */
    assert_has(p->problems.text, "pin door: there is no such line");
    assert_int_equal(p->began, 1); /* motion counts all the same */
    take_down(p);
}

static void test_the_lamp_does_not_stay_on(void **state)
{
    (void)state;
    static const tw_sim_signal signals[] = {{"sensor", 20 * S, 22 * S}};
    place *p = set_up("sensor_pin = sensor\nlamp_pin = lamp\n", signals, 1);
    watch(p, 21, 60 * S, 61 * S);
    assert_true(is_on(p, "lamp", 1));
    twi_pipeline_finish(p->pipeline); /* the station stops in the middle of it */
    assert_false(is_on(p, "lamp", 2));
    take_down(p);
}

/* ---- other settings, while it watches ---------------------------------------------- */

/* @param kept  What they lie in, to be freed behind the pipeline. */
static void adjust(place *p, const char *lines, tw_settings **kept,
                   twi_camera_settings *camera)
{
    char text[512];
    tw_error err = {0};
    *kept = tw_settings_new();
    (void)snprintf(text, sizeof text,
                   "[camera mere]\nsource = x\npost_event = 3 s\nstills = none\n%s",
                   lines);
    assert_int_equal(tw_settings_read_text(*kept, "test", text, strlen(text), NULL, NULL),
                     TW_OK);
    assert_int_equal(twi_settings_camera(*kept, "mere", camera), TW_OK);
    if (twi_pipeline_adjust(p->pipeline, camera, &err) != TW_OK)
        fail_msg("%s", err.text);
}

static void test_a_zone_is_laid_over_what_moves(void **state)
{
    (void)state;
    static const tw_sim_signal none[] = {{"unused", 0, 0}};
    tw_settings *kept = NULL;
    twi_camera_settings camera;
    for (int with = 0; with < 2; with++) {
        place *p = set_up("", none, 1);
        watch(p, 15, 20 * S, 28 * S);
        adjust(p, with ? "[zone mere/path]\narea = 0,30 100,30 100,70 0,70\n" : "", &kept,
               &camera);
        watch(p, 25, 20 * S, 28 * S);
        assert_int_equal(p->began, with ? 0 : 1);
        take_down(p);
        tw_settings_free(kept);
    }
}

static void test_another_lamp_is_wired(void **state)
{
    (void)state;
    static const tw_sim_signal none[] = {{"unused", 0, 0}};
    uint32_t switched = 0;
    tw_settings *kept = NULL;
    twi_camera_settings camera;
    place *p = set_up("lamp_pin = lamp\npulse_pin = buzzer\npulse = 50 s\n", none, 1);
    watch(p, 23, 20 * S, 28 * S);
    assert_int_equal(p->began, 1);
    assert_true(is_on(p, "lamp", 1));
    assert_true(is_on(p, "buzzer", 1));
    adjust(p, "lamp_pin = other\npulse_pin = buzzer\n", &kept, &camera);
    assert_false(is_on(p, "lamp", 2)); /* nobody else would switch it off */
    assert_true(is_on(p, "buzzer", 1));
    assert_false(tw_sim_pins_output(&p->pins, "other", &switched));
    take_down(p);
    tw_settings_free(kept);
}

static void test_other_hours_arm_it_at_another_time(void **state)
{
    (void)state;
    static const tw_sim_signal none[] = {{"unused", 0, 0}};
    tw_settings *kept[2] = {NULL};
    twi_camera_settings camera[2];
    twi_health health;
    place *p = set_up("hours = 06:00-07:00\n", none, 1); /* it is midnight */
    watch(p, 2, 20 * S, 28 * S);
    twi_pipeline_health(p->pipeline, &health);
    assert_int_equal(health.arming, TW_DISARMED_BY_HOURS);
    assert_int_equal(health.arming_until_us, INT64_C(6) * 3600 * S);
    adjust(p, "hours = 05:00-07:00\n", &kept[0], &camera[0]);
    watch(p, 2, 20 * S, 28 * S);
    twi_pipeline_health(p->pipeline, &health);
    assert_int_equal(health.arming, TW_DISARMED_BY_HOURS);
    assert_int_equal(health.arming_until_us, INT64_C(5) * 3600 * S);
    adjust(p, "hours = 00:00-07:00\n", &kept[1], &camera[1]);
    watch(p, 2, 20 * S, 28 * S);
    twi_pipeline_health(p->pipeline, &health);
    assert_int_equal(health.arming, TW_ARMED_BY_SETTING);
    take_down(p);
    tw_settings_free(kept[0]);
    tw_settings_free(kept[1]);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_sensor_begins_a_sighting),
        cmocka_unit_test(test_a_sensor_holds_a_sighting),
        cmocka_unit_test(test_who_begins_one),
        cmocka_unit_test(test_a_lamp_in_the_dark),
        cmocka_unit_test(test_no_lamp_where_it_is_bright_enough),
        cmocka_unit_test(test_what_is_not_wired),
        cmocka_unit_test(test_the_lamp_does_not_stay_on),
        cmocka_unit_test(test_a_zone_is_laid_over_what_moves),
        cmocka_unit_test(test_another_lamp_is_wired),
        cmocka_unit_test(test_other_hours_arm_it_at_another_time),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
