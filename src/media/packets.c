/* Packets between two threads. */
#include "packets.h"

#include <pthread.h>
#include <stdlib.h>
#include <time.h>

#include "parcel.h"

typedef struct item {
    tw_packet packet;
    tw_parcel *parcel; /* NULL: lost */
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
    for (; q->count > 0; q->count--, q->first = (q->first + 1) % q->most)
        tw_parcel_release(q->waiting[q->first].parcel);
    tw_parcel_release(q->given);
    q->given = NULL;
    q->stop = false;
    q->ended = TW_OK;
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

tw_status tw_packets_put(tw_packets *q, const tw_packet *packet, tw_error *err)
{
    item made = {.parcel = NULL};
    if (packet) {
        made.packet = *packet;
        made.parcel = tw_parcel_copy(packet->data, packet->size);
        if (!made.parcel)
            return tw_fail(err, TW_ENOMEM, "out of memory");
        made.packet.data = made.parcel->data;
    }
    (void)pthread_mutex_lock(&q->lock);
    while (q->count == q->most && !q->stop)
        (void)pthread_cond_wait(&q->went, &q->lock);
    const bool going = !q->stop;
    if (going) {
        q->waiting[(q->first + q->count++) % q->most] = made;
        (void)pthread_cond_signal(&q->came);
    }
    (void)pthread_mutex_unlock(&q->lock);
    if (!going)
        tw_parcel_release(made.parcel);
    return going ? TW_OK : TW_ESTOPPED;
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

static void deadline(int wait_ms, struct timespec *out)
{
    (void)clock_gettime(CLOCK_MONOTONIC, out);
    out->tv_nsec += (long)wait_ms * 1000000;
    out->tv_sec += out->tv_nsec / 1000000000;
    out->tv_nsec %= 1000000000;
}

tw_status tw_packets_take(tw_packets *q, int wait_ms, tw_packet *packet, tw_error *err)
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
    *packet = taken.packet;
    return st;
}
