/* Sightings that a broker's other end has not got: it asks for them again by number. */
#ifndef TWI_RETELL_H
#define TWI_RETELL_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/error.h"

enum {
    TWI_RETELL_RANGES = 16, /* that wait at once */
    TWI_RETELL_BYTES = 4096 /* of a question */
};

/* Numbers that are still to be told, first and last of each range. */
typedef struct twi_retelling {
    uint32_t first[TWI_RETELL_RANGES], last[TWI_RETELL_RANGES];
    size_t count;
} twi_retelling;

/**
 * Take a question in: {"series": SERIES, "numbers": [[FIRST, LAST], ...]}. Ranges for
 * which there is no room are left out: they are asked for again.
 *
 * @param series  The numbers of this catalogue are of this series.
 * @return TW_OK; TW_ENOENT: it asks for another series; TW_ESYNTAX: not understood.
 */
tw_status twi_retell_take(twi_retelling *r, const char *series, const void *text,
                          size_t bytes);

/** One more to tell; one for which there is no room is left out. */
void twi_retell_add(twi_retelling *r, uint32_t number);

/** @return whether there is one more number to tell. */
bool twi_retell_next(twi_retelling *r, uint32_t *number);

#endif
