/* Clocks that are wrong: a board that boots in 1970, and one that is set back. */
#include <stdlib.h>
#include <string.h>

#include "../../src/station/recovery.h"
#include "../../src/station/retention.h"
#include "../support/place.h"
#include "../../src/core/naming.h"
#include "../../src/settings/sections.h"

#define HOUR (3600 * S)

typedef struct seen {
    tw_sighting_record record[32];
    size_t count;
} seen;

static bool see(void *ctx, const tw_sighting_record *r)
{
    seen *s = ctx;
    assert_true(s->count < 32);
    s->record[s->count++] = *r;
    return true;
}

static seen list(const place *p)
{
    seen s = {.count = 0};
    assert_int_equal(tw_catalogue_sightings(p->writer.catalogue, &(tw_sighting_filter){0},
                                            see, &s, NULL),
                     TW_OK);
    return s;
}

/* What another program says of a still on the card. */
static outcome exif_of(const place *p, const char *part)
{
    char *folder = make_folder(), *path = join(folder, "still.jpg");
    outcome o = {0};
    for (size_t i = 0; i < tw_sim_card_count(&p->card); i++) {
        const char *name = NULL;
        const uint8_t *data = NULL;
        size_t bytes = 0;
        (void)tw_sim_card_file(&p->card, i, &name, &data, &bytes);
        if (!strstr(name, part))
            continue;
        write_bytes(path, data, bytes);
        o = run_program(NULL, EXIFTOOL, "-s", path, NULL);
    }
    remove_folder(folder);
    free(path);
    return o;
}

/* A place whose clock is not set: it is seven seconds past 1970. */
static place *make_unset(void)
{
    place *p = make_place(NULL);
    p->time.wall_at_zero_us = 7 * S;
    p->time.sure_from_us = WALL - 365 * DAY;
    open_writer(p);
    return p;
}

static void test_1970_is_put_right(void **state)
{
    (void)state;
    place *p = make_unset();
    (void)capture(p, 0);
    (void)capture(p, 1);
    assert_int_equal(held(p, "1970-01-01/kerb/kerb-19700101T000007.000-001-still"), 1);
    assert_true(list(p).record[0].unsure);
    p->time.wall_at_zero_us = WALL; /* the network is there: two minutes have passed */
    (void)capture(p, 0);
    const seen s = list(p);
    assert_int_equal(s.count, 3);
    for (size_t i = 0; i < 3; i++) {
        assert_false(s.record[i].unsure);
        assert_int_equal(s.record[i].start_us, WALL + (int64_t)i * 60 * S);
        assert_true(s.record[i].end_us > s.record[i].start_us);
        assert_int_equal(s.record[i].number, i + 1);
    }
    assert_int_equal(held(p, "1970"), 0);
    assert_int_equal(held(p, "2027-03-13/kerb/kerb-20270313T203000.000-001-still"), 1);
    assert_int_equal(held(p, "2027-03-13/mere/mere-20270313T203100.000-002-still"), 1);
    assert_int_equal(held(p, ".part"), 0);
    outcome o = exif_of(p, "-001-");
    assert_has(o.out, ": 2027:03:13 20:30:00");
    assert_has(o.out, ": camera kerb, sighting 1");
    assert_null(strstr(o.out, "1970"));
    free_outcome(&o);
    assert_has(p->problems.text, "the clock has been set: times of 2 sightings and 2 "
                                 "captures from before were put right");
    twi_recovery_run(&p->writer); /* files and catalogue agree */
    assert_int_equal(p->problems.count, 1);
    leave(p);
}

/* The card fails while the right still is begun: that is done later, then. */
static void test_what_cannot_be_put_right_at_once(void **state)
{
    (void)state;
    size_t late = 0;
    for (uint32_t call = 8; call < 11; call++) {
        const tw_sim_faults faults = {.fail_call = call,
                                      .fail_with = TW_EIO,
                                      .dead = true,
                                      .back_call = call + 4,
                                      .read_only = true};
        place *p = make_place(&faults);
        p->time.wall_at_zero_us = 7 * S;
        open_writer(p);
        (void)capture(p, 0);
        p->time.wall_at_zero_us = WALL;
        twi_writer_tend(&p->writer);
        late += held(p, "1970") > 0;
        twi_writer_tend(&p->writer);
        assert_int_equal(held(p, "1970"), 0);
        leave(p);
    }
    assert_true(late > 0);
}

