/* How long to wait before trying again: longer each time, and never all
 * at once. Pure: no I/O or clock. */
#ifndef TWI_BACKOFF_H
#define TWI_BACKOFF_H

#include <stdint.h>

#include "tawny/error.h"

/* State. Set least_us and most_us, and seed to anything; the rest to zero. */
typedef struct twi_backoff {
    int64_t least_us, most_us; /* 0 < least_us <= most_us */
    uint32_t seed;
    uint32_t tries; /* since it last worked */
} twi_backoff;

/** @return how long to wait now: least_us at first, doubled each time up to most_us, and
 * up to a quarter more or less by chance, so that many do not come back together. */
int64_t twi_backoff_next(twi_backoff *backoff);

/** It works. */
void twi_backoff_reset(twi_backoff *backoff);

#endif
