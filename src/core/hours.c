/* Hours: reading them, and whether a moment lies within. */
#include "hours.h"
#include "naming.h"

#include <stddef.h>
#include <string.h>

enum { EVERY_DAY = 0x7F, DAY_S = 86400, TWILIGHT = -6000, RIM = -833 };

#define S_US INT64_C(1000000)

/* ---- reading --------------------------------------------------------------------- */

static const char *skip(const char *s)
{
    while (*s == ' ' || *s == '\t')
        s++;
    return s;
}

/* @return the place after a word, NULL: it is not there. */
static const char *take_word(const char *s, const char *word)
{
    const size_t n = strlen(word);
    return strncmp(s, word, n) == 0 ? s + n : NULL;
}

static int find_day(const char *s)
{
    static const char *const days[] = {"sun", "mon", "tue", "wed", "thu", "fri", "sat"};
    for (int d = 0; d < 7; d++)
        if (strncmp(s, days[d], 3) == 0)
            return d;
    return -1;
}

/* "mon-fri", "sat,sun"; none: every day. */
static const char *take_days(const char *s, uint8_t *days)
{
    *days = 0;
    int day = find_day(s);
    /* "sunrise" and "sunset" begin as Sunday does. */
    while (day >= 0 && (s[3] == ' ' || s[3] == ',' || s[3] == '-')) {
        int last = day;
        s += 3;
        if (*s == '-') {
            last = find_day(s + 1);
            if (last < 0)
                return NULL;
            s += 4;
        }
        for (int d = day;; d = (d + 1) % 7) {
            *days |= (uint8_t)(1U << d);
            if (d == last)
                break;
        }
        if (*s != ',')
            break;
        s++;
        day = find_day(s);
        if (day < 0)
            return NULL;
    }
    if (*days == 0)
        *days = EVERY_DAY;
    return skip(s);
}

/* @return the place after a number of up to four digits, NULL: there is none. */
static const char *take_number(const char *s, int32_t *out)
{
    const char *first = s;
    *out = 0;
    while (*s >= '0' && *s <= '9' && s - first < 4)
        *out = *out * 10 + (*s++ - '0');
    return s > first ? s : NULL;
}

/* "+30min", "-1h" behind a passage of the sun. */
static const char *take_shift(const char *s, int32_t *after_s)
{
    const int32_t sign = *s == '-' ? -1 : 1;
    int32_t number = 0;
    if ((*s != '+' && *s != '-') || s[1] < '0' || s[1] > '9')
        return s;
    const char *end = take_number(s + 1, &number), *unit = NULL;
    if ((unit = take_word(end, "min")) != NULL)
        *after_s = sign * number * 60;
    else if ((unit = take_word(end, "h")) != NULL)
        *after_s = sign * number * 3600;
    else
        return *end == ':' ? s : NULL; /* the other end of the range, by the clock */
    return number <= 24 * 60 ? unit : NULL;
}

static const char *take_hour(const char *s, twi_hour *out)
{
    static const char *const words[] = {"dawn", "sunrise", "sunset", "dusk"};
    int32_t hour = 0, minute = 0;
    *out = (twi_hour){TWI_HOUR_CLOCK, 0};
    for (int i = 0; i < 4; i++) {
        const char *after = take_word(s, words[i]);
        if (!after)
            continue;
        out->base = (twi_hour_base)(TWI_HOUR_DAWN + i);
        return take_shift(after, &out->after_s);
    }
    s = take_number(s, &hour);
    if (!s || *s != ':' || !(s = take_number(s + 1, &minute)) || minute > 59 ||
        hour * 60 + minute > 24 * 60)
        return NULL;
    out->after_s = (hour * 60 + minute) * 60;
    return s;
}

static const char *take_range(const char *s, twi_hour_range *out)
{
    s = take_days(s, &out->days);
    if (s)
        s = take_hour(s, &out->from);
    if (!s || *(s = skip(s)) != '-')
        return NULL;
    s = take_hour(skip(s + 1), &out->until);
    return s ? skip(s) : NULL;
}

tw_status twi_hours_parse(const char *text, twi_hours *out, const char **problem)
{
    if (!text || !out)
        return TW_EINVAL;
    twi_hours hours = {.count = 0};
    const char *s = skip(text), *end = take_word(s, "always");
    bool more = !(end && *skip(end) == '\0');
    while (more) {
        if (hours.count == TWI_HOURS_MAX)
            return TW_ESIZE;
        const char *after = take_range(s, &hours.range[hours.count++]);
        if (!after || (*after != ',' && *after != '\0')) {
            if (problem)
                *problem = s;
            return TW_ESYNTAX;
        }
        more = *after == ',';
        s = skip(after + more);
    }
    *out = hours;
    return TW_OK;
}

