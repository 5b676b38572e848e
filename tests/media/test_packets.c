/* Packets between two threads. */
#include <pthread.h>
#include <string.h>
#include <unistd.h>

#include "../../src/media/packets.h"
#include "../support/support.h"

enum { MOST = 4, MANY = 2000 };

static tw_packet packet_of(const uint32_t *number)
{
    return (tw_packet){
        .data = (const uint8_t *)number, .size = sizeof *number, .t_us = *number};
}

static void check_next(tw_packets *q, uint32_t expected)
{
    tw_packet packet;
    uint32_t number = 0;
    assert_int_equal(tw_packets_take(q, 1000, &packet, NULL), TW_OK);
    assert_int_equal(packet.size, sizeof number);
    memcpy(&number, packet.data, sizeof number);
    assert_int_equal(number, expected);
    assert_int_equal(packet.t_us, expected);
}

static void *put_many(void *ctx)
{
    for (uint32_t i = 0; i < MANY; i++) {
        const tw_packet packet = packet_of(&i);
        if (tw_packets_put(ctx, &packet, NULL) != TW_OK)
            return NULL;
    }
    tw_packets_end(ctx, TW_EEND, &(tw_error){.text = "that was all"});
    return ctx;
}

static void test_all_come_in_order(void **state)
{
    (void)state;
    tw_packets *q = tw_packets_new(MOST);
    pthread_t thread;
    void *good = NULL;
    tw_packet packet;
    tw_error err = {0};
    assert_non_null(q);
    assert_int_equal(pthread_create(&thread, NULL, put_many, q), 0);
    for (uint32_t i = 0; i < MANY; i++)
        check_next(q, i);
    assert_int_equal(tw_packets_take(q, 1000, &packet, &err), TW_EEND);
    assert_string_equal(err.text, "that was all");
    (void)pthread_join(thread, &good);
    assert_non_null(good);
    tw_packets_free(q);
}

static void test_none_one_lost_and_anew(void **state)
{
    (void)state;
    tw_packets *q = tw_packets_new(MOST);
    tw_packet packet;
    const uint32_t seven = 7;
    assert_non_null(q);
    assert_int_equal(tw_packets_take(q, 0, &packet, NULL), TW_EAGAIN);
    assert_int_equal(tw_packets_take(q, 10, &packet, NULL), TW_EAGAIN);
    assert_int_equal(tw_packets_put(q, NULL, NULL), TW_OK);
    packet = packet_of(&seven);
    assert_int_equal(tw_packets_put(q, &packet, NULL), TW_OK);
    assert_int_equal(tw_packets_take(q, 0, &packet, NULL), TW_EDAMAGED);
    check_next(q, 7);
    packet = packet_of(&seven);
    assert_int_equal(tw_packets_put(q, &packet, NULL), TW_OK);
    tw_packets_stop(q);
    assert_true(tw_packets_stopped(q));
    tw_packets_reset(q); /* what waited is gone */
    assert_false(tw_packets_stopped(q));
    assert_int_equal(tw_packets_take(q, 0, &packet, NULL), TW_EAGAIN);
    tw_packets_free(q);
    tw_packets_free(NULL);
}

static void test_whoever_waits_is_let_go(void **state)
{
    (void)state;
    tw_packets *q = tw_packets_new(MOST);
    pthread_t thread;
    void *good = q;
    assert_non_null(q);
    assert_int_equal(pthread_create(&thread, NULL, put_many, q), 0);
    (void)usleep(20000); /* it is full by now, and nobody takes */
    tw_packets_stop(q);
    (void)pthread_join(thread, &good);
    assert_null(good);
    tw_packets_free(q);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_all_come_in_order),
        cmocka_unit_test(test_none_one_lost_and_anew),
        cmocka_unit_test(test_whoever_waits_is_let_go),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
