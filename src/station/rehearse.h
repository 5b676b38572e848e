/* Rehearsals by settings that are C values. */
#ifndef TWI_REHEARSE_H
#define TWI_REHEARSE_H

#include "../settings/sections.h"
#include "tawny/rehearse.h"
#include "tawny/events.h"
#include "tawny/port.h"

/** As tw_rehearse. @param station  For the names of captures; may be NULL if
 * platform->card is. */
tw_status twi_rehearse(const tw_platform *platform, const twi_camera_settings *camera,
                       const twi_station_settings *station, const volatile int *stop,
                       tw_event_fn callback, void *ctx, tw_rehearsal_result *result,
                       tw_error *err);

#endif
