/* The film of a day: what a camera has captured in 24 hours, as one short video that is a
 * capture like others. */
#ifndef TWI_DAILY_REEL_H
#define TWI_DAILY_REEL_H

#include <stdbool.h>
#include <stdint.h>

struct tw_station;
typedef struct twi_daily_reel twi_daily_reel;

/**
 * Make the films of all cameras that want one, in a thread of its own that gives way to
 * others. One that is there already is not made again. The running thread's, under no
 * lock.
 *
 * @param from_us, until_us  Wall times of the day.
 * @return NULL: out of memory, or there is no camera that wants one.
 */
twi_daily_reel *twi_daily_reel_begin(struct tw_station *station, int64_t from_us,
                                     int64_t until_us);

/** @return whether all of it is done. */
bool twi_daily_reel_is_done(const twi_daily_reel *reel);

/** Give up what is not done yet, and free it. NULL is fine. */
void twi_daily_reel_end(twi_daily_reel *reel);

#endif
