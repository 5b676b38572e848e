/* A wall clock that may be wrong. */
#include "timing.h"

#include <string.h>

/* A clock that is kept in step by the network moves by less. */
enum { JUMP_US = 2000000 };

void twi_timing_begin(twi_timing *t, int64_t now_us, int64_t wall_us, bool trusted,
                      int64_t newest_order_us)
{
    if (!t)
        return;
    memset(t, 0, sizeof *t);
    const int64_t order = wall_us > newest_order_us ? wall_us : newest_order_us + 1;
    t->own.order_base_us = order - now_us;
    t->own.offset_us = wall_us - now_us;
    t->own.unset = !trusted;
}

unsigned twi_timing_sample(twi_timing *t, int64_t now_us, int64_t wall_us, bool trusted)
{
    if (!t)
        return 0;
    unsigned what = 0;
    const int64_t offset = wall_us - now_us;
    t->jump_us = offset - t->own.offset_us;
    if (t->own.unset && trusted) {
        t->own.corrected = true;
        t->own.later_us = t->jump_us;
        what = TWI_CLOCK_SET;
    } else if (trusted && (t->jump_us > JUMP_US || t->jump_us < -JUMP_US)) {
        what = TWI_CLOCK_JUMPED;
    }
    /* Set wrongly again, it is as good as never set. */
    t->own.unset = !trusted;
    t->own.offset_us = offset;
    return what;
}

int64_t twi_timing_order(const twi_timing *t, int64_t at_wall_us)
{
    return t ? at_wall_us - t->own.offset_us + t->own.order_base_us : at_wall_us;
}

int64_t twi_timing_right(const twi_timing *t, int64_t wall_us, bool *trusted)
{
    if (!t || !trusted || *trusted || !t->own.corrected)
        return wall_us;
    *trusted = true;
    return wall_us + t->own.later_us;
}

int64_t twi_timing_later(const twi_timing *t)
{
    return t && t->own.corrected ? t->own.later_us : 0;
}
