/* The recorder: which packets get into a clip, also when the sink is slow or small. */
#include <stdlib.h>
#include <string.h>

#include "../../src/station/recorder.h"
#include "../support/support.h"
#include "../../src/core/naming.h"
#include "../../src/settings/sections.h"

enum { MS100 = 100000, MOST = 4000 };

/* A sink that notes what it is given, and may be full. */
typedef struct notes {
    struct {
        twi_job_kind kind;
        uint32_t sighting;
        int number; /* of the packet */
    } job[MOST];
    size_t count;
    size_t room;         /* jobs it takes until it is full */
    size_t began, ended; /* for the catalogue */
} notes;

static bool give(void *ctx, twi_job *job, bool wait)
{
    notes *n = ctx;
    if (job->kind == TWI_JOB_BEGAN || job->kind == TWI_JOB_ENDED) {
        *(job->kind == TWI_JOB_BEGAN ? &n->began : &n->ended) += 1;
        return true; /* also where footage would have to wait */
    }
    if (n->room == 0 && !wait)
        return false;
    if (n->room > 0)
        n->room--;
    assert_true(n->count < MOST);
    n->job[n->count].kind = job->kind;
    n->job[n->count].sighting = job->sighting.number;
    n->job[n->count].number = job->kind == TWI_JOB_VIDEO_PACKET
                                  ? (int)(job->packet.t_us / MS100)
                                  : (int)(job->packet.wall_us);
    if (job->kind == TWI_JOB_VIDEO_PACKET) /* the content belongs to the number */
        assert_int_equal(job->packet.data[0], n->job[n->count].number & 0xFF);
    n->count++;
    twi_buffer_unref(job->buffer);
    return true;
}

typedef struct bench {
    twi_camera_settings camera;
    twi_channel channel;
    notes notes;
    twi_recorder *recorder;
    size_t packet_bytes;
    int key_every;
} bench;

static bench *make(int64_t pre_us, int64_t pre_bytes, size_t packet_bytes, int key_every)
{
    bench *b = calloc(1, sizeof *b);
    const tw_stream stream = {.codec = TW_CODEC_H264, .width = 64, .height = 64};
    assert_non_null(b);
    b->camera = (twi_camera_settings){
        .name = "kerb", .pre_us = pre_us, .pre_bytes = pre_bytes, .clips = true};
    b->channel.camera = &b->camera;
    b->notes.room = SIZE_MAX;
    b->packet_bytes = packet_bytes;
    b->key_every = key_every;
    const twi_jobs sink = {give, &b->notes};
    assert_int_equal(
        twi_recorder_new(&b->camera, &b->channel, &stream, sink, &b->recorder, NULL),
        TW_OK);
    return b;
}

static void done(bench *b)
{
    twi_recorder_free(b->recorder);
    free(b);
}

static void feed(bench *b, int from, int to)
{
    uint8_t *data = malloc(b->packet_bytes);
    for (int i = from; i <= to; i++) {
        memset(data, i & 0xFF, b->packet_bytes);
        const tw_packet packet = {
            data, b->packet_bytes,      (int64_t)i * MS100, (int64_t)i * MS100,
            i,    i % b->key_every == 0};
        assert_int_equal(twi_recorder_packet(b->recorder, &packet,
                                             twi_buffer_copy(data, b->packet_bytes),
                                             NULL),
                         TW_OK);
    }
    free(data);
}

static tw_sighting sighting(uint32_t number, int clip_start, int clip_end)
{
    return (tw_sighting){.number = number,
                         .part = 1,
                         .clip_start_us = (int64_t)clip_start * MS100,
                         .clip_end_us = (int64_t)clip_end * MS100};
}

/* Check that the notes from *at on are one clip with just these packets. */
static void check_clip(const bench *b, size_t *at, uint32_t number, int first, int last)
{
    const notes *n = &b->notes;
    assert_int_equal(n->job[*at].kind, TWI_JOB_VIDEO_BEGIN);
    assert_int_equal(n->job[*at].sighting, number);
    assert_int_equal(n->job[*at].number, first); /* named after its first frame */
    (*at)++;
    for (int i = first; i <= last; i++, (*at)++) {
        assert_int_equal(n->job[*at].kind, TWI_JOB_VIDEO_PACKET);
        assert_int_equal(n->job[*at].number, i);
    }
    assert_int_equal(n->job[*at].kind, TWI_JOB_VIDEO_END);
    (*at)++;
}

