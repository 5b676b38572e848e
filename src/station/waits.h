/* Waits by a clock of the port's, which something else may end. */
#ifndef TWI_WAITS_H
#define TWI_WAITS_H

#include "../base/thread.h"
#include "../core/sized.h"
#include "tawny/port.h"

/** @return when a span of a clock is over, for pthread_cond_timedwait on a condition of
 * twi_cond_init. */
static inline struct timespec twi_deadline_by(const tw_clock *clock, int64_t span_us)
{
    const tw_clock_ops *ops = clock->ops;
    const bool says = TWI_HAS(ops, lasts_us) && ops->lasts_us;
    return twi_deadline(says ? ops->lasts_us(clock->ctx, span_us) : span_us);
}

#endif
