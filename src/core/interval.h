/* What is done every so often by the clock. Pure: no I/O or clock. */
#ifndef TWI_INTERVAL_H
#define TWI_INTERVAL_H

#include <stdbool.h>
#include <stdint.h>

#include "tawny/error.h"

/* Zero it to begin. */
typedef struct twi_interval {
    bool any;     /* a time has come */
    int64_t last; /* number of the interval that was last begun */
} twi_interval;

/**
 * Whether a full interval of the clock begins: every 5 minutes is at each full five
 * minutes, so that those of several days compare. The one that is running when the first
 * time comes has begun before, and is not due. A clock that is set back a little gives
 * none twice; one that is set back by more than an interval begins anew.
 *
 * @param wall_us   Microseconds since 1970.
 * @param every_us  Length of an interval; 0 or less: never.
 */
bool twi_interval_due(twi_interval *interval, int64_t wall_us, int64_t every_us);

#endif
