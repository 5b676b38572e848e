/* Day and night before one camera: what it has set for them holds when it should, and
 * going over costs nothing. */
#include <stdlib.h>
#include <string.h>

#include "../../src/station/pipeline.h"
#include "../support/support.h"
#include "../../src/settings/sections.h"
#include "tawny/events.h"
#include "tawny/settings.h"

enum { W = 160, H = 120, S = 1000000, STEP = 100000 };

/* One camera, fed frame by frame. */
typedef struct place {
    tw_settings *settings, *others;
    twi_camera_settings camera;
    tw_sim_time time;
    tw_pins pins;
    twi_orders orders;
    twi_channel channel;
    twi_pipeline *pipeline;
    uint8_t px[W * H], chroma[2][W / 2 * H / 2];
    uint32_t chance;
    int64_t wall_us; /* less capture time */
    size_t began, ended, packets, frames;
    tw_sighting last;
    problems problems, holds;
} place;

static void on_event(void *ctx, const tw_event *e)
{
    place *p = ctx;
    p->began += e->kind == TW_EVENT_BEGAN;
    p->ended += e->kind == TW_EVENT_ENDED;
    if (e->kind == TW_EVENT_ENDED)
        p->last = *e->sighting;
    if (e->kind == TW_EVENT_PROBLEM)
        collect_problem(&p->problems, e->text);
    if (e->kind == TW_EVENT_HOLDS)
        collect_problem(&p->holds, e->text);
}

/* Nothing is stored here: what would be is counted. */
static bool give(void *ctx, twi_job *job, bool wait)
{
    place *p = ctx;
    (void)wait;
    p->packets += job->kind == TWI_JOB_VIDEO_PACKET;
    twi_buffer_unref(job->buffer);
    return true;
}

