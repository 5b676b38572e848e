/* What to make of a wall clock that may not be set yet, or that is set
 * while the station runs. Pure: no I/O or clock; times are arguments.
 *
 * Two clocks: monotonic time never jumps and knows no date; wall time has a date and may
 * jump. Durations and order come from the first, names from the second. */
#ifndef TWI_TIMING_H
#define TWI_TIMING_H

#include <stdbool.h>
#include <stdint.h>

#include "tawny/error.h"

/* State. Leave own alone. */
typedef struct twi_timing {
    int64_t jump_us; /* by how much the wall clock jumped when it was last looked at */
    struct {
        int64_t order_base_us; /* order at monotonic zero */
        int64_t offset_us;     /* wall time less monotonic time, when last looked at */
        bool unset;            /* and the clock was not set then */
        bool corrected;        /* it has been set since: earlier wall times are ... */
        int64_t later_us;      /* ... so much later in truth */
    } own;
} twi_timing;

/* Bits of twi_timing_sample's answer. */
enum {
    TWI_CLOCK_SET = 1,   /* it has just been set for the first time */
    TWI_CLOCK_JUMPED = 2 /* a set clock jumped: jump_us */
};

/** @param newest_order_us  Of what earlier runs stored; 0: nothing.
 * @param trusted  Whether the wall clock is set. */
void twi_timing_begin(twi_timing *timing, int64_t now_us, int64_t wall_us, bool trusted,
                      int64_t newest_order_us);

/** Look at both clocks, every now and then. @return bits. */
unsigned twi_timing_sample(twi_timing *timing, int64_t now_us, int64_t wall_us,
                           bool trusted);

/** The place in the order of things of what happened at a wall time: it grows as
 * monotonic time does, whatever the wall clock does, and goes on after earlier runs. */
int64_t twi_timing_order(const twi_timing *timing, int64_t at_wall_us);

/** A wall time, put right if it was taken before the clock was set and that is known.
 * @param trusted  Whether it can be right as it is. Set to whether the answer can. */
int64_t twi_timing_right(const twi_timing *timing, int64_t wall_us, bool *trusted);

/** @return by how much times of before the clock was set are later in truth; 0: it never
 * was unset, or has not been set. */
int64_t twi_timing_later(const twi_timing *timing);

#endif
