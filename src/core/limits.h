/* Limits of a value that is read now and then. Pure: no I/O, clock or heap. */
#ifndef TWI_LIMITS_H
#define TWI_LIMITS_H

#include <stdbool.h>
#include <stdint.h>

enum { TWI_LIMITS_READINGS = 3 }; /* in a row that decide: one alone may be an error */

/* Values are millionths of their unit. */
typedef struct twi_limits {
    int64_t above, below; /* beyond them it is wrong; INT64_MAX, INT64_MIN: never */
    uint8_t others;       /* readings in a row that say other than beyond */
    bool beyond;
} twi_limits;

typedef enum twi_limits_news {
    TWI_LIMITS_SAME,
    TWI_LIMITS_BEYOND, /* from now on */
    TWI_LIMITS_WITHIN  /* again */
} twi_limits_news;

/** Judge the next reading. */
twi_limits_news twi_limits_judge(twi_limits *limits, int64_t value);

/** Read the first number in a text, in millionths: "48312", "temp=48.3'C", "-2.5 V".
 * @return false: there is none, or it is beyond 10^12. */
bool twi_number_find(const char *text, int64_t *micro);

#endif
