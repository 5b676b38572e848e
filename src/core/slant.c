/* Light that changes across a cell: at the soft edge of a cloud's shadow no single gain
 * explains a whole cell, but the cells on both sides of it tell by how much its own
 * changes from one side to the other. Nothing is fitted anew, so what a subject covers is
 * not explained with it; and the edge of a shadow is long, so the rows of cells beside it
 * must tell the same. */
#include "detector_state.h"

#define DARK 8.0F /* levels Q2, added to both means: below, a ratio says nothing */

enum {
    WIDE_PART = 4, /* light must change in one of so many cells */
    GAIN_Q = 12,
    SLOPE_Q = 16
};

/* A step from one cell to the next, along a row or down a column. */
typedef struct step {
    int32_t down, across;
} step;

bool twi_slant_is_asked(const tw_detector *d)
{
    return d->nearby && d->config.light_guard &&
           (uint32_t)d->lit_usual / 256 >= d->cells / WIDE_PART;
}

void twi_slant_tell(tw_detector *d, uint32_t index, const twi_cell_sums *s)
{
    const float n = (float)s->n * DARK;
    d->nearby[index].ratio =
        s->n > 0 ? ((float)(s->x + s->d) + n) / ((float)s->x + n) : 0.0F;
}

float twi_ratio_at(const tw_detector *d, int32_t row, int32_t column)
{
    const bool within =
        row >= 0 && column >= 0 && row < d->grid.rows && column < d->grid.columns;
    return within ? d->nearby[row * d->grid.columns + column].ratio : 0.0F;
}

/* The change of the ratio from cell to cell, by the two beside one. */
static float change_at(const tw_detector *d, int32_t row, int32_t column, step by)
{
    const float before = twi_ratio_at(d, row - by.down, column - by.across);
    const float after = twi_ratio_at(d, row + by.down, column + by.across);
    return before > 0.0F && after > 0.0F ? (after - before) / 2.0F : 0.0F;
}

/* The lesser of two changes of one direction. */
static float lesser(float a, float b)
{
    if (a * b <= 0.0F)
        return 0.0F;
    return a > 0.0F ? (a < b ? a : b) : (a > b ? a : b);
}

/* The change within a cell: what both of its sides tell at least, and the cells beside it
 * confirm. */
static float change_within(const tw_detector *d, int32_t row, int32_t column, step by)
{
    const float before = twi_ratio_at(d, row - by.down, column - by.across);
    const float after = twi_ratio_at(d, row + by.down, column + by.across);
    const float own = twi_ratio_at(d, row, column);
    if (before <= 0.0F || after <= 0.0F)
        return 0.0F;
    const float change = lesser(own - before, after - own);
    const float half = change / 2.0F;
    const float left = change_at(d, row - by.across, column - by.down, by);
    const float right = change_at(d, row + by.across, column + by.down, by);
    const bool agreed = lesser(left, half) == half && lesser(right, half) == half;
    return agreed ? change : 0.0F;
}

/* What the fit and a slanted light say of a pixel, in integers. */
typedef struct plane {
    int32_t gain, dx, dy;       /* Q12 */
    int32_t across, down;       /* change of the gain by half a pixel, Q16 */
    int32_t middle_x, middle_y; /* of the cell, half pixels */
} plane;

static int32_t in_q(float value, int32_t bits)
{
    return (int32_t)(value * (float)(1 << bits));
}

/* Squares about their mean of what is left of a patch, Q2. */
static float squares_left(const twi_patch *p, const plane *by)
{
    const uint16_t *background = p->background + p->row;
    int64_t squares = 0, sum = 0;
    int32_t count = 0;
    for (size_t at = 0, y = 0; at < p->count; at += p->row, y++) {
        const int32_t down = by->down * (2 * (int32_t)y - by->middle_y);
        for (size_t i = 1; i < p->row; i++) {
            if (!p->inside[at + i] || p->frame[at + i] >= TWI_CLIPPED_HI)
                continue;
            const int32_t x = background[at + i] >> 6;
            const int32_t slope = by->across * (2 * (int32_t)i - by->middle_x) + down;
            const int32_t fitted =
                by->gain * x + by->dx * p->across[at + i] + by->dy * p->down[at + i];
            const int32_t off = (p->frame[at + i] << 2) - (fitted >> GAIN_Q) -
                                (int32_t)((int64_t)slope * x >> SLOPE_Q);
            squares += (int64_t)off * off;
            sum += off;
            count++;
        }
    }
    return count > 0 ? (float)(squares - sum * sum / count) : 0.0F;
}

int32_t twi_slant_explain(const tw_detector *d, const twi_patch *patch, uint16_t row,
                          uint16_t column, const twi_cell_fit *fit, int32_t level)
{
    const float across = change_within(d, row, column, (step){.across = 1});
    const float down = change_within(d, row, column, (step){.down = 1});
    if (across == 0.0F && down == 0.0F) /* which is what they are set to */
        return level;
    const int32_t px = d->grid.cell_px;
    const plane by = {.gain = in_q(fit->gain, GAIN_Q),
                      .dx = in_q(fit->dx, GAIN_Q),
                      .dy = in_q(fit->dy, GAIN_Q),
                      .across = in_q(across / (float)(2 * px), SLOPE_Q),
                      .down = in_q(down / (float)(2 * px), SLOPE_Q),
                      .middle_x = px + 1, /* a patch has one pixel more at its left */
                      .middle_y = px - 1};
    const float squares = squares_left(patch, &by);
    return twi_lower(level, twi_log2_level(squares / fit->expected + 0.02F));
}
