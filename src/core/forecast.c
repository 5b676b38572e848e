/* When a card will be full. */
#include "forecast.h"

#include <string.h>

#define HOUR_US INT64_C(3600000000)

static void add(twi_forecast *f, int64_t now_us, uint64_t free_bytes)
{
    if (f->count > 0 && now_us - f->at_us[f->count - 1] < HOUR_US)
        return;
    if (f->count == TWI_FORECAST_HOURS) {
        f->count--;
        memmove(f->at_us, f->at_us + 1, f->count * sizeof *f->at_us);
        memmove(f->free_bytes, f->free_bytes + 1, f->count * sizeof *f->free_bytes);
    }
    f->at_us[f->count] = now_us;
    f->free_bytes[f->count++] = free_bytes;
}

int64_t twi_forecast_full(twi_forecast *f, int64_t now_us, uint64_t free_bytes,
                          uint64_t reserve)
{
    add(f, now_us, free_bytes);
    const int64_t span_us = now_us - f->at_us[0];
    if (span_us < HOUR_US || free_bytes >= f->free_bytes[0])
        return INT64_MAX;
    if (free_bytes <= reserve) /* it is, and goes round */
        return INT64_MAX;
    const uint64_t gone = f->free_bytes[0] - free_bytes, left = free_bytes - reserve;
    const uint64_t hours = left / gone; /* times the span: no more than is of interest */
    if (hours > 1000)
        return INT64_MAX;
    return (int64_t)hours * span_us +
           (int64_t)((left % gone) / (gone / 1000 + 1)) * (span_us / 1000);
}

bool twi_forecast_news(twi_forecast *f, int64_t full_us)
{
    const bool news = !f->near && full_us < 24 * HOUR_US;
    if (news)
        f->near = true;
    else if (full_us > 48 * HOUR_US)
        f->near = false;
    return news;
}
