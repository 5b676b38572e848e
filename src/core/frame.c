/* Views over luma planes, and their reduction. */
#include "tawny/frame.h"

#include <string.h>

enum {
    TILE = 64, /* reduced columns at a time, so that sums stay on the stack */
    FOUR = 4   /* sums of 16 bits in a word */
};

tw_status tw_luma_check(const tw_luma *luma)
{
    if (!luma || !luma->px || luma->width == 0 || luma->height == 0 ||
        luma->stride < luma->width)
        return TW_EINVAL;
    return TW_OK;
}

uint16_t tw_luma_factor(uint16_t width)
{
    const uint16_t factor = (uint16_t)(width / TW_LUMA_MIN_WIDTH);
    if (factor < 1)
        return 1;
    return factor > TW_REDUCE_MAX ? TW_REDUCE_MAX : factor;
}

static uint16_t sum_each(const uint16_t *values, size_t count)
{
    uint16_t sum = 0;
    for (size_t k = 0; k < count; k++)
        sum = (uint16_t)(sum + values[k]);
    return sum;
}

/* The same of a multiple of four, in a word of four lanes: the product has the sum of all
 * lanes in its highest one, on either byte order. */
static uint16_t sum_fours(const uint16_t *values, size_t count)
{
    uint64_t lanes = 0;
    for (size_t k = 0; k < count; k += FOUR) {
        uint64_t four;
        memcpy(&four, values + k, sizeof four);
        lanes += four;
    }
    return (uint16_t)(lanes * UINT64_C(0x0001000100010001) >> 48);
}

/* Sums down each column of pixels, then across. At most 16 * 16 * 255, which 16 bits
 * hold. Down first: whole vectors of neighbours are added without taking them apart. */
__attribute__((always_inline)) static inline void
sum_squares(uint16_t *restrict sums, const uint8_t *restrict px, size_t stride,
            size_t columns, size_t factor, size_t rows)
{
    uint16_t down[TILE * TW_REDUCE_MAX] = {0};
    const size_t width = columns * factor;
    for (size_t x = 0; x < width; x++) {
        uint16_t sum = 0;
        for (size_t k = 0; k < rows; k++)
            sum = (uint16_t)(sum + px[k * stride + x]);
        down[x] = sum;
    }
    for (size_t x = 0; x < columns; x++)
        sums[x] = factor % FOUR == 0 ? sum_fours(down + x * factor, factor)
                                     : sum_each(down + x * factor, factor);
}

/* With constant factors the compiler can do many columns at once. */
static void sum_row(uint16_t *restrict sums, const uint8_t *restrict px, size_t stride,
                    size_t columns, size_t factor)
{
    switch (factor) {
    case 1: sum_squares(sums, px, stride, columns, 1, 1); break;
    case 2: sum_squares(sums, px, stride, columns, 2, 2); break;
    case 3: sum_squares(sums, px, stride, columns, 3, 3); break;
    case 4: sum_squares(sums, px, stride, columns, 4, 4); break;
    case 5: sum_squares(sums, px, stride, columns, 5, 5); break;
    case 8: sum_squares(sums, px, stride, columns, 8, 8); break;
    default: sum_squares(sums, px, stride, columns, factor, factor); break;
    }
}

/* The same from every second row. */
static void sum_half(uint16_t *restrict sums, const uint8_t *restrict px, size_t stride,
                     size_t columns, size_t factor)
{
    switch (factor) {
    case 4: sum_squares(sums, px, 2 * stride, columns, 4, 2); break;
    case 6: sum_squares(sums, px, 2 * stride, columns, 6, 3); break;
    case 8: sum_squares(sums, px, 2 * stride, columns, 8, 4); break;
    default: sum_squares(sums, px, 2 * stride, columns, factor, factor / 2); break;
    }
}

/* Division by area as a product: floor(s * ceil(2^24 / area) / 2^24) equals s / area for
 * every s below 2^16 and area up to 256, and the product stays below 2^32. */
static void store_means(uint8_t *restrict dst, const uint16_t *restrict sums,
                        size_t columns, uint32_t area)
{
    const uint32_t inverse = ((1U << 24) + area - 1) / area;
    for (size_t x = 0; x < columns; x++)
        dst[x] = (uint8_t)(((sums[x] + area / 2) * inverse) >> 24);
}

static tw_status reduce(const tw_luma *src, uint16_t factor, bool half, uint8_t *dst,
                        size_t dst_bytes, tw_luma *out)
{
    if (tw_luma_check(src) != TW_OK || !dst || !out || factor < 1 ||
        factor > TW_REDUCE_MAX)
        return TW_EINVAL;
    const size_t width = src->width / factor, height = src->height / factor;
    const uint32_t area = (uint32_t)factor * (half ? factor / 2U : factor);
    if (width == 0 || height == 0 || dst_bytes < width * height)
        return TW_ESIZE;
    for (size_t y = 0; y < height; y++) {
        const uint8_t *row = src->px + y * factor * src->stride;
        for (size_t left = 0; left < width; left += TILE) {
            const size_t columns = width - left < TILE ? width - left : TILE;
            uint16_t sums[TILE];
            (half ? sum_half : sum_row)(sums, row + left * factor, src->stride, columns,
                                        factor);
            store_means(dst + y * width + left, sums, columns, area);
        }
    }
    *out = (tw_luma){dst, (uint32_t)width, (uint16_t)width, (uint16_t)height};
    return TW_OK;
}

tw_status tw_luma_reduce(const tw_luma *src, uint16_t factor, uint8_t *dst,
                         size_t dst_bytes, tw_luma *out)
{
    return reduce(src, factor, false, dst, dst_bytes, out);
}

tw_status tw_luma_reduce_half(const tw_luma *src, uint16_t factor, uint8_t *dst,
                              size_t dst_bytes, tw_luma *out)
{
    return reduce(src, factor, factor >= 2, dst, dst_bytes, out);
}
