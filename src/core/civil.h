/* The calendar: moments on wall clocks. Pure: no I/O, clock or heap. */
#ifndef TWI_CIVIL_H
#define TWI_CIVIL_H

#include <stdint.h>

/* A moment on somebody's wall clock. */
typedef struct twi_civil {
    int32_t year;
    uint8_t month, day;           /* 1..12, 1..31 */
    uint8_t hour, minute, second; /* 0..23, 0..59, 0..59 */
    uint32_t microsecond;         /* 0..999999 */
    uint8_t weekday;              /* 0 Sunday .. 6 */
    uint16_t yearday;             /* 1..366 */
    int32_t offset_s;             /* of the wall clock from UTC, seconds east */
} twi_civil;

/**
 * Split a moment (proleptic Gregorian calendar, no leap seconds).
 *
 * @param wall_us   Microseconds since 1970-01-01 00:00 UTC, years 1..9999.
 * @param offset_s  Of local time from UTC, seconds east, -86400..86400.
 * Source: H. Hinnant, "chrono-compatible low-level date algorithms", 2013.
 */
void twi_civil_split(int64_t wall_us, int32_t offset_s, twi_civil *out);

/** @return Microseconds since 1970 UTC of a civil time; its weekday and yearday unused.
 */
int64_t twi_civil_join(const twi_civil *civil);

enum { TWI_UTC_MAX = 32 }; /* bytes of a moment in text, the final 0 included */

/** Write a moment of the years 0 to 9999 in UTC, as RFC 3339 has it:
 * "2027-03-13T20:30:14.200Z". @return out. */
const char *twi_utc(int64_t wall_us, char out[TWI_UTC_MAX]);

#endif