/* Nobody knew that it was right: then names stay as they are, and only the mark goes. */
static void test_a_clock_that_was_right_all_along(void **state)
{
    (void)state;
    place *p = make_place(NULL);
    p->time.sure_from_us = INT64_MAX;
    open_writer(p);
    (void)capture(p, 0);
    const size_t files = tw_sim_card_count(&p->card);
    assert_true(list(p).record[0].unsure);
    p->time.sure_from_us = 0;
    p->time.now_us += S;
    twi_writer_tend(&p->writer);
    assert_false(list(p).record[0].unsure);
    assert_int_equal(held(p, "2027-03-13/kerb/kerb-20270313T203000.000-001-still.jpg"),
                     1);
    assert_int_equal(tw_sim_card_count(&p->card), files);
    leave(p);
}

/* What was captured before but is written after has its right time at once. */
static void test_what_was_on_its_way_is_right_too(void **state)
{
    (void)state;
    place *p = make_unset();
    (void)capture(p, 0);
    p->time.wall_at_zero_us = WALL;
    twi_writer_tend(&p->writer);
    size_t bytes = 0;
    twi_buffer *jpeg = twi_buffer_adopt(plain_jpeg(64, 48, 90, &bytes), 0);
    jpeg->size = bytes;
    twi_job job = {
        .kind = TWI_JOB_STILL,
        .what = TWI_KIND_TIMED_STILL,
        .channel = &p->channel[0],
        .buffer = jpeg,
        .packet = {.data = jpeg->data, .size = bytes, .wall_us = 7 * S + 30 * S}};
    twi_writer_do(&p->writer, &job);
    assert_int_equal(held(p, "kerb-20270313T203030.000-000-timed-still"), 1);
    leave(p);
}

/* The tenth of a second i of a segment, by the clock as it is. */
static void film(place *p, const tw_camera *camera, const tw_stream *stream, int i,
                 bool begins)
{
    tw_frame frame;
    assert_int_equal(camera->ops->next(camera->ctx, &frame, NULL), TW_OK);
    p->time.now_us = i * S / 10;
    twi_job job = {.kind = begins ? TWI_JOB_VIDEO_BEGIN : TWI_JOB_VIDEO_PACKET,
                   .what = TWI_KIND_SEGMENT,
                   .channel = &p->channel[0],
                   .stream = *stream,
                   .packet = frame.packet};
    job.packet.t_us = job.packet.dts_us = p->time.now_us;
    job.packet.wall_us = p->time.now_us + p->time.wall_at_zero_us;
    job.buffer = twi_buffer_copy(begins ? stream->extra : frame.packet.data,
                                 begins ? stream->extra_size : frame.packet.size);
    twi_writer_do(&p->writer, &job);
}

/* Without memory for the job that ends it: it is complete as far as it goes. */
static void test_a_file_whose_end_is_lost(void **state)
{
    (void)state;
    place *p = make_place(NULL);
    tw_stream stream;
    tw_camera camera = open_camera("sim:kerb,size=64x64", 10, &stream);
    p->camera[0].clip_video = TWI_VIDEO_COPY;
    open_writer(p);
    for (int i = 0; i < 20; i++)
        film(p, &camera, &stream, i, i % 10 == 0); /* the second begins */
    assert_int_equal(held(p, "kerb-20270313T203000.000-000-segment.mp4"), 1);
    assert_int_equal(held(p, ".part"), 1);
    twi_writer_end_videos(&p->writer);
    assert_int_equal(held(p, "kerb-20270313T203001.000-000-segment.mp4"), 1);
    assert_int_equal(held(p, ".part"), 0);
    assert_int_equal(tw_sim_card_open(&p->card), 0);
    camera.ops->destroy(camera.ctx);
    leave(p);
}

