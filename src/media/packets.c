/* Frames between two threads. */
#include "packets.h"

#include <pthread.h>
#include <stdlib.h>
#include <time.h>

#include "raw.h"

typedef struct item {
    tw_frame frame;
    tw_parcel *parcel; /* that it lies in; NULL: lost */
} item;

struct tw_packets {
    size_t most;
    tw_parcel *given; /* with the taker until the next call */
    pthread_mutex_t lock;
    pthread_cond_t came, went;
    /* Under the lock. */
    size_t first, count;
    bool stop;
    tw_status ended; /* TW_OK: it goes on */
    tw_error why;
    item waiting[];
};

tw_packets *tw_packets_new(size_t most)
{
    tw_packets *q = calloc(1, sizeof *q + most * sizeof q->waiting[0]);
    pthread_condattr_t monotonic;
    if (!q)
        return NULL;
    q->most = most;
    (void)pthread_condattr_init(&monotonic);
    (void)pthread_condattr_setclock(&monotonic, CLOCK_MONOTONIC);
    (void)pthread_mutex_init(&q->lock, NULL);
    (void)pthread_cond_init(&q->came, &monotonic);
    (void)pthread_cond_init(&q->went, NULL);
    (void)pthread_condattr_destroy(&monotonic);
    return q;
}

void tw_packets_reset(tw_packets *q)
{
    tw_parcel_release(q->given);
    q->given = NULL;
    (void)pthread_mutex_lock(&q->lock);
    for (; q->count > 0; q->count--, q->first = (q->first + 1) % q->most)
        tw_parcel_release(q->waiting[q->first].parcel);
    q->stop = false;
    q->ended = TW_OK;
    (void)pthread_mutex_unlock(&q->lock);
}

void tw_packets_free(tw_packets *q)
{
    if (!q)
        return;
    tw_packets_reset(q);
    (void)pthread_cond_destroy(&q->came);
    (void)pthread_cond_destroy(&q->went);
    (void)pthread_mutex_destroy(&q->lock);
    free(q);
}

/* @return false: out of memory. */
static bool keep_frame(const tw_frame *frame, item *made)
{
    made->frame = *frame;
    made->parcel = tw_parcel_frame(frame);
    if (!made->parcel)
        return false;
    made->frame.packet.data = frame->picture.px[0] ? NULL : made->parcel->data;
    made->frame.picture = made->parcel->planes;
    return true;
}

/* @return TW_OK: it waits to be taken; else it is still the caller's. */
static tw_status put_item(tw_packets *q, const item *made, bool wait)
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

tw_status tw_packets_put(tw_packets *q, const tw_frame *frame, bool wait, tw_error *err)
{
    item made = {.parcel = NULL};
    if (frame && !keep_frame(frame, &made))
        return tw_fail(err, TW_ENOMEM, "out of memory");
    const tw_status st = put_item(q, &made, wait);
    if (st != TW_OK)
        tw_parcel_release(made.parcel);
    return st;
}

void tw_packets_end(tw_packets *q, tw_status st, const tw_error *why)
{
    (void)pthread_mutex_lock(&q->lock);
    q->ended = st;
    q->why = *why;
    (void)pthread_cond_signal(&q->came);
    (void)pthread_mutex_unlock(&q->lock);
}

void tw_packets_stop(tw_packets *q)
{
    (void)pthread_mutex_lock(&q->lock);
    q->stop = true;
    (void)pthread_cond_broadcast(&q->went);
    (void)pthread_mutex_unlock(&q->lock);
}

bool tw_packets_stopped(tw_packets *q)
{
    (void)pthread_mutex_lock(&q->lock);
    const bool stop = q->stop;
    (void)pthread_mutex_unlock(&q->lock);
    return stop;
}

size_t tw_packets_waiting(tw_packets *q)
{
    (void)pthread_mutex_lock(&q->lock);
    const size_t count = q->count;
    (void)pthread_mutex_unlock(&q->lock);
    return count;
}

static void deadline(int wait_ms, struct timespec *out)
{
    (void)clock_gettime(CLOCK_MONOTONIC, out);
    out->tv_nsec += (long)wait_ms * 1000000;
    out->tv_sec += out->tv_nsec / 1000000000;
    out->tv_nsec %= 1000000000;
}

tw_status tw_packets_take(tw_packets *q, int wait_ms, tw_frame *frame, tw_error *err)
{
    struct timespec until;
    item taken = {.parcel = NULL};
    tw_status st = TW_OK;
    tw_parcel_release(q->given);
    q->given = NULL;
    deadline(wait_ms, &until);
    (void)pthread_mutex_lock(&q->lock);
    int waited = wait_ms > 0 ? 0 : 1;
    while (q->count == 0 && q->ended == TW_OK && waited == 0)
        waited = pthread_cond_timedwait(&q->came, &q->lock, &until);
    if (q->count > 0) {
        taken = q->waiting[q->first];
        q->first = (q->first + 1) % q->most;
        q->count--;
        (void)pthread_cond_signal(&q->went);
        st = taken.parcel ? TW_OK : TW_EDAMAGED;
    } else {
        st = q->ended == TW_OK ? TW_EAGAIN : q->ended;
        if (q->ended != TW_OK && err)
            *err = q->why;
    }
    (void)pthread_mutex_unlock(&q->lock);
    q->given = taken.parcel;
    *frame = taken.frame;
    return st;
}
