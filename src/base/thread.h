/* Threads of the library's own. */
#ifndef TWI_THREAD_H
#define TWI_THREAD_H

#include <pthread.h>
#include <stdbool.h>

/** Start a thread that no signal is delivered to: those are for the threads of whoever
 * uses the library, and SIGPIPE is for nobody. @return false: it cannot be started. */
bool twi_thread_start(pthread_t *thread, void *(*run)(void *ctx), void *ctx);

#endif
