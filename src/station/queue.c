/* The bounded queue in front of the writer's thread. A job that is larger than the limit
 * goes in alone, so that it is never stuck. */
#include "queue.h"

#include <pthread.h>
#include <stdlib.h>
#include <time.h>

#include "../base/thread.h"
#include "upkeep.h"

enum {
    JOB_OVERHEAD = 512, /* so that jobs without data count as well */
    UPKEEP_EVERY_S = 60
};

typedef struct node {
    struct node *next;
    tw_job job;
} node;

struct tw_queue {
    tw_writer *writer;
    size_t limit, held; /* bytes */
    node *first, *last;
    bool ending;
    pthread_mutex_t lock;
    pthread_cond_t came, went;
    pthread_t thread;
};

static size_t weight(const tw_job *job)
{
    return (job->parcel ? job->parcel->size : 0) + JOB_OVERHEAD;
}

/* How much may wait for a job to be taken. What the catalogue is told is little, and must
 * not be lost to a slow card; stills are few, and must not be lost to clips that are
 * still being encoded. Packets can wait where they are. */
static size_t limit_for(const tw_queue *q, const tw_job *job)
{
    if (job->kind >= TW_JOB_BEGAN)
        return SIZE_MAX;
    return job->kind == TW_JOB_STILL ? 2 * q->limit : q->limit;
}

/* The next job; NULL: it is time for upkeep, or, with ending set, there are no more. */
static node *take(tw_queue *q, bool *ending)
{
    struct timespec until;
    (void)clock_gettime(CLOCK_MONOTONIC, &until);
    until.tv_sec += UPKEEP_EVERY_S;
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
static void done(tw_queue *q, size_t bytes)
{
    (void)pthread_mutex_lock(&q->lock);
    q->held -= bytes;
    (void)pthread_cond_broadcast(&q->went);
    (void)pthread_mutex_unlock(&q->lock);
}

static void *work(void *ctx)
{
    tw_queue *q = ctx;
    bool ending = false;
    tw_upkeep_mend(q->writer); /* cameras watch meanwhile */
    for (;;) {
        node *taken = take(q, &ending);
        if (!taken && ending)
            break;
        if (!taken) { /* captures grow old also where nothing happens */
            tw_upkeep(q->writer);
            continue;
        }
        const size_t bytes = weight(&taken->job);
        tw_writer_do(q->writer, &taken->job);
        free(taken);
        done(q, bytes);
    }
    return NULL;
}

static bool give(void *ctx, tw_job *job, bool wait)
{
    tw_queue *q = ctx;
    const size_t bytes = weight(job);
    node *made = malloc(sizeof *made);
    if (!made && !wait)
        return false;
    (void)pthread_mutex_lock(&q->lock);
    const size_t limit = limit_for(q, job);
    while (q->held > 0 && q->held + bytes > limit && wait)
        (void)pthread_cond_wait(&q->went, &q->lock);
    const bool room = q->held == 0 || q->held + bytes <= limit;
    if (room && made) {
        *made = (node){NULL, *job};
        if (q->last)
            q->last->next = made;
        else
            q->first = made;
        q->last = made;
        q->held += bytes;
        made = NULL;
        (void)pthread_cond_signal(&q->came);
    } else if (wait) { /* out of memory: the footage of this job is lost */
        tw_parcel_release(job->parcel);
    }
    (void)pthread_mutex_unlock(&q->lock);
    free(made);
    return room || wait;
}

size_t tw_queue_waiting(tw_queue *q)
{
    (void)pthread_mutex_lock(&q->lock);
    const size_t held = q->held;
    (void)pthread_mutex_unlock(&q->lock);
    return held;
}

tw_job_sink tw_queue_sink(tw_queue *queue)
{
    return (tw_job_sink){give, queue};
}

tw_status tw_queue_start(tw_writer *writer, size_t limit, tw_queue **out, tw_error *err)
{
    tw_queue *q = calloc(1, sizeof *q);
    if (!q)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    q->writer = writer;
    q->limit = limit;
    (void)pthread_mutex_init(&q->lock, NULL);
    pthread_condattr_t monotonic;
    (void)pthread_condattr_init(&monotonic);
    (void)pthread_condattr_setclock(&monotonic, CLOCK_MONOTONIC);
    (void)pthread_cond_init(&q->came, &monotonic);
    (void)pthread_condattr_destroy(&monotonic);
    (void)pthread_cond_init(&q->went, NULL);
    if (!tw_thread_start(&q->thread, work, q)) {
        free(q);
        return tw_fail(err, TW_ENOMEM, "cannot start the writer's thread");
    }
    *out = q;
    return TW_OK;
}

void tw_queue_finish(tw_queue *q)
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
