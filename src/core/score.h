/* Sightings held against what really happened. Pure: no I/O, clock or
 * heap. */
#ifndef TWI_SCORE_H
#define TWI_SCORE_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/error.h"

/* How far a sighting may miss and still be the right one. */
enum {
    TWI_SCORE_NEAR_US = 500000,     /* of an event, to have found it */
    TWI_SCORE_BESIDE_US = 1000000,  /* of all events, to be false */
    TWI_SCORE_AROUND_US = 2000000,  /* of an event, to be footage of it ... */
    TWI_SCORE_OVERRUN_US = 10000000 /* ... and each so long beyond is false once more */
};

/* A stretch of time, both ends included, microseconds from the first frame. */
typedef struct twi_span {
    int64_t start_us, end_us; /* start_us <= end_us */
} twi_span;

/* Something that happened. */
typedef struct twi_truth_event {
    twi_span when;
    bool unclear; /* neither right nor wrong to see it: it counts for nothing */
    /* Set by twi_score_add: */
    bool found;
    int64_t late_us; /* from its start to that of the sighting that found it, >= 0 */
} twi_truth_event;

/* A sighting that is judged. */
typedef struct twi_score_sighting {
    twi_span when;
    bool is_false;      /* set by twi_score_add: of nothing that happened */
    int64_t overrun_us; /* and longest stretch of it in which nothing happened */
} twi_score_sighting;

/* Sums over as many files as were added. */
typedef struct twi_score {
    int64_t length_us;
    uint32_t events, found;       /* unclear ones left out */
    uint32_t sightings, is_false; /* likewise; a long overrun counts as false as well */
    int64_t event_us, covered_us; /* of all events, and of that inside sightings */
} twi_score;

/**
 * Judge one file's sightings and add to the sums. An event is found if a sighting touches
 * it, give or take half a second; a sighting is false if it touches none, give or take a
 * second; each stretch of ten seconds that a sighting spends on nothing is one false one
 * more, so that recording everything is no way to a good score.
 *
 * @param events,sightings  In any order; what is judged of them is set. May be NULL if
 *                          there are none.
 * @return TW_OK; TW_EINVAL: NULL pointer, or a span that ends before it starts.
 */
tw_status twi_score_add(twi_score *score, int64_t length_us, twi_truth_event *events,
                        size_t event_count, twi_score_sighting *sightings,
                        size_t sighting_count);

/** @return Share of the events that were found, ppm; 1000000 where there are none. */
uint32_t twi_score_recall_ppm(const twi_score *score);
/** @return Share of the sightings that were right, ppm; 1000000 where there are none. */
uint32_t twi_score_precision_ppm(const twi_score *score);
/** @return Harmonic mean of the two, ppm. */
uint32_t twi_score_f1_ppm(const twi_score *score);
/** @return False sightings in a thousand hours of footage. */
uint64_t twi_score_false_per_1000h(const twi_score *score);
/** @return Share of the events' time that lies inside sightings, ppm. */
uint32_t twi_score_cover_ppm(const twi_score *score);

#endif