static void test_a_clip_begins_before_and_ends_after(void **state)
{
    (void)state;
    bench *b = make(2000000, 1000000, 100, 1);
    size_t at = 0;
    feed(b, 0, 49);
    tw_sighting s = sighting(1, 30, 80);
    twi_recorder_began(b->recorder, &s);
    assert_true(b->notes.count > 15); /* the pre-event footage goes at once */
    feed(b, 50, 79);
    twi_recorder_ended(b->recorder, &s, false);
    feed(b, 80, 90);
    check_clip(b, &at, 1, 30, 79);
    assert_int_equal(at, b->notes.count);
    done(b);
}

static void test_a_clip_begins_at_a_key_frame(void **state)
{
    (void)state;
    bench *b = make(2000000, 1000000, 100, 10);
    size_t at = 0;
    feed(b, 0, 49);
    tw_sighting s = sighting(1, 37, 60);
    twi_recorder_began(b->recorder, &s);
    feed(b, 50, 59);
    twi_recorder_ended(b->recorder, &s, false);
    feed(b, 60, 62);
    check_clip(b, &at, 1, 30, 59);
    done(b);
}

static void test_clips_in_a_row_share_nothing_where_they_need_not(void **state)
{
    (void)state;
    bench *b = make(2000000, 1000000, 100, 1);
    size_t at = 0;
    feed(b, 0, 30);
    tw_sighting one = sighting(1, 20, 50), two = sighting(2, 50, 70);
    twi_recorder_began(b->recorder, &one);
    feed(b, 31, 49);
    twi_recorder_ended(b->recorder, &one, false);
    twi_recorder_began(b->recorder, &two); /* its first packet is still to come */
    feed(b, 50, 70);
    twi_recorder_ended(b->recorder, &two, true);
    twi_recorder_flush(b->recorder);
    check_clip(b, &at, 1, 20, 49);
    check_clip(b, &at, 2, 50, 70);
    assert_int_equal(at, b->notes.count);
    done(b);
}

static void test_a_slow_sink_loses_nothing_while_memory_lasts(void **state)
{
    (void)state;
    bench *b = make(2000000, 1000000, 100, 1);
    size_t at = 0;
    feed(b, 0, 40);
    b->notes.room = 3;
    tw_sighting s = sighting(1, 20, 200);
    twi_recorder_began(b->recorder, &s);
    for (int i = 41; i < 200; i++) { /* one job for two frames */
        b->notes.room += (size_t)(i % 2);
        feed(b, i, i);
    }
    twi_recorder_ended(b->recorder, &s, false);
    assert_int_equal(twi_recorder_lost(b->recorder), 0);
    twi_recorder_flush(b->recorder); /* waits for the rest */
    check_clip(b, &at, 1, 20, 199);
    done(b);
}

static void test_a_dead_sink_costs_the_oldest_and_says_so(void **state)
{
    (void)state;
    bench *b = make(1000000, 1000000, 20000, 1); /* 50 packets fit */
    feed(b, 0, 20);
    b->notes.room = 0;
    tw_sighting s = sighting(1, 10, 500);
    twi_recorder_began(b->recorder, &s);
    feed(b, 21, 300);
    b->notes.room = SIZE_MAX;
    feed(b, 301, 310);
    assert_true(twi_recorder_lost(b->recorder) > 200);
    twi_recorder_ended(b->recorder, &s, true);
    twi_recorder_flush(b->recorder);
    size_t packets = 0;
    for (size_t i = 0; i < b->notes.count; i++)
        packets += b->notes.job[i].kind == TWI_JOB_VIDEO_PACKET;
    assert_in_range(packets, 40, 70);
    assert_int_equal(b->notes.job[b->notes.count - 1].kind, TWI_JOB_VIDEO_END);
    done(b);
}

static void test_memory_grows_only_as_it_must(void **state)
{
    (void)state;
    bench *b = make(3000000, 100000000, 50000, 1); /* 30 frames and a margin: 2.5 MB */
    size_t at = 0;
    feed(b, 0, 400);
    tw_sighting s = sighting(1, 370, 410);
    twi_recorder_began(b->recorder, &s);
    feed(b, 401, 409);
    twi_recorder_ended(b->recorder, &s, false);
    feed(b, 410, 411);
    check_clip(b, &at, 1, 370, 409); /* packets moved to larger rings are still right */
    done(b);
}

