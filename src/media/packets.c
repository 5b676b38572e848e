/* Frames between two threads. */
#include "packets.h"

#include <pthread.h>
#include <stdlib.h>
#include <time.h>

#include "raw.h"
#include "../base/thread.h"

typedef struct item {
    tw_frame frame;
    twi_buffer *buffer; /* that it lies in; NULL: lost */
} item;

struct twi_packets {
    size_t most;
    twi_buffer *given; /* with the taker until the next call */
    pthread_mutex_t lock;
    pthread_cond_t came, went;
    /* Under the lock. */
    size_t first, count;
    bool stop;
    tw_status ended; /* TW_OK: it goes on */
    tw_error why;
    item waiting[];
};

twi_packets *twi_packets_new(size_t most)
{
    twi_packets *q = calloc(1, sizeof *q + most * sizeof q->waiting[0]);
    if (!q)
        return NULL;
    q->most = most;
    (void)pthread_mutex_init(&q->lock, NULL);
    twi_cond_init(&q->came);
    (void)pthread_cond_init(&q->went, NULL);
    return q;
}

void twi_packets_reset(twi_packets *q)
{
    twi_buffer_unref(q->given);
    q->given = NULL;
    (void)pthread_mutex_lock(&q->lock);
    for (; q->count > 0; q->count--, q->first = (q->first + 1) % q->most)
        twi_buffer_unref(q->waiting[q->first].buffer);
    q->stop = false;
    q->ended = TW_OK;
    (void)pthread_mutex_unlock(&q->lock);
}

void twi_packets_free(twi_packets *q)
{
    if (!q)
        return;
    twi_packets_reset(q);
    (void)pthread_cond_destroy(&q->came);
    (void)pthread_cond_destroy(&q->went);
    (void)pthread_mutex_destroy(&q->lock);
    free(q);
}

/* @return false: out of memory. */
static bool keep_frame(const tw_frame *frame, item *made)
{
    made->frame = *frame;
    made->buffer = twi_buffer_frame(frame);
    if (!made->buffer)
        return false;
    made->frame.packet.data = frame->picture.px[0] ? NULL : made->buffer->data;
    made->frame.picture = made->buffer->planes;
    return true;
}

/* @return TW_OK: it waits to be taken; else it is still the caller's. */
static tw_status put_item(twi_packets *q, const item *made, bool wait)
{
    (void)pthread_mutex_lock(&q->lock);
    while (wait && q->count == q->most && !q->stop)
        (void)pthread_cond_wait(&q->went, &q->lock);
    const tw_status st = q->stop ? TW_ESTOPPED : q->count == q->most ? TW_EAGAIN : TW_OK;
    if (st == TW_OK) {
        q->waiting[(q->first + q->count++) % q->most] = *made;
        (void)pthread_cond_signal(&q->came);
    }
    (void)pthread_mutex_unlock(&q->lock);
    return st;
}

tw_status twi_packets_put(twi_packets *q, const tw_frame *frame, bool wait, tw_error *err)
{
    item made = {.buffer = NULL};
    if (frame && !keep_frame(frame, &made))
        return tw_fail(err, TW_ENOMEM, "out of memory");
    const tw_status st = put_item(q, &made, wait);
    if (st != TW_OK)
        twi_buffer_unref(made.buffer);
    return st;
}

void twi_packets_end(twi_packets *q, tw_status st, const tw_error *why)
{
    (void)pthread_mutex_lock(&q->lock);
    q->ended = st;
    q->why = *why;
    (void)pthread_cond_signal(&q->came);
    (void)pthread_mutex_unlock(&q->lock);
}

void twi_packets_stop(twi_packets *q)
{
    (void)pthread_mutex_lock(&q->lock);
    q->stop = true;
    (void)pthread_cond_broadcast(&q->went);
    (void)pthread_mutex_unlock(&q->lock);
}

bool twi_packets_stopped(twi_packets *q)
{
    (void)pthread_mutex_lock(&q->lock);
    const bool stop = q->stop;
    (void)pthread_mutex_unlock(&q->lock);
    return stop;
}

size_t twi_packets_waiting(twi_packets *q)
{
    (void)pthread_mutex_lock(&q->lock);
    const size_t count = q->count;
    (void)pthread_mutex_unlock(&q->lock);
    return count;
}

tw_status twi_packets_take(twi_packets *q, int wait_ms, tw_frame *frame, tw_error *err)
{
    const struct timespec until = twi_deadline(INT64_C(1000) * wait_ms);
    item taken = {.buffer = NULL};
    tw_status st = TW_OK;
    twi_buffer_unref(q->given);
    q->given = NULL;
    (void)pthread_mutex_lock(&q->lock);
    int waited = wait_ms > 0 ? 0 : 1;
    while (q->count == 0 && q->ended == TW_OK && waited == 0)
        waited = pthread_cond_timedwait(&q->came, &q->lock, &until);
    if (q->count > 0) {
        taken = q->waiting[q->first];
        q->first = (q->first + 1) % q->most;
        q->count--;
        (void)pthread_cond_signal(&q->went);
        st = taken.buffer ? TW_OK : TW_EDAMAGED;
    } else {
        st = q->ended == TW_OK ? TW_EAGAIN : q->ended;
        if (q->ended != TW_OK && err)
            *err = q->why;
    }
    (void)pthread_mutex_unlock(&q->lock);
    q->given = taken.buffer;
    *frame = taken.frame;
    return st;
}
