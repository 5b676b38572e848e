/* Second witnesses: what else is known of a cell, each with usual levels of its own. */
#include "detector_state.h"

/* As the level of brightness: what is gone at once does not count. */
static int32_t lasting(const tw_detector *d, twi_witness *w, int32_t measured)
{
    const int32_t before = w->past[d->past], older = w->past[!d->past];
    if (d->sampling)
        w->past[!d->newest] = measured;
    return twi_level_that_lasts(d, measured, before, older);
}

static void track_usual(const tw_detector *d, const twi_cell *cell, twi_witness *w,
                        int32_t level, int32_t calm)
{
    const int32_t up = d->pace.up / twi_teaches(cell), down = d->pace.down;
    const int32_t half = (d->pace.up + down) / 2;
    w->q50 += level > w->q50 ? half : -half;
    w->q98 += level > w->q98 ? up : -down;
    w->q50 = w->q50 < calm ? calm : w->q50;
    w->q98 = w->q98 < calm ? calm : w->q98;
}

int32_t twi_witness_hear(const tw_detector *d, const twi_cell *cell, twi_witness *w,
                         int32_t measured, int32_t least, int32_t calm)
{
    const int32_t level = lasting(d, w, measured);
    const int32_t own = twi_limit_of(w->q98, w->q50);
    track_usual(d, cell, w, level, calm);
    return level - (own > least ? own : least);
}
