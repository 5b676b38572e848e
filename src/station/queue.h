/* The bounded queue in front of the writer's thread. */
#ifndef TW_QUEUE_H
#define TW_QUEUE_H

#include "writer.h"

typedef struct tw_queue tw_queue;

/** Start the writer's thread. @param limit Bytes that may wait. */
tw_status tw_queue_start(tw_writer *writer, size_t limit, tw_queue **out, tw_error *err);

/** Wait until every job is done, then end the thread. NULL is fine. */
void tw_queue_finish(tw_queue *queue);

/** A sink that refuses while the queue is full. Thread-safe. */
tw_job_sink tw_queue_sink(tw_queue *queue);

/** Let so many bytes wait from now on. Thread-safe. */
void tw_queue_limit(tw_queue *queue, size_t limit);

/** @return bytes that wait. Thread-safe. */
size_t tw_queue_waiting(tw_queue *queue);

#endif
