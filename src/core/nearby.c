/* What is nearby: leaves, ripples and flecks of sun only rearrange what is there already.
 * A pixel that, once light is explained, is darker or brighter than all of the background
 * about it is none of them; so a cell with many such pixels moves although it is
 * restless. */
#include "detector_state.h"

enum {
    REACH_MAX = 7, /* pixels to each side */
    ROWS_MAX = TWI_PATCH_ROWS_MAX + 2 * REACH_MAX,
    ROW_MAX = TWI_CELL_MAX_PX,
    LINE_MAX = ROW_MAX + 2 * REACH_MAX
};

static const int32_t LEVEL_LEAST = TWI_LEVEL(2.5);
static const int32_t LEVEL_CALM = TWI_LEVEL(-1.0);

/* A cell's pixels, and how far to look around each: a quarter of the cell, which is two
 * pixels in a picture of 320. */
typedef struct place {
    int32_t left, top, width, height, reach;
} place;

/* The least and the most about each pixel, Q2. */
typedef struct range {
    int16_t least[ROWS_MAX][ROW_MAX], most[ROWS_MAX][ROW_MAX];
} range;

static place place_of(const tw_detector *d, uint16_t row, uint16_t column)
{
    const int32_t px = d->grid.cell_px, reach = (px + 2) / 4;
    return (place){.left = column * px,
                   .top = row * px,
                   .width = (int32_t)twi_column_end(d, column) - column * px,
                   .height = (int32_t)twi_row_end(d, row) - row * px,
                   .reach = reach > REACH_MAX ? REACH_MAX : reach};
}

static int32_t within(int32_t value, int32_t end)
{
    return value < 0 ? 0 : value < end ? value : end - 1;
}

/* One row of the background, Q2; the picture's edge is repeated. */
static void take_line(const tw_detector *d, const place *p, int32_t y, int16_t *line)
{
    const int32_t width = d->config.width;
    const uint16_t *from =
        d->background + (size_t)within(y, d->config.height) * d->config.width;
    for (int32_t i = 0; i < p->width + 2 * p->reach; i++)
        line[i] = (int16_t)(from[within(p->left - p->reach + i, width)] >> 6);
}

/* Least and most of two rows, kept in the first. */
static void spread(int16_t *restrict least, int16_t *restrict most,
                   const int16_t *restrict less, const int16_t *restrict more,
                   int32_t count)
{
    for (int32_t i = 0; i < count; i++) {
        least[i] = less[i] < least[i] ? less[i] : least[i];
        most[i] = more[i] > most[i] ? more[i] : most[i];
    }
}

/* Across first, then down: least and most are separable. */
static void find_range(const tw_detector *d, const place *p, range *r)
{
    int16_t line[LINE_MAX] = {0};
    for (int32_t y = 0; y < p->height + 2 * p->reach; y++) {
        take_line(d, p, p->top - p->reach + y, line);
        for (int32_t i = 0; i < p->width; i++)
            r->least[y][i] = r->most[y][i] = line[i];
        for (int32_t k = 1; k <= 2 * p->reach; k++)
            spread(r->least[y], r->most[y], line + k, line + k, p->width);
    }
    for (int32_t y = 0; y < p->height; y++)
        for (int32_t k = 1; k <= 2 * p->reach; k++)
            spread(r->least[y], r->most[y], r->least[y + k], r->most[y + k], p->width);
}

/* Squares of what lies outside of the range, Q2; white says nothing.
 * @param gain    Q8.
 * @param offset  Q2. */
static int64_t squares_outside(const tw_detector *d, const tw_luma *luma, const place *p,
                               const range *r, int32_t gain, int32_t offset)
{
    int64_t squares = 0;
    for (int32_t y = 0; y < p->height; y++) {
        const size_t row = (size_t)p->top + (size_t)y;
        const uint8_t *frame = luma->px + row * luma->stride + p->left;
        const uint16_t *background = d->background + row * d->config.width + p->left;
        for (int32_t i = 0; i < p->width; i++) {
            if (frame[i] >= TWI_CLIPPED_HI || background[i] >> 8 >= TWI_CLIPPED_HI)
                continue;
            const int32_t value = frame[i] << 2;
            const int32_t least = (gain * r->least[y][i] >> 8) + offset;
            const int32_t most = (gain * r->most[y][i] >> 8) + offset;
            const int32_t off = value < least  ? least - value
                                : value > most ? value - most
                                               : 0;
            squares += off * off;
        }
    }
    return squares;
}

static int32_t measure(const tw_detector *d, const tw_luma *luma, uint16_t row,
                       uint16_t column, const twi_cell_fit *fit)
{
    const place p = place_of(d, row, column);
    range r = {{{0}}, {{0}}};
    find_range(d, &p, &r);
    const int64_t squares = squares_outside(
        d, luma, &p, &r, (int32_t)(fit->gain * 256.0F), (int32_t)fit->middle);
    return twi_log2_level((float)squares / fit->expected + 0.02F);
}

void twi_nearby_judge(tw_detector *d, const tw_luma *luma, uint16_t row, uint16_t column,
                      const twi_cell_fit *fit)
{
    const size_t index = (size_t)row * d->grid.columns + column;
    twi_cell *cell = &d->cell[index];
    cell->unlike = false;
    if (!d->nearby)
        return;
    const int32_t level =
        fit ? measure(d, luma, row, column, fit) : twi_log2_level(0.02F);
    const int32_t above = twi_witness_hear(d, cell, &d->nearby[index].witness, level,
                                           LEVEL_LEAST, LEVEL_CALM);
    cell->unlike = above > 0 && cell->level <= cell->limit;
    if (above > 0 && above > cell->level - cell->limit)
        cell->level = cell->limit + above;
}

void twi_nearby_settle(tw_detector *d, uint32_t index, bool stays)
{
    twi_cell *cell = &d->cell[index];
    if (!d->nearby)
        return;
    if (cell->label == 0 && !(cell->flags & TW_CELL_MOVING))
        d->nearby[index].still = cell->q98;
    else if (stays)
        cell->q98 = twi_lower(cell->q98, d->nearby[index].still);
}
