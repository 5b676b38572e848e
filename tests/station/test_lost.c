/* Live cameras that fail: each is back soon after its fault ends, and nothing else is
 * touched by it. */
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

/* The twelve ways in which a camera fails here. */
typedef enum fault {
    NOT_MADE_AT_FIRST, /* it is not there when the station starts */
    OPEN_REFUSED,
    OPEN_DENIED,
    OPEN_NO_MEMORY,
    ENDS,   /* it closes the connection */
    BREAKS, /* an error in the middle */
    TIMES_OUT,
    EMPTY_FRAMES,
    DAMAGED_FRAMES,  /* told as such by the camera */
    BROKEN_PICTURES, /* bytes that are no JPEG */
    HALF_PICTURES,
    OTHER_SIZE, /* it comes back with pictures of another size */
    FAULTS
} fault;

enum { GOOD_FIRST = 40, W = 64, H = 48 };

/* State outlives the camera, which is made anew for each try. */
typedef struct script {
    fault fault;
    atomic_int opens, frames; /* others look at them while it runs */
    atomic_int bad_left;      /* tries, or frames, that still fail */
    uint8_t *jpeg, *other;
    size_t jpeg_bytes, other_bytes;
    int64_t t_us;
} script;

static script *scripts[2]; /* makers have no context of their own */

static bool at_opening(const script *s)
{
    return s->fault <= OPEN_NO_MEMORY;
}

static tw_status open_live(void *ctx, tw_stream *stream, tw_error *err)
{
    static const tw_status answers[] = {TW_ENOENT, TW_EIO, TW_EACCES, TW_ENOMEM};
    script *s = ctx;
    s->opens++;
    *stream = (tw_stream){
        .codec = TW_CODEC_MJPEG, .codec_name = "mjpeg", .fps_num = 10, .fps_den = 1};
    if (at_opening(s) && s->bad_left > 0) {
        s->bad_left--;
        return tw_fail(err, answers[s->fault], "the camera does not answer");
    }
    return TW_OK;
}

static tw_status give(script *s, tw_frame *frame, const uint8_t *data, size_t bytes)
{
    const tw_clock clock = tw_linux_clock();
    memset(frame, 0, sizeof *frame);
    s->t_us += 100000;
    frame->packet =
        (tw_packet){data, bytes, s->t_us, s->t_us, clock.ops->wall_us(clock.ctx), true};
    return TW_OK;
}

static tw_status fail_now(script *s, tw_frame *frame, tw_error *err)
{
    s->bad_left--;
    switch (s->fault) {
    case ENDS: return tw_fail(err, TW_EEND, "the other side has closed");
    case BREAKS: return tw_fail(err, TW_EIO, "connection reset");
    case TIMES_OUT: return tw_fail(err, TW_ETIMEOUT, "took too long");
    case DAMAGED_FRAMES: return tw_fail(err, TW_EDAMAGED, "a frame is damaged");
    case EMPTY_FRAMES: return give(s, frame, s->jpeg, 0);
    case BROKEN_PICTURES: return give(s, frame, (const uint8_t *)"no picture", 10);
    case HALF_PICTURES: return give(s, frame, s->jpeg, s->jpeg_bytes / 2);
    default: return give(s, frame, s->other, s->other_bytes);
    }
}

static tw_status next_live(void *ctx, tw_frame *frame, tw_error *err)
{
    script *s = ctx;
    const tw_clock clock = tw_linux_clock();
    clock.ops->sleep_until(clock.ctx, clock.ops->now_us(clock.ctx) + 2000);
    s->frames++;
    if (!at_opening(s) && s->frames > GOOD_FIRST && s->bad_left > 0)
        return fail_now(s, frame, err);
    return give(s, frame, s->jpeg, s->jpeg_bytes);
}

static void close_live(void *ctx)
{
    (void)ctx;
}

