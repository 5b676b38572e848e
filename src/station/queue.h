/* The bounded queue in front of the writer's thread. */
#ifndef TWI_QUEUE_H
#define TWI_QUEUE_H

#include "writer.h"

typedef struct twi_queue twi_queue;

/** Start the writer's thread. @param limit Bytes that may wait. */
tw_status twi_queue_start(twi_writer *writer, size_t limit, twi_queue **out,
                          tw_error *err);

/** Wait until every job is done, then end the thread. NULL is fine. */
void twi_queue_finish(twi_queue *queue);

/** A sink that refuses while the queue is full. Thread-safe. */
twi_jobs twi_queue_jobs(twi_queue *queue);

/** Let so many bytes wait from now on. Thread-safe. */
void twi_queue_limit(twi_queue *queue, size_t limit);

/** @return bytes that wait. Thread-safe. */
size_t twi_queue_waiting(twi_queue *queue);

#endif
