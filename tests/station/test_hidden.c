/* Private zones at the writer: what cannot be blackened is not stored. */
#include <stdlib.h>
#include <string.h>

#include "../support/place.h"

static const tw_point BOX[] = {{0, 0}, {500000, 0}, {500000, 1000000}, {0, 1000000}};
static const tw_zone ZONE = {.points = BOX, .count = 4};

static place *make_hiding(bool hides)
{
    place *p = make_place(NULL);
    p->camera[0].private_zones = &ZONE;
    p->camera[0].private_count = hides;
    p->camera[0].clip_video = TWI_VIDEO_MJPEG;
    open_writer(p);
    return p;
}

/* A bright picture, of which so much comes. */
static twi_buffer *picture(size_t most)
{
    size_t bytes = 0;
    uint8_t *jpeg = plain_jpeg(64, 48, 200, &bytes);
    twi_buffer *made = twi_buffer_adopt(jpeg, bytes < most ? bytes : most);
    assert_non_null(made);
    return made;
}

static void give(place *p, twi_job_kind kind, twi_kind what, twi_buffer *buffer)
{
    static const tw_stream stream = {.codec = TW_CODEC_MJPEG,
                                     .codec_name = "mjpeg",
                                     .width = 64,
                                     .height = 48,
                                     .fps_num = 10,
                                     .fps_den = 1};
    twi_job job = {.kind = kind,
                   .what = what,
                   .channel = &p->channel[0],
                   .stream = stream,
                   .buffer = buffer};
    job.packet = (tw_packet){.t_us = p->time.now_us,
                             .dts_us = p->time.now_us,
                             .wall_us = WALL + p->time.now_us,
                             .key = true};
    if (buffer) {
        job.packet.data = buffer->data;
        job.packet.size = buffer->size;
    }
    twi_writer_do(&p->writer, &job);
    p->time.now_us += S / 10;
}

static void test_a_still_that_cannot_be_blackened_is_not_stored(void **state)
{
    (void)state;
    for (int hides = 0; hides < 2; hides++) {
        place *p = make_hiding(hides == 1);
        give(p, TWI_JOB_STILL, TWI_KIND_TIMED_STILL, picture(SIZE_MAX));
        p->time.now_us += 60 * S;
        assert_int_equal(p->problems.count, 0);
        give(p, TWI_JOB_STILL, TWI_KIND_TIMED_STILL, picture(30));
        assert_int_equal(held(p, "timed-still"), hides ? 1 : 2);
        if (hides)
            assert_has(p->problems.text, "timed-still not stored: ");
        leave(p);
    }
}

/* The clip goes on without it. */
static void test_a_frame_that_cannot_be_blackened_is_left_out(void **state)
{
    (void)state;
    place *p = make_hiding(true);
    give(p, TWI_JOB_VIDEO_BEGIN, TWI_KIND_SEGMENT, twi_buffer_copy(NULL, 0));
    for (int i = 0; i < 20; i++)
        give(p, TWI_JOB_VIDEO_PACKET, TWI_KIND_SEGMENT, picture(i == 9 ? 30 : SIZE_MAX));
    give(p, TWI_JOB_VIDEO_END, TWI_KIND_SEGMENT, NULL);
    assert_int_equal(held(p, "segment"), 1);
    assert_int_equal(p->problems.count, 0);
    leave(p);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_still_that_cannot_be_blackened_is_not_stored),
        cmocka_unit_test(test_a_frame_that_cannot_be_blackened_is_left_out),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
