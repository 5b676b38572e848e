/* One reading of a sensor. Any thread. */
#ifndef TWI_SENSE_H
#define TWI_SENSE_H

#include "../settings/sections.h"
#include "tawny/error.h"
#include "tawny/port.h"

/** Read a sensor once, now. @param value  Millionths of its unit, set on TW_OK.
 * @return TW_OK; TW_EDAMAGED: there is no number in what it said; else err says why. */
tw_status twi_sensor_read(const tw_sensors *port, const twi_sensor_settings *sensor,
                          int64_t *value, tw_error *err);

/** A value with its unit, in at most six digits: "11.93 V". @return out. */
const char *twi_sensor_words(int64_t value, const char *unit, char out[64]);

#endif
