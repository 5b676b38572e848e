/* Frames that a program pushes, by themselves and watched by a station. */
#include <pthread.h>
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

enum { W = 160, H = 120, FPS = 10 };

typedef struct pushing {
    char *folder;
    tw_push *push[2];
    tw_push *list[3];
    tw_card card;
    tw_settings *settings;
    tw_station *station;
    pthread_t thread;
    pthread_mutex_t lock;
    noted seen; /* under the lock */
    tw_status status;
} pushing;

static void on_pushed(void *ctx, const tw_event *e)
{
    pushing *p = ctx;
    (void)pthread_mutex_lock(&p->lock);
    note_event(&p->seen, e);
    (void)pthread_mutex_unlock(&p->lock);
}

static void *run_station(void *ctx)
{
    pushing *p = ctx;
    p->status = tw_station_run(p->station);
    return NULL;
}

/* As recorded footage that is not paced: whoever is told is waited for, and misses no
 * reading. */
static pushing *begin(const char *lines, const tw_stream *first, const tw_stream *second)
{
    pushing *p = calloc(1, sizeof *p);
    char text[512];
    tw_error err = {0};
    assert_non_null(p);
    p->folder = make_folder();
    (void)pthread_mutex_init(&p->lock, NULL);
    (void)snprintf(
        text, sizeof text,
        "[station]\nnames = {sighting}-{kind}\n"
        "[camera bank]\nsource = push:bank\nfps = auto\npace = no\nsettle = 1 s\n%s",
        lines);
    p->settings = settings_of(text);
    assert_int_equal(tw_push_new("bank", first, TW_RECORDED, &p->push[0]), TW_OK);
    p->list[0] = p->push[0];
    if (second) {
        assert_int_equal(tw_push_new("small", second, TW_LIVE, &p->push[1]), TW_OK);
        p->list[1] = p->push[1];
    }
    assert_int_equal(tw_linux_card(p->folder, &p->card, &err), TW_OK);
    const tw_platform platform = {
        .clock = tw_linux_clock(), .card = &p->card, .pushed = p->list};
    if (tw_station_new(&platform, p->settings, on_pushed, p, &p->station, &err) != TW_OK)
        fail_msg("%s", err.text);
    assert_int_equal(pthread_create(&p->thread, NULL, run_station, p), 0);
    return p;
}

static void wait_a_moment(void)
{
    const tw_clock clock = tw_linux_clock();
    clock.ops->sleep_until(clock.ctx, clock.ops->now_us(clock.ctx) + 1000);
}

static void push_one(tw_push *push, const tw_frame *frame)
{
    assert_int_equal(tw_push_frame(push, frame, true), TW_OK);
}

static void until_taken(tw_push *push)
{
    for (int i = 0; i < 60000 && tw_push_waiting(push) > 0; i++)
        wait_a_moment();
    assert_int_equal(tw_push_waiting(push), 0);
}

/* @return what has been seen; the card's folder stays. */
static noted end(pushing *p)
{
    tw_station_stop(p->station);
    (void)pthread_join(p->thread, NULL);
    assert_int_equal(p->status, TW_OK);
    tw_station_free(p->station);
    tw_push_free(p->push[0]);
    tw_push_free(p->push[1]);
    tw_settings_free(p->settings);
    p->card.ops->destroy(p->card.ctx);
    (void)pthread_mutex_destroy(&p->lock);
    return p->seen;
}

#define FIRST_US INT64_C(100000000) /* any zero will do */

/* A square crosses a plain bank from the fifth second on. */
static tw_frame draw(uint8_t *px, int i)
{
    const int x = (i - 5 * FPS) * 3;
    memset(px, 90, (size_t)W * H);
    for (int y = 50; y < 66 && x >= 0 && x < W - 24; y++)
        memset(px + (size_t)y * W + (size_t)x, 20, 24);
    return (tw_frame){.packet = {.t_us = FIRST_US + (int64_t)i * 1000000 / FPS},
                      .picture = {.px = {px},
                                  .stride = {W},
                                  .width = W,
                                  .height = H,
                                  .pixels = TW_PIXELS_GREY}};
}

static const tw_stream GREY = {.codec = TW_CODEC_RAW,
                               .pixels = TW_PIXELS_GREY,
                               .width = W,
                               .height = H,
                               .fps_num = FPS,
                               .fps_den = 1};

/* What status says of a camera is looked at once a second. */
static void check_kept_raw(const pushing *p, bool expected)
{
    tw_camera_status s = {.kept_bytes = 0};
    for (int i = 0; i < 60000 && (s.kept_bytes == 0 || s.kept_raw != expected); i++) {
        assert_int_equal(tw_station_camera(p->station, 0, &s), TW_OK);
        wait_a_moment();
    }
    assert_int_equal(s.kept_raw, expected);
}

