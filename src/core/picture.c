/* Raw pictures: their layouts, and planes from them. */
#include <string.h>

#include "chroma.h"
#include "tawny/frame.h"

/* What one layout looks like. */
typedef struct layout {
    uint8_t pixel;  /* bytes of a pixel in px[0] */
    uint8_t chroma; /* planes of it */
    uint8_t pair;   /* bytes of one of their places */
} layout;

static layout layout_of(const tw_picture *p)
{
    static const layout known[] = {[TW_PIXELS_I420] = {1, 2, 1},
                                   [TW_PIXELS_GREY] = {1, 0, 0},
                                   [TW_PIXELS_NV12] = {1, 1, 2},
                                   [TW_PIXELS_YUYV] = {2, 0, 0},
                                   [TW_PIXELS_RGB] = {3, 0, 0}};
    const size_t of =
        p->pixels == TW_PIXELS_I420 && !p->px[1] ? TW_PIXELS_GREY : (size_t)p->pixels;
    return of < sizeof known / sizeof *known ? known[of] : (layout){0, 0, 0};
}

static bool is_grey(const tw_picture *p)
{
    return layout_of(p).pixel == 1 && layout_of(p).chroma == 0;
}

static uint32_t half(uint16_t side)
{
    return ((uint32_t)side + 1) / 2;
}

tw_status tw_picture_check(const tw_picture *p)
{
    if (!p || !p->px[0] || p->width == 0 || p->height == 0)
        return TW_EINVAL;
    const layout l = layout_of(p);
    if (l.pixel == 0 || p->stride[0] < (uint32_t)p->width * l.pixel)
        return TW_EINVAL;
    for (int i = 1; i <= l.chroma; i++)
        if (!p->px[i] || p->stride[i] < half(p->width) * l.pair)
            return TW_EINVAL;
    return TW_OK;
}

size_t tw_picture_bytes(const tw_picture *p)
{
    if (tw_picture_check(p) != TW_OK)
        return 0;
    const size_t luma = (size_t)p->width * p->height;
    return luma + (is_grey(p) ? 0 : (size_t)2 * half(p->width) * half(p->height));
}

static void copy_rows(const uint8_t *from, uint32_t stride, uint8_t *to, size_t bytes,
                      uint32_t rows)
{
    for (uint32_t y = 0; y < rows; y++)
        memcpy(to + y * bytes, from + (size_t)y * stride, bytes);
}

/* One byte of each step, which is the same wherever this is called: whole vectors are
 * taken apart then. */
__attribute__((always_inline)) static inline void
pick(const uint8_t *restrict from, uint8_t *restrict to, uint32_t count, uint32_t step)
{
    for (uint32_t x = 0; x < count; x++)
        to[x] = from[(size_t)x * step];
}

/* ITU-T T.871: full range, in parts of 65536. */
static void rgb_luma(const uint8_t *restrict from, uint8_t *restrict to, uint32_t count)
{
    for (uint32_t x = 0; x < count; x++, from += 3)
        to[x] =
            (uint8_t)((19595 * from[0] + 38470 * from[1] + 7471 * from[2] + 32768) >> 16);
}

static void rgb_chroma(const uint8_t *restrict from, uint8_t *restrict u,
                       uint8_t *restrict v, uint32_t count)
{
    for (uint32_t x = 0; x < count; x++, from += 6)
        twi_rgb_chroma(from[0], from[1], from[2], &u[x], &v[x]);
}

/* A last pixel without a partner has no red of its own. */
static void yuyv_chroma(const uint8_t *row, uint8_t *u, uint8_t *v, uint16_t width)
{
    pick(row + 1, u, half(width), 4);
    pick(row + 3, v, width / 2, 4);
    if (width & 1)
        v[width / 2] = 128;
}

static void luma_row(const tw_picture *p, const uint8_t *row, uint8_t *to)
{
    if (p->pixels == TW_PIXELS_RGB)
        rgb_luma(row, to, p->width);
    else
        pick(row, to, p->width, 2);
}

static void pack_luma(const tw_picture *p, uint8_t *to)
{
    if (layout_of(p).pixel == 1) {
        copy_rows(p->px[0], p->stride[0], to, p->width, p->height);
        return;
    }
    for (uint32_t y = 0; y < p->height; y++)
        luma_row(p, p->px[0] + (size_t)y * p->stride[0], to + (size_t)y * p->width);
}

static void chroma_row(const tw_picture *p, uint32_t y, uint8_t *u, uint8_t *v)
{
    const uint32_t count = half(p->width);
    const uint8_t *whole = p->px[0] + (size_t)2 * y * p->stride[0];
    if (p->pixels == TW_PIXELS_NV12) {
        pick(p->px[1] + (size_t)y * p->stride[1], u, count, 2);
        pick(p->px[1] + (size_t)y * p->stride[1] + 1, v, count, 2);
    } else if (p->pixels == TW_PIXELS_YUYV) {
        yuyv_chroma(whole, u, v, p->width);
    } else {
        rgb_chroma(whole, u, v, count);
    }
}

static void pack_chroma(const tw_picture *p, uint8_t *u, uint8_t *v)
{
    const uint32_t columns = half(p->width), rows = half(p->height);
    if (p->pixels == TW_PIXELS_I420) {
        copy_rows(p->px[1], p->stride[1], u, columns, rows);
        copy_rows(p->px[2], p->stride[2], v, columns, rows);
        return;
    }
    for (uint32_t y = 0; y < rows; y++)
        chroma_row(p, y, u + (size_t)y * columns, v + (size_t)y * columns);
}

tw_status tw_picture_pack(const tw_picture *p, uint8_t *dst, size_t dst_bytes,
                          tw_picture *out)
{
    if (tw_picture_check(p) != TW_OK || !dst || !out)
        return TW_EINVAL;
    if (dst_bytes < tw_picture_bytes(p))
        return TW_ESIZE;
    const bool grey = is_grey(p);
    const uint32_t columns = half(p->width);
    uint8_t *u = grey ? NULL : dst + (size_t)p->width * p->height;
    uint8_t *v = grey ? NULL : u + (size_t)columns * half(p->height);
    const tw_picture made = {.px = {dst, u, v},
                             .stride = {p->width, columns, columns},
                             .width = p->width,
                             .height = p->height,
                             .pixels = grey ? TW_PIXELS_GREY : TW_PIXELS_I420};
    pack_luma(p, dst);
    if (!grey)
        pack_chroma(p, u, v);
    *out = made;
    return TW_OK;
}

tw_status tw_picture_luma(const tw_picture *p, uint8_t *dst, size_t dst_bytes,
                          tw_luma *out)
{
    if (tw_picture_check(p) != TW_OK || !out)
        return TW_EINVAL;
    if (layout_of(p).pixel == 1) {
        *out = (tw_luma){p->px[0], p->stride[0], p->width, p->height};
        return TW_OK;
    }
    if (!dst || dst_bytes < (size_t)p->width * p->height)
        return TW_ESIZE;
    pack_luma(p, dst);
    *out = (tw_luma){dst, p->width, p->width, p->height};
    return TW_OK;
}
