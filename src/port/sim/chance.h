/* Chance that is the same on every machine: integers and the four float operations. */
#ifndef TWI_CHANCE_H
#define TWI_CHANCE_H

#include <stdint.h>

/* Here, so that what asks for one for each pixel can do many at once. */
static inline uint32_t twi_hash(uint32_t x)
{
    x ^= x >> 16;
    x *= 0x7FEB352DU;
    x ^= x >> 15;
    x *= 0x846CA68BU;
    return x ^ x >> 16;
}

uint32_t twi_hash3(uint32_t a, uint32_t b, uint32_t c);

/** -1..1 at whole places, smooth between them; x and y are not negative. */
float twi_value_noise(float x, float y, uint32_t seed);

/** Rises and falls smoothly between -1 and 1 once in each period; t in periods. */
float twi_wave(float t);

/** 1 at 0, 0 from -1 and 1 on, smooth. */
float twi_bump(float u);

/** What is behind the point: 0..1. */
float twi_fraction(float x);

/** The square root of 0..16, by Newton's method. */
float twi_root(float x);

#endif
