/* Parts of pictures that nobody may see: black from the first byte that is stored, shown
 * or sent. */
#ifndef TWI_HIDE_H
#define TWI_HIDE_H

#include <stddef.h>
#include <stdint.h>

#include "../core/view.h"
#include "tawny/error.h"

/* The blocks to hide, kept from picture to picture. Zero it to begin. One thread at a
 * time. */
typedef struct twi_hide {
    uint16_t width, height; /* for which they were marked */
    uint8_t *blocks;
} twi_hide;

/** Mark the blocks that a view hides, where that has not been done for this size.
 * @return TW_OK; TW_ENOMEM. */
tw_status twi_hide_prepare(twi_hide *hide, const twi_view *view, uint16_t width,
                           uint16_t height, tw_error *err);
void twi_hide_free(twi_hide *hide);

/**
 * Blacken what a view hides of a JPEG, in its coefficients: the others stay as they are.
 * What else may show the picture (a thumbnail in EXIF, what stands behind its end) is
 * left out with all of the camera's own segments.
 *
 * @param out  Set on TW_OK, the caller's to free().
 * @return TW_OK; TW_EDAMAGED: it cannot be read; TW_ESIZE; TW_ENOMEM.
 */
tw_status twi_hide_jpeg(twi_hide *hide, const twi_view *view, const uint8_t *data,
                        size_t bytes, uint8_t **out, size_t *out_bytes, tw_error *err);

#endif
