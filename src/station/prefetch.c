/* Reading a camera ahead. */
#include "prefetch.h"

#include <pthread.h>
#include <stdlib.h>

#include "../base/thread.h"
#include "../media/packets.h"
#include "tawny/port.h"

enum { WAITING_MAX = 32 }; /* packets; then the camera has to wait */

struct twi_prefetch {
    tw_camera camera;
    pthread_t thread;
    bool running;
    twi_packets *packets;
};

/* @return false: that was the last. */
static bool read_one(twi_prefetch *a)
{
    tw_frame frame;
    tw_error err = {0};
    tw_status st = a->camera.ops->next(a->camera.ctx, &frame, &err);
    if (st == TW_EAGAIN)
        return !twi_packets_stopped(a->packets);
    if (st == TW_OK || st == TW_EDAMAGED)
        st = twi_packets_put(a->packets, st == TW_OK ? &frame : NULL, true, &err);
    if (st == TW_OK)
        return true;
    if (st != TW_ESTOPPED)
        twi_packets_end(a->packets, st, &err);
    return false;
}

static void *read_all(void *ctx)
{
    while (read_one(ctx))
        ;
    return NULL;
}

tw_status twi_prefetch_open(const tw_platform *platform, const tw_camera_request *request,
                            twi_prefetch **out, tw_stream *stream, tw_error *err)
{
    twi_prefetch *a = calloc(1, sizeof *a);
    if (a)
        a->packets = twi_packets_new(WAITING_MAX);
    if (!a || !a->packets) {
        free(a);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    tw_status st = tw_camera_make(platform->makers, request, &a->camera, err);
    if (st == TW_OK)
        st = a->camera.ops->open(a->camera.ctx, stream, err);
    a->running = st == TW_OK && twi_thread_start(&a->thread, read_all, a);
    if (st == TW_OK && !a->running)
        st = tw_fail(err, TW_ENOMEM, "cannot start the thread that reads %s",
                     request->name);
    if (st == TW_OK)
        *out = a;
    else
        twi_prefetch_close(a);
    return st;
}

tw_status twi_prefetch_take(twi_prefetch *a, tw_frame *frame, tw_error *err)
{
    return twi_packets_take(a->packets, 0, frame, err);
}

void twi_prefetch_close(twi_prefetch *a)
{
    if (!a)
        return;
    twi_packets_stop(a->packets);
    if (a->running)
        (void)pthread_join(a->thread, NULL);
    if (a->camera.ops)
        a->camera.ops->destroy(a->camera.ctx);
    twi_packets_free(a->packets);
    free(a);
}
