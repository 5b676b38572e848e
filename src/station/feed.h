/* The events of a station on their way to its subscribers: each has a bounded queue and a
 * thread of its own, so that nobody who is slow holds up a camera, the writer, or another
 * subscriber. */
#ifndef TWI_FEED_H
#define TWI_FEED_H

#include "../media/buffer.h"
#include "tawny/station.h"
#include "tawny/events.h"

typedef struct twi_feed twi_feed;

/* A frame whose picture an event may give. */
struct tw_event_frame {
    /* It as a JPEG, with one holder more: shared by all who want it, and with what is
     * kept. NULL: err says why. */
    twi_buffer *(*picture)(void *ctx, tw_error *err);
    void *ctx;
};

/** @return NULL: out of memory. */
twi_feed *twi_feed_new(void);

/** Before twi_feed_start. @return TW_OK; TW_EINVAL; TW_ESIZE: there are too many. */
tw_status twi_feed_add(twi_feed *feed, const tw_subscriber *who);

/** The subscriber with this ctx hears of nothing more, and is not asked what it wants.
 * Any thread but that in which it is told. */
void twi_feed_remove(twi_feed *feed, const void *ctx);

/** Start the threads. What was given before waits for them.
 * @return TW_OK; TW_ENOMEM: a thread cannot be started. */
tw_status twi_feed_start(twi_feed *feed);

/** Give an event to all who take it: a copy of all that it points to. Any thread.
 *
 * @param patient  Wait for those who are slow: nothing of recorded footage is left out.
 *                 Else readings that do not fit into a queue are left out and counted. */
void twi_feed_give(twi_feed *feed, const tw_event *event, bool patient);

/** Everything given is taken, then the threads end. Once; nothing is given meanwhile. */
void twi_feed_finish(twi_feed *feed);

/** After twi_feed_finish, if it was started. What it still has, because it was not, is
 * handed out here. NULL is fine. */
void twi_feed_free(twi_feed *feed);

#endif
