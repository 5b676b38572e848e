/* Which frame of a sighting shows the most of its subject.
 * Pure: no I/O, clock or heap. */
#ifndef TWI_BEST_H
#define TWI_BEST_H

#include <stdbool.h>
#include <stdint.h>

#include "tawny/detector.h"
#include "tawny/frame.h"

/* The best frame so far. Begin a sighting with {0}. */
typedef struct twi_best {
    bool any;
    uint32_t size_ppm;  /* of its largest blob; one that is cut off by the picture's edge
                           counts for a quarter */
    uint32_t sharpness; /* of the picture within that blob's box, Q8 levels */
} twi_best;

/**
 * How sharp a part of a picture is: the mean of the absolute discrete Laplacian. Noise
 * adds to it, so only pictures of one camera and one hour compare.
 *
 * @param blob  Its box is looked at, as far as it lies in the picture.
 * @return Q8 luma levels; 0 for a part of fewer than 3 x 3 pixels.
 */
uint32_t twi_sharpness(const tw_luma *luma, const tw_blob *blob);

/**
 * Whether this frame is better than the best so far, which it then is: its largest
 * counted blob is larger, or about as large and sharper.
 *
 * @param luma     What the reading was taken of.
 * @param dear_pct How much larger than the best it has to be in percent, 1..100; at the
 *                 same size, twice as much sharper. Where keeping a frame is dear, ask
 * more.
 */
bool twi_best_take(twi_best *best, const tw_reading *reading, const tw_luma *luma,
                   uint32_t dear_pct);

#endif
