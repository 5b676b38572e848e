/* When a card will be full, from how its free room has gone down. Pure: no I/O, clock or
 * heap. */
#ifndef TWI_FORECAST_H
#define TWI_FORECAST_H

#include <stdbool.h>
#include <stdint.h>

enum { TWI_FORECAST_HOURS = 24 }; /* that are looked back on */

/* Zero it to begin. */
typedef struct twi_forecast {
    int64_t at_us[TWI_FORECAST_HOURS];
    uint64_t free_bytes[TWI_FORECAST_HOURS];
    uint8_t count; /* of these, the oldest first, an hour apart */
    bool near;     /* it will be full within a day, and that was told */
} twi_forecast;

/**
 * Take in how much is free now, and say when no more than so much will be.
 *
 * @param now_us   Of a clock that only goes forward.
 * @param reserve  Bytes that are kept free.
 * @return microseconds from now; INT64_MAX: it does not go down, or is not known yet:
 *         that takes an hour.
 */
int64_t twi_forecast_full(twi_forecast *forecast, int64_t now_us, uint64_t free_bytes,
                          uint64_t reserve);

/** @return whether it will be full within a day, and was not before. It is told again
 * once there was room for two days in between. @param full_us  Of twi_forecast_full. */
bool twi_forecast_news(twi_forecast *forecast, int64_t full_us);

#endif
