/* Reading a camera ahead. */
#include "ahead.h"

#include <pthread.h>
#include <signal.h>
#include <stdlib.h>

#include "../media/parcel.h"

enum { WAITING_MAX = 32 }; /* packets; then the camera has to wait */

typedef struct item {
    tw_packet packet;
    tw_parcel *parcel; /* NULL: lost */
} item;

struct tw_ahead {
    tw_camera camera;
    pthread_t thread;
    bool running;
    tw_parcel *given; /* with the caller until the next call */
    /* Under the lock. */
    pthread_mutex_t lock;
    pthread_cond_t went;
    item waiting[WAITING_MAX];
    size_t first, count;
    bool stop;
    tw_status ended; /* TW_OK: it goes on */
    tw_error why;
};

/* @return false: it is being closed. */
static bool hand_over(tw_ahead *a, const item *made)
{
    (void)pthread_mutex_lock(&a->lock);
    while (a->count == WAITING_MAX && !a->stop)
        (void)pthread_cond_wait(&a->went, &a->lock);
    const bool going = !a->stop;
    if (going)
        a->waiting[(a->first + a->count++) % WAITING_MAX] = *made;
    (void)pthread_mutex_unlock(&a->lock);
    return going;
}

static void end(tw_ahead *a, tw_status st, const tw_error *why)
{
    (void)pthread_mutex_lock(&a->lock);
    a->ended = st;
    a->why = *why;
    (void)pthread_mutex_unlock(&a->lock);
}

static bool stopped(tw_ahead *a)
{
    (void)pthread_mutex_lock(&a->lock);
    const bool stop = a->stop;
    (void)pthread_mutex_unlock(&a->lock);
    return stop;
}

/* @return false: that was the last. */
static bool read_one(tw_ahead *a)
{
    tw_frame frame;
    tw_error err = {0};
    item made = {.parcel = NULL};
    tw_status st = a->camera.ops->next(a->camera.ctx, &frame, &err);
    if (st == TW_EAGAIN)
        return !stopped(a);
    if (st == TW_OK) {
        made.packet = frame.packet;
        made.parcel = tw_parcel_copy(frame.packet.data, frame.packet.size);
        st = made.parcel ? TW_OK : tw_fail(&err, TW_ENOMEM, "out of memory");
    }
    if (st != TW_OK && st != TW_EDAMAGED) {
        end(a, st, &err);
        return false;
    }
    if (made.parcel)
        made.packet.data = made.parcel->data;
    if (hand_over(a, &made))
        return true;
    tw_parcel_release(made.parcel);
    return false;
}

static void *read_all(void *ctx)
{
    while (read_one(ctx))
        ;
    return NULL;
}

static bool start(tw_ahead *a)
{
    sigset_t all, before;
    (void)sigfillset(&all); /* signals are for the thread that runs the station */
    (void)pthread_sigmask(SIG_SETMASK, &all, &before);
    a->running = pthread_create(&a->thread, NULL, read_all, a) == 0;
    (void)pthread_sigmask(SIG_SETMASK, &before, NULL);
    return a->running;
}

tw_status tw_ahead_open(const tw_board *board, const tw_camera_request *request,
                        tw_ahead **out, tw_stream *stream, tw_error *err)
{
    tw_ahead *a = calloc(1, sizeof *a);
    if (!a)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    (void)pthread_mutex_init(&a->lock, NULL);
    (void)pthread_cond_init(&a->went, NULL);
    tw_status st = tw_camera_make(board->makers, request, &a->camera, err);
    if (st == TW_OK)
        st = a->camera.ops->open(a->camera.ctx, stream, err);
    if (st == TW_OK && !start(a))
        st = tw_fail(err, TW_ENOMEM, "cannot start the thread that reads %s",
                     request->name);
    if (st == TW_OK)
        *out = a;
    else
        tw_ahead_close(a);
    return st;
}

tw_status tw_ahead_take(tw_ahead *a, tw_packet *packet, tw_error *err)
{
    item taken = {.parcel = NULL};
    tw_status st = TW_OK;
    tw_parcel_release(a->given);
    a->given = NULL;
    (void)pthread_mutex_lock(&a->lock);
    if (a->count > 0) {
        taken = a->waiting[a->first];
        a->first = (a->first + 1) % WAITING_MAX;
        a->count--;
        (void)pthread_cond_signal(&a->went);
        st = taken.parcel ? TW_OK : TW_EDAMAGED;
    } else {
        st = a->ended == TW_OK ? TW_EAGAIN : a->ended;
        if (a->ended != TW_OK && err)
            *err = a->why;
    }
    (void)pthread_mutex_unlock(&a->lock);
    a->given = taken.parcel;
    *packet = taken.packet;
    return st;
}

void tw_ahead_close(tw_ahead *a)
{
    if (!a)
        return;
    (void)pthread_mutex_lock(&a->lock);
    a->stop = true;
    (void)pthread_cond_signal(&a->went);
    (void)pthread_mutex_unlock(&a->lock);
    if (a->running)
        (void)pthread_join(a->thread, NULL);
    if (a->camera.ops)
        a->camera.ops->destroy(a->camera.ctx);
    for (; a->count > 0; a->count--, a->first = (a->first + 1) % WAITING_MAX)
        tw_parcel_release(a->waiting[a->first].parcel);
    tw_parcel_release(a->given);
    (void)pthread_cond_destroy(&a->went);
    (void)pthread_mutex_destroy(&a->lock);
    free(a);
}
