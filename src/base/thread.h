/* Threads of the library's own, and how they wait for each other. */
#ifndef TWI_THREAD_H
#define TWI_THREAD_H

#include <pthread.h>
#include <stdbool.h>
#include <stdint.h>
#include <time.h>

/** Start a thread that no signal is delivered to: those are for the threads of whoever
 * uses the library, and SIGPIPE is for nobody. @return false: it cannot be started. */
bool twi_thread_start(pthread_t *thread, void *(*run)(void *ctx), void *ctx);

/** Make a condition that is waited for by the monotonic clock. */
void twi_cond_init(pthread_cond_t *cond);

/** @return so long from now, for pthread_cond_timedwait on such a condition. */
struct timespec twi_deadline(int64_t us);

#endif
