/* A store with sightings that wait to be sent, made without a station. */
#ifndef TW_TEST_STORED_H
#define TW_TEST_STORED_H

#include <pthread.h>

#include "support.h"
#include "tawny/settings.h"

typedef struct stored {
    char *folder; /* of the test; the store is store/ in it */
    char *store;
    tw_catalogue *catalogue;
    tw_settings *settings;
    twi_deliver *deliver;
    uint32_t number; /* of the last sighting */
    pthread_mutex_t lock;
    char told[16384]; /* lines of the destinations; under the lock */
} stored;

stored *make_stored(void);
void leave_stored(stored *s);

/** Read settings: what is written, with [station] and a camera kerb whose send_to is
 * given. @return the settings, to be freed. */
tw_settings *sending_settings(const char *send_to, const char *destinations);

/** Begin to send by such settings; what runs is ended. NULL send_to: only end it. */
void deliver(stored *s, const char *send_to, const char *destinations);

/** A sighting that is over, with a still (320x240) and a clip of so many bytes.
 * @return its id. */
int64_t sight(stored *s, size_t clip_bytes);
/** Its parts by themselves. */
int64_t begin_sighting(stored *s);
void add_still(stored *s, int64_t id);
void end_sighting(stored *s, int64_t id);

/** How a destination's queue stands. */
twi_outbox_fill filled(stored *s, const char *destination);

/** Whether a line has been told. */
bool was_told(stored *s, const char *words);

#endif
