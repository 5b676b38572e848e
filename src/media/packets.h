/* Frames, most often packets, on their way from a thread that reads a camera to one that
 * takes them: copied once, in order, a bounded number of them. */
#ifndef TW_PACKETS_H
#define TW_PACKETS_H

#include "tawny/error.h"
#include "tawny/port.h"

typedef struct tw_packets tw_packets;

/** @param most  How many may wait, 1..1000. @return NULL: out of memory. */
tw_packets *tw_packets_new(size_t most);
void tw_packets_free(tw_packets *packets); /* NULL is fine; after both threads */

/** Begin anew: nothing waits, and it is not stopped. In the thread that takes. */
void tw_packets_reset(tw_packets *packets);

/** Hand one over.
 * @param frame  Its bytes are copied, pixels as planes; NULL: one was lost.
 * @param wait   Wait while there is no room.
 * @return TW_OK; TW_EAGAIN: there is no room; TW_ESTOPPED: it was stopped meanwhile;
 *         TW_ENOMEM: err says so. */
tw_status tw_packets_put(tw_packets *packets, const tw_frame *frame, bool wait,
                         tw_error *err);

/** No more will come. @param st  What take answers from then on. */
void tw_packets_end(tw_packets *packets, tw_status st, const tw_error *why);

/** Let a thread that waits in put go, and have it hand over nothing more. Any thread. */
void tw_packets_stop(tw_packets *packets);
bool tw_packets_stopped(tw_packets *packets);

/** @return how many wait. Any thread. */
size_t tw_packets_waiting(tw_packets *packets);

/** The next one.
 * @param wait_ms  For so long at most; 0: not at all.
 * @param frame    Set on TW_OK; good until the next call.
 * @return TW_OK; TW_EAGAIN: none now; TW_EDAMAGED: one was lost; else how it has ended,
 *         with err. */
tw_status tw_packets_take(tw_packets *packets, int wait_ms, tw_frame *frame,
                          tw_error *err);

#endif
