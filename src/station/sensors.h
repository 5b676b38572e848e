/* The sensors of a station: a thread of their own reads each when it is time, has it
 * written, and tells of limits. */
#ifndef TWI_SENSORS_H
#define TWI_SENSORS_H

#include "snapshot.h"
#include "tawny/settings.h"
#include "tawny/station.h"

typedef struct twi_sensors twi_sensors;

/**
 * Begin to read the sensors of the settings.
 *
 * @param from      Held as long as they are read.
 * @param out       Set on TW_OK, to NULL if there are none; to be freed.
 * @return TW_OK; TW_ENOMEM.
 */
tw_status twi_sensors_new(tw_station *station, twi_source *from, twi_sensors **out);

/** How one of them fares. @return TW_OK; TW_ENOENT: index is past the last. Any thread.
 */
tw_status twi_sensors_status(twi_sensors *sensors, size_t index, tw_sensor_status *out);

/** Waits for a reading that is under way: seconds. Not from the thread that is told of
 * events. NULL is fine. */
void twi_sensors_free(twi_sensors *sensors);

#endif
