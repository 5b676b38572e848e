/* Expanding patterns. */
#include "pattern.h"
#include "naming.h"

#include <string.h>

void twi_put(twi_text *t, char c)
{
    if (t->used + 1 >= t->capacity) {
        t->full = true;
        return;
    }
    t->at[t->used++] = c;
}

void twi_put_text(twi_text *t, const char *s)
{
    for (; s && *s; s++)
        twi_put(t, *s);
}

void twi_put_number(twi_text *t, int64_t value, int digits)
{
    char back[20];
    int n = 0;
    if (value < 0) {
        twi_put(t, '-');
        value = -value;
    }
    do {
        back[n++] = (char)('0' + value % 10);
        value /= 10;
    } while (value > 0 && n < (int)sizeof back);
    while (n < digits && n < (int)sizeof back)
        back[n++] = '0';
    while (n > 0)
        twi_put(t, back[--n]);
}

static void put_letters(twi_text *t, const char *s, size_t n)
{
    for (size_t i = 0; i < n && s[i]; i++)
        twi_put(t, s[i]);
}

static void put_offset(twi_text *t, int32_t offset_s)
{
    const int32_t minutes = (offset_s < 0 ? -offset_s : offset_s) / 60;
    twi_put(t, offset_s < 0 ? '-' : '+');
    twi_put_number(t, minutes / 60, 2);
    twi_put_number(t, minutes % 60, 2);
}

static const char *const DAYS[] = {"Sunday",   "Monday", "Tuesday", "Wednesday",
                                   "Thursday", "Friday", "Saturday"};
static const char *const MONTHS[] = {"January",   "February", "March",    "April",
                                     "May",       "June",     "July",     "August",
                                     "September", "October",  "November", "December"};

static void put_clock(twi_text *t, const twi_civil *c, bool seconds)
{
    twi_put_number(t, c->hour, 2);
    twi_put(t, ':');
    twi_put_number(t, c->minute, 2);
    if (!seconds)
        return;
    twi_put(t, ':');
    twi_put_number(t, c->second, 2);
}

static void put_date(twi_text *t, const twi_civil *c)
{
    twi_put_number(t, c->year, 4);
    twi_put(t, '-');
    twi_put_number(t, c->month, 2);
    twi_put(t, '-');
    twi_put_number(t, c->day, 2);
}

static void put_american_date(twi_text *t, const twi_civil *c)
{
    twi_put_number(t, c->month, 2);
    twi_put(t, t->slash);
    twi_put_number(t, c->day, 2);
    twi_put(t, t->slash);
    twi_put_number(t, c->year % 100, 2);
}

/* A strftime conversion that is one number. @return false: it is none. */
static bool put_part(twi_text *t, char conversion, const twi_civil *c)
{
    const struct {
        char conversion;
        int digits;
        int64_t value;
    } parts[] = {{'Y', 4, c->year},
                 {'y', 2, c->year % 100},
                 {'m', 2, c->month},
                 {'d', 2, c->day},
                 {'e', 1, c->day},
                 {'H', 2, c->hour},
                 {'I', 2, (c->hour + 11) % 12 + 1},
                 {'M', 2, c->minute},
                 {'S', 2, c->second},
                 {'j', 3, c->yearday},
                 {'u', 1, c->weekday == 0 ? 7 : c->weekday},
                 {'w', 1, c->weekday},
                 {'s', 1, twi_civil_join(c) / 1000000}};
    for (size_t i = 0; i < sizeof parts / sizeof *parts; i++) {
        if (parts[i].conversion != conversion)
            continue;
        twi_put_number(t, parts[i].value, parts[i].digits);
        return true;
    }
    return false;
}

/* One strftime conversion. @return false: not one of ours. */
static bool put_conversion(twi_text *t, char conversion, const twi_civil *c)
{
    const char *month = MONTHS[(c->month + 11U) % 12], *day = DAYS[c->weekday % 7U];
    switch (conversion) {
    case 'p': twi_put_text(t, c->hour < 12 ? "AM" : "PM"); break;
    case 'a': put_letters(t, day, 3); break;
    case 'A': twi_put_text(t, day); break;
    case 'b': put_letters(t, month, 3); break;
    case 'B': twi_put_text(t, month); break;
    case 'F': put_date(t, c); break;
    case 'T': put_clock(t, c, true); break;
    case 'R': put_clock(t, c, false); break;
    case 'D': put_american_date(t, c); break;
    case 'z': put_offset(t, c->offset_s); break;
    case 'Z': twi_put_text(t, c->offset_s == 0 ? "UTC" : "local"); break;
    case 'n': twi_put(t, '\n'); break;
    case 't': twi_put(t, ' '); break;
    case '%': twi_put(t, '%'); break;
    default: return put_part(t, conversion, c);
    }
    return true;
}

const char *twi_expand(twi_text *t, const char *pattern, const twi_civil *time,
                       twi_field_fn field, const void *fields)
{
    for (const char *p = pattern; *p;) {
        if (*p == '%') {
            if (p[1] == '\0' || !put_conversion(t, p[1], time))
                return p;
            p += 2;
        } else if (*p == '{') {
            const char *close = strchr(p, '}');
            if (!close || !field(t, p, (size_t)(close - p) + 1, fields))
                return p;
            p = close + 1;
        } else {
            twi_put(t, *p++);
        }
    }
    return NULL;
}

bool twi_is_field(const char *at, size_t n, const char *name)
{
    return strlen(name) == n && strncmp(at, name, n) == 0;
}

const char *twi_utc(int64_t wall_us, char out[TWI_UTC_MAX])
{
    twi_civil c;
    twi_text t = {.at = out, .capacity = TWI_UTC_MAX};
    twi_civil_split(wall_us, 0, &c);
    put_date(&t, &c);
    twi_put(&t, 'T');
    put_clock(&t, &c, true);
    twi_put(&t, '.');
    twi_put_number(&t, c.microsecond / 1000, 3);
    twi_put(&t, 'Z');
    out[t.used] = '\0';
    return out;
}
