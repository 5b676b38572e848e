/* What is gone a tenth of a second later is a drop, a flake or a glint, and does not
 * count; but something quick leaves its cells as soon. It is told by its size: many cells
 * side by side, all of them calm but for it. */
#include "detector_state.h"

enum {
    AROUND_MIN = 5, /* of the nine cells around one, itself included */
    SHARE_MAX = 4   /* more than one cell in so many is light that flashes */
};

static bool is_large(const tw_detector *d, int row, int column)
{
    int count = 0;
    for (int y = row - 1; y <= row + 1; y++)
        for (int x = column - 1; x <= column + 1; x++)
            if (y >= 0 && x >= 0 && y < d->grid.rows && x < d->grid.columns)
                count += d->cell[y * d->grid.columns + x].fast;
    return count >= AROUND_MIN;
}

static uint32_t count_fast(const tw_detector *d)
{
    uint32_t count = 0;
    for (uint32_t i = 0; i < d->cells; i++)
        count += d->cell[i].fast;
    return count;
}

static void let_move(twi_cell *cell)
{
    cell->flags = (uint8_t)((cell->flags & TW_CELL_WATCHED) | TW_CELL_MOVING);
    cell->level = cell->limit + TWI_FAST_ABOVE;
    cell->seed = true;
}

void twi_fast_find(tw_detector *d)
{
    const uint32_t count = count_fast(d);
    if (count < AROUND_MIN || count * SHARE_MAX > d->cells)
        return;
    for (uint32_t i = 0; i < d->cells; i++)
        if (d->cell[i].fast &&
            is_large(d, (int)i / d->grid.columns, (int)i % d->grid.columns))
            let_move(&d->cell[i]);
}