static void test_what_may_become_a_sighting_is_held(void **state)
{
    (void)state;
    tw_packet found;
    twi_buffer *buffer = NULL;
    bench *b = make(2000000, 1000000, 100, 1);
    feed(b, 0, 99);
    assert_int_equal(twi_recorder_find(b->recorder, 70 * MS100, &found, &buffer),
                     TW_ENOENT);
    twi_recorder_hold(b->recorder, 99 * MS100);
    feed(b, 100, 125);
    assert_int_equal(twi_recorder_find(b->recorder, 80 * MS100, &found, &buffer), TW_OK);
    twi_recorder_hold(b->recorder, 125 * MS100);
    feed(b, 126, 127);
    assert_int_equal(twi_recorder_find(b->recorder, 80 * MS100, &found, &buffer),
                     TW_ENOENT);
    done(b);
}

static void test_without_clips_only_stills_go(void **state)
{
    (void)state;
    bench *b = make(1000000, 1000000, 100, 1);
    b->camera.clips = false;
    feed(b, 0, 20);
    tw_sighting s = sighting(1, 10, 30);
    twi_recorder_began(b->recorder, &s);
    feed(b, 21, 30);
    const twi_still still = {.kind = TWI_KIND_STILL,
                             .sighting = &s,
                             .image = twi_buffer_copy((const uint8_t *)"picture", 7),
                             .times = {.t_us = 20 * MS100, .wall_us = 20},
                             .n = 1,
                             .width = 64,
                             .height = 64};
    twi_recorder_still(b->recorder, &still);
    twi_recorder_ended(b->recorder, &s, false);
    twi_recorder_flush(b->recorder);
    assert_int_equal(b->notes.count, 1);
    assert_int_equal(b->notes.job[0].kind, TWI_JOB_STILL);
    assert_int_equal(b->notes.began, 1); /* the catalogue is told all the same */
    assert_int_equal(b->notes.ended, 1);
    done(b);
}

static void test_a_frame_that_never_fits_is_told(void **state)
{
    (void)state;
    bench *b = make(1000000, 1000000, 100, 1);
    uint8_t *huge = calloc(1, 1000001);
    tw_error err = {0};
    const tw_packet packet = {huge, 1000001, 0, 0, 0, true};
    assert_int_equal(twi_recorder_packet(b->recorder, &packet,
                                         twi_buffer_copy(huge, packet.size), &err),
                     TW_ESIZE);
    assert_has(err.text, "a frame of 1000001 bytes does not fit into pre_event_memory");
    free(huge);
    feed(b, 1, 10); /* and smaller ones go on */
    tw_packet found;
    twi_buffer *buffer = NULL;
    assert_int_equal(twi_recorder_find(b->recorder, 5 * MS100, &found, &buffer), TW_OK);
    assert_int_equal(twi_recorder_find(b->recorder, 5 * MS100 + 1, &found, &buffer),
                     TW_ENOENT);
    done(b);
}

static void test_finding_a_clip_with_no_footage(void **state)
{
    (void)state;
    bench *b = make(1000000, 1000000, 100, 1);
    tw_sighting s = sighting(1, 10, 30);
    twi_recorder_began(b->recorder, &s);
    twi_recorder_ended(b->recorder, &s, true);
    twi_recorder_flush(b->recorder);
    assert_int_equal(b->notes.count, 0); /* no empty clip is made */
    done(b);
}

/* A segment that runs ends with what has come, also where nothing comes any more. */
static void test_continuous_recording_is_switched(void **state)
{
    (void)state;
    bench *b = make(2000000, 1000000, 100, 1);
    twi_camera_settings on = b->camera;
    size_t at = 0;
    on.continuous = true;
    on.segment_us = 60000000;
    feed(b, 0, 9);
    assert_int_equal(b->notes.count, 0);
    twi_recorder_adjust(b->recorder, &on);
    feed(b, 10, 30);
    b->notes.room = 0; /* the card is slow just now */
    feed(b, 31, 40);
    b->notes.room = SIZE_MAX;
    twi_recorder_adjust(b->recorder, &b->camera);
    check_clip(b, &at, 0, 10, 40);
    assert_int_equal(at, b->notes.count);
    feed(b, 41, 50);
    assert_int_equal(at, b->notes.count);
    twi_recorder_adjust(b->recorder, &on);
    feed(b, 51, 60);
    twi_recorder_flush(b->recorder);
    check_clip(b, &at, 0, 51, 60);
    done(b);
}

