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
        int64_t looked_us;     /* monotonic time of that look */
        bool unset;            /* and the clock was not set then */
        bool corrected;        /* it has been set since: earlier wall times are ... */
        int64_t later_us;      /* ... so much later in truth */
        int64_t between_us;    /* halfway between what it said before and after */
        int64_t set_us;        /* monotonic time of that */
    } own;
} twi_timing;

/* Bits of twi_timing_sample's answer. */
enum {
    TWI_CLOCK_SET = 1,   /* it has just been set for the first time */
    TWI_CLOCK_JUMPED = 2 /* a set clock jumped: jump_us */
};

/** Whether a wall time can be right: 2020 began long before the first board ran this, and
 * long after 1970 and 2000, where clocks without a battery begin. */
bool twi_timing_can_be(int64_t wall_us);

/** @param newest_order_us  Of what earlier runs stored; 0: nothing.
 * @param trusted  Whether the wall clock is set. */
void twi_timing_begin(twi_timing *timing, int64_t now_us, int64_t wall_us, bool trusted,
                      int64_t newest_order_us);

/** Whether it is time to look at both clocks: a second has passed, or the wall clock has
 * jumped. For whoever finds it dear to ask whether the clock is set. */
bool twi_timing_is_due(const twi_timing *timing, int64_t now_us, int64_t wall_us);

/** Look at both clocks, every now and then. A clock that is not set and jumps to a date
 * that can be has been set, by whoever it was; one that was set stays so, though it may
 * lose its servers, until it shows a date that cannot be. @return bits. */
unsigned twi_timing_sample(twi_timing *timing, int64_t now_us, int64_t wall_us,
                           bool trusted);

/** The place in the order of things of what happened at a wall time: it grows as
 * monotonic time does, whatever the wall clock does, and goes on after earlier runs. */
int64_t twi_timing_order(const twi_timing *timing, int64_t at_wall_us);

/** A wall time of not long ago, put right if it was taken before the clock was set.
 * @param right  Set to whether the answer is right, as far as is known. */
int64_t twi_timing_right(const twi_timing *timing, int64_t wall_us, bool *right);

/** @return whether the clock was set when it was last looked at. */
bool twi_timing_is_set(const twi_timing *timing);

/** @return whether it was not set at first, and has been set since. */
bool twi_timing_is_corrected(const twi_timing *timing);

/** @return by how much times of before the clock was set are later in truth; 0: it never
 * was unset, or has not been set. */
int64_t twi_timing_later(const twi_timing *timing);

#endif
