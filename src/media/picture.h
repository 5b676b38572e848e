/* Pictures that are decoded or drawn on. */
#ifndef TWI_PICTURE_H
#define TWI_PICTURE_H

#include <stdint.h>

#include "tawny/frame.h"

/* A tw_picture in I420, or grey, that may be written to. */
typedef struct twi_canvas {
    uint8_t *px[3];
    int stride[3];
    uint16_t width, height;
} twi_canvas;

/* A picture as the detector reads it. Its views are the decoder's, good until its next
 * call. */
typedef struct twi_decoded {
    tw_luma luma;           /* reduced */
    tw_chroma chroma;       /* likewise; u is NULL: it has no colour */
    int64_t t_us;           /* capture time */
    uint16_t width, height; /* of the whole picture, pixels */
} twi_decoded;

/** How far pictures are reduced of which the detector looks at a part only.
 * @param inspected_ppm  Share of their width. */
static inline uint16_t twi_factor_for(uint32_t width, uint32_t inspected_ppm)
{
    const uint64_t looked = (uint64_t)(width > 65535 ? 65535 : width) * inspected_ppm;
    return tw_luma_factor((uint16_t)(looked < 1000000 ? 1 : looked / 1000000));
}

enum { TWI_INSPECT_ALL = 1000000, TWI_REDUCED_MUCH = 4 };

/** Reduce a whole picture for the detector; much reduced ones from every second row,
 * which makes little more noise and is done in half the time. As tw_luma_reduce else. */
static inline tw_status twi_reduce_whole(const tw_luma *src, uint16_t factor,
                                         uint8_t *dst, size_t dst_bytes, tw_luma *out)
{
    return factor >= TWI_REDUCED_MUCH
               ? tw_luma_reduce_half(src, factor, dst, dst_bytes, out)
               : tw_luma_reduce(src, factor, dst, dst_bytes, out);
}

#endif
