/* A wall clock that may be wrong. */
#include "timing.h"

#include <string.h>

enum {
    JUMP_US = 2000000, /* a clock that is kept in step by the network moves by less */
    LOOK_US = 1000000
};

/* What is stamped is written within this. */
static const int64_t LATE_US = INT64_C(86400000000);

static const int64_t FIRST_US = INT64_C(1577836800000000); /* 2020 */

bool twi_timing_can_be(int64_t wall_us)
{
    return wall_us >= FIRST_US;
}

static bool is_jump(int64_t us)
{
    return us > JUMP_US || us < -JUMP_US;
}

void twi_timing_begin(twi_timing *t, int64_t now_us, int64_t wall_us, bool trusted,
                      int64_t newest_order_us)
{
    if (!t)
        return;
    memset(t, 0, sizeof *t);
    const int64_t order = wall_us > newest_order_us ? wall_us : newest_order_us + 1;
    t->own.order_base_us = order - now_us;
    t->own.offset_us = wall_us - now_us;
    t->own.looked_us = now_us;
    t->own.unset = !trusted || !twi_timing_can_be(wall_us);
}

bool twi_timing_is_due(const twi_timing *t, int64_t now_us, int64_t wall_us)
{
    return t && (now_us - t->own.looked_us >= LOOK_US ||
                 is_jump(wall_us - now_us - t->own.offset_us));
}

unsigned twi_timing_sample(twi_timing *t, int64_t now_us, int64_t wall_us, bool trusted)
{
    if (!t)
        return 0;
    unsigned what = 0;
    const int64_t offset = wall_us - now_us;
    t->jump_us = offset - t->own.offset_us;
    const bool jumped = is_jump(t->jump_us), was_unset = t->own.unset;
    t->own.unset = !twi_timing_can_be(wall_us) || (was_unset && !trusted && !jumped);
    if (was_unset && !t->own.unset) {
        t->own.corrected = true;
        t->own.later_us = t->jump_us;
        t->own.between_us = wall_us - t->jump_us / 2;
        t->own.set_us = now_us;
        what = TWI_CLOCK_SET;
    } else if (!t->own.unset && jumped) {
        what = TWI_CLOCK_JUMPED;
    }
    t->own.offset_us = offset;
    t->own.looked_us = now_us;
    return what;
}

int64_t twi_timing_order(const twi_timing *t, int64_t at_wall_us)
{
    return t ? at_wall_us - t->own.offset_us + t->own.order_base_us : at_wall_us;
}

/* Whether a wall time was taken before the clock was set. */
static bool is_from_before(const twi_timing *t, int64_t wall_us)
{
    if (!t->own.corrected || !is_jump(t->own.later_us) ||
        t->own.looked_us - t->own.set_us > LATE_US)
        return false;
    if (t->own.later_us > 0)
        return wall_us < t->own.between_us;
    /* It was set back: what was taken before lies ahead of what the clock says now. */
    return wall_us > t->own.looked_us + t->own.offset_us - t->own.later_us / 2;
}

int64_t twi_timing_right(const twi_timing *t, int64_t wall_us, bool *right)
{
    if (!t || !right)
        return wall_us;
    *right = !t->own.unset;
    return is_from_before(t, wall_us) ? wall_us + t->own.later_us : wall_us;
}

bool twi_timing_is_set(const twi_timing *t)
{
    return !t || !t->own.unset;
}

bool twi_timing_is_corrected(const twi_timing *t)
{
    return t && t->own.corrected;
}

int64_t twi_timing_later(const twi_timing *t)
{
    return t && t->own.corrected ? t->own.later_us : 0;
}
