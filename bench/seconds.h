/* The time that benches measure by. */
#ifndef TWI_BENCH_SECONDS_H
#define TWI_BENCH_SECONDS_H

#include <time.h>

static inline double seconds(void)
{
    struct timespec t;
    (void)clock_gettime(CLOCK_MONOTONIC, &t);
    return (double)t.tv_sec + (double)t.tv_nsec / 1e9;
}

#endif