static tw_status make_live(const tw_camera_request *request, tw_camera *out,
                           tw_error *err)
{
    static const tw_camera_ops ops = {sizeof ops, "live",     TW_LIVE,    open_live,
                                      next_live,  close_live, close_live, NULL};
    (void)err;
    if (strncmp(request->source, "live:", 5) != 0)
        return TW_ENOTSUP;
    *out = (tw_camera){&ops, scripts[request->source[5] - '0']};
    return TW_OK;
}

typedef struct told {
    tw_station *station;
    size_t lost, back, frames[2], after;
    fault fault;
    problems problems, alarms;
} told;

static void on_event(void *ctx, const tw_event *e)
{
    told *t = ctx;
    const int camera = e->camera && strcmp(e->camera, "b") == 0;
    t->lost += e->kind == TW_EVENT_LOST;
    t->back += e->kind == TW_EVENT_BACK;
    if (e->kind == TW_EVENT_LOST)
        collect_problem(&t->problems, e->text);
    if (e->kind == TW_EVENT_ALARM)
        collect_problem(&t->alarms, e->text);
    if (e->kind != TW_EVENT_READING)
        return;
    t->frames[camera]++;
    const bool recovered = scripts[0]->bad_left == 0 && scripts[0]->frames > GOOD_FIRST;
    t->after += camera == 0 && recovered;
    if (t->after >= 20)
        tw_station_stop(t->station);
}

/* Tries or frames that fail: each try that does is waited for. */
static int bad_of(fault f)
{
    return f == OPEN_REFUSED ? 3 : 1;
}

static script *make_script(fault f)
{
    script *s = calloc(1, sizeof *s);
    assert_non_null(s);
    s->fault = f;
    s->bad_left = bad_of(f);
    s->jpeg = plain_jpeg(W, H, 100, &s->jpeg_bytes);
    s->other = plain_jpeg(W + 16, H, 100, &s->other_bytes);
    return s;
}

static void free_script(script *s)
{
    free(s->jpeg);
    free(s->other);
    free(s);
}

/* A clock that counts what is slept by it: what else takes time is the machine's own. */
static _Atomic int64_t slept_us;

static void counted_sleep(void *ctx, int64_t t_us)
{
    const tw_clock clock = tw_linux_clock();
    const int64_t wait_us = t_us - clock.ops->now_us(ctx);
    if (wait_us > 0)
        (void)atomic_fetch_add(&slept_us, wait_us);
    clock.ops->sleep_until(ctx, t_us);
}

/* @param station  What the settings say of it. @param alarms  What is told as such. */
static void run_as(fault f, const char *station, problems *alarms)
{
    static const tw_camera_make_fn makers[] = {make_live, NULL};
    char text[512];
    told t = {.fault = f};
    const int bytes =
        snprintf(text, sizeof text,
                 "[station]\n%s\n[cameras]\nsettle = 0 s\nclips = no\n"
                 "[camera a]\nsource = live:0\n[camera b]\nsource = live:1\n",
                 station);
    tw_card card;
    tw_error err = {0};
    tw_settings *settings = tw_settings_new();
    scripts[0] = make_script(f);
    scripts[1] = make_script(OPEN_REFUSED);
    scripts[1]->bad_left = 0;
    assert_int_equal(
        tw_settings_read_text(settings, "test", text, (size_t)bytes, NULL, NULL), TW_OK);
    assert_int_equal(tw_sim_card(NULL, &card), TW_OK);
    tw_clock_ops ops = *tw_linux_clock().ops;
    ops.sleep_until = counted_sleep;
    atomic_store(&slept_us, 0);
    const tw_platform platform = {.makers = makers, .clock = {&ops, NULL}, .card = &card};
    if (tw_station_new(&platform, settings, on_event, &t, &t.station, &err) != TW_OK)
        fail_msg("%s", err.text);
    assert_int_equal(tw_station_run(t.station), TW_OK);
    const bool loses = f <= TIMES_OUT;
    assert_int_equal(t.lost, loses); /* said once, however often it was tried */
    assert_int_equal(t.back, loses);
    /* Back within one step: 1 s, then 2 and 4 s, and a quarter more at most. */
    const int64_t most_us = !loses ? 0 : bad_of(f) == 3 ? 8750000 : 1250000;
    assert_true(slept_us <= most_us && (slept_us > 0) == loses);
    assert_int_equal(scripts[0]->opens, loses ? 1 + bad_of(f) : 1);
    assert_true(t.frames[1] > 20); /* the other one has gone on all the while */
    tw_camera_status status;
    assert_int_equal(tw_station_camera(t.station, 0, &status), TW_OK);
    assert_int_equal(status.lost_us, 0);
    tw_station_free(t.station);
    card.ops->destroy(card.ctx);
    tw_settings_free(settings);
    free_script(scripts[0]);
    free_script(scripts[1]);
    *alarms = t.alarms;
}

