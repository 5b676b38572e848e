/* The bounded queue in front of the writer's thread. A job that is larger than the limit
 * goes in alone, so that it is never stuck. */
#include "queue.h"

#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <time.h>

#include "../base/thread.h"
#include "recovery.h"
#include "retention.h"
#include "tawny/events.h"
#include "waits.h"

enum {
    JOB_OVERHEAD = 512, /* so that jobs without data count as well */
    TEND_EVERY_US = 60000000
};

#define LATE_US INT64_C(10000000) /* that a job may wait before it is told ... */
#define FINE_US INT64_C(2000000)  /* ... and again that it does not */

typedef struct node {
    struct node *next;
    int64_t given_us; /* by the writer's clock */
    twi_job job;
} node;

struct twi_queue {
    twi_writer *writer;
    size_t limit, held; /* bytes */
    node *first, *last;
    bool ending;
    pthread_mutex_t lock;
    pthread_cond_t came, went;
    pthread_t thread;
    bool late; /* and that has been told; the thread's own, as ... */
    int64_t since_us, busy_us, card_us; /* ... these: time that jobs took since then, and
                                           of that the card */
};

static int64_t now_of(const twi_queue *q)
{
    const tw_clock *clock = &q->writer->clock;
    return clock->ops->now_us(clock->ctx);
}

static size_t weight(const twi_job *job)
{
    return (job->buffer ? job->buffer->size : 0) + JOB_OVERHEAD;
}

/* How much may wait for a job to be taken. What the catalogue is told is little, and must
 * not be lost to a slow card; stills are few, and must not be lost to clips that are
 * still being encoded. Packets can wait where they are. */
static size_t limit_for(const twi_queue *q, const twi_job *job)
{
    if (job->kind >= TWI_JOB_BEGAN)
        return SIZE_MAX;
    return job->kind == TWI_JOB_STILL ? 2 * q->limit : q->limit;
}

/* The next job; NULL: it is time for retention, or, with ending set, there are no more.
 */
static node *take(twi_queue *q, bool *ending)
{
    const struct timespec until = twi_deadline_by(&q->writer->clock, TEND_EVERY_US);
    (void)pthread_mutex_lock(&q->lock);
    int waited = 0;
    while (!q->first && !q->ending && waited == 0)
        waited = pthread_cond_timedwait(&q->came, &q->lock, &until);
    node *taken = q->first;
    *ending = q->ending;
    if (taken) {
        q->first = taken->next;
        if (!q->first)
            q->last = NULL;
    }
    (void)pthread_mutex_unlock(&q->lock);
    return taken;
}

/* Only once a job is done does its footage stop to count. */
static void done(twi_queue *q, size_t bytes)
{
    (void)pthread_mutex_lock(&q->lock);
    q->held -= bytes;
    (void)pthread_cond_broadcast(&q->went);
    (void)pthread_mutex_unlock(&q->lock);
}

static void tell_late(twi_queue *q, tw_status st, const char *text)
{
    if (q->writer->callback)
        q->writer->callback(
            q->writer->ctx,
            &(tw_event){.kind = TW_EVENT_PROBLEM, .status = st, .text = text});
}

/* What takes the time is told with it: otherwise clips come minutes late, and nothing
 * says why. */
static void check_whether_late(twi_queue *q, int64_t waited_us)
{
    char text[256];
    if (!q->late && waited_us > LATE_US) {
        const bool card = 2 * q->card_us > q->busy_us;
        q->late = true;
        (void)snprintf(text, sizeof text, "captures are written %.0f s late: %s",
                       (double)waited_us / 1e6,
                       card
                           ? "the card is slow: try another, or smaller pictures (size), "
                             "or fewer stills"
                           : "encoding clips takes longer than they last: look at "
                             "clip_video (copy, mjpeg), size and fps");
        tell_late(q, TW_EAGAIN, text);
    } else if (q->late && waited_us < FINE_US) {
        q->late = false;
        tell_late(q, TW_OK, "captures are written in time again");
    }
    if (now_of(q) - q->since_us > LATE_US) {
        q->since_us = now_of(q);
        q->busy_us = q->card_us = 0;
    }
}

