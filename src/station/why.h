/* Why a sighting began, or did not, in words. */
#ifndef TWI_WHY_H
#define TWI_WHY_H

#include "../settings/sections.h"
#include "tawny/sighting.h"

/** How a camera's settings make sightings of readings, for tw_sighting_init. */
tw_sighting_config twi_sighting_config_of(const twi_camera_settings *camera);

/** Why a sighting began, in one line, from tw_sighting.cause: "2.10 % of the watched area
 * moved (start_at 0.05 %), one blob of 1.80 % at the left, 2 of 3 frames".
 * @param out  Caller's, capacity bytes, >= 1; 200 are enough. @return out. */
const char *twi_why_began(const tw_sighting *sighting, char *out, size_t capacity);

/** Why a frame began no sighting: what moved, and what took it away. Same terms; 500
 * bytes are enough. */
const char *twi_why_not(const tw_reading *reading, tw_watch_state state,
                        const twi_camera_settings *camera, char *out, size_t capacity);

/** How long: "45 s", "12 min", "3 h". @return out. */
const char *twi_span_words(int64_t us, char out[24]);

/** Where in the picture something is: "at the left", "in the middle"; static. */
const char *twi_place_words(int32_t x_ppm, int32_t y_ppm);

#endif
