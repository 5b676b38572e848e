/* The sensors of a station: a thread of their own reads each when it is time, has it
 * written, and tells of limits. */
#ifndef TWI_SENSORS_H
#define TWI_SENSORS_H

#include "../settings/sections.h"
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

/** Read a sensor once, now. @param value  Millionths of its unit, set on TW_OK.
 * @return TW_OK; TW_EDAMAGED: there is no number in what it said; else err says why. */
tw_status twi_sensor_read(const tw_sensors *port, const twi_sensor_settings *sensor,
                          int64_t *value, tw_error *err);

/** A value with its unit, in at most six digits: "11.93 V". @return out. */
const char *twi_sensor_words(int64_t value, const char *unit, char out[64]);

#endif
