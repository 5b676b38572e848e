/* Frames, most often packets, on their way from a thread that reads a camera to one that
 * takes them: copied once, in order, a bounded number of them. */
#ifndef TWI_PACKETS_H
#define TWI_PACKETS_H

#include "tawny/error.h"
#include "tawny/port.h"

typedef struct twi_packets twi_packets;

/** @param most  How many may wait, 1..1000. @return NULL: out of memory. */
twi_packets *twi_packets_new(size_t most);
void twi_packets_free(twi_packets *packets); /* NULL is fine; after both threads */

/** Begin anew: nothing waits, and it is not stopped. In the thread that takes. */
void twi_packets_reset(twi_packets *packets);

/** Hand one over.
 * @param frame  Its bytes are copied, pixels as planes; NULL: one was lost.
 * @param wait   Wait while there is no room.
 * @return TW_OK; TW_EAGAIN: there is no room; TW_ESTOPPED: it was stopped meanwhile;
 *         TW_ENOMEM: err says so. */
tw_status twi_packets_put(twi_packets *packets, const tw_frame *frame, bool wait,
                          tw_error *err);

/** No more will come. @param st  What take answers from then on. */
void twi_packets_end(twi_packets *packets, tw_status st, const tw_error *why);

/** Let a thread that waits in put go, and have it hand over nothing more. Any thread. */
void twi_packets_stop(twi_packets *packets);
bool twi_packets_stopped(twi_packets *packets);

/** @return how many wait. Any thread. */
size_t twi_packets_waiting(twi_packets *packets);

/** The next one.
 * @param wait_ms  For so long at most; 0: not at all.
 * @param frame    Set on TW_OK; good until the next call.
 * @return TW_OK; TW_EAGAIN: none now; TW_EDAMAGED: one was lost; else how it has ended,
 *         with err. */
tw_status twi_packets_take(twi_packets *packets, int wait_ms, tw_frame *frame,
                           tw_error *err);

#endif
