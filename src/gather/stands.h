/* Where cameras stood, and since when, as they told it themselves. */
#ifndef TWI_GATHER_STANDS_H
#define TWI_GATHER_STANDS_H

#include "ledger.h"

typedef struct twi_stand {
    const char *station, *camera; /* until the callback returns */
    int64_t since_us;             /* when it was told first, by the station's clock */
    int64_t latitude, longitude;  /* millionths of a degree */
} twi_stand;

/** All of them: by station, camera and time. */
tw_status twi_stands(const twi_ledger_kind *kind, twi_ledger *ledger,
                     void (*take)(void *ctx, const twi_stand *stand), void *ctx,
                     tw_error *err);

#endif
