/* When a camera is armed: ranges of the day, by weekday, by the clock or
 * by the sun. Pure: no I/O or clock. */
#ifndef TWI_HOURS_H
#define TWI_HOURS_H

#include <stdbool.h>
#include <stdint.h>

#include "naming.h"
#include "tawny/error.h"

enum { TWI_HOURS_MAX = 16 };

/* What an end of a range is measured from. */
typedef enum twi_hour_base {
    TWI_HOUR_CLOCK, /* midnight of local time */
    TWI_HOUR_DAWN,  /* the sun is 6 degrees below the horizon, rising (civil twilight) */
    TWI_HOUR_SUNRISE, /* its upper edge appears: its centre is 0.833 degrees below */
    TWI_HOUR_SUNSET,
    TWI_HOUR_DUSK
} twi_hour_base;

/* One end of a range. */
typedef struct twi_hour {
    twi_hour_base base;
    int32_t after_s; /* so much after it; may be negative */
} twi_hour;

/* From one hour to another: that of the next day where the second is not later. */
typedef struct twi_hour_range {
    uint8_t days; /* on which it begins: bit 0 Sunday .. bit 6 Saturday */
    twi_hour from, until;
} twi_hour_range;

typedef struct twi_hours {
    uint8_t count; /* 0: always */
    twi_hour_range range[TWI_HOURS_MAX];
} twi_hours;

/* Where and when. */
typedef struct twi_hours_place {
    int64_t latitude, longitude; /* millionths of a degree, north and east */
    bool known;                  /* without it ranges by the sun are never */
} twi_hours_place;

/**
 * Read hours: "always", or ranges separated by commas, each with days if wanted:
 * "22:00-06:30", "mon-fri 18:00-24:00", "sat,sun dusk-dawn", "dusk+30min-sunrise-1h".
 *
 * @param problem  May be NULL; on TW_ESYNTAX set to the offending place in text.
 * @return TW_OK; TW_EINVAL: NULL pointer; TW_ESYNTAX; TW_ESIZE: more than TWI_HOURS_MAX.
 */
tw_status twi_hours_parse(const char *text, twi_hours *out, const char **problem);

/** Whether any range is measured by the sun. */
bool twi_hours_need_place(const twi_hours *hours);

/**
 * Whether a moment lies within the hours. Ranges follow what a clock on the wall shows,
 * so that 22:00 is 22:00 before and after it is changed.
 *
 * @param wall_us   Microseconds since 1970 UTC.
 * @param offset_s  Of local time from UTC at that moment, seconds east.
 * @param place     May be NULL.
 * Source of the sun's position: NOAA Global Monitoring Laboratory, "General Solar
 * Position Calculations" (the low-accuracy formulae; within about two minutes between
 * 1950 and 2050 up to 65 degrees of latitude).
 */
bool twi_hours_within(const twi_hours *hours, int64_t wall_us, int32_t offset_s,
                      const twi_hours_place *place);

/**
 * When the sun passes a height on a day.
 *
 * @param noon_us     About noon of the day at that longitude, microseconds since 1970
 * UTC.
 * @param height_mdeg Thousandths of a degree above the horizon; -6000 for dusk and dawn.
 * @param rising      In the morning; else in the evening.
 * @param out         Set on TW_OK, microseconds since 1970 UTC.
 * @return TW_OK; TW_ENOENT: it stays above all day; TW_EEND: it stays below all day.
 */
tw_status twi_sun_passes(const twi_hours_place *place, int64_t noon_us,
                         int32_t height_mdeg, bool rising, int64_t *out);

#endif