/* The same picture with its brightness in every second byte. */
static tw_frame as_yuyv(const tw_frame *grey, uint8_t *px)
{
    tw_frame frame = *grey;
    for (size_t i = 0; i < (size_t)W * H; i++) {
        px[2 * i] = grey->picture.px[0][i];
        px[2 * i + 1] = 128;
    }
    frame.picture.px[0] = px;
    frame.picture.stride[0] = 2 * W;
    frame.picture.pixels = TW_PIXELS_YUYV;
    return frame;
}

static void test_pushed_pixels_become_a_sighting(void **state)
{
    (void)state;
    static uint8_t px[W * H], twice[2 * W * H];
    static const struct {
        const char *lines;
        bool raw, yuyv;
    } cases[] = {{"", true, false},
                 {"", true, true},
                 {"pre_event = 60 s\npre_event_memory = 1 MB\n", false, false},
                 {"pre_event = 60 s\npre_event_memory = 1 MB\n", false, true},
                 {"pre_event_disarmed = no\npre_event = 0 s\n", true, true}};
    for (size_t k = 0; k < sizeof cases / sizeof *cases; k++) {
        pushing *p = begin(cases[k].lines, &GREY, NULL);
        for (int i = 0; i < 20 * FPS; i++) {
            tw_frame frame = draw(px, i);
            if (cases[k].yuyv)
                frame = as_yuyv(&frame, twice);
            push_one(p->push[0], &frame);
        }
        until_taken(p->push[0]);
        check_kept_raw(p, cases[k].raw);
        const noted s = end(p);
        if (s.problems.count > 0)
            fail_msg("%s", s.problems.text);
        assert_int_equal(s.readings, 20 * FPS);
        assert_int_equal(s.sightings, 1);
        assert_int_equal(s.clips, 1);
        assert_int_equal(s.stills, 1);
        char text[64];
        describe_video(p->folder, "001-clip.mp4", text);
        assert_int_equal(strncmp(text, "h264,160,120,", 13), 0);
        remove_folder(p->folder);
        free(p);
    }
}

/* The small stream is looked at, the large one is kept. */
static void test_a_second_camera_may_give_pixels(void **state)
{
    (void)state;
    static uint8_t px[W * H];
    size_t bytes = 0;
    uint8_t *jpeg = plain_jpeg(320, 240, 90, &bytes);
    const tw_stream large = {
        .codec = TW_CODEC_MJPEG, .codec_name = "mjpeg", .fps_num = FPS, .fps_den = 1};
    pushing *p = begin("detect_source = push:small\nclip_video = mjpeg\n", &large, &GREY);
    for (int i = 0; i < 20 * FPS; i++) {
        const tw_frame small = draw(px, i);
        const tw_frame kept = {.packet = {.data = jpeg,
                                          .size = bytes,
                                          .t_us = small.packet.t_us,
                                          .dts_us = small.packet.t_us,
                                          .key = true}};
        push_one(p->push[0], &kept);
        push_one(p->push[1], &small);
        until_taken(p->push[0]);
    }
    const noted s = end(p);
    if (s.problems.count > 0)
        fail_msg("%s", s.problems.text);
    assert_int_equal(s.sightings, 1);
    assert_int_equal(s.stills, 1);
    char text[64];
    describe_video(p->folder, "001-clip.mp4", text);
    assert_int_equal(strncmp(text, "mjpeg,320,240,", 14), 0);
    free(jpeg);
    remove_folder(p->folder);
    free(p);
}

/* What is none is left out, and told; the camera goes on. */
static void test_frames_that_are_not_what_was_said(void **state)
{
    (void)state;
    static uint8_t px[W * H];
    pushing *p = begin("", &GREY, NULL);
    for (int i = 0; i < 2 * FPS; i++) {
        tw_frame frame = draw(px, i);
        if (i == FPS) {
            frame.picture.px[0] = NULL;
            frame.packet.data = px;
            frame.packet.size = 100;
        }
        push_one(p->push[0], &frame);
    }
    until_taken(p->push[0]);
    const noted s = end(p);
    assert_int_equal(s.problems.count, 1);
    assert_has(s.problems.text,
               "frame 11 at 1.000 s left out: its pixels or its packet are not what the "
               "camera said that it gives");
    assert_int_equal(s.readings, 2 * FPS - 1);
    remove_folder(p->folder);
    free(p);
}