/* A clip that began in 1970 and ended after the clock was set. */
static void test_a_file_that_was_open_meanwhile(void **state)
{
    (void)state;
    place *p = make_unset();
    tw_stream stream;
    tw_camera camera = open_camera("sim:kerb,size=64x64", 10, &stream);
    p->camera[0].clip_video = TWI_VIDEO_COPY;
    for (int i = 0; i < 20; i++) {
        if (i == 10)
            p->time.wall_at_zero_us = WALL;
        film(p, &camera, &stream, i, i == 0);
    }
    twi_job end = {
        .kind = TWI_JOB_VIDEO_END, .what = TWI_KIND_SEGMENT, .channel = &p->channel[0]};
    twi_writer_do(&p->writer, &end);
    camera.ops->destroy(camera.ctx);
    assert_int_equal(held(p, "1970"), 0);
    assert_int_equal(held(p, "kerb-20270313T203000.000-000-segment.mp4"), 1);
    /* nor does it say in itself that it is of 1970: that cannot be put right */
    outcome o = exif_of(p, "-segment.mp4");
    assert_has(o.out, "CreateDate");
    assert_null(strstr(o.out, "1970"));
    free_outcome(&o);
    leave(p);
}

static void test_without_a_set_clock_it_stays_marked(void **state)
{
    (void)state;
    place *p = make_unset();
    (void)capture(p, 0);
    twi_writer_close(&p->writer);
    p->time.now_us = 0;
    open_writer(p); /* the power went; the card in memory keeps no catalogue */
    twi_recovery_run(&p->writer);
    p->time.wall_at_zero_us = WALL;
    twi_writer_tend(&p->writer);
    assert_int_equal(held(p, "1970"), 1); /* nobody can know when that was */
    leave(p);
}

static void test_an_hour_back_reorders_nothing(void **state)
{
    (void)state;
    place *p = make_place(NULL);
    open_writer(p);
    (void)capture(p, 0);
    (void)capture(p, 0);
    p->time.wall_at_zero_us -= HOUR + 60 * S;
    p->number = 1; /* the second minute comes again, and so does the name */
    (void)capture(p, 1);
    p->time.wall_at_zero_us = WALL - 60 * S;
    p->number = 10;
    (void)capture(p, 0);
    p->number = 1;
    p->time.wall_at_zero_us -= 120 * S;
    (void)capture(p, 0);
    const seen s = list(p);
    assert_int_equal(s.count, 4); /* number 2 of kerb came again in the same run */
    for (size_t i = 1; i < s.count; i++)
        assert_true(s.record[i].id > s.record[i - 1].id);
    assert_int_equal(held(p, "still"), 5); /* nothing was overwritten */
    assert_int_equal(held(p, "kerb-20270313T203100.000-002-still.jpg"), 1);
    assert_int_equal(held(p, "kerb-20270313T203100.000-002-still-2.jpg"), 1);
    assert_has(p->problems.text, "the clock was set back by 3660 s");
    twi_catalogue_oldest oldest;
    assert_int_equal(twi_catalogue_find_oldest(p->writer.catalogue, NULL, TWI_KIND_COUNT,
                                               false, &oldest, NULL),
                     TW_OK);
    assert_has(oldest.file, "203000.000-001"); /* not the one that says an hour less */
    leave(p);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_1970_is_put_right),
        cmocka_unit_test(test_what_cannot_be_put_right_at_once),
        cmocka_unit_test(test_a_clock_that_was_right_all_along),
        cmocka_unit_test(test_what_was_on_its_way_is_right_too),
        cmocka_unit_test(test_a_file_whose_end_is_lost),
        cmocka_unit_test(test_a_file_that_was_open_meanwhile),
        cmocka_unit_test(test_without_a_set_clock_it_stays_marked),
        cmocka_unit_test(test_an_hour_back_reorders_nothing),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
