/* The queue in front of the writer: captures that come late are told, with what is slow.
 */
#include <pthread.h>
#include <semaphore.h>
#include <stdatomic.h>
#include <string.h>
#include <unistd.h>

#include "../../src/station/queue.h"
#include "../support/place.h"
#include "../support/servers.h"
#include "../../src/core/naming.h"
#include "tawny/events.h"

/* A clock that only what is slow moves, and not before all jobs are given. */
typedef struct bench {
    tw_clock_ops ops;
    atomic_llong now_us;
    sem_t given;
    int64_t callback_us; /* that the subscriber takes for a capture */
    atomic_int stored;
    pthread_mutex_t lock;
    problems problems; /* under the lock */
    place *place;
    twi_queue *queue;
} bench;

static int64_t now_us(void *ctx)
{
    return atomic_load(&((bench *)ctx)->now_us);
}

static int64_t wall_us(void *ctx)
{
    return WALL + now_us(ctx);
}

static void take_time(bench *b, int64_t us)
{
    (void)sem_wait(&b->given);
    (void)sem_post(&b->given);
    (void)atomic_fetch_add(&b->now_us, us);
}

static void sleep_until(void *ctx, int64_t t_us)
{
    take_time(ctx, t_us - now_us(ctx));
}

static void on_event(void *ctx, const tw_event *e)
{
    bench *b = ctx;
    if (e->kind == TW_EVENT_PROBLEM) {
        (void)pthread_mutex_lock(&b->lock);
        collect_problem(&b->problems, e->text);
        (void)pthread_mutex_unlock(&b->lock);
    }
    if (e->kind != TW_EVENT_STORED)
        return;
    if (b->callback_us > 0)
        take_time(b, b->callback_us);
    (void)atomic_fetch_add(&b->stored, 1);
}

static void begin(bench *b, int64_t card_us, int64_t callback_us)
{
    memset(b, 0, sizeof *b);
    b->ops = *tw_linux_clock().ops; /* what is local and right is no matter here */
    b->ops.now_us = now_us;
    b->ops.wall_us = wall_us;
    b->ops.sleep_until = sleep_until;
    const tw_clock clock = {&b->ops, b};
    const tw_sim_faults slow = {.slow_us = card_us, .clock = clock};
    b->callback_us = callback_us;
    assert_int_equal(pthread_mutex_init(&b->lock, NULL), 0);
    assert_int_equal(sem_init(&b->given, 0, 0), 0);
    b->place = make_place(&slow);
    twi_writer *writer = &b->place->writer;
    *writer = (twi_writer){.clock = clock, .callback = on_event, .ctx = b};
    for (int i = 0; i < 2; i++)
        twi_writer_add_channel(writer, &b->place->channel[i]);
    assert_int_equal(twi_writer_open(writer, &b->place->card, &b->place->station, NULL),
                     TW_OK);
    assert_int_equal(twi_queue_start(writer, 8000000, &b->queue, NULL), TW_OK);
}

static void give_still(bench *b)
{
    const twi_jobs sink = twi_queue_jobs(b->queue);
    size_t bytes = 0;
    uint8_t *jpeg = plain_jpeg(64, 48, 90, &bytes);
    twi_job job = {
        .kind = TWI_JOB_STILL,
        .what = TWI_KIND_TIMED_STILL,
        .channel = &b->place->channel[0],
        .buffer = twi_buffer_adopt(jpeg, bytes),
        .packet = {
            .data = jpeg, .size = bytes, .t_us = now_us(b), .wall_us = wall_us(b)}};
    assert_true(sink.give(sink.ctx, &job, true));
}

static void end(bench *b)
{
    twi_queue_finish(b->queue);
    (void)sem_destroy(&b->given);
    (void)pthread_mutex_destroy(&b->lock);
    leave(b->place);
}

