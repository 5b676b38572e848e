/* Chroma of pictures, reduced for the detector. */
#include "chroma.h"

#include <string.h>

enum { MILLION = 1000000, ROWS_READ = 2 /* of each square: chroma has little noise */ };

/* Where a picture's chroma lies; RGB has none until it is worked out. */
static twi_chroma_planes planes_of(const tw_picture *p)
{
    const uint16_t columns = (uint16_t)((p->width + 1U) / 2);
    const uint16_t rows = (uint16_t)((p->height + 1U) / 2);
    twi_chroma_planes c = {NULL, NULL, 1, 0, columns, rows};
    switch ((enum tw_pixels_values)p->pixels) {
    case TW_PIXELS_I420:
        c.u = p->px[1];
        c.v = p->px[1] ? p->px[2] : NULL;
        c.stride = p->stride[1];
        break;
    case TW_PIXELS_NV12:
        c.u = p->px[1];
        c.v = p->px[1] + 1;
        c.step = 2;
        c.stride = p->stride[1];
        break;
    case TW_PIXELS_YUYV:
        c.u = p->px[0] + 1;
        c.v = p->px[0] + 3;
        c.step = 4;
        c.stride = p->stride[0];
        c.width = p->width / 2; /* an odd one has no red of its own */
        c.height = p->height;
        break;
    case TW_PIXELS_RGB:
        c.width = p->width;
        c.height = p->height;
        break;
    case TW_PIXELS_GREY: break;
    }
    return c;
}

tw_status tw_chroma_check(const tw_chroma *c)
{
    if (!c || !c->u || !c->v || c->width == 0 || c->height == 0 || c->stride < c->width)
        return TW_EINVAL;
    return TW_OK;
}

uint16_t twi_chroma_factor(uint32_t width, uint32_t inspected_ppm)
{
    const uint64_t looked = (uint64_t)width * inspected_ppm / MILLION;
    const uint64_t factor = looked / TW_CHROMA_ACROSS;
    return (uint16_t)(factor < 1 ? 1 : factor);
}

size_t twi_chroma_bytes(uint16_t width, uint16_t height, uint16_t factor)
{
    return (size_t)2 * (width / factor) * (height / factor);
}

/* The rows of a square that are read: a quarter and three quarters down. */
static uint32_t row_of(uint32_t square, uint32_t which, uint16_t factor)
{
    return square * factor + (2 * which + 1) * factor / (2 * ROWS_READ);
}

static uint32_t sum_of(const uint8_t *at, uint32_t step, uint16_t count)
{
    uint32_t sum = 0;
    for (uint32_t i = 0; i < count; i++)
        sum += at[(size_t)i * step];
    return sum;
}

static void reduce_plane(const twi_chroma_planes *src, const uint8_t *from,
                         uint16_t factor, uint8_t *to)
{
    const uint32_t columns = src->width / factor, rows = src->height / factor;
    const uint32_t of = (uint32_t)ROWS_READ * factor;
    for (uint32_t y = 0; y < rows; y++) {
        const uint8_t *first = from + (size_t)row_of(y, 0, factor) * src->stride;
        const uint8_t *second = from + (size_t)row_of(y, 1, factor) * src->stride;
        for (uint32_t x = 0; x < columns; x++) {
            const size_t at = (size_t)x * factor * src->step;
            const uint32_t sum = sum_of(first + at, src->step, factor) +
                                 sum_of(second + at, src->step, factor);
            to[(size_t)y * columns + x] = (uint8_t)((sum + of / 2) / of);
        }
    }
}

static tw_chroma view_of(uint8_t *dst, uint16_t width, uint16_t height, uint16_t factor)
{
    const uint16_t columns = width / factor, rows = height / factor;
    return (tw_chroma){dst, dst + (size_t)columns * rows, columns, columns, rows};
}

tw_status twi_chroma_reduce(const twi_chroma_planes *src, uint16_t factor, uint8_t *dst,
                            size_t dst_bytes, tw_chroma *out)
{
    const size_t bytes = twi_chroma_bytes(src->width, src->height, factor);
    if (bytes == 0 || dst_bytes < bytes)
        return TW_ESIZE;
    reduce_plane(src, src->u, factor, dst);
    reduce_plane(src, src->v, factor, dst + bytes / 2);
    *out = view_of(dst, src->width, src->height, factor);
    return TW_OK;
}

/* Of the mean of each square. */
static void reduce_rgb(const tw_picture *p, uint16_t factor, uint8_t *u, uint8_t *v)
{
    const uint32_t columns = p->width / factor, rows = p->height / factor;
    const int32_t of = ROWS_READ * factor;
    for (uint32_t y = 0; y < rows; y++) {
        for (uint32_t x = 0; x < columns; x++) {
            int32_t sum[3] = {0};
            for (uint32_t k = 0; k < ROWS_READ; k++) {
                const uint8_t *at = p->px[0] +
                                    (size_t)row_of(y, k, factor) * p->stride[0] +
                                    (size_t)3 * x * factor;
                for (int i = 0; i < 3; i++)
                    sum[i] += (int32_t)sum_of(at + i, 3, factor);
            }
            twi_rgb_chroma(sum[0] / of, sum[1] / of, sum[2] / of, &u[y * columns + x],
                           &v[y * columns + x]);
        }
    }
}

tw_status twi_picture_chroma(const tw_picture *p, uint32_t inspected_ppm, uint8_t *dst,
                             size_t dst_bytes, size_t *bytes, tw_chroma *out)
{
    if (tw_picture_check(p) != TW_OK)
        return TW_EINVAL;
    const twi_chroma_planes planes = planes_of(p);
    const bool rgb = p->pixels == TW_PIXELS_RGB;
    const uint16_t factor = twi_chroma_factor(planes.width, inspected_ppm);
    *bytes = planes.u || rgb ? twi_chroma_bytes(planes.width, planes.height, factor) : 0;
    if (!dst)
        return TW_OK;
    memset(out, 0, sizeof *out);
    if (*bytes == 0)
        return TW_OK;
    if (!rgb)
        return twi_chroma_reduce(&planes, factor, dst, dst_bytes, out);
    if (dst_bytes < *bytes)
        return TW_ESIZE;
    reduce_rgb(p, factor, dst, dst + *bytes / 2);
    *out = view_of(dst, planes.width, planes.height, factor);
    return TW_OK;
}

size_t tw_picture_chroma_bytes(const tw_picture *picture)
{
    size_t bytes = 0;
    return twi_picture_chroma(picture, MILLION, NULL, 0, &bytes, NULL) == TW_OK ? bytes
                                                                                : 0;
}

tw_status tw_picture_chroma(const tw_picture *picture, uint8_t *dst, size_t dst_bytes,
                            tw_chroma *out)
{
    size_t bytes = 0;
    if (!out || !dst)
        return TW_EINVAL;
    return twi_picture_chroma(picture, MILLION, dst, dst_bytes, &bytes, out);
}
