/* The simulated board: scene, camera, clock, and the faults of its card. */
#include <stdlib.h>
#include <string.h>

#include "../../src/media/jpeg.h"
#include "../support/support.h"

static uint64_t digest(const uint8_t *data, size_t bytes)
{
    uint64_t sum = 1469598103934665603U;
    for (size_t i = 0; i < bytes; i++)
        sum = (sum ^ data[i]) * 1099511628211U;
    return sum;
}

static uint64_t digest_of(const char *source, int frames)
{
    tw_stream stream;
    tw_frame frame;
    uint64_t sum = 0;
    tw_camera camera = open_camera(source, 10, &stream);
    for (int i = 0; i < frames; i++) {
        assert_int_equal(camera.ops->next(camera.ctx, &frame, NULL), TW_OK);
        sum = sum * 31 + digest(frame.packet.data, frame.packet.size);
    }
    camera.ops->destroy(camera.ctx);
    return sum;
}

static void test_the_same_source_gives_the_same_packets(void **state)
{
    (void)state;
    const uint64_t first = digest_of("sim:kerb,size=160x90", 30);
    assert_true(first == digest_of("sim:kerb,size=160x90", 30));
    assert_true(first != digest_of("sim:kerb,size=160x90,seed=2", 30));
}

static void test_scenes_know_their_truth(void **state)
{
    (void)state;
    assert_null(tw_sim_scene_find("nowhere"));
    assert_null(tw_sim_scene_find(NULL));
    size_t i = 0, events = 0, lured = 0;
    for (const tw_sim_scene *s = NULL; (s = tw_sim_scene_at(i)) != NULL; i++) {
        assert_ptr_equal(tw_sim_scene_find(s->name), s);
        for (size_t k = 0; k < s->event_count; k++)
            assert_true(s->events[k].start_us < s->events[k].end_us &&
                        s->events[k].end_us <= s->length_us);
        events += s->event_count;
        lured += s->event_count == 0; /* nothing in it should be found */
    }
    assert_true(i >= 13 && events > i && lured >= 3);
}

/* Each at a small size: pictures that differ from each other, and packets that a decoder
 * takes. What is worth finding in them is for the accuracy bench. */
static void test_every_scene_can_be_played(void **state)
{
    (void)state;
    for (size_t i = 0; tw_sim_scene_at(i); i++) {
        char source[64], raw[64];
        (void)snprintf(source, sizeof source, "sim:%s,size=96x64",
                       tw_sim_scene_at(i)->name);
        (void)snprintf(raw, sizeof raw, "sim:%s,size=96x64,raw=yes",
                       tw_sim_scene_at(i)->name);
        tw_stream stream;
        tw_frame frame;
        twi_decoded decoded;
        tw_camera packets = open_camera(source, 2, &stream);
        tw_camera camera = open_camera(raw, 2, &stream);
        twi_jpeg *jpeg = twi_jpeg_new(TWI_INSPECT_ALL);
        uint64_t last = 0;
        for (int k = 0; k < 8; k++) {
            assert_int_equal(camera.ops->next(camera.ctx, &frame, NULL), TW_OK);
            const uint64_t sum = digest(frame.picture.px[0], (size_t)96 * 64);
            assert_true(sum != last);
            last = sum;
            assert_int_equal(packets.ops->next(packets.ctx, &frame, NULL), TW_OK);
            assert_int_equal(
                twi_jpeg_read(jpeg, frame.packet.data, frame.packet.size, &decoded, NULL),
                TW_OK);
            assert_int_equal(decoded.width, 96);
        }
        twi_jpeg_free(jpeg);
        packets.ops->destroy(packets.ctx);
        camera.ops->destroy(camera.ctx);
    }
}

/* The truth is what the pixels show: a subject is in the picture within its event, and
 * nothing but noise and light outside of all. */
static void test_the_truth_is_in_the_pixels(void **state)
{
    (void)state;
    const tw_sim_scene *scene = tw_sim_scene_find("kerb");
    tw_stream stream;
    tw_frame frame;
    tw_camera camera = open_camera("sim:kerb,size=320x180,raw=yes", 2, &stream);
    uint8_t ground[320 * 180];
    for (int i = 0; i < 300; i++) {
        assert_int_equal(camera.ops->next(camera.ctx, &frame, NULL), TW_OK);
        assert_non_null(frame.picture.px[0]);
        if (i == 0)
            memcpy(ground, frame.picture.px[0], sizeof ground);
        const int64_t t = (int64_t)i * 500000;
        bool lit = false, subject = false, near = false;
        for (size_t k = 0; k < scene->lure_count; k++)
            lit = lit || (t >= scene->lures[k].start_us && t <= scene->lures[k].end_us);
        for (size_t k = 0; k < scene->event_count; k++) {
            subject = subject || (t >= scene->events[k].start_us + 3000000 &&
                                  t <= scene->events[k].end_us - 3000000);
            near =
                near || (t >= scene->events[k].start_us && t <= scene->events[k].end_us);
        }
        size_t changed = 0;
        for (size_t p = 0; p < sizeof ground; p++)
            changed += abs(frame.picture.px[0][p] - ground[p]) > 14;
        if (lit)
            continue;
        if (subject)
            assert_true(changed > 30);
        else if (!near)
            assert_int_equal(changed, 0);
    }
    assert_int_equal(camera.ops->next(camera.ctx, &frame, NULL), TW_EEND);
    camera.ops->destroy(camera.ctx);
}

