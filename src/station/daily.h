/* What a station does now and then: the word of the day, and its film. */
#ifndef TWI_DAILY_H
#define TWI_DAILY_H

#include <stdbool.h>
#include <stdint.h>

enum { TWI_DAILY_EVERY_S = 30 }; /* between looks */

/* Zero it to begin. */
typedef struct twi_daily {
    int64_t began_us;            /* when it was looked first, by the clock */
    int64_t said_day;            /* of the local calendar, since 1970; 0: none yet */
    int64_t reel_day;            /* likewise, of the film */
    struct twi_daily_reel *reel; /* that is being made; NULL: none */
} twi_daily;

struct tw_station;

/** Look whether something is to be told. The running thread's, under no lock. */
void twi_daily_tend(struct tw_station *station);

/** Give up what is being made. The running thread's, while there is a writer. */
void twi_daily_end(struct tw_station *station);

#endif