static void run_with(fault f)
{
    problems alarms;
    run_as(f, "", &alarms); /* ten minutes have not passed */
    assert_int_equal(alarms.count, 0);
}

/* Three tries fail, one and three seconds after the first. */
static void test_what_is_lost_for_long_is_an_alarm(void **state)
{
    (void)state;
    problems alarms;
    run_as(OPEN_REFUSED, "alarm_after = 1 s", &alarms);
    assert_int_equal(alarms.count, 2); /* once, and when it is over */
    assert_has(alarms.text, "it has given no picture for 1 s: the camera does not");
    assert_has(alarms.text, "back after ");
    run_as(OPEN_REFUSED, "alarm_after = 0 s", &alarms);
    assert_int_equal(alarms.count, 0);
}

static void test_cameras_that_cannot_be_opened(void **state)
{
    (void)state;
    run_with(NOT_MADE_AT_FIRST);
    run_with(OPEN_REFUSED);
}

static void test_denied_and_out_of_memory(void **state)
{
    (void)state;
    run_with(OPEN_DENIED);
    run_with(OPEN_NO_MEMORY);
}

static void test_cameras_that_break_off(void **state)
{
    (void)state;
    run_with(ENDS);
    run_with(BREAKS);
    run_with(TIMES_OUT);
}

static void test_frames_that_are_no_pictures(void **state)
{
    (void)state;
    for (int f = EMPTY_FRAMES; f < FAULTS; f++)
        run_with((fault)f);
}

/* ---- silence ------------------------------------------------------------------------
 */

/* A clock that runs a hundred times as fast. */
static int64_t fast_now(void *ctx)
{
    const tw_clock clock = tw_linux_clock();
    return (clock.ops->now_us(clock.ctx) - *(const int64_t *)ctx) * 100;
}

static void fast_sleep(void *ctx, int64_t t_us)
{
    const tw_clock clock = tw_linux_clock();
    clock.ops->sleep_until(clock.ctx, *(const int64_t *)ctx + t_us / 100);
}

static int64_t fast_wall(void *ctx)
{
    return INT64_C(1804966260) * 1000000 + fast_now(ctx);
}

static int64_t fast_lasts(void *ctx, int64_t span_us)
{
    (void)ctx;
    return span_us / 100;
}

static atomic_int asked; /* of the rare one, without an answer */

static tw_status next_of_none(void *ctx, tw_frame *frame, tw_error *err)
{
    script *s = ctx;
    const tw_clock clock = tw_linux_clock();
    (void)err;
    if (s->frames++ == 0)
        return give(s, frame, s->jpeg, s->jpeg_bytes);
    if (s == scripts[1])
        (void)atomic_fetch_add(&asked, 1);
    clock.ops->sleep_until(clock.ctx, clock.ops->now_us(clock.ctx) + 2000);
    return TW_EAGAIN;
}

