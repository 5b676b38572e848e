/* Pictures that are decoded or drawn on. */
#ifndef TW_PICTURE_H
#define TW_PICTURE_H

#include <stdint.h>

#include "tawny/frame.h"

/* A tw_picture in I420, or grey, that may be written to. */
typedef struct tw_canvas {
    uint8_t *px[3];
    int stride[3];
    uint16_t width, height;
} tw_canvas;

/** How far pictures are reduced of which the detector looks at a part only.
 * @param looked_ppm  Share of their width. */
static inline uint16_t tw_factor_for(uint32_t width, uint32_t looked_ppm)
{
    const uint64_t looked = (uint64_t)(width > 65535 ? 65535 : width) * looked_ppm;
    return tw_luma_factor((uint16_t)(looked < 1000000 ? 1 : looked / 1000000));
}

enum { TW_LOOKED_ALL = 1000000, TW_REDUCED_MUCH = 4 };

/** Reduce a whole picture for the detector; much reduced ones from every second row,
 * which makes little more noise and is done in half the time. As tw_luma_reduce else. */
static inline tw_status tw_reduce_whole(const tw_luma *src, uint16_t factor, uint8_t *dst,
                                        size_t dst_bytes, tw_luma *out)
{
    return factor >= TW_REDUCED_MUCH
               ? tw_luma_reduce_half(src, factor, dst, dst_bytes, out)
               : tw_luma_reduce(src, factor, dst, dst_bytes, out);
}

#endif
