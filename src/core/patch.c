/* One cell's pixels side by side, so that sums of products run over one array. */
#include <string.h>

#include "detector_state.h"

/* The place before the one at value, or the picture's edge. */
static uint32_t before(uint32_t value, uint32_t end)
{
    const uint32_t place = value > 0 ? value - 1 : 0;
    return place < end ? place : end - 1;
}

/* Whole vectors, which the compiler copies without a call. */
static void copy_pixels(uint8_t *restrict to, const uint8_t *restrict from, size_t count)
{
    for (size_t i = 0; i < count; i += TWI_PATCH_LANES)
        memcpy(to + i, from + i, TWI_PATCH_LANES * sizeof *to);
}

static void copy_values(uint16_t *restrict to, const uint16_t *restrict from,
                        size_t count)
{
    for (size_t i = 0; i < count; i += TWI_PATCH_LANES)
        memcpy(to + i, from + i, TWI_PATCH_LANES * sizeof *to);
}

static void take_frame(const tw_luma *luma, uint32_t left, uint32_t top, bool whole,
                       twi_patch *p)
{
    for (size_t at = 0; at < p->count; at += p->row, top++) {
        const uint8_t *from = luma->px + (size_t)top * luma->stride;
        if (whole)
            copy_pixels(p->frame + at, from + left - 1, p->row);
        else
            for (uint32_t i = 0; i < p->row; i++)
                p->frame[at + i] = from[before(left + i, luma->width)];
    }
}

static void take_background(const tw_detector *d, uint32_t left, uint32_t top, bool whole,
                            twi_patch *p)
{
    const uint32_t width = d->config.width;
    for (size_t at = 0; at < p->count + 2 * p->row; at += p->row, top++) {
        const uint16_t *from =
            d->background + (size_t)before(top, d->config.height) * width;
        if (whole)
            copy_values(p->background + at, from + left - 1, p->row);
        else
            for (uint32_t i = 0; i < p->row; i++)
                p->background[at + i] = from[before(left + i, width)];
    }
}

static void mark_inside(twi_patch *p, size_t width)
{
    int16_t row[TWI_PATCH_ROW_MAX];
    for (size_t i = 0; i < p->row; i++)
        row[i] = (int16_t)(i >= 1 && i <= width ? -1 : 0);
    for (size_t at = 0; at < p->count; at += p->row)
        for (size_t i = 0; i < p->row; i += TWI_PATCH_LANES)
            memcpy(p->inside + at + i, row + i, TWI_PATCH_LANES * sizeof *row);
}

void twi_patch_take(const tw_detector *d, const tw_luma *luma, uint16_t row,
                    uint16_t column, twi_patch *out)
{
    const uint32_t left = (uint32_t)column * d->grid.cell_px;
    const uint32_t top = (uint32_t)row * d->grid.cell_px;
    const size_t width = twi_column_end(d, column) - left;
    out->row = (width + 2 + TWI_PATCH_LANES - 1) / TWI_PATCH_LANES * TWI_PATCH_LANES;
    out->count = out->row * (twi_row_end(d, row) - top);
    const bool whole = left > 0 && left - 1 + out->row <= d->config.width;
    take_frame(luma, left, top, whole, out);
    take_background(d, left, top, whole, out);
    mark_inside(out, width);
    if (d->config.shake_guard) {
        d->kernels->slopes(out);
    } else {
        memset(out->across, 0, out->count * sizeof out->across[0]);
        memset(out->down, 0, out->count * sizeof out->down[0]);
    }
}
