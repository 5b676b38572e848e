/* Limits of a value that is read now and then. */
#include "limits.h"

#include <stddef.h>

enum { MICRO = 1000000 };

#define MOST INT64_C(1000000000000)

twi_limits_news twi_limits_judge(twi_limits *l, int64_t value)
{
    const bool beyond = value > l->above || value < l->below;
    l->others = beyond == l->beyond ? 0 : (uint8_t)(l->others + 1);
    if (l->others < TWI_LIMITS_READINGS)
        return TWI_LIMITS_SAME;
    l->others = 0;
    l->beyond = beyond;
    return beyond ? TWI_LIMITS_BEYOND : TWI_LIMITS_WITHIN;
}

static bool is_digit(char c)
{
    return c >= '0' && c <= '9';
}

bool twi_number_find(const char *text, int64_t *micro)
{
    int64_t whole = 0, part = 0;
    size_t at = 0;
    while (text[at] != '\0' && !is_digit(text[at]))
        at++;
    if (text[at] == '\0')
        return false;
    const bool negative = at > 0 && text[at - 1] == '-';
    for (; is_digit(text[at]); at++) {
        whole = whole * 10 + (text[at] - '0');
        if (whole > MOST)
            return false;
    }
    if (text[at] == '.')
        for (int64_t unit = MICRO / 10; is_digit(text[++at]); unit /= 10)
            part += (text[at] - '0') * unit;
    *micro = (whole * MICRO + part) * (negative ? -1 : 1);
    return true;
}
