/* Chroma of pictures, reduced for the detector. Pure, integers only. */
#ifndef TWI_CHROMA_H
#define TWI_CHROMA_H

#include <stddef.h>
#include <stdint.h>

#include "tawny/error.h"
#include "tawny/frame.h"

/* How a picture's chroma lies. Borrowed. */
typedef struct twi_chroma_planes {
    const uint8_t *u, *v;   /* NULL: it has none */
    uint32_t step;          /* bytes from one value to the next in its row */
    uint32_t stride;        /* bytes from row to row */
    uint16_t width, height; /* values */
} twi_chroma_planes;

/** Chroma of a colour: full range, in parts of 65536. Source: ITU-T T.871. */
static inline void twi_rgb_chroma(int32_t r, int32_t g, int32_t b, uint8_t *u, uint8_t *v)
{
    *u = (uint8_t)((-11059 * r - 21709 * g + 32768 * b + 8421375) >> 16);
    *v = (uint8_t)((32768 * r - 27439 * g - 5329 * b + 8421375) >> 16);
}

/** @param inspected_ppm  Share of the width that the detector looks at.
 * @return how many values, across and down, become one: as many as leave
 *         TW_CHROMA_ACROSS in that share. */
uint16_t twi_chroma_factor(uint32_t width, uint32_t inspected_ppm);

/** @return bytes of a picture's reduced chroma. */
size_t twi_chroma_bytes(uint16_t width, uint16_t height, uint16_t factor);

/**
 * Reduce: each value becomes the rounded mean of two rows of factor x factor of them.
 * What fills no whole square at the right and lower edge is left out.
 *
 * @param factor  >= 1.
 * @return TW_OK; TW_ESIZE: dst too small, or the picture smaller than a square.
 */
tw_status twi_chroma_reduce(const twi_chroma_planes *src, uint16_t factor, uint8_t *dst,
                            size_t dst_bytes, tw_chroma *out);

/** As tw_picture_chroma, where the detector looks at a part only.
 * @param bytes  Set to what it takes, 0: no chroma. @param dst NULL: only that. */
tw_status twi_picture_chroma(const tw_picture *picture, uint32_t inspected_ppm,
                             uint8_t *dst, size_t dst_bytes, size_t *bytes,
                             tw_chroma *out);

#endif
