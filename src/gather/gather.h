/* The gatherer: takes what many stations told a broker into a ledger, each of it once,
 * whoever dies in between; asks for what is missing; says who has fallen silent. It has
 * no state of its own: any number of them share the work. */
#ifndef TWI_GATHER_H
#define TWI_GATHER_H

#include <stdatomic.h>

#include "../net/broker.h"
#include "ledger.h"
#include "totell.h"
#include "tawny/port.h"

typedef struct twi_gathering {
    const twi_destination_settings *broker; /* its url ends in the topic */
    const char *secret;                     /* "": none */
    const char *settings_secret; /* that signs settings; "", NULL: none are sent */
    const char *session;         /* name of this gatherer's; another for each that runs */
    const char *ledger;          /* a place, see twi_ledger_find */
    tw_clock clock;
    twi_to_tell *words; /* that stations are told; NULL: none. Outlives it */
    const atomic_bool *stop;
    /** One line: what goes on (TW_OK), what will mend (TW_EAGAIN), what somebody must
     * see to. */
    void (*tell)(void *ctx, tw_status st, const char *line);
    /** Nothing has come of a station for its own usual time and a half. */
    void (*silent)(void *ctx, const char *station, int64_t since_us);
    void *ctx;
} twi_gathering;

/**
 * Gather until *stop is set. What the broker or the data base cannot do now is tried
 * again.
 *
 * @return TW_OK; TW_EINVAL...: it could not begin, err says why.
 */
tw_status twi_gather(const twi_gathering *gathering, tw_error *err);

#endif
