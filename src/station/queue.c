/* The bounded queue in front of the writer's thread. A job that is larger than the limit
 * goes in alone, so that it is never stuck. */
#include "queue.h"

#include <pthread.h>
#include <stdlib.h>

enum { JOB_OVERHEAD = 512 }; /* so that jobs without data count as well */

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
    return job->packet.size + JOB_OVERHEAD;
}

/* What the catalogue is told is little, and must not be lost to a slow card. */
static bool always_taken(const tw_job *job)
{
    return job->kind == TW_JOB_BEGAN || job->kind == TW_JOB_ENDED;
}

static node *take(tw_queue *q)
{
    (void)pthread_mutex_lock(&q->lock);
    while (!q->first && !q->ending)
        (void)pthread_cond_wait(&q->came, &q->lock);
    node *taken = q->first;
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
    node *taken = NULL;
    while ((taken = take(q)) != NULL) {
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
    while (q->held > 0 && q->held + bytes > q->limit && wait)
        (void)pthread_cond_wait(&q->went, &q->lock);
    const bool room = q->held == 0 || q->held + bytes <= q->limit || always_taken(job);
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
        free((void *)job->packet.data);
    }
    (void)pthread_mutex_unlock(&q->lock);
    free(made);
    return room || wait;
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
    (void)pthread_cond_init(&q->came, NULL);
    (void)pthread_cond_init(&q->went, NULL);
    if (pthread_create(&q->thread, NULL, work, q) != 0) {
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
