/* The board's clock. */
#include <time.h>

#include "tawny/port_linux.h"

static int64_t read_clock(clockid_t id)
{
    struct timespec t;
    (void)clock_gettime(id, &t);
    return (int64_t)t.tv_sec * 1000000 + t.tv_nsec / 1000;
}

static int64_t now_us(void *ctx)
{
    (void)ctx;
    return read_clock(CLOCK_MONOTONIC);
}

static int64_t wall_us(void *ctx)
{
    (void)ctx;
    return read_clock(CLOCK_REALTIME);
}

static int32_t offset_s(void *ctx, int64_t wall)
{
    (void)ctx;
    const time_t t = (time_t)(wall / 1000000);
    struct tm local;
    if (!localtime_r(&t, &local))
        return 0;
    return (int32_t)local.tm_gmtoff;
}

/* 2020 began long before the first board ran this, and long after 1970 and 2000, where
 * clocks without a battery begin. */
static bool trusted(void *ctx, int64_t wall)
{
    (void)ctx;
    return wall >= INT64_C(1577836800000000);
}

static void sleep_until(void *ctx, int64_t t_us)
{
    (void)ctx;
    const struct timespec t = {(time_t)(t_us / 1000000), (long)(t_us % 1000000) * 1000};
    (void)clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &t, NULL);
}

tw_clock tw_linux_clock(void)
{
    static const tw_clock_ops ops = {sizeof ops, now_us,      wall_us, offset_s,
                                     trusted,    sleep_until, NULL};
    return (tw_clock){&ops, NULL};
}
