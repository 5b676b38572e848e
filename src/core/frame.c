/* Views over luma planes, and their reduction. */
#include "tawny/frame.h"

#include <string.h>

#if defined(__SSE2__)
#include <emmintrin.h>
#endif

enum {
    TILE = 64, /* reduced columns at a time, so that sums stay on the stack */
    FOUR = 4   /* pixels in a word */
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

/* Four pixels side by side: first and third added to second and fourth, two sums of 16
 * bits in a word. The sum of all is the same in either byte order. */
static uint32_t add_pairs(const uint8_t *px)
{
    uint32_t four;
    memcpy(&four, px, sizeof four);
    return (four & 0x00FF00FF) + (four >> 8 & 0x00FF00FF);
}

/* Sums of squares whose side is a multiple of four. At most 16 * 16 * 255 all in all,
 * which 16 bits hold. Down first: whole vectors of neighbours are added without taking
 * them apart. */
__attribute__((always_inline)) static inline void sum_fours(uint16_t *restrict sums,
                                                            const uint8_t *restrict px,
                                                            size_t stride, size_t columns,
                                                            size_t factor, size_t rows)
{
    uint32_t down[TILE * TW_REDUCE_MAX / FOUR] = {0};
    const size_t across = factor / FOUR;
    for (size_t x = 0; x < columns * across; x++) {
        uint32_t pairs = 0;
        for (size_t k = 0; k < rows; k++)
            pairs += add_pairs(px + k * stride + FOUR * x);
        down[x] = pairs;
    }
    for (size_t x = 0; x < columns; x++) {
        uint32_t pairs = 0;
        for (size_t k = 0; k < across; k++)
            pairs += down[x * across + k];
        sums[x] = (uint16_t)((pairs & 0xFFFF) + (pairs >> 16));
    }
}

/* The same of a side of eight, which is what 1080p is reduced by. */
static void sum_eights(uint16_t *restrict sums, const uint8_t *restrict px, size_t stride,
                       size_t columns, size_t rows)
{
    size_t x = 0;
#if defined(__SSE2__)
    /* A sum of eight neighbours is one instruction here: their distance from nothing. */
    const __m128i nothing = _mm_setzero_si128();
    for (; x + 2 <= columns; x += 2, px += 16) {
        __m128i two = nothing;
        for (size_t k = 0; k < rows; k++) {
            const __m128i row = _mm_loadu_si128((const void *)(px + k * stride));
            two = _mm_add_epi16(two, _mm_sad_epu8(row, nothing));
        }
        sums[x] = (uint16_t)_mm_extract_epi16(two, 0);
        sums[x + 1] = (uint16_t)_mm_extract_epi16(two, 4);
    }
#endif
    if (x < columns)
        sum_fours(sums + x, px, stride, columns - x, 8, rows);
}

/* The same of any side. */
__attribute__((always_inline)) static inline void
sum_squares(uint16_t *restrict sums, const uint8_t *restrict px, size_t stride,
            size_t columns, size_t factor, size_t rows)
{
    uint16_t down[TILE * TW_REDUCE_MAX] = {0};
    for (size_t x = 0; x < columns * factor; x++) {
        uint16_t sum = 0;
        for (size_t k = 0; k < rows; k++)
            sum = (uint16_t)(sum + px[k * stride + x]);
        down[x] = sum;
    }
    for (size_t x = 0; x < columns; x++) {
        uint16_t sum = 0;
        for (size_t k = 0; k < factor; k++)
            sum = (uint16_t)(sum + down[x * factor + k]);
        sums[x] = sum;
    }
}

/* With constant factors the compiler can do many columns at once. */
static void sum_row(uint16_t *restrict sums, const uint8_t *restrict px, size_t stride,
                    size_t columns, size_t factor)
{
    switch (factor) {
    case 1: sum_squares(sums, px, stride, columns, 1, 1); break;
    case 2: sum_squares(sums, px, stride, columns, 2, 2); break;
    case 3: sum_squares(sums, px, stride, columns, 3, 3); break;
    case 4: sum_fours(sums, px, stride, columns, 4, 4); break;
    case 5: sum_squares(sums, px, stride, columns, 5, 5); break;
    case 8: sum_eights(sums, px, stride, columns, 8); break;
    default: sum_squares(sums, px, stride, columns, factor, factor); break;
    }
}

/* The same from every second row. */
static void sum_half(uint16_t *restrict sums, const uint8_t *restrict px, size_t stride,
                     size_t columns, size_t factor)
{
    switch (factor) {
    case 4: sum_fours(sums, px, 2 * stride, columns, 4, 2); break;
    case 6: sum_squares(sums, px, 2 * stride, columns, 6, 3); break;
    case 8: sum_eights(sums, px, 2 * stride, columns, 4); break;
    default: sum_squares(sums, px, 2 * stride, columns, factor, factor / 2); break;
    }
}

/* Division by a power of two; 16 * 16 * 255 and half the area are below 2^16. */
static void store_shifted(uint8_t *restrict dst, const uint16_t *restrict sums,
                          size_t columns, uint32_t area)
{
    const uint16_t half = (uint16_t)(area / 2);
    int shift = 0;
    while (area >> shift > 1)
        shift++;
    for (size_t x = 0; x < columns; x++)
        dst[x] = (uint8_t)((uint16_t)(sums[x] + half) >> shift);
}

/* Division by area as a product: floor(s * ceil(2^24 / area) / 2^24) equals s / area for
 * every s below 2^16 and area up to 256, and the product stays below 2^32. */
static void store_divided(uint8_t *restrict dst, const uint16_t *restrict sums,
                          size_t columns, uint32_t area)
{
    const uint32_t inverse = ((1U << 24) + area - 1) / area;
    for (size_t x = 0; x < columns; x++)
        dst[x] = (uint8_t)(((sums[x] + area / 2) * inverse) >> 24);
}

static void store_means(uint8_t *dst, const uint16_t *sums, size_t columns, uint32_t area)
{
    const bool power_of_two = (area & (area - 1)) == 0;
    (power_of_two ? store_shifted : store_divided)(dst, sums, columns, area);
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
