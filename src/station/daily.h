/* What a station does now and then: the word of the day. */
#ifndef TWI_DAILY_H
#define TWI_DAILY_H

#include <stdbool.h>
#include <stdint.h>

enum { TWI_DAILY_EVERY_S = 30 }; /* between looks */

/* Zero it to begin. */
typedef struct twi_daily {
    int64_t began_us; /* when it was looked first, by the clock */
    int64_t said_day; /* of the local calendar, since 1970; 0: none yet */
} twi_daily;

struct tw_station;

/** Look whether something is to be told. The running thread's, under no lock. */
void twi_daily_tend(struct tw_station *station);

#endif
