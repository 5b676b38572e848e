/* What sightings that were nothing have in common and right ones have not: a size, a
 * place, an hour. Suggestions to be tried; whether they hold is seen then. Pure: no I/O,
 * clock or heap. */
#ifndef TWI_SUGGEST_H
#define TWI_SUGGEST_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

/* A rectangle, in millionths of the picture. */
typedef struct twi_box {
    int32_t left_ppm, top_ppm, right_ppm, bottom_ppm;
} twi_box;

/* A sighting that was marked. */
typedef struct twi_marked {
    bool right;        /* else it was nothing */
    uint32_t size_ppm; /* of its largest blob, share of the picture; 0: it is not known */
    twi_box box;       /* where its blobs lay, all of them together */
    uint16_t minute;   /* of the local day at which it began, 0..1439 */
} twi_marked;

enum {
    TWI_SUGGEST_AREAS = 3,         /* at most */
    TWI_SUGGEST_AREA_PPM = 250000, /* of the picture, at most, for one of them */
    TWI_SUGGEST_TOGETHER = 2,      /* what was nothing so often in a place lay together */
    TWI_SUGGEST_HOURS = 3,         /* so often in a time of day, ... */
    TWI_SUGGEST_MINUTES = 720,     /* ... which is no longer than this */
    TWI_SUGGEST_MARKED = 1000      /* sightings that are heeded */
};

/** A size below which nothing was right and something was nothing: between the smallest
 * that was right and the next below it (geometric mean). @return ppm; 0: there is none.
 */
uint32_t twi_suggest_smallest(const twi_marked *marked, size_t count);

/** A size above which nothing was right, likewise. @return ppm; 0: there is none. */
uint32_t twi_suggest_largest(const twi_marked *marked, size_t count);

/**
 * Where what was nothing lay together: groups of those whose boxes overlap, with a
 * margin, those of most sightings first. Boxes and groups that cover more than
 * TWI_SUGGEST_AREA_PPM are not heeded.
 *
 * @return How many there are, at most TWI_SUGGEST_AREAS.
 */
size_t twi_suggest_areas(const twi_marked *marked, size_t count,
                         twi_box out[TWI_SUGGEST_AREAS]);

/**
 * The time of day in which most was nothing and nothing was right, in whole ten minutes;
 * it may pass midnight.
 *
 * @param from,until  Minutes of the day, 0..1439, set where there is one.
 * @return How many were nothing in it; 0: fewer than TWI_SUGGEST_HOURS lie within
 * TWI_SUGGEST_MINUTES.
 */
size_t twi_suggest_hours(const twi_marked *marked, size_t count, uint16_t *from,
                         uint16_t *until);

#endif
