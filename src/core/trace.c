/* Activity over time. */
#include "trace.h"

#include <string.h>

enum { NONE = 0xFFFFFF };

static void put(uint8_t *at, uint32_t value)
{
    at[0] = (uint8_t)value;
    at[1] = (uint8_t)(value >> 8);
    at[2] = (uint8_t)(value >> 16);
}

static uint32_t get(const uint8_t *at)
{
    return at[0] | (uint32_t)at[1] << 8 | (uint32_t)at[2] << 16;
}

/* Write the second that is being gathered into its minute. */
static void close_second(twi_trace *t)
{
    if (t->count == 0)
        return;
    const int64_t first = t->minute.start_us / 1000000;
    const uint16_t index = (uint16_t)(t->second - first);
    uint8_t *at = t->minute.bytes + (size_t)index * TWI_TRACE_STEP;
    put(at, t->max_ppm);
    put(at + 3, (uint32_t)((t->sum + t->count / 2) / t->count));
    t->minute.seconds = (uint16_t)(index + 1);
    t->count = 0;
    t->sum = 0;
    t->max_ppm = 0;
}

static void begin_minute(twi_trace *t, int64_t second)
{
    t->minute.start_us = second * 1000000;
    t->minute.seconds = 0;
    memset(t->minute.bytes, 0xFF, sizeof t->minute.bytes);
}

bool twi_trace_end(twi_trace *t, twi_trace_minute *done)
{
    if (!t || !done)
        return false;
    close_second(t);
    const bool any = t->minute.seconds > 0;
    if (any)
        *done = t->minute;
    t->minute.seconds = 0;
    return any;
}

bool twi_trace_add(twi_trace *t, int64_t wall_us, uint32_t activity_ppm,
                   twi_trace_minute *done)
{
    if (!t || !done || wall_us < 0)
        return false;
    const int64_t second = wall_us / 1000000;
    bool complete = false;
    if (t->count > 0 && second != t->second)
        close_second(t);
    const int64_t since = second - t->minute.start_us / 1000000;
    const bool fits = since >= t->minute.seconds && since < TWI_TRACE_SECONDS;
    if (t->count == 0 && (t->minute.seconds == 0 || !fits)) {
        complete = t->minute.seconds > 0 && twi_trace_end(t, done);
        begin_minute(t, second);
    }
    t->second = second;
    if (activity_ppm >= NONE)
        activity_ppm = NONE - 1;
    if (activity_ppm > t->max_ppm)
        t->max_ppm = activity_ppm;
    t->sum += activity_ppm;
    t->count++;
    return complete;
}

bool twi_trace_read(const uint8_t *bytes, size_t second, uint32_t *max_ppm,
                    uint32_t *mean_ppm)
{
    if (!bytes || !max_ppm || !mean_ppm || second >= TWI_TRACE_SECONDS)
        return false;
    const uint8_t *at = bytes + second * TWI_TRACE_STEP;
    if (get(at) == NONE)
        return false;
    *max_ppm = get(at);
    *mean_ppm = get(at + 3);
    return true;
}
