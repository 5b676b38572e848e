/* Intervals of the clock. */
#include "interval.h"

bool twi_interval_due(twi_interval *interval, int64_t wall_us, int64_t every_us)
{
    if (!interval || every_us <= 0)
        return false;
    const int64_t number = wall_us / every_us;
    const bool anew = !interval->any || number < interval->last - 1;
    if (!anew && number <= interval->last)
        return false;
    interval->any = true;
    interval->last = number;
    return !anew;
}