/* Before the next sighting more footage is kept; with less memory, less at once. */
static void test_the_pre_event_time_is_changed(void **state)
{
    (void)state;
    bench *b = make(1000000, 1000000, 100, 1);
    twi_camera_settings longer = b->camera, less = b->camera;
    size_t at = 0;
    longer.pre_us = 5000000;
    less.pre_bytes = 1000;
    feed(b, 0, 49);
    const size_t held = twi_recorder_held(b->recorder);
    twi_recorder_adjust(b->recorder, &longer);
    assert_int_equal(twi_recorder_held(b->recorder), held);
    feed(b, 50, 99);
    tw_sighting s = sighting(1, 50, 110);
    twi_recorder_began(b->recorder, &s);
    feed(b, 100, 109);
    twi_recorder_ended(b->recorder, &s, false);
    feed(b, 110, 120);
    check_clip(b, &at, 1, 50, 109);
    twi_recorder_adjust(b->recorder, &less);
    assert_in_range(twi_recorder_held(b->recorder), 900, 1000);
    done(b);
}

/* Pixels are held as they are where three quarters of the memory hold all that can be
 * wanted. */
static void test_when_pixels_are_held_as_they_are(void **state)
{
    (void)state;
    enum { MB = 1000000 };
    static const struct {
        int64_t pre_s, pre_mb;
        uint32_t fps;
        size_t bytes;
        bool raw;
    } cases[] = {{5, 128, 10, 1382400, true}, /* 720p with the built-in settings */
                 {5, 128, 30, 1382400, false}, {5, 64, 10, 1382400, false},
                 {5, 128, 10, 1700000, false}, /* more than three quarters */
                 {0, 16, 10, 1382400, true},   {60, 128, 5, 115200, true},
                 {5, 128, 10, 3110400, false}, {5, 300, 10, 3110400, true}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        bench *b = calloc(1, sizeof *b);
        const tw_stream stream = {
            .codec = TW_CODEC_RAW, .fps_num = cases[i].fps, .fps_den = 1};
        b->camera = (twi_camera_settings){.name = "kerb",
                                          .pre_us = cases[i].pre_s * 1000000,
                                          .pre_bytes = cases[i].pre_mb * MB,
                                          .confirm = {2, 3}};
        const twi_jobs sink = {give, &b->notes};
        assert_int_equal(
            twi_recorder_new(&b->camera, &b->channel, &stream, sink, &b->recorder, NULL),
            TW_OK);
        assert_int_equal(twi_recorder_holds_raw(b->recorder, cases[i].bytes),
                         cases[i].raw);
        done(b);
    }
}

/* How fast frames come is measured; where a slow card lets pixels gather they are encoded
 * until half of the memory is free again. */
static void test_pixels_that_gather_are_encoded(void **state)
{
    (void)state;
    bench *b = make(1000000, 100000, 1000, 1);
    assert_true(
        twi_recorder_holds_raw(b->recorder, 1000)); /* ten a second are promised */
    for (int i = 0; i < 40; i++) {                  /* and fifty come */
        const tw_packet p = {.t_us = i * 20000, .dts_us = i * 20000, .key = true};
        uint8_t *data = calloc(1, 1000);
        assert_int_equal(
            twi_recorder_packet(b->recorder, &p, twi_buffer_adopt(data, 1000), NULL),
            TW_OK);
    }
    assert_true(twi_recorder_holds_raw(b->recorder, 1000)); /* 62 frames of 75 */
    b->camera.pre_us = 1500000;
    assert_false(twi_recorder_holds_raw(b->recorder, 1000));
    done(b);
    b = make(1000000, 40000, 1000, 1);
    b->notes.room = 0; /* the card takes nothing */
    const tw_sighting s = {.number = 1};
    twi_recorder_began(b->recorder, &s);
    bool raw = true;
    int i = 0;
    for (; raw && i < 100; i++) {
        feed(b, i, i);
        raw = twi_recorder_holds_raw(b->recorder, 1000);
    }
    assert_int_equal(i, 35); /* seven eighths of what there is room for */
    assert_false(twi_recorder_holds_raw(b->recorder, 1000));
    twi_recorder_flush(b->recorder);
    assert_true(twi_recorder_holds_raw(b->recorder, 1000));
    done(b);
}

/* ---- sound --------------------------------------------------------------------------
 */

enum { FILES_MOST = 40, SOUNDS = 1000, SOUND_US = 20000 };

/* Which file each packet of sound went into, and when its first picture was. */
typedef struct filed {
    size_t files;
    int64_t first_us[FILES_MOST];
    size_t in_file[SOUNDS];
    unsigned times[SOUNDS];
    bool open;
} filed;

