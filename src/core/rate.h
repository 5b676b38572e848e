/* Whether a camera's frames come as fast as they should, and if not, who
 * holds them up. Pure: no I/O or clock; times are arguments. */
#ifndef TW_RATE_H
#define TW_RATE_H

#include <stdbool.h>
#include <stdint.h>

#include "tawny/status.h"

/* What has been counted since any zero; all only grow. */
typedef struct tw_rate_counts {
    uint64_t frames;  /* that came */
    uint64_t dropped; /* that were lost before they could be fetched */
    int64_t busy_us;  /* time of a processor spent on them */
} tw_rate_counts;

typedef enum tw_rate_news {
    TW_RATE_NOTHING,
    TW_RATE_SLOW, /* the camera gives fewer than it should */
    TW_RATE_BUSY, /* it would give more: we are too slow to fetch them */
    TW_RATE_HOLDS /* it does again, after one of these */
} tw_rate_news;

/* State; all zero at first. */
typedef struct tw_rate {
    uint32_t milli_fps; /* of the last five seconds, thousandths of a frame a second */
    uint32_t busy_ppm;  /* share of one processor, millionths */
    struct {
        bool begun, told;
        uint8_t in_a_row; /* times five seconds that say another thing than was told */
        int64_t from_us;
        tw_rate_counts from;
    } own;
} tw_rate;

/**
 * Look at the counts, every second or so. What does not hold is said once, after fifteen
 * seconds below four fifths, and that it holds again likewise.
 *
 * @param now_us        Monotonic.
 * @param wanted_milli  Thousandths of a frame a second; 0: not known, nothing is said.
 */
tw_rate_news tw_rate_look(tw_rate *rate, int64_t now_us, const tw_rate_counts *counts,
                          uint32_t wanted_milli);

#endif
