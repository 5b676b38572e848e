/* The board's clock. */
#include <inttypes.h>
#include <stdio.h>
#include <sys/timex.h>
#include <time.h>
#include <unistd.h>

#include "linux.h"
#include "../../core/timing.h"
#include "tawny/port_linux.h"

enum { PATH_BYTES = 96, CLOCKS = 8 };

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

/* Microseconds since 1970 that a hardware clock shows. @return false: there is none. */
static bool read_hardware(const char *sys, int number, int64_t *us)
{
    int64_t s = 0;
    char path[PATH_BYTES];
    (void)snprintf(path, sizeof path, "%s/class/rtc/rtc%d/since_epoch", sys, number);
    FILE *in = fopen(path, "re");
    if (!in)
        return false;
    /* A clock that cannot be read has lost its power. */
    *us = fscanf(in, "%" SCNd64, &s) == 1 && s < INT32_MAX * INT64_C(1000) ? s * 1000000
                                                                           : 0;
    (void)fclose(in);
    return true;
}

bool twi_linux_clock_can_be_right(int64_t wall_us, bool synchronised, const char *sys)
{
    if (!twi_timing_can_be(wall_us))
        return false;
    if (synchronised)
        return true;
    bool any = false;
    for (int i = 0; i < CLOCKS; i++) {
        int64_t us = 0;
        if (!read_hardware(sys, i, &us))
            continue;
        any = true;
        if (twi_timing_can_be(us))
            return true;
    }
    char tree[PATH_BYTES];
    (void)snprintf(tree, sizeof tree, "%s/firmware/devicetree/base", sys);
    return !any && access(tree, F_OK) != 0;
}

/* Whether a server of time has set the kernel's clock, and it has not been lost since. */
static bool is_synchronised(void)
{
    struct timex t = {.modes = 0};
    return adjtimex(&t) >= 0 && !(t.status & STA_UNSYNC);
}

static bool trusted(void *ctx, int64_t wall)
{
    (void)ctx;
    return twi_linux_clock_can_be_right(
        wall,
        is_synchronised() || access("/run/systemd/timesync/synchronized", F_OK) == 0,
        "/sys");
}

static void sleep_until(void *ctx, int64_t t_us)
{
    (void)ctx;
    const struct timespec t = {(time_t)(t_us / 1000000), (long)(t_us % 1000000) * 1000};
    (void)clock_nanosleep(CLOCK_MONOTONIC, TIMER_ABSTIME, &t, NULL);
}

static void boot(void *ctx, char *out, size_t capacity)
{
    char word[64] = "";
    FILE *in = fopen("/proc/sys/kernel/random/boot_id", "re");
    (void)ctx;
    if (in) {
        if (fscanf(in, "%63s", word) != 1)
            word[0] = '\0';
        (void)fclose(in);
    }
    (void)snprintf(out, capacity, "%s", word);
}

tw_clock tw_linux_clock(void)
{
    static const tw_clock_ops ops = {sizeof ops, now_us,      wall_us, offset_s,
                                     trusted,    sleep_until, NULL,    boot};
    return (tw_clock){&ops, NULL};
}