static void test_what_cannot_be_pushed(void **state)
{
    (void)state;
    static uint8_t px[W * H];
    tw_push *push = NULL;
    tw_frame frame = draw(px, 0);
    assert_int_equal(tw_push_new("", &GREY, TW_LIVE, &push), TW_EINVAL);
    assert_int_equal(tw_push_new(NULL, &GREY, TW_LIVE, &push), TW_EINVAL);
    assert_int_equal(tw_push_new("a", NULL, TW_LIVE, &push), TW_EINVAL);
    assert_int_equal(tw_push_new("a", &GREY, TW_LIVE, NULL), TW_EINVAL);
    assert_int_equal(tw_push_new("a", &GREY, (tw_liveness)9, &push), TW_EINVAL);
    assert_int_equal(tw_push_new("a", &GREY, TW_LIVE, &push), TW_OK);
    assert_int_equal(tw_push_frame(push, &frame, false), TW_EAGAIN); /* nobody watches */
    assert_int_equal(tw_push_waiting(push), 0);
    assert_int_equal(tw_push_frame(push, NULL, false), TW_EINVAL);
    assert_int_equal(tw_push_frame(NULL, &frame, false), TW_EINVAL);
    frame.picture.stride[0] = W - 1;
    assert_int_equal(tw_push_frame(push, &frame, false), TW_EINVAL);
    frame.picture.px[0] = NULL;
    assert_int_equal(tw_push_frame(push, &frame, true), TW_EINVAL);
    tw_push_free(push);
    tw_push_free(NULL);
    tw_push_end(NULL);
    assert_int_equal(tw_push_waiting(NULL), 0);
}

static void *push_many(void *ctx)
{
    static uint8_t px[W * H];
    tw_status st = TW_OK;
    for (int i = 0; i < 30 && st == TW_OK; i++) {
        const tw_frame frame = draw(px, i);
        st = tw_push_frame(ctx, &frame, true);
    }
    return st == TW_OK ? ctx : NULL;
}

static tw_camera camera_of(tw_push *push, tw_push *list[2])
{
    tw_camera camera;
    tw_stream stream;
    tw_error err = {0};
    list[0] = push;
    list[1] = NULL;
    const tw_camera_request request = {
        .name = "bank", .source = "push:a", .clock = tw_linux_clock(), .pushed = list};
    if (tw_camera_make(NULL, &request, &camera, &err) != TW_OK ||
        camera.ops->open(camera.ctx, &stream, &err) != TW_OK)
        fail_msg("%s", err.text);
    return camera;
}

/* Whoever waits for room, or for a station, is let go when there will be none. */
static void test_whoever_waits_is_let_go(void **state)
{
    (void)state;
    pthread_t thread;
    void *good = NULL;
    tw_push *push = NULL, *list[2];
    tw_frame taken;
    tw_error err = {0};
    for (int how = 0; how < 3; how++) {
        assert_int_equal(tw_push_new("a", &GREY, TW_RECORDED, &push), TW_OK);
        tw_camera camera = {.ops = NULL};
        if (how < 2)
            camera = camera_of(push, list);
        assert_int_equal(pthread_create(&thread, NULL, push_many, push), 0);
        if (how == 0) { /* all are taken */
            for (int i = 0; i < 30;)
                i += camera.ops->next(camera.ctx, &taken, &err) == TW_OK;
            assert_int_equal(taken.packet.t_us, FIRST_US + 29 * 1000000 / FPS);
        } else if (how == 1) { /* it is full, and closed */
            for (int i = 0; i < 60000 && tw_push_waiting(push) < 8; i++)
                wait_a_moment();
            camera.ops->close(camera.ctx);
        } else {
            tw_push_end(push); /* before anybody watches */
        }
        (void)pthread_join(thread, &good);
        assert_ptr_equal(good, how == 0 ? push : NULL);
        tw_push_end(push);
        if (how == 0) {
            assert_int_equal(camera.ops->next(camera.ctx, &taken, &err), TW_EEND);
            assert_has(err.text, "push:a: no more frames are pushed");
        }
        if (camera.ops)
            camera.ops->destroy(camera.ctx);
        tw_push_free(push);
    }
}