static void do_job(twi_queue *q, node *taken)
{
    const int64_t began_us = now_of(q), card_us = q->writer->card_us;
    check_whether_late(q, began_us - taken->given_us);
    twi_writer_do(q->writer, &taken->job);
    q->busy_us += now_of(q) - began_us;
    q->card_us += q->writer->card_us - card_us;
}

static void *work(void *ctx)
{
    twi_queue *q = ctx;
    bool ending = false;
    twi_recovery_run(q->writer); /* cameras watch meanwhile */
    for (;;) {
        node *taken = take(q, &ending);
        if (!taken && ending)
            break;
        if (!taken) { /* captures grow old also where nothing happens */
            twi_writer_tend(q->writer);
            continue;
        }
        const size_t bytes = weight(&taken->job);
        do_job(q, taken);
        free(taken);
        done(q, bytes);
    }
    return NULL;
}

static bool give(void *ctx, twi_job *job, bool wait)
{
    twi_queue *q = ctx;
    const size_t bytes = weight(job);
    node *made = malloc(sizeof *made);
    if (!made && !wait)
        return false;
    (void)pthread_mutex_lock(&q->lock);
    while (q->held > 0 && q->held + bytes > limit_for(q, job) && wait)
        (void)pthread_cond_wait(&q->went, &q->lock);
    const bool room = q->held == 0 || q->held + bytes <= limit_for(q, job);
    if (room && made) {
        *made = (node){.given_us = now_of(q), .job = *job};
        if (q->last)
            q->last->next = made;
        else
            q->first = made;
        q->last = made;
        q->held += bytes;
        made = NULL;
        (void)pthread_cond_signal(&q->came);
    } else if (wait) { /* out of memory: the footage of this job is lost */
        twi_buffer_unref(job->buffer);
        twi_snapshot_release(job->snapshot);
    }
    (void)pthread_mutex_unlock(&q->lock);
    free(made);
    return room || wait;
}

void twi_queue_limit(twi_queue *q, size_t limit)
{
    (void)pthread_mutex_lock(&q->lock);
    q->limit = limit;
    (void)pthread_cond_broadcast(&q->went); /* what waited may fit now */
    (void)pthread_mutex_unlock(&q->lock);
}

size_t twi_queue_waiting(twi_queue *q)
{
    (void)pthread_mutex_lock(&q->lock);
    const size_t held = q->held;
    (void)pthread_mutex_unlock(&q->lock);
    return held;
}

twi_jobs twi_queue_jobs(twi_queue *queue)
{
    return (twi_jobs){give, queue};
}

tw_status twi_queue_start(twi_writer *writer, size_t limit, twi_queue **out,
                          tw_error *err)
{
    twi_queue *q = calloc(1, sizeof *q);
    if (!q)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    q->writer = writer;
    q->limit = limit;
    (void)pthread_mutex_init(&q->lock, NULL);
    twi_cond_init(&q->came);
    (void)pthread_cond_init(&q->went, NULL);
    if (!twi_thread_start(&q->thread, work, q)) {
        free(q);
        return tw_fail(err, TW_ENOMEM, "cannot start the writer's thread");
    }
    *out = q;
    return TW_OK;
}

void twi_queue_finish(twi_queue *q)
{
    if (!q)
        return;
    (void)pthread_mutex_lock(&q->lock);
    q->ending = true;
    (void)pthread_cond_signal(&q->came);
    (void)pthread_mutex_unlock(&q->lock);
    (void)pthread_join(q->thread, NULL);
    (void)pthread_mutex_destroy(&q->lock);
    (void)pthread_cond_destroy(&q->came);
    (void)pthread_cond_destroy(&q->went);
    free(q);
}
