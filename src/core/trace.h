/* Activity over time, one second at a time. Pure: no I/O, clock or heap.
 *
 * A minute takes 360 bytes, a day of one camera less than 1 MB in a catalogue. */
#ifndef TWI_TRACE_H
#define TWI_TRACE_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/error.h"

enum {
    TWI_TRACE_SECONDS = 60, /* in a minute that is written */
    TWI_TRACE_STEP = 6,     /* bytes of a second */
    TWI_TRACE_BYTES = TWI_TRACE_SECONDS * TWI_TRACE_STEP
};

/* Up to a minute of seconds in a row. Each is two numbers of three bytes, the lowest
 * first: highest and mean activity, ppm; all ones: no frame came. */
typedef struct twi_trace_minute {
    int64_t start_us; /* wall time of its first second, a whole one */
    uint16_t seconds; /* 1..TWI_TRACE_SECONDS */
    uint8_t bytes[TWI_TRACE_BYTES];
} twi_trace_minute;

/* Where readings are gathered. Zero it to begin. */
typedef struct twi_trace {
    twi_trace_minute minute;
    int64_t second; /* that is being gathered, since 1970 */
    uint64_t sum;
    uint32_t count, max_ppm;
} twi_trace;

/**
 * Take one reading in.
 *
 * @param wall_us  When; where it jumps, a new minute begins.
 * @param done     Set to a minute that is complete, if there is one.
 * @return whether done was set.
 */
bool twi_trace_add(twi_trace *trace, int64_t wall_us, uint32_t activity_ppm,
                   twi_trace_minute *done);

/** No more readings will come. @return whether done was set to what there is. */
bool twi_trace_end(twi_trace *trace, twi_trace_minute *done);

/** Read one second of a minute. @return false: no frame came in it. */
bool twi_trace_read(const uint8_t *bytes, size_t second, uint32_t *max_ppm,
                    uint32_t *mean_ppm);

#endif
