/* Whether a camera's frames come as fast as they should, and if not, who
 * holds them up. Pure: no I/O or clock; times are arguments. */
#ifndef TWI_RATE_H
#define TWI_RATE_H

#include <stdbool.h>
#include <stdint.h>

#include "tawny/error.h"

/* What has been counted since any zero; all only grow. */
typedef struct twi_rate_counts {
    uint64_t frames;  /* that came */
    uint64_t dropped; /* that were lost before they could be fetched */
    int64_t busy_us;  /* time of a processor spent on them */
} twi_rate_counts;

typedef enum twi_rate_news {
    TWI_RATE_NOTHING,
    TWI_RATE_SLOW, /* the camera gives fewer than it should */
    TWI_RATE_BUSY, /* it would give more: we are too slow to fetch them */
    TWI_RATE_HOLDS /* it does again, after one of these */
} twi_rate_news;

/* State; all zero at first. */
typedef struct twi_rate {
    uint32_t milli_fps; /* of the last five seconds, thousandths of a frame a second */
    uint32_t busy_ppm;  /* share of one processor, millionths */
    struct {
        bool begun, reported;
        uint8_t in_a_row; /* times five seconds that say another thing than was told */
        int64_t from_us;
        twi_rate_counts from;
    } own;
} twi_rate;

/**
 * Look at the counts, every second or so. What does not hold is said once, after fifteen
 * seconds below four fifths, and that it holds again likewise.
 *
 * @param now_us        Monotonic.
 * @param wanted_milli  Thousandths of a frame a second; 0: not known, nothing is said.
 */
twi_rate_news twi_rate_sample(twi_rate *rate, int64_t now_us,
                              const twi_rate_counts *counts, uint32_t wanted_milli);

#endif
