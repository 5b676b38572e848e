/* Whether frames come as fast as they should. */
#include "rate.h"

enum {
    WINDOW_US = 5000000,
    IN_A_ROW = 3,
    TOO_BUSY_PPM = 850000 /* of one processor: its thread has hardly a moment left */
};

static void begin(twi_rate *r, int64_t now_us, const twi_rate_counts *counts)
{
    r->own.begun = true;
    r->own.from_us = now_us;
    r->own.from = *counts;
}

static twi_rate_news judge(twi_rate *r, uint64_t dropped, uint32_t wanted_milli)
{
    const bool low = (uint64_t)r->milli_fps * 5 < (uint64_t)wanted_milli * 4;
    if (low == r->own.reported) {
        r->own.in_a_row = 0;
        return TWI_RATE_NOTHING;
    }
    if (++r->own.in_a_row < IN_A_ROW)
        return TWI_RATE_NOTHING;
    r->own.in_a_row = 0;
    r->own.reported = low;
    if (!low)
        return TWI_RATE_HOLDS;
    return dropped > 0 || r->busy_ppm > TOO_BUSY_PPM ? TWI_RATE_BUSY : TWI_RATE_SLOW;
}

twi_rate_news twi_rate_sample(twi_rate *r, int64_t now_us, const twi_rate_counts *counts,
                              uint32_t wanted_milli)
{
    if (!r->own.begun)
        begin(r, now_us, counts);
    const int64_t span_us = now_us - r->own.from_us;
    if (span_us < WINDOW_US)
        return TWI_RATE_NOTHING;
    const uint64_t span = (uint64_t)span_us;
    const uint64_t frames = counts->frames - r->own.from.frames;
    const int64_t busy_us = counts->busy_us - r->own.from.busy_us;
    const uint64_t dropped = counts->dropped - r->own.from.dropped;
    r->milli_fps = (uint32_t)(frames * 1000000000 / span);
    r->busy_ppm = busy_us > 0 ? (uint32_t)((uint64_t)busy_us * 1000000 / span) : 0;
    begin(r, now_us, counts);
    return wanted_milli > 0 ? judge(r, dropped, wanted_milli) : TWI_RATE_NOTHING;
}
