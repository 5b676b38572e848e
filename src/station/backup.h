/* What a catalogue knows, taken to another board: both may be in use meanwhile. */
#ifndef TWI_STATION_BACKUP_H
#define TWI_STATION_BACKUP_H

#include "tawny/catalogue.h"

/** Write a copy of a catalogue as it is at one moment.
 * @param path  Made; must not be there. @return TW_OK; TW_ENOSPC, TW_EIO... */
tw_status twi_catalogue_copy(tw_catalogue *catalogue, const char *path, tw_error *err);

/* What was taken in. */
typedef struct twi_merged {
    int64_t sightings, captures;
    int64_t shift; /* added to their numbers, as there are sightings already; 0: none */
} twi_merged;

/**
 * Take in what a copy knows: sightings with marks, names and stars, what was missed, the
 * trace, values of sensors and the log; all of it or nothing. Nothing of it is sent
 * anywhere, and what waited to be sent there is not taken along.
 *
 * @param path      Of the copy, which may be of an older version; it is brought up to
 * date.
 * @param captures  Also its captures, whose files are in the store; those of a name that
 *                  is known already are left out.
 * @return TW_OK; TW_EDAMAGED, TW_ENOTSUP: as tw_catalogue_open of the copy; TW_EEXIST: it
 *         is there already; TW_EIO...
 */
tw_status twi_catalogue_merge(tw_catalogue *into, const char *path, bool captures,
                              twi_merged *out, tw_error *err);

#endif
