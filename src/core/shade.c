/* The edge of a shadow, or of a fleck of sun, within a cell: no gain explains it, as the
 * cell has two. But cells beside it lie in the shadow and in the light with all they
 * have, so the gains that are possible are known; and the ground shows through: with the
 * gain of its nearest surroundings, within those bounds, each pixel is what it was. What
 * covers the ground does not show it, and is not explained; nor is anything where the
 * ground has no texture that noise would leave to be seen. */
#include "detector_state.h"

enum {
    GAIN_Q = 12,
    DARK = 2 << 2,     /* levels Q2, added to both: a ratio of black is chance */
    APART_PCT = 112,   /* the higher gain, of the lower: less is no edge */
    TOLERANCE_PCT = 5, /* by which gains may be off what is told */
};

/* Gains between which the light may be, Q12. */
typedef struct bounds {
    int32_t low, high;
} bounds;

static bool is_explained(const tw_detector *d, int32_t row, int32_t column)
{
    return d->nearby[row * d->grid.columns + column].explained;
}

/* The gains of the cells around one that light explains whole. @return whether there is
 * an edge between them. */
static bool told_around(const tw_detector *d, int32_t row, int32_t column, bounds *out)
{
    float low = 0.0F, high = 0.0F;
    for (int32_t r = row - 1; r <= row + 1; r++) {
        for (int32_t c = column - 1; c <= column + 1; c++) {
            const float ratio = twi_ratio_at(d, r, c);
            if (ratio <= 0.0F || !is_explained(d, r, c))
                continue;
            low = low <= 0.0F || ratio < low ? ratio : low;
            high = ratio > high ? ratio : high;
        }
    }
    const float one = (float)(1 << GAIN_Q) / 100.0F;
    *out = (bounds){(int32_t)(low * one * (100 - TOLERANCE_PCT)),
                    (int32_t)(high * one * (100 + TOLERANCE_PCT))};
    return low > 0.0F && high * 100.0F >= low * APART_PCT;
}

/* Sums of a pixel and those beside it, in the cell. */
typedef struct around {
    int32_t x, y, count;
} around;

static around sum_around(const twi_patch *p, size_t row, size_t column)
{
    const uint16_t *background = p->background + p->row;
    const size_t rows = p->count / p->row;
    around sum = {0, 0, 0};
    for (size_t r = row > 0 ? row - 1 : 0; r <= row + 1 && r < rows; r++) {
        for (size_t c = column - 1; c <= column + 1 && c < p->row; c++) {
            const size_t i = r * p->row + c;
            const int32_t counted = p->inside[i]; /* all ones, or none */
            sum.x += ((background[i] >> 6) + DARK) & counted;
            sum.y += ((p->frame[i] << 2) + DARK) & counted;
            sum.count -= counted;
        }
    }
    return sum;
}

static int32_t held_within(int64_t gain, const bounds *by)
{
    return (int32_t)(gain < by->low ? by->low : gain > by->high ? by->high : gain);
}

/* Squares over a cell, Q4. */
typedef struct squares {
    int64_t texture; /* of the background, about the mean of each pixel's surroundings */
    int64_t left;    /* when each pixel has the gain of its surroundings */
} squares;

static squares sum_squares(const twi_patch *p, const bounds *by)
{
    const uint16_t *background = p->background + p->row;
    squares out = {0, 0};
    for (size_t row = 0; row < p->count / p->row; row++) {
        for (size_t column = 1; column < p->row; column++) {
            const size_t i = row * p->row + column;
            if (!p->inside[i])
                continue;
            const around sum = sum_around(p, row, column);
            const int32_t gain = held_within(((int64_t)sum.y << GAIN_Q) / sum.x, by);
            const int64_t x = (background[i] >> 6) + DARK;
            const int64_t off = (p->frame[i] << 2) + DARK - ((x * gain) >> GAIN_Q);
            const int64_t high = x - sum.x / sum.count;
            out.texture += high * high;
            out.left += off * off;
        }
    }
    return out;
}

static void explain(tw_detector *d, const tw_luma *luma, uint16_t row, uint16_t column)
{
    bounds by;
    twi_patch patch;
    const uint32_t index = (uint32_t)row * d->grid.columns + column;
    twi_cell *cell = &d->cell[index];
    if (!told_around(d, row, column, &by))
        return;
    twi_patch_take(d, luma, row, column, &patch);
    const float expected = d->nearby[index].expected;
    const squares sum = sum_squares(&patch, &by);
    const int32_t level = twi_log2_level((float)sum.left / expected + 0.02F);
    if ((float)sum.texture < expected || level > cell->limit || level > cell->level)
        return;
    cell->level = level;
    cell->seed = cell->over_high = false;
    cell->flags = (uint8_t)((cell->flags & ~TW_CELL_MOVING) | TW_CELL_LIGHT);
}

/* What moves by its brightness against the place; what a subject has is its own. */
static bool may_be_an_edge(const tw_detector *d, uint32_t index)
{
    const twi_cell *c = &d->cell[index];
    return (c->flags & TW_CELL_MOVING) && !c->unlike && !c->coloured && !c->counted &&
           d->nearby[index].expected > 0.0F;
}

void twi_shade_explain(tw_detector *d, const tw_luma *luma)
{
    if (!d->nearby || !d->config.light_guard || d->falling)
        return;
    for (uint16_t row = 0; row < d->grid.rows; row++)
        for (uint16_t column = 0; column < d->grid.columns; column++)
            if (may_be_an_edge(d, (uint32_t)row * d->grid.columns + column))
                explain(d, luma, row, column);
}
