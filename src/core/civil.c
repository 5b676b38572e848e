/* The calendar. */
#include "civil.h"

#include <string.h>

#define US_PER_S INT64_C(1000000)
#define S_PER_DAY INT64_C(86400)

/* Days since 1970 of a date, counting years from March so that leap days come last. */
static int64_t days_of(int64_t year, int64_t month, int64_t day)
{
    year -= month <= 2;
    const int64_t era = (year >= 0 ? year : year - 399) / 400;
    const int64_t of_era = year - era * 400;
    const int64_t of_year = (153 * (month + (month > 2 ? -3 : 9)) + 2) / 5 + day - 1;
    return era * 146097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719468;
}

static void date_of(int64_t days, twi_civil *out)
{
    const int64_t shifted = days + 719468;
    const int64_t era = (shifted >= 0 ? shifted : shifted - 146096) / 146097;
    const int64_t of_era = shifted - era * 146097;
    const int64_t years =
        (of_era - of_era / 1460 + of_era / 36524 - of_era / 146096) / 365;
    const int64_t of_year = of_era - (365 * years + years / 4 - years / 100);
    const int64_t march = (5 * of_year + 2) / 153;
    const int64_t month = march + (march < 10 ? 3 : -9);
    out->day = (uint8_t)(of_year - (153 * march + 2) / 5 + 1);
    out->month = (uint8_t)month;
    out->year = (int32_t)(years + era * 400 + (month <= 2));
    out->yearday = (uint16_t)(days - days_of(out->year, 1, 1) + 1);
    out->weekday = (uint8_t)(((days % 7) + 11) % 7); /* 1970-01-01 was a Thursday */
}

void twi_civil_split(int64_t wall_us, int32_t offset_s, twi_civil *out)
{
    if (!out)
        return;
    const int64_t local = wall_us + offset_s * US_PER_S;
    const int64_t per_day = S_PER_DAY * US_PER_S;
    int64_t days = local / per_day, rest = local % per_day;
    if (rest < 0) {
        days--;
        rest += per_day;
    }
    memset(out, 0, sizeof *out);
    date_of(days, out);
    const int64_t seconds = rest / US_PER_S;
    out->hour = (uint8_t)(seconds / 3600);
    out->minute = (uint8_t)(seconds / 60 % 60);
    out->second = (uint8_t)(seconds % 60);
    out->microsecond = (uint32_t)(rest % US_PER_S);
    out->offset_s = offset_s;
}

int64_t twi_civil_join(const twi_civil *c)
{
    if (!c)
        return 0;
    const int64_t seconds = days_of(c->year, c->month, c->day) * S_PER_DAY +
                            c->hour * 3600 + c->minute * 60 + c->second - c->offset_s;
    return seconds * US_PER_S + c->microsecond;
}
