/* Attention: where a faint thing that is followed should be next, less is asked for. It
 * would be lost each time that a restless cell hides it, and begun anew. Only while
 * little else moves: among ripples there is always something to go on with. */
#include "detector_state.h"

enum { MILLION = 1000000, SIZE_MAX_PPM = 105000 /* about four cells */ };

static const int64_t CLUTTER_MAX = TWI_Q16(0.5), MASS_MAX = TWI_Q16(8),
                     RESTLESS_MAX = TWI_Q16(2.5);

static bool is_faint(const twi_track *t)
{
    return t->size <= SIZE_MAX_PPM && t->mass <= MASS_MAX && t->restless <= RESTLESS_MAX;
}

/* The cell in which it should be in the next frame, and those around it. */
static void expect_track(tw_detector *d, const twi_track *t)
{
    const int64_t cell = (int64_t)MILLION * d->grid.cell_px / d->config.width;
    const int64_t gone = d->age_us - t->seen_us + d->step_us;
    const int64_t column = (t->x + t->vx * gone / MILLION) / cell;
    const int64_t row = (t->y + t->vy * gone / MILLION) / cell;
    for (int64_t y = row - 1; y <= row + 1; y++)
        for (int64_t x = column - 1; x <= column + 1; x++)
            if (x >= 0 && y >= 0 && x < d->grid.columns && y < d->grid.rows)
                d->cell[y * d->grid.columns + x].predicted = true;
}

void twi_predict(tw_detector *d)
{
    for (uint32_t i = 0; i < d->cells; i++)
        d->cell[i].predicted = false;
    if (d->clutter[0] > CLUTTER_MAX)
        return;
    for (size_t k = 0; k < d->config.tracks; k++)
        if (d->track[k].used && is_faint(&d->track[k]))
            expect_track(d, &d->track[k]);
}
