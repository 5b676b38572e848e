/* Learning: the background, the noise, and what has come to stay. */
#include <string.h>

#include "detector_state.h"

enum {
    US = 1000000,
    NOISE_MEMORY_S = 60,
    NOISE_RATE_MAX = 1024, /* a quarter, Q12 */
    RATE_MAX = 16384,      /* a quarter, Q16 */
    ABSORB_RATE = 13107,   /* a fifth, Q16 */
    ABSORB_FRAMES = 12,
    ABSORB_AFTER = 20 * US / TWI_STILL_UNIT_US,
    SAME_WITHIN = 2 * 256 /* levels Q8, plus 0.6 of the noise */
};

/* Share of the difference that is learned in this frame, Q16: a plain mean at the start,
 * then exponential forgetting. */
static uint32_t background_rate(const tw_detector *d)
{
    const uint64_t forget = (uint64_t)d->step_us * 65536 / (uint64_t)d->config.memory_us;
    const uint64_t mean = 65536 / ((uint64_t)d->frames + 1);
    const uint64_t rate = forget > mean ? forget : mean;
    return (uint32_t)(rate > RATE_MAX ? RATE_MAX : rate);
}

/* While the mean is still being made, moving cells learn like the others: what moves then
 * may be the place itself, seen for the first time. */
static uint32_t cell_rate(const tw_detector *d, twi_cell *cell, uint32_t usual,
                          bool young)
{
    if (d->age_us < d->turned_until_us && d->scene == TW_LIGHTS_MAX)
        return RATE_MAX; /* by a light that was known before there is less to learn */
    if (cell->absorb > 0) {
        cell->absorb--;
        return ABSORB_RATE;
    }
    if ((cell->flags & TW_CELL_MOVING) && !young)
        return usual / 10;
    return usual;
}

void twi_learn_background_row(tw_detector *d, const tw_luma *luma, uint16_t row)
{
    const uint32_t usual = background_rate(d), width = d->config.width;
    const bool young = d->age_us < TWI_ALL_FITTED_US;
    for (uint16_t column = 0; column < d->grid.columns; column++) {
        const uint32_t index = (uint32_t)row * d->grid.columns + column;
        const uint32_t rate = cell_rate(d, &d->cell[index], usual, young);
        twi_colour_learn(d, index, rate);
        const uint32_t left = (uint32_t)column * d->grid.cell_px;
        /* Pixels past the last cell learn with it: its slopes reach into them. */
        const bool last = column + 1 == d->grid.columns;
        const uint32_t right = last ? width : left + d->grid.cell_px;
        for (uint32_t x = left; x < right; x++)
            d->column.rate[x] = (uint16_t)rate;
    }
    const uint32_t first = (uint32_t)row * d->grid.cell_px;
    const bool lowest = row + 1 == d->grid.rows;
    const uint32_t end = lowest ? d->config.height : first + d->grid.cell_px;
    for (uint32_t y = first; y < end; y++)
        d->kernels->learn(d->background + (size_t)y * width,
                          luma->px + (size_t)y * luma->stride, d->column.rate, width);
}

/* Q12, for one of the frames in which a cell is fitted. */
void twi_learn_set_pace(tw_detector *d)
{
    const bool all = d->age_us < TWI_ALL_FITTED_US;
    uint64_t rate = (uint64_t)d->step_us * 4096 / ((uint64_t)NOISE_MEMORY_S * US) + 1;
    const uint64_t mean = 4096 / ((uint64_t)d->frames + 1);
    rate = rate > mean ? rate : mean;
    rate *= all ? 1 : TWI_FIT_EVERY;
    d->pace.noise = (int32_t)(rate > NOISE_RATE_MAX ? NOISE_RATE_MAX : rate);
}

/* Pixels at the sides of a patch belong to other cells, or to none: their noise is not
 * put back. */
void twi_learn_noise(tw_detector *d, const twi_patch *patch, uint16_t row,
                     uint16_t column, const twi_cell_fit *fit)
{
    const uint32_t width = d->config.width, cell = d->grid.cell_px;
    const uint32_t left = (uint32_t)column * cell, top = (uint32_t)row * cell;
    const size_t first = (size_t)top * width + left,
                 count = twi_column_end(d, column) - left;
    const twi_noise_step by = {.gain = (int32_t)(fit->gain * 256.0F),
                               .dx = (int32_t)(fit->dx * 256.0F),
                               .dy = (int32_t)(fit->dy * 256.0F),
                               .offset = (int32_t)(fit->offset * 64.0F),
                               .rate = d->pace.noise,
                               .seed = d->frames * 1103515245U +
                                       (uint32_t)first * TWI_NOISE_HASH};
    uint8_t noise[TWI_PATCH_MAX] = {0};
    uint8_t *rows = d->noise + first;
    for (size_t at = 0; at < patch->count; at += patch->row, rows += width)
        memcpy(noise + at + 1, rows, count);
    d->kernels->learn_noise(noise, patch, &by);
    rows = d->noise + first;
    for (size_t at = 0; at < patch->count; at += patch->row, rows += width)
        memcpy(rows, noise + at + 1, count);
}

static int32_t distance(int32_t a, int32_t b)
{
    return a < b ? b - a : a - b;
}

void twi_learn_what_stays(tw_detector *d, twi_cell *cell, const twi_cell_sums *sums)
{
    const int32_t noise_q8 = sums->n > 0 ? sums->noise * 16 / sums->n : 0;
    const int32_t within = SAME_WITHIN + noise_q8 * 6 / 10;
    int32_t mean[TWI_QUADRANTS];
    bool same = true;
    for (int k = 0; k < TWI_QUADRANTS; k++) {
        mean[k] = sums->quadrant_px[k] > 0
                      ? sums->quadrant[k] * 256 / sums->quadrant_px[k]
                      : cell->quadrant[k];
        same = same && distance(mean[k], cell->quadrant[k]) <= within;
    }
    for (int k = 0; k < TWI_QUADRANTS; k++) {
        const int32_t step =
            same ? (mean[k] - cell->quadrant[k]) / 50 : mean[k] - cell->quadrant[k];
        cell->quadrant[k] = (uint16_t)(cell->quadrant[k] + step);
    }
    const int32_t step = (d->step_us + TWI_STILL_UNIT_US / 2) / TWI_STILL_UNIT_US;
    if (!same) {
        cell->still = 0;
    } else if (!(cell->flags & TW_CELL_MOVING)) {
        /* Counting down, not to zero: a faint subject is not over its limit all the time.
         */
        cell->still = (uint16_t)(cell->still > 4 * step ? cell->still - 4 * step : 0);
    } else if (cell->still < 10 * ABSORB_AFTER) {
        cell->still = (uint16_t)(cell->still + step);
    }
    if ((cell->flags & TW_CELL_MOVING) && cell->still > ABSORB_AFTER)
        cell->absorb = ABSORB_FRAMES;
}