static place *set_up(const char *lines, const tw_sim_signal *signals, size_t count)
{
    place *p = calloc(1, sizeof *p);
    char text[1024];
    tw_error err = {0};
    const tw_stream stream = {.codec = TW_CODEC_RAW, .codec_name = "i420", .fps_den = 1};
    assert_non_null(p);
    p->chance = 3;
    (void)snprintf(text, sizeof text,
                   "[camera mere]\nsource = x\nstills = none\ndark_after = 5 s\n%s",
                   lines);
    p->settings = settings_of(text);
    assert_int_equal(twi_settings_camera(p->settings, "mere", &p->camera), TW_OK);
    assert_int_equal(tw_sim_pins(signals, count, tw_sim_clock(&p->time), &p->pins),
                     TW_OK);
    p->channel.camera = &p->camera;
    atomic_init(&p->orders.armed, TWI_AS_SET);
    const twi_sink sink = {.channel = &p->channel,
                           .jobs = {give, p},
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
    tw_settings_free(p->others);
    free(p);
}

/* So many seconds of a place that is so bright, with so much colour. */
static void watch(place *p, int seconds, int level, int colour)
{
    for (int i = 0; i < seconds * S / STEP; i++, p->time.now_us += STEP, p->frames++) {
        const int64_t t = p->time.now_us;
        for (int k = 0; k < W * H; k++) {
            p->chance = p->chance * 1664525U + 1013904223U;
            p->px[k] = (uint8_t)(level + k % W / 16 + (int)(p->chance >> 30));
        }
        memset(p->chroma[0], 128 + colour, sizeof p->chroma[0]);
        memset(p->chroma[1], 128 - colour, sizeof p->chroma[1]);
        const tw_frame frame = {.packet = {.t_us = t, .wall_us = t + p->wall_us},
                                .picture = {.px = {p->px, p->chroma[0], p->chroma[1]},
                                            .stride = {W, W / 2, W / 2},
                                            .width = W,
                                            .height = H,
                                            .pixels = TW_PIXELS_I420}};
        assert_int_equal(twi_pipeline_frame(p->pipeline, &frame, NULL), TW_OK);
    }
}

static int64_t post_s(const place *p)
{
    return twi_pipeline_settings(p->pipeline)->post_us / S;
}

static const char BY_LIGHT[] = "post_event = 3 s\n"
                               "[camera mere when dark]\npost_event = 4 s\n"
                               "[camera mere when light]\npost_event = 5 s\n";

static void test_by_the_light_of_the_picture(void **state)
{
    (void)state;
    place *p = set_up(BY_LIGHT, NULL, 0);
    assert_int_equal(post_s(p), 3); /* nothing is known yet */
    watch(p, 3, 100, 0);
    assert_int_equal(post_s(p), 5);
    assert_int_equal(p->holds.count, 1);
    assert_has(p->holds.text, "what it has set for light holds");
    twi_health health;
    twi_pipeline_health(p->pipeline, &health);
    assert_int_equal(health.darkness, TW_LIGHT);
    watch(p, 60, 45, 0); /* between the limit and half more: as it was */
    assert_int_equal(post_s(p), 5);
    watch(p, 3, 10, 0); /* a moment of night */
    watch(p, 60, 45, 0);
    assert_int_equal(post_s(p), 5);
    watch(p, 60, 10, 0);
    assert_int_equal(post_s(p), 4);
    assert_int_equal(p->holds.count, 2);
    twi_pipeline_health(p->pipeline, &health);
    assert_int_equal(health.darkness, TW_DARK);
    watch(p, 60, 45, 0);
    assert_int_equal(post_s(p), 4);
    watch(p, 120, 100, 0);
    assert_int_equal(post_s(p), 5);
    assert_int_equal(p->holds.count, 3);
    assert_int_equal(p->problems.count, 0);
    take_down(p);
}

static void test_a_night_takes_as_long_as_it_should(void **state)
{
    (void)state;
    place *p = set_up(BY_LIGHT, NULL, 0);
    watch(p, 5, 100, 0);
    for (int s = 0; s < 10 && twi_pipeline_holds(p->pipeline) != 1; s++)
        watch(p, 1, 2, 0); /* a switch: the background follows within a second or two */
    assert_in_range(p->time.now_us, 10 * S, 15 * S);
    take_down(p);
}

static void test_by_colour(void **state)
{
    (void)state;
    char lines[256];
    (void)snprintf(lines, sizeof lines, "dark_by = colour\n%s", BY_LIGHT);
    place *p = set_up(lines, NULL, 0);
    watch(p, 5, 40, 20); /* dusk, in colour */
    assert_int_equal(post_s(p), 5);
    watch(p, 20, 120, 0); /* infrared, and bright */
    assert_int_equal(post_s(p), 4);
    watch(p, 20, 40, 20);
    assert_int_equal(post_s(p), 5);
    assert_int_equal(p->began, 0); /* by no switch */
    take_down(p);
}

static void test_by_a_pin(void **state)
{
    (void)state;
    static const tw_sim_signal signals[] = {{"night", 20 * S, 40 * S}};
    char lines[256];
    (void)snprintf(lines, sizeof lines, "dark_by = pin\ndark_pin = night\n%s", BY_LIGHT);
    place *p = set_up(lines, signals, 1);
    watch(p, 22, 100, 0);
    assert_int_equal(post_s(p), 5);
    watch(p, 8, 100, 0);
    assert_int_equal(post_s(p), 4);
    watch(p, 20, 100, 0);
    assert_int_equal(post_s(p), 5);
    assert_int_equal(p->problems.count, 0);
    take_down(p);
}

static tw_status read_nothing(void *ctx, const char *line, bool *active, tw_error *err)
{
    (void)ctx;
    (void)active;
    return tw_fail(err, TW_EACCES, "%s is in use", line);
}

/* It stays as it was, until the pin can be read again. */
static void test_a_pin_that_cannot_be_read_is_told_once(void **state)
{
    (void)state;
    static const tw_sim_signal signals[] = {{"night", 20 * S, 90 * S}};
    char lines[256];
    (void)snprintf(lines, sizeof lines, "dark_by = pin\ndark_pin = night\n%s", BY_LIGHT);
    place *p = set_up(lines, signals, 1);
    watch(p, 15, 100, 0);
    const tw_pins_ops *good = p->pins.ops;
    tw_pins_ops broken = *good;
    broken.read = read_nothing;
    p->pins.ops = &broken;
    watch(p, 30, 100, 0);
    assert_int_equal(post_s(p), 5);
    assert_int_equal(p->problems.count, 1);
    assert_has(p->problems.text, "night is in use");
    p->pins.ops = good;
    watch(p, 10, 100, 0);
    assert_int_equal(post_s(p), 4);
    take_down(p);
}

/* 21 June 2026 in the middle of England: the sun sets at 20:31 UTC, it is dusk at
 * 21:18, by the tables of the almanac. */
static void test_by_the_sun(void **state)
{
    (void)state;
    char lines[256];
    (void)snprintf(lines, sizeof lines,
                   "dark_by = sun\nlatitude = 52.5\nlongitude = -1.5\n%s", BY_LIGHT);
    place *p = set_up(lines, NULL, 0);
    p->wall_us = INT64_C(1782076200) * S; /* 21:10 */
    watch(p, 5, 10, 0);                   /* dark as the picture is */
    assert_int_equal(post_s(p), 5);
    p->wall_us = INT64_C(1782078000) * S; /* 21:40 */
    watch(p, 3, 100, 0);
    assert_int_equal(post_s(p), 4);
    take_down(p);
}

static void test_by_the_hour(void **state)
{
    (void)state;
    place *p = set_up("[camera mere when 22:00-05:00]\npost_event = 4 s\n"
                      "[camera mere when 23:00-23:30]\nlongest = 2 min\n",
                      NULL, 0);
    p->wall_us = INT64_C(1782079190) * S; /* 21:59:50 */
    watch(p, 5, 100, 0);
    assert_int_equal(post_s(p), 8);
    watch(p, 10, 100, 0);
    assert_int_equal(post_s(p), 4);
    p->wall_us += INT64_C(3600) * S;
    watch(p, 5, 100, 0);
    assert_int_equal(post_s(p), 4);
    assert_int_equal(twi_pipeline_settings(p->pipeline)->longest_us / S, 120);
    assert_has(p->holds.text, "what it has set for 22:00-05:00; 23:00-23:30 holds");
    p->wall_us += INT64_C(7 * 3600) * S;
    watch(p, 5, 100, 0);
    assert_int_equal(post_s(p), 8);
    assert_has(p->holds.text, "what it has set for all times holds alone");
    take_down(p);
}

/* All that may be another by light is gone over to in the middle of a sighting: it goes
 * on, and each of its frames is kept. */
static void test_going_over_loses_no_frame(void **state)
{
    (void)state;
    static const tw_sim_signal signals[] = {{"night", 25 * S, 90 * S}};
    static const char other[] =
        "dark_by = pin\ndark_pin = night\npre_event = 2 s\npost_event = 8 s\n"
        "[camera mere when dark]\npre_event = 6 s\npost_event = 4 s\nstart_at = 5 %\n"
        "smallest = 1 %\ntravel = 10 %\nclip_quality = 40\nlongest = 4 min\n"
        "light_guard = no\nconfirm = 3 of 4\nsensor_holds = 3 s\nsettle = 30 s\n"
        "pre_event_memory = 64 MB\nmirror = yes\nstill_quality = 50\ncolour = no\n";
    place *p = set_up(other, signals, 1);
    watch(p, 20, 100, 0);
    atomic_store(&p->orders.trigger, true);
    const size_t before = p->packets;
    watch(p, 1, 100, 0);
    assert_int_equal(p->began, 1);
    watch(p, 70, 100, 0);
    assert_int_equal(post_s(p), 4);
    assert_int_equal(p->began, 1);
    assert_int_equal(p->ended, 1);
    assert_int_equal(p->problems.count, 0);
    const int64_t frames = (p->last.clip_end_us - p->last.clip_start_us) / STEP;
    assert_in_range(p->packets - before, frames, frames + 1);
    take_down(p);
}

/* What cannot hold is told once, and what held goes on; and comes back in its time. */
static void test_what_cannot_hold_is_told_once(void **state)
{
    (void)state;
    static const tw_sim_signal signals[] = {{"night", 20 * S, 60 * S},
                                            {"night", 100 * S, 140 * S}};
    place *p = set_up("dark_by = pin\ndark_pin = night\npost_event = 3 s\n"
                      "[camera mere when dark]\npost_event = 4 s\nmask = /none.png\n",
                      signals, 2);
    watch(p, 50, 100, 0);
    assert_int_equal(post_s(p), 3);
    assert_int_equal(p->problems.count, 1);
    assert_has(p->problems.text, "what it has set by light and hour does not hold");
    assert_int_equal(p->holds.count, 0);
    watch(p, 40, 100, 0);
    assert_int_equal(p->problems.count, 1);
    take_down(p);
}

static void test_what_holds_holds_of_new_settings_too(void **state)
{
    (void)state;
    place *p = set_up(BY_LIGHT, NULL, 0);
    tw_error err = {0};
    twi_camera_settings next;
    watch(p, 5, 100, 0);
    assert_int_equal(post_s(p), 5);
    p->others = settings_of("[camera mere]\nsource = x\nstills = none\npost_event = 6 s\n"
                            "[camera mere when light]\npost_event = 7 s\n");
    assert_int_equal(twi_settings_camera(p->others, "mere", &next), TW_OK);
    assert_int_equal(twi_pipeline_adjust(p->pipeline, &next, &err), TW_OK);
    assert_int_equal(post_s(p), 7);
    assert_int_equal(twi_pipeline_holds(p->pipeline), 1);
    watch(p, 60, 5, 0);
    assert_int_equal(post_s(p), 6);
    take_down(p);
}

/* Its own lamp is no day. */
static void test_a_lamp_makes_no_day(void **state)
{
    (void)state;
    place *p = set_up("lamp_pin = lamp\npost_event = 3 s\n"
                      "[camera mere when light]\npost_event = 5 s\n",
                      NULL, 0);
    uint32_t switched = 0;
    watch(p, 20, 10, 0);
    atomic_store(&p->orders.trigger, true);
    watch(p, 1, 10, 0);
    assert_true(tw_sim_pins_output(&p->pins, "lamp", &switched));
    for (int i = 0; i < 10; i++) { /* a sighting that goes on and on */
        atomic_store(&p->orders.trigger, true);
        watch(p, 2, 150, 0);
    }
    assert_true(tw_sim_pins_output(&p->pins, "lamp", &switched));
    assert_int_equal(post_s(p), 3);
    take_down(p);
}

/* ---- controls --------------------------------------------------------------------- */

static void tell_problem(void *ctx, const tw_event *e)
{
    if (e->kind == TW_EVENT_PROBLEM)
        collect_problem(ctx, e->text);
}

static struct {
    uint8_t *jpeg;
    size_t bytes, given;
    char controls[256];
    bool refuse, without; /* it has no controls */
} device;

static tw_status open_device(void *ctx, tw_stream *stream, tw_error *err)
{
    (void)ctx;
    (void)err;
    *stream = (tw_stream){.codec = TW_CODEC_MJPEG,
                          .codec_name = "mjpeg",
                          .width = W,
                          .height = H,
                          .fps_den = 1};
    return TW_OK;
}

static tw_status next_frame(void *ctx, tw_frame *frame, tw_error *err)
{
    (void)ctx;
    (void)err;
    const int64_t t = (int64_t)device.given++ * STEP;
    *frame = (tw_frame){.packet = {.data = device.jpeg,
                                   .size = device.bytes,
                                   .key = true,
                                   .t_us = t,
                                   .dts_us = t,
                                   .wall_us = t}};
    return TW_OK;
}

static void close_device(void *ctx)
{
    (void)ctx;
}

static tw_status control(void *ctx, const char *controls, tw_error *err)
{
    (void)ctx;
    const size_t n = strlen(device.controls);
    (void)snprintf(device.controls + n, sizeof device.controls - n, "<%s>", controls);
    return device.refuse ? tw_fail(err, TW_EINVAL, "no such control") : TW_OK;
}

static tw_status make_device(const tw_camera_request *request, tw_camera *out,
                             tw_error *err)
{
    static const tw_camera_ops with = {sizeof with,  "device",   TW_LIVE,
                                       open_device,  next_frame, close_device,
                                       close_device, control},
                               without = {sizeof without, "device",   TW_LIVE,
                                          open_device,    next_frame, close_device,
                                          close_device,   NULL};
    (void)err;
    (void)snprintf(device.controls, sizeof device.controls, "[%s]", request->controls);
    *out = (tw_camera){device.without ? &without : &with, NULL};
    return TW_OK;
}

/* A device gets the controls of the hour, also where its rate is thinned. */
static void test_controls_go_with_it(void **state)
{
    (void)state;
    static const tw_camera_make_fn makers[] = {make_device, NULL};
    tw_sim_time time = {0};
    tw_error err = {0};
    for (int i = 0; i < 4; i++) {
        const bool thinned = i % 2 == 1;
        char text[512];
        problems told = {0};
        twi_run run;
        twi_camera_settings camera;
        (void)snprintf(text, sizeof text,
                       "[camera mere]\nsource = x\ncontrols = gain=1\nfps = %s\n"
                       "[camera mere when 00:01-00:02]\ncontrols = gain=9\n",
                       thinned ? "5 fps" : "auto");
        tw_settings *settings = settings_of(text);
        assert_int_equal(twi_settings_camera(settings, "mere", &camera), TW_OK);
        device.jpeg = plain_jpeg(W, H, 90, &device.bytes);
        device.given = 0;
        device.refuse = thinned;
        device.without = i >= 2;
        const tw_platform platform = {.makers = makers, .clock = tw_sim_clock(&time)};
        if (twi_run_open(&run, &platform, &camera, false, false, NULL, tell_problem,
                         &told, &err) != TW_OK)
            fail_msg("%s", err.text);
        while (device.given < 600)
            assert_int_equal(twi_run_step(&run, &err), TW_OK);
        assert_string_equal(device.controls, "[gain=1]");
        while (device.given < 1210)
            assert_int_equal(twi_run_step(&run, &err), TW_OK);
        assert_string_equal(device.controls,
                            device.without ? "[gain=1]" : "[gain=1]<gain=9><gain=1>");
        assert_int_equal(told.count > 0, thinned && !device.without);
        twi_run_close(&run);
        free(device.jpeg);
        tw_settings_free(settings);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_by_the_light_of_the_picture),
        cmocka_unit_test(test_a_night_takes_as_long_as_it_should),
        cmocka_unit_test(test_by_colour),
        cmocka_unit_test(test_by_a_pin),
        cmocka_unit_test(test_a_pin_that_cannot_be_read_is_told_once),
        cmocka_unit_test(test_by_the_sun),
        cmocka_unit_test(test_by_the_hour),
        cmocka_unit_test(test_going_over_loses_no_frame),
        cmocka_unit_test(test_what_cannot_hold_is_told_once),
        cmocka_unit_test(test_what_holds_holds_of_new_settings_too),
        cmocka_unit_test(test_a_lamp_makes_no_day),
        cmocka_unit_test(test_controls_go_with_it),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
