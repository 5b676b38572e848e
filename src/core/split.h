/* JPEG pictures that come one behind the other in a stream of bytes.
 * Pure: no I/O, clock or heap. */
#ifndef TWI_SPLIT_H
#define TWI_SPLIT_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/error.h"

/* How far a picture has been looked through. Zero it to begin with a picture. */
typedef struct twi_split {
    size_t at;
    bool in_scan; /* within entropy-coded data */
} twi_split;

/**
 * Find where the picture that begins with data ends. Goes on from where it stopped, so
 * that it may be called with the same bytes and more; each byte is looked at once. End
 * markers of previews within the picture are stepped over.
 *
 * @param length  Set on TW_OK to the bytes of the picture.
 * @return TW_OK: whole, and split is ready for the next; TW_EAGAIN: it goes on;
 * TW_EDAMAGED: no picture begins here, or its parts do not fit: look for one further on
 * with twi_split_find and zero split; TW_EINVAL: NULL pointer. Source: ITU-T T.81, annex
 * B.
 */
tw_status twi_split_jpeg(twi_split *split, const uint8_t *data, size_t bytes,
                         size_t *length);

/** @return where the first picture may begin at or after from; bytes: nowhere yet. */
size_t twi_split_find(const uint8_t *data, size_t bytes, size_t from);

#endif
