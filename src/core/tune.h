/* Choosing settings from what they would have made of footage. Pure: no
 * I/O, clock or heap. */
#ifndef TWI_TUNE_H
#define TWI_TUNE_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "score.h"

/* Settings that were tried, and what they came to. */
typedef struct twi_trial {
    uint16_t variant;   /* of the detector's settings; 0: as they are now */
    uint32_t start_ppm; /* limit of activity */
    twi_score score;
} twi_trial;

/* What twi_tune_choose found. */
typedef struct twi_choice {
    size_t chosen;              /* index of the trial */
    uint32_t low_ppm, high_ppm; /* start_ppm from here to there does as well */
    bool better;                /* than what is set now */
} twi_choice;

/** What is wrong with a trial: each missed event counts for `worth` false sightings. */
uint64_t twi_tune_cost(const twi_trial *trial, uint32_t worth);

/**
 * Choose among trials: the least cost; then the lowest variant, so that nothing is
 * changed without need; then the limit that is now set, if at least half as much again
 * and two thirds of it do as well; else the middle (geometric) of the widest run of
 * limits that do.
 *
 * @param trials   In groups of one variant, each with start_ppm rising; count > 0.
 * @param worth    False sightings that one missed event is worth.
 * @param now_ppm  The limit that is set, which is among those tried with variant 0.
 */
twi_choice twi_tune_choose(const twi_trial *trials, size_t count, uint32_t worth,
                           uint32_t now_ppm);

#endif