/* Sound of a program's own is heard where the settings say so, and nowhere else. */
static void test_sound_that_is_pushed(void **state)
{
    (void)state;
    static uint8_t px[W * H];
    static const uint8_t packet[] = {1, 2, 3};
    static const char *const wanted[] = {"stream", "none", NULL, "alsa:hw:1"};
    const tw_error said = {TW_EIO, "not of a program's"};
    for (size_t i = 0; i < sizeof wanted / sizeof *wanted; i++) {
        tw_push *push = NULL, *list[2] = {NULL, NULL};
        tw_stream stream, own = GREY;
        tw_camera camera;
        tw_frame taken,
            picture = draw(px, 0),
            sound = {.packet = {.data = packet, .size = 3, .t_us = 5, .dts_us = 5},
                     .sound = true,
                     .said = &said};
        const bool hears = i == 0;
        own.sound = (tw_sound){.codec = TW_SOUND_OPUS, .rate = 48000, .channels = 1};
        assert_int_equal(tw_push_new("a", &own, TW_LIVE, &push), TW_OK);
        list[0] = push;
        const tw_camera_request request = {.name = "a",
                                           .source = "push:a",
                                           .clock = tw_linux_clock(),
                                           .pushed = list,
                                           .sound = wanted[i]};
        assert_int_equal(tw_camera_make(NULL, &request, &camera, NULL), TW_OK);
        assert_int_equal(camera.ops->open(camera.ctx, &stream, NULL), TW_OK);
        assert_int_equal(stream.sound.codec, hears ? TW_SOUND_OPUS : TW_SOUND_NONE);
        assert_int_equal(tw_push_frame(push, &sound, false), TW_OK);
        assert_int_equal(tw_push_frame(push, &picture, false), TW_OK);
        assert_int_equal(camera.ops->next(camera.ctx, &taken, NULL),
                         hears ? TW_OK : TW_EAGAIN);
        if (hears) {
            assert_true(taken.sound && !taken.said && taken.packet.size == 3);
            assert_memory_equal(taken.packet.data, packet, 3);
        }
        assert_int_equal(camera.ops->next(camera.ctx, &taken, NULL), TW_OK);
        assert_false(taken.sound);
        camera.ops->destroy(camera.ctx);
        tw_push_free(push);
    }
}

/* Eight wait; what comes then is left out, and counted as other drivers do. */
static void test_who_is_too_quick_is_told(void **state)
{
    (void)state;
    static uint8_t px[W * H];
    enum { WAITING = 8 };
    tw_push *push = NULL, *list[2];
    tw_stream stream;
    tw_frame taken, frame = draw(px, 0);
    tw_error err = {0};
    assert_int_equal(tw_push_new("a", &GREY, TW_LIVE, &push), TW_OK);
    tw_camera camera = camera_of(push, list);
    assert_int_equal(camera.ops->live, TW_LIVE);
    for (int i = 0; i < WAITING; i++)
        assert_int_equal(tw_push_frame(push, &frame, false), TW_OK);
    for (int i = 0; i < 3; i++)
        assert_int_equal(tw_push_frame(push, &frame, false), TW_EAGAIN);
    for (int i = 0; i < WAITING; i++)
        assert_int_equal(camera.ops->next(camera.ctx, &taken, &err), TW_OK);
    assert_int_equal(taken.dropped, 0);
    frame.packet.wall_us = 1234;
    assert_int_equal(tw_push_frame(push, &frame, false), TW_OK);
    assert_int_equal(camera.ops->next(camera.ctx, &taken, &err), TW_OK);
    assert_int_equal(taken.dropped, 3);
    assert_int_equal(taken.packet.wall_us, 1234);
    assert_int_equal(camera.ops->next(camera.ctx, &taken, &err), TW_EAGAIN);
    assert_int_equal(tw_push_frame(push, &frame, false), TW_OK);
    camera.ops->close(camera.ctx);
    assert_int_equal(tw_push_frame(push, &frame, true), TW_EAGAIN);
    assert_int_equal(camera.ops->open(camera.ctx, &stream, &err), TW_OK);
    assert_int_equal(stream.codec, TW_CODEC_RAW);
    assert_int_equal(stream.width, W);
    assert_int_equal(tw_push_waiting(push), 0); /* what waited is old by now */
    tw_push_end(push);
    assert_int_equal(tw_push_frame(push, &frame, true), TW_EAGAIN);
    camera.ops->destroy(camera.ctx);
    tw_push_free(push);
}

static void test_a_name_that_nobody_pushes(void **state)
{
    (void)state;
    tw_push *push = NULL, *list[2] = {NULL};
    tw_camera camera;
    tw_error err = {0};
    tw_camera_request request = {
        .name = "bank", .source = "push:b", .clock = tw_linux_clock(), .pushed = list};
    assert_int_equal(tw_push_new("a", &GREY, TW_LIVE_RARE, &push), TW_OK);
    list[0] = push;
    assert_int_equal(tw_camera_make(NULL, &request, &camera, &err), TW_ENOENT);
    assert_has(err.text, "push:b: this program pushes no frames of that name");
    request.pushed = NULL;
    assert_int_equal(tw_camera_make(NULL, &request, &camera, &err), TW_ENOENT);
    tw_push_free(push);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_pushed_pixels_become_a_sighting),
        cmocka_unit_test(test_a_second_camera_may_give_pixels),
        cmocka_unit_test(test_frames_that_are_not_what_was_said),
        cmocka_unit_test(test_what_cannot_be_pushed),
        cmocka_unit_test(test_whoever_waits_is_let_go),
        cmocka_unit_test(test_sound_that_is_pushed),
        cmocka_unit_test(test_who_is_too_quick_is_told),
        cmocka_unit_test(test_a_name_that_nobody_pushes),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