static void test_packets_show_what_the_pixels_show(void **state)
{
    (void)state;
    tw_stream stream;
    tw_frame frame, pixels;
    twi_decoded decoded;
    twi_jpeg *jpeg = twi_jpeg_new(TWI_INSPECT_ALL);
    tw_camera camera = open_camera("sim:kerb,size=160x90", 10, &stream);
    assert_int_equal(stream.codec, TW_CODEC_MJPEG);
    tw_camera raw = open_camera("sim:kerb,size=160x90,raw=yes", 10, &stream);
    assert_int_equal(stream.codec, TW_CODEC_RAW);
    assert_int_equal(camera.ops->next(camera.ctx, &frame, NULL), TW_OK);
    assert_int_equal(raw.ops->next(raw.ctx, &pixels, NULL), TW_OK);
    assert_null(frame.picture.px[0]);
    assert_null(pixels.packet.data);
    assert_int_equal(
        twi_jpeg_read(jpeg, frame.packet.data, frame.packet.size, &decoded, NULL), TW_OK);
    assert_int_equal(decoded.width, 160);
    assert_int_equal(decoded.height, 90);
    for (size_t i = 0; i < 160 * 90; i++)
        assert_true(abs(decoded.luma.px[i] - pixels.picture.px[0][i]) < 30);
    camera.ops->destroy(camera.ctx);
    raw.ops->destroy(raw.ctx);
    twi_jpeg_free(jpeg);
}

static void test_options_that_cannot_be(void **state)
{
    (void)state;
    static const struct {
        const char *source, *line;
    } cases[] = {{"sim:nowhere", "there is no such scene, try sim:kerb"},
                 {"sim:", "there is no such scene"},
                 {"sim:kerb,size=10x10", "size=10x10 is not understood"},
                 {"sim:kerb,size=9000x100", "is not understood"},
                 {"sim:kerb,seed=x", "seed=x is not understood"},
                 {"sim:kerb,luma=maybe", "luma=maybe is not understood"}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        const tw_camera_request request = {
            .name = "t", .source = cases[i].source, .fps = 10, .clock = tw_linux_clock()};
        tw_camera camera;
        tw_error err = {0};
        assert_int_equal(tw_camera_make(TEST_MAKERS, &request, &camera, &err),
                         TW_ESYNTAX);
        assert_has(err.text, cases[i].line);
    }
}

static void test_the_virtual_clock_sets_the_pace(void **state)
{
    (void)state;
    tw_sim_time time = {.wall_at_zero_us = INT64_C(1800000000000000), .offset_s = 3600};
    const tw_camera_request request = {.name = "t",
                                       .source = "sim:kerb,size=64x64",
                                       .fps = 2,
                                       .loop = true,
                                       .pace = true,
                                       .clock = tw_sim_clock(&time)};
    tw_camera camera;
    tw_stream stream;
    tw_frame frame;
    assert_int_equal(tw_camera_make(TEST_MAKERS, &request, &camera, NULL), TW_OK);
    assert_int_equal(camera.ops->open(camera.ctx, &stream, NULL), TW_OK);
    int64_t before = -1;
    for (int i = 0; i < 320;) { /* more than one round: 150 s at two a second */
        const tw_status st = camera.ops->next(camera.ctx, &frame, NULL);
        if (st == TW_EAGAIN) /* not due yet: at most a quarter of a second has gone */
            continue;
        assert_int_equal(st, TW_OK);
        assert_int_equal(frame.packet.t_us, (int64_t)i * 500000);
        assert_int_equal(time.now_us, frame.packet.t_us);
        assert_int_equal(frame.packet.wall_us, time.wall_at_zero_us + time.now_us);
        assert_true(frame.packet.t_us > before);
        before = frame.packet.t_us;
        i++;
    }
    camera.ops->destroy(camera.ctx);
}

static void test_faults_of_the_card(void **state)
{
    (void)state;
    const tw_sim_faults faults = {
        .capacity = 10, .fail_call = 4, .fail_with = TW_EIO, .dead = true};
    tw_card card;
    tw_error err = {0};
    void *file = NULL;
    assert_int_equal(tw_sim_card(&faults, &card), TW_OK);
    assert_int_equal(card.ops->create(card.ctx, "a", &file, &err), TW_OK);
    assert_int_equal(card.ops->append(card.ctx, file, "12345678", 8, &err), TW_OK);
    assert_int_equal(card.ops->append(card.ctx, file, "123", 3, &err), TW_ENOSPC);
    assert_has(err.text, "a: no space left");
    assert_int_equal(card.ops->append(card.ctx, file, "12", 2, &err), TW_EIO);
    assert_int_equal(card.ops->append(card.ctx, file, "12", 2, &err), TW_EIO);
    assert_int_equal(tw_sim_card_calls(&card), 5);
    (void)card.ops->close(card.ctx, file, NULL);
    card.ops->destroy(card.ctx);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_the_same_source_gives_the_same_packets),
        cmocka_unit_test(test_scenes_know_their_truth),
        cmocka_unit_test(test_every_scene_can_be_played),
        cmocka_unit_test(test_the_truth_is_in_the_pixels),
        cmocka_unit_test(test_packets_show_what_the_pixels_show),
        cmocka_unit_test(test_options_that_cannot_be),
        cmocka_unit_test(test_the_virtual_clock_sets_the_pace),
        cmocka_unit_test(test_faults_of_the_card),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