static bool file_it(void *ctx, twi_job *job, bool wait)
{
    filed *f = ctx;
    (void)wait;
    if (job->kind == TWI_JOB_VIDEO_BEGIN) {
        assert_false(f->open);
        assert_true(f->files < FILES_MOST);
        f->open = true;
        f->first_us[f->files++] = job->packet.dts_us;
    } else if (job->kind == TWI_JOB_VIDEO_END) {
        f->open = false;
    } else if (job->kind == TWI_JOB_VIDEO_PACKET && job->buffer->sound) {
        const size_t at = (size_t)(job->packet.t_us / SOUND_US);
        assert_true(f->open && at < SOUNDS);
        f->in_file[at] = f->files - 1;
        f->times[at]++;
    }
    twi_buffer_unref(job->buffer);
    return true;
}

static void give_sound(twi_recorder *r, int64_t t_us)
{
    twi_buffer *buffer = twi_buffer_copy((const uint8_t *)"sound", 5);
    buffer->sound = true;
    const tw_packet packet = {.t_us = t_us, .dts_us = t_us, .key = true};
    assert_int_equal(twi_recorder_sound(r, &packet, buffer, NULL), TW_OK);
}

/* Ten seconds of segments of one; sound comes early or late by so much. Each packet goes
 * into the segment of its time, once. */
static void test_sound_goes_into_the_file_of_its_time(void **state)
{
    (void)state;
    static const int64_t late_us[] = {0, 300000, 900000, -300000, -1200000};
    static const uint8_t picture[] = {1};
    for (size_t i = 0; i < sizeof late_us / sizeof *late_us; i++) {
        filed f = {.files = 0};
        twi_recorder *r = NULL;
        twi_camera_settings camera = {.name = "kerb",
                                      .pre_us = 1000000,
                                      .pre_bytes = 1000000,
                                      .continuous = true,
                                      .segment_us = 1000000};
        twi_channel channel = {.camera = &camera};
        const tw_stream stream = {
            .codec = TW_CODEC_H264,
            .sound = {.codec = TW_SOUND_AAC, .rate = 48000, .channels = 1}};
        int64_t next_us = 0;
        const twi_jobs sink = {file_it, &f};
        assert_int_equal(twi_recorder_new(&camera, &channel, &stream, sink, &r, NULL),
                         TW_OK);
        for (int64_t t_us = 0; t_us < 10000000; t_us += MS100) {
            const tw_packet packet = {picture, 1, t_us, t_us, t_us, t_us % 500000 == 0};
            assert_int_equal(
                twi_recorder_packet(r, &packet, twi_buffer_copy(picture, 1), NULL),
                TW_OK);
            for (; next_us <= t_us + MS100 - late_us[i] && next_us < 10000000;
                 next_us += SOUND_US)
                give_sound(r, next_us);
        }
        for (; next_us < 9900000; next_us += SOUND_US)
            give_sound(r, next_us);
        twi_recorder_flush(r);
        assert_false(f.open);
        assert_int_equal(f.files, 10);
        for (size_t k = 0; k < 9900000 / SOUND_US; k++) {
            const int64_t t_us = (int64_t)k * SOUND_US;
            if (f.times[k] != 1)
                fail_msg("late by %lld ms: sound of %.2f s is in %u files",
                         (long long)late_us[i] / 1000, (double)t_us / 1e6, f.times[k]);
            assert_true(f.first_us[f.in_file[k]] <= t_us);
            assert_true(f.in_file[k] + 1 == f.files ||
                        f.first_us[f.in_file[k] + 1] > t_us);
        }
        twi_recorder_free(r);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_sound_goes_into_the_file_of_its_time),
        cmocka_unit_test(test_a_clip_begins_before_and_ends_after),
        cmocka_unit_test(test_a_clip_begins_at_a_key_frame),
        cmocka_unit_test(test_clips_in_a_row_share_nothing_where_they_need_not),
        cmocka_unit_test(test_a_slow_sink_loses_nothing_while_memory_lasts),
        cmocka_unit_test(test_a_dead_sink_costs_the_oldest_and_says_so),
        cmocka_unit_test(test_memory_grows_only_as_it_must),
        cmocka_unit_test(test_what_may_become_a_sighting_is_held),
        cmocka_unit_test(test_without_clips_only_stills_go),
        cmocka_unit_test(test_a_frame_that_never_fits_is_told),
        cmocka_unit_test(test_finding_a_clip_with_no_footage),
        cmocka_unit_test(test_continuous_recording_is_switched),
        cmocka_unit_test(test_the_pre_event_time_is_changed),
        cmocka_unit_test(test_when_pixels_are_held_as_they_are),
        cmocka_unit_test(test_pixels_that_gather_are_encoded),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
