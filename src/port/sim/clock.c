/* The virtual clock. */
#include "tawny/port_sim.h"

static int64_t now_us(void *ctx)
{
    return ((const tw_sim_time *)ctx)->now_us;
}

static int64_t wall_us(void *ctx)
{
    const tw_sim_time *time = ctx;
    return time->wall_at_zero_us + time->now_us;
}

static int32_t offset_s(void *ctx, int64_t wall)
{
    (void)wall;
    return ((const tw_sim_time *)ctx)->offset_s;
}

static bool trusted(void *ctx, int64_t wall)
{
    return wall >= ((const tw_sim_time *)ctx)->sure_from_us;
}

static void sleep_until(void *ctx, int64_t t_us)
{
    tw_sim_time *time = ctx;
    if (t_us > time->now_us)
        time->now_us = t_us;
}

tw_clock tw_sim_clock(tw_sim_time *time)
{
    static const tw_clock_ops ops = {sizeof ops, now_us,      wall_us, offset_s,
                                     trusted,    sleep_until, NULL,    NULL};
    return (tw_clock){&ops, time};
}