/* The first is as a webcam, the second as a folder that pictures are put into. */
static tw_status make_silent(const tw_camera_request *request, tw_camera *out,
                             tw_error *err)
{
    static const tw_camera_ops ops[] = {{sizeof *ops, "live", TW_LIVE, open_live,
                                         next_of_none, close_live, close_live, NULL},
                                        {sizeof *ops, "rare", TW_LIVE_RARE, open_live,
                                         next_of_none, close_live, close_live, NULL}};
    const int which = request->source[5] - '0';
    (void)err;
    *out = (tw_camera){&ops[which], scripts[which]};
    return TW_OK;
}

typedef struct silence {
    tw_station *station;
    size_t lost[2];
    char why[256];
    problems alarms;
} silence;

/* A board without a battery, and without a network. */
static bool never_trusted(void *ctx, int64_t wall_us)
{
    (void)ctx;
    (void)wall_us;
    return false;
}

static void on_silence(void *ctx, const tw_event *e)
{
    silence *s = ctx;
    if (e->kind == TW_EVENT_ALARM && strstr(e->text, "clock"))
        collect_problem(&s->alarms, e->text);
    if (s->lost[0] > 0 && s->alarms.count > 0)
        tw_station_stop(s->station);
    if (e->kind != TW_EVENT_LOST)
        return;
    s->lost[strcmp(e->camera, "b") == 0]++;
    (void)snprintf(s->why, sizeof s->why, "%s", e->text);
    for (int i = 0; i < 6000 && atomic_load(&asked) < 300; i++)
        tw_linux_clock().ops->sleep_until(NULL,
                                          tw_linux_clock().ops->now_us(NULL) + 10000);
    /* the rare one has been silent for as long, too */
}

static void test_a_rare_camera_may_be_silent(void **state)
{
    (void)state;
    static const tw_camera_make_fn makers[] = {make_silent, NULL};
    static const char text[] = "[station]\nalarm_after = 20 s\n"
                               "[cameras]\nclips = no\n[camera a]\nsource = none:0\n"
                               "[camera b]\nsource = none:1\n";
    silence t = {0};
    tw_card card;
    tw_error err = {0};
    tw_settings *settings = tw_settings_new();
    tw_clock_ops ops = *tw_linux_clock().ops;
    int64_t from_us = ops.now_us(NULL);
    ops.now_us = fast_now;
    ops.sleep_until = fast_sleep;
    ops.wall_us = fast_wall;
    ops.trusted = never_trusted;
    ops.lasts_us = fast_lasts;
    for (int i = 0; i < 2; i++) {
        scripts[i] = make_script(ENDS);
        scripts[i]->bad_left = 0;
    }
    (void)tw_settings_read_text(settings, "test", text, sizeof text - 1, NULL, NULL);
    assert_int_equal(tw_sim_card(NULL, &card), TW_OK);
    const tw_platform platform = {
        .makers = makers, .clock = {&ops, &from_us}, .card = &card};
    if (tw_station_new(&platform, settings, on_silence, &t, &t.station, &err) != TW_OK)
        fail_msg("%s", err.text);
    assert_int_equal(tw_station_run(t.station), TW_OK);
    assert_int_equal(t.lost[0], 1);
    assert_int_equal(t.lost[1], 0);
    assert_has(t.why, "lost: no frame for 10 s");
    assert_int_equal(t.alarms.count, 1);
    assert_has(t.alarms.text, "the clock has not been set since the station was started");
    tw_station_free(t.station);
    card.ops->destroy(card.ctx);
    tw_settings_free(settings);
    free_script(scripts[0]);
    free_script(scripts[1]);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_what_is_lost_for_long_is_an_alarm),
        cmocka_unit_test(test_cameras_that_cannot_be_opened),
        cmocka_unit_test(test_denied_and_out_of_memory),
        cmocka_unit_test(test_cameras_that_break_off),
        cmocka_unit_test(test_frames_that_are_no_pictures),
        cmocka_unit_test(test_a_rare_camera_may_be_silent),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
