/* tawny/frame.h - pictures and packets, as views over memory that the caller owns. */
#ifndef TW_FRAME_H
#define TW_FRAME_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/status.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Borrowed luma picture. Pixel (x, y) is px[y * stride + x], 0 black to 255 white.
 * Whoever fills the view keeps px alive and unchanged during a call. */
typedef struct tw_luma {
    const uint8_t *px; /* height rows, each stride bytes after the last */
    uint32_t stride;   /* bytes, >= width; the padding is never read */
    uint16_t width;    /* pixels, >= 1 */
    uint16_t height;   /* rows, >= 1 */
} tw_luma;

/* One compressed frame as the camera sent it. Borrowed. */
typedef struct tw_packet {
    const uint8_t *data;
    size_t size;     /* bytes, >= 1 */
    int64_t t_us;    /* when it was captured: monotonic microseconds, any zero */
    int64_t dts_us;  /* when it must be decoded; equal to t_us without reordering */
    int64_t wall_us; /* when it was captured: microseconds since 1970, UTC */
    bool key;        /* it can be decoded without any packet before it */
} tw_packet;

enum {
    TW_LUMA_MIN_WIDTH = 240, /* reduced no further than this */
    TW_REDUCE_MAX = 16       /* largest reduction in one pass */
};

/** @return TW_OK, or TW_EINVAL: NULL pointer, zero size or stride < width. */
TW_API tw_status tw_luma_check(const tw_luma *luma);

/**
 * How far a picture is reduced before the detector reads it.
 *
 * @param width  Pixels of the full picture, >= 1.
 * @return The largest factor, 1..TW_REDUCE_MAX, that leaves TW_LUMA_MIN_WIDTH pixels.
 */
TW_API uint16_t tw_luma_factor(uint16_t width);

/**
 * Reduce a luma plane: each pixel becomes the rounded mean of factor x factor pixels.
 * Rows and columns at the right and lower edge that fill no whole square are left out.
 *
 * @param src        Borrowed, read only.
 * @param factor     1..TW_REDUCE_MAX.
 * @param dst        Caller's, (width / factor) * (height / factor) bytes, rows packed.
 * @param dst_bytes  Capacity of dst.
 * @param out        Set to a view over dst on TW_OK, else left as it was.
 * @return TW_OK; TW_EINVAL: bad view or factor; TW_ESIZE: dst too small, or the picture
 *         smaller than one square.
 */
TW_API tw_status tw_luma_reduce(const tw_luma *src, uint16_t factor, uint8_t *dst,
                                size_t dst_bytes, tw_luma *out);

/** The same from every second row of pixels: half the memory is read, which is what takes
 * the time for large pictures, for 1.4 times the noise, which is little after reducing by
 * four or more. */
TW_API tw_status tw_luma_reduce_half(const tw_luma *src, uint16_t factor, uint8_t *dst,
                                     size_t dst_bytes, tw_luma *out);

#ifdef __cplusplus
}
#endif

#endif
