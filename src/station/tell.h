/* Telling the subscribers of a station, for who belongs to it and is none of its parts.
 */
#ifndef TWI_TELL_H
#define TWI_TELL_H

#include "tawny/events.h"
#include "tawny/station.h"

/** Tell all subscribers of something that its teller has noted in the catalogue himself.
 * Any thread, under no lock of the station's. */
void twi_station_pass(tw_station *station, const tw_event *event);

#endif
