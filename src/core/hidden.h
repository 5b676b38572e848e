/* Which blocks of a camera's picture lie in parts that nobody may see. Pure: no I/O,
 * clock or heap.
 *
 * Blocks are whole, so that those of a JPEG can be blackened without touching the rest,
 * and are those of the picture as it comes from the camera: it is hidden before it is
 * turned and cropped. */
#ifndef TWI_HIDDEN_H
#define TWI_HIDDEN_H

#include "view.h"

enum { TWI_HIDDEN_PX = 16 }; /* along the edge of a block */

/** @return how many blocks there are along a side. */
static inline uint16_t twi_hidden_along(uint16_t side)
{
    return (uint16_t)((side + TWI_HIDDEN_PX - 1) / TWI_HIDDEN_PX);
}

/**
 * Mark the blocks that a hidden part reaches into, and where the picture is turned or
 * cropped, which may grow or shrink it by a block, those beside them.
 *
 * @param width,height  Of the camera's picture, pixels, >= 1.
 * @param blocks        Caller's, twi_hidden_along(width) * twi_hidden_along(height)
 * bytes, row by row: 1 hidden, 0 not.
 */
void twi_hidden_mark(const twi_view *view, uint16_t width, uint16_t height,
                     uint8_t *blocks);

/** Blacken a plane of pixels. @param shift  0: of the picture's size; 1: of half of it,
 * in both directions, rounded up. @param value  What is put there. */
void twi_hidden_fill(const uint8_t *blocks, uint16_t width, uint16_t height, int shift,
                     uint8_t value, uint8_t *px, uint32_t stride);

#endif