bool twi_hours_need_place(const twi_hours *hours)
{
    for (int i = 0; hours && i < hours->count; i++)
        if (hours->range[i].from.base != TWI_HOUR_CLOCK ||
            hours->range[i].until.base != TWI_HOUR_CLOCK)
            return true;
    return false;
}

/* ---- whether it is time ---------------------------------------------------------- */

typedef struct moment {
    int64_t wall_us;
    int64_t midnight_us; /* of a day: what a clock on the wall would show, as if UTC */
    int32_t offset_s;
    const twi_hours_place *place;
} moment;

static int32_t height_of(twi_hour_base base)
{
    return base == TWI_HOUR_DAWN || base == TWI_HOUR_DUSK ? TWILIGHT : RIM;
}

/* When an end of a range is, on the clock on the wall, with the day's midnight as zero.
 * @return TW_OK; TW_ENOENT, TW_EEND: the sun does not pass that height. */
static tw_status seconds_of(const twi_hour *hour, const moment *m, int64_t midnight_us,
                            int64_t *out)
{
    int64_t at = 0;
    *out = hour->after_s;
    if (hour->base == TWI_HOUR_CLOCK)
        return TW_OK;
    const int64_t noon_us = midnight_us + (DAY_S / 2 - (int64_t)m->offset_s) * S_US;
    const tw_status st = twi_sun_passes(
        m->place, noon_us, height_of(hour->base),
        hour->base == TWI_HOUR_DAWN || hour->base == TWI_HOUR_SUNRISE, &at);
    *out += (at + m->offset_s * S_US - midnight_us) / S_US;
    return st;
}

static bool falls(const twi_hour *hour)
{
    return hour->base == TWI_HOUR_DUSK || hour->base == TWI_HOUR_SUNSET;
}

/* Whether a range that begins on a day holds a moment. */
static bool holds(const twi_hour_range *range, const moment *m, int64_t midnight_us)
{
    int64_t from = 0, until = 0;
    const int64_t now = (m->wall_us + m->offset_s * S_US - midnight_us) / S_US;
    const tw_status begins = seconds_of(&range->from, m, midnight_us, &from);
    tw_status ends = seconds_of(&range->until, m, midnight_us, &until);
    if (begins == TW_OK && ends == TW_OK && until <= from) {
        ends = seconds_of(&range->until, m, midnight_us + DAY_S * S_US, &until);
        until += DAY_S;
    }
    if (begins == TW_OK && ends == TW_OK)
        return now >= from && now < until;
    /* Where the sun does not pass, a range of the night is all of a polar night and none
     * of a polar day, and one of the day the other way round. */
    const tw_status what = begins != TW_OK ? begins : ends;
    const bool night =
        range->from.base != TWI_HOUR_CLOCK ? falls(&range->from) : !falls(&range->until);
    return now >= 0 && now < DAY_S && (night ? what == TW_EEND : what == TW_ENOENT);
}

bool twi_hours_within(const twi_hours *hours, int64_t wall_us, int32_t offset_s,
                      const twi_hours_place *place)
{
    if (!hours || hours->count == 0)
        return true;
    twi_civil t;
    twi_civil_split(wall_us, offset_s, &t);
    const int64_t local_us = wall_us + offset_s * S_US;
    const int64_t of_day_us =
        ((t.hour * 60 + t.minute) * 60 + t.second) * S_US + t.microsecond;
    const moment m = {wall_us, local_us - of_day_us, offset_s, place};
    for (int i = 0; i < hours->count; i++) {
        const twi_hour_range *range = &hours->range[i];
        const bool sun =
            range->from.base != TWI_HOUR_CLOCK || range->until.base != TWI_HOUR_CLOCK;
        if (sun && (!place || !place->known))
            continue;
        for (int back = 0; back < 2; back++) { /* one that began yesterday may go on */
            const int day = (t.weekday + 7 - back) % 7;
            if (range->days >> day & 1 &&
                holds(range, &m, m.midnight_us - back * DAY_S * S_US))
                return true;
        }
    }
    return false;
}
