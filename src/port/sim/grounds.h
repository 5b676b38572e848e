/* The places at Hollin Lane, before anything happens there. */
#ifndef TWI_GROUNDS_H
#define TWI_GROUNDS_H

#include "script.h"

/** How bright a place is, luma levels before any light; x and y are shares of the
 * picture's width and height. @param night  There are stars. */
float twi_ground_at(twi_ground ground, float x, float y, bool night, uint32_t seed);

/** How much of the wind a place takes part in, 0..1. */
float twi_loose_at(twi_ground ground, float x, float y, uint32_t seed);

/** Whether it is water, of TWI_GROUND_POND. */
bool twi_is_water(float x, float y);

#endif