/* Three stills at once, then a fourth when all is done. */
static void check(int64_t card_us, int64_t callback_us, const char *told)
{
    bench b;
    begin(&b, card_us, callback_us);
    for (int i = 0; i < 5; i++)
        give_still(&b);
    (void)sem_post(&b.given);
    WAIT_FOR(atomic_load(&b.stored) == 5);
    give_still(&b);
    WAIT_FOR(atomic_load(&b.stored) == 6);
    twi_queue *queue = b.queue;
    b.queue = NULL;
    twi_queue_finish(queue);
    assert_int_equal(b.problems.count, 2); /* once each, however many were late */
    assert_has(b.problems.text, told);
    assert_has(b.problems.text, "captures are written in time again");
    end(&b);
}

static void test_a_slow_card(void **state)
{
    (void)state;
    check(4 * S, 0, "s late: the card is slow");
}

static void test_slow_work(void **state)
{
    (void)state;
    check(0, 8 * S, "s late: encoding clips takes longer than they last");
}

static void test_what_is_in_time_is_not_told(void **state)
{
    (void)state;
    bench b;
    begin(&b, S / 100, 0);
    for (int i = 0; i < 20; i++)
        give_still(&b);
    (void)sem_post(&b.given);
    WAIT_FOR(atomic_load(&b.stored) == 20);
    twi_queue *queue = b.queue;
    b.queue = NULL;
    twi_queue_finish(queue);
    assert_int_equal(b.problems.count, 0);
    end(&b);
}

/* Who waits for room is woken when there is some; each of these is more than may wait. */
static void test_who_waits_for_room_is_woken(void **state)
{
    (void)state;
    bench b;
    begin(&b, S / 100, 0);
    twi_queue_limit(b.queue, 1);
    (void)sem_post(&b.given);
    (void)alarm(600); /* else it waits forever */
    for (int i = 0; i < 20; i++)
        give_still(&b);
    (void)alarm(0);
    WAIT_FOR(atomic_load(&b.stored) == 20);
    end(&b);
}

static void test_a_higher_limit_is_heeded_at_once(void **state)
{
    (void)state;
    bench b;
    begin(&b, S / 100, 0);
    twi_queue_limit(b.queue, 1);
    const twi_jobs sink = twi_queue_jobs(b.queue);
    size_t bytes = 0;
    uint8_t *jpeg = plain_jpeg(64, 48, 90, &bytes);
    twi_job job = {.kind = TWI_JOB_VIDEO_PACKET,
                   .what = TWI_KIND_CLIP,
                   .channel = &b.place->channel[0],
                   .buffer = twi_buffer_adopt(jpeg, bytes)};
    give_still(&b); /* the card does not come to its end before all is given */
    assert_false(sink.give(sink.ctx, &job, false));
    twi_queue_limit(b.queue, 8000000);
    assert_true(sink.give(sink.ctx, &job, false));
    (void)sem_post(&b.given);
    end(&b);
}

/* However full it is: what began and ended is never refused. */
static void test_beginnings_are_never_refused(void **state)
{
    (void)state;
    bench b;
    begin(&b, S / 100, 0);
    twi_queue_limit(b.queue, 1);
    const twi_jobs sink = twi_queue_jobs(b.queue);
    give_still(&b);
    for (int i = 0; i < 100; i++) {
        twi_job job = {.kind = i % 2 ? TWI_JOB_ENDED : TWI_JOB_BEGAN,
                       .channel = &b.place->channel[0],
                       .sighting = {.number = 1, .part = 1}};
        assert_true(sink.give(sink.ctx, &job, false));
    }
    (void)sem_post(&b.given);
    end(&b);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_slow_card),
        cmocka_unit_test(test_slow_work),
        cmocka_unit_test(test_what_is_in_time_is_not_told),
        cmocka_unit_test(test_who_waits_for_room_is_woken),
        cmocka_unit_test(test_a_higher_limit_is_heeded_at_once),
        cmocka_unit_test(test_beginnings_are_never_refused),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
