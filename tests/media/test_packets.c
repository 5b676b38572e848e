/* Packets between two threads. */
#include <pthread.h>
#include <string.h>
#include <unistd.h>

#include "../../src/media/packets.h"
#include "../support/support.h"

enum { MOST = 4, MANY = 2000 };

static tw_frame frame_of(const uint32_t *number)
{
    return (tw_frame){.packet = {.data = (const uint8_t *)number,
                                 .size = sizeof *number,
                                 .t_us = *number}};
}

static void check_next(twi_packets *q, uint32_t expected)
{
    tw_frame frame;
    uint32_t number = 0;
    assert_int_equal(twi_packets_take(q, 1000, &frame, NULL), TW_OK);
    assert_int_equal(frame.packet.size, sizeof number);
    memcpy(&number, frame.packet.data, sizeof number);
    assert_int_equal(number, expected);
    assert_int_equal(frame.packet.t_us, expected);
}

static void *put_many(void *ctx)
{
    for (uint32_t i = 0; i < MANY; i++) {
        const tw_frame frame = frame_of(&i);
        if (twi_packets_put(ctx, &frame, true, NULL) != TW_OK)
            return NULL;
    }
    twi_packets_end(ctx, TW_EEND, &(tw_error){.text = "that was all"});
    return ctx;
}

static void test_all_come_in_order(void **state)
{
    (void)state;
    twi_packets *q = twi_packets_new(MOST);
    pthread_t thread;
    void *good = NULL;
    tw_frame frame;
    tw_error err = {0};
    assert_non_null(q);
    assert_int_equal(pthread_create(&thread, NULL, put_many, q), 0);
    for (uint32_t i = 0; i < MANY; i++)
        check_next(q, i);
    assert_int_equal(twi_packets_take(q, 1000, &frame, &err), TW_EEND);
    assert_string_equal(err.text, "that was all");
    (void)pthread_join(thread, &good);
    assert_non_null(good);
    twi_packets_free(q);
}

static void test_none_one_lost_and_anew(void **state)
{
    (void)state;
    twi_packets *q = twi_packets_new(MOST);
    tw_frame frame;
    const uint32_t seven = 7;
    assert_non_null(q);
    assert_int_equal(twi_packets_take(q, 0, &frame, NULL), TW_EAGAIN);
    assert_int_equal(twi_packets_take(q, 10, &frame, NULL), TW_EAGAIN);
    assert_int_equal(twi_packets_put(q, NULL, true, NULL), TW_OK);
    frame = frame_of(&seven);
    assert_int_equal(twi_packets_put(q, &frame, true, NULL), TW_OK);
    assert_int_equal(twi_packets_take(q, 0, &frame, NULL), TW_EDAMAGED);
    check_next(q, 7);
    frame = frame_of(&seven);
    assert_int_equal(twi_packets_put(q, &frame, true, NULL), TW_OK);
    twi_packets_stop(q);
    assert_true(twi_packets_stopped(q));
    twi_packets_reset(q); /* what waited is gone */
    assert_false(twi_packets_stopped(q));
    assert_int_equal(twi_packets_take(q, 0, &frame, NULL), TW_EAGAIN);
    twi_packets_free(q);
    twi_packets_free(NULL);
}

/* Pixels come as planes without padding, whatever they were. */
static void test_pixels_come_as_planes(void **state)
{
    (void)state;
    static const uint8_t rows[2 * 8] = {1, 2, 3, 4, 5, 6, 9, 9, 7, 8, 10, 11, 12, 13};
    static const uint8_t planes[] = {1, 2, 3, 4, 5, 6, 7, 8, 10, 11, 12, 13};
    twi_packets *q = twi_packets_new(1);
    tw_frame frame = {.packet = {.t_us = 5},
                      .picture = {.px = {rows},
                                  .stride = {8},
                                  .width = 6,
                                  .height = 2,
                                  .pixels = TW_PIXELS_GREY}};
    assert_non_null(q);
    assert_int_equal(twi_packets_put(q, &frame, false, NULL), TW_OK);
    assert_int_equal(twi_packets_put(q, &frame, false, NULL), TW_EAGAIN);
    assert_int_equal(twi_packets_take(q, 0, &frame, NULL), TW_OK);
    assert_null(frame.packet.data);
    assert_int_equal(frame.packet.t_us, 5);
    assert_int_equal(frame.picture.stride[0], 6);
    assert_memory_equal(frame.picture.px[0], planes, sizeof planes);
    assert_int_equal(twi_packets_put(q, &frame, false, NULL), TW_OK);
    twi_packets_free(q);
}

static void test_whoever_waits_is_let_go(void **state)
{
    (void)state;
    twi_packets *q = twi_packets_new(MOST);
    pthread_t thread;
    void *good = q;
    assert_non_null(q);
    assert_int_equal(pthread_create(&thread, NULL, put_many, q), 0);
    (void)usleep(20000); /* it is full by now, and nobody takes */
    twi_packets_stop(q);
    (void)pthread_join(thread, &good);
    assert_null(good);
    twi_packets_free(q);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_all_come_in_order),
        cmocka_unit_test(test_none_one_lost_and_anew),
        cmocka_unit_test(test_pixels_come_as_planes),
        cmocka_unit_test(test_whoever_waits_is_let_go),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
