/* Alarms of a gatherer's own: who has fallen silent goes where alarms go, by mail, phone,
 * form or broker, and to hooks. What cannot go now waits, and goes later. */
#ifndef TWI_GATHER_ALARMS_H
#define TWI_GATHER_ALARMS_H

#include "tawny/error.h"
#include "tawny/port.h"
#include "tawny/settings.h"

typedef struct twi_gather_alarms twi_gather_alarms;

/**
 * @param folder  Where what waits is kept; it is there.
 * @param tell    Told of what becomes of destinations and hooks, one line, from any
 * thread.
 * @param out     Set on TW_OK; free it with twi_gather_alarms_free.
 */
tw_status twi_gather_alarms_new(const tw_settings *settings, const char *folder,
                                tw_clock clock,
                                void (*tell)(void *ctx, tw_status st, const char *line),
                                void *ctx, twi_gather_alarms **out, tw_error *err);

/** @return TW_OK: it waits to be sent, and hooks were started. */
tw_status twi_gather_alarms_tell(twi_gather_alarms *alarms, const char *text,
                                 tw_error *err);

/** Sends what may go now, for some seconds. NULL is fine. */
void twi_gather_alarms_free(twi_gather_alarms *alarms);

#endif
