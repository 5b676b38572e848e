/* Starting threads. */
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
