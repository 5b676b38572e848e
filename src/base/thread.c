/* Starting threads, and waiting. */
#include "thread.h"

#include <signal.h>

bool twi_thread_start(pthread_t *thread, void *(*run)(void *ctx), void *ctx)
{
    sigset_t all, before;
    (void)sigfillset(&all);
    (void)pthread_sigmask(SIG_SETMASK, &all, &before);
    const bool good = pthread_create(thread, NULL, run, ctx) == 0;
    (void)pthread_sigmask(SIG_SETMASK, &before, NULL);
    return good;
}

void twi_cond_init(pthread_cond_t *cond)
{
    pthread_condattr_t monotonic;
    (void)pthread_condattr_init(&monotonic);
    (void)pthread_condattr_setclock(&monotonic, CLOCK_MONOTONIC);
    (void)pthread_cond_init(cond, &monotonic);
    (void)pthread_condattr_destroy(&monotonic);
}

struct timespec twi_deadline(int64_t us)
{
    struct timespec t;
    (void)clock_gettime(CLOCK_MONOTONIC, &t);
    const int64_t ns = t.tv_nsec + us % 1000000 * 1000;
    t.tv_sec += (time_t)(us / 1000000 + ns / 1000000000);
    t.tv_nsec = (long)(ns % 1000000000);
    return t;
}
