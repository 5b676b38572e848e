/* Whether a place is louder than it usually is. Pure: no I/O, clock or heap.
 *
 * Levels are tenths of a decibel, 0 the loudest that can be. What is usual is the level
 * that two of a hundred moments exceed: a brook, a road in the distance. */
#ifndef TWI_LOUDNESS_H
#define TWI_LOUDNESS_H

#include <stdbool.h>
#include <stdint.h>

enum {
    TWI_LEVEL_SILENCE = -960,        /* no less is told */
    TWI_LOUDNESS_MOMENT_US = 100000, /* levels are gathered for so long */
    TWI_LOUDNESS_LEARN = 100,        /* moments, before anything is louder than usual */
    TWI_LOUDNESS_OF = 3              /* of so many moments two must be loud */
};

/* Zero it to begin. */
typedef struct twi_loudness {
    int64_t moment_us; /* when the moment at hand began */
    int32_t loudest;   /* of it */
    int32_t newest;    /* of the last whole one */
    int32_t usual;     /* thousandths of a decibel */
    uint32_t moments;  /* heard so far */
    bool begun;
    uint8_t loud; /* bits of the last TWI_LOUDNESS_OF moments, the newest first */
} twi_loudness;

/**
 * Hear a level.
 *
 * @param t_us    When it was captured; rising.
 * @param margin  Tenths of a decibel over what is usual.
 * @return whether the place is louder than that now.
 */
bool twi_loudness_hear(twi_loudness *loudness, int64_t t_us, int32_t level,
                       int32_t margin);

#endif
