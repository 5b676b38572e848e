/* Memory that holds what nobody may see: neither swapped out nor dumped. */
#include <errno.h>
#include <stdbool.h>
#include <stdio.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/resource.h>

#include "tawny/port_linux.h"

/* Of a list with a line for its heading. */
static bool has_swap(void)
{
    char line[256];
    int lines = 0;
    FILE *file = fopen("/proc/swaps", "re");
    if (!file)
        return true; /* who knows */
    while (lines < 2 && fgets(line, sizeof line, file))
        lines++;
    (void)fclose(file);
    return lines > 1;
}

/* What is allocated later must not fail for it: so all may be locked, or nothing is. */
static bool lock_all(void)
{
    struct rlimit limit = {0, 0};
    struct rlimit all = {RLIM_INFINITY, RLIM_INFINITY};
    (void)setrlimit(RLIMIT_MEMLOCK, &all); /* root may */
    if (getrlimit(RLIMIT_MEMLOCK, &limit) != 0 || limit.rlim_cur != RLIM_INFINITY)
        return false;
    return mlockall(MCL_CURRENT | MCL_FUTURE | MCL_ONFAULT) == 0;
}

tw_status tw_linux_keep_private(tw_error *err)
{
    const struct rlimit none = {0, 0};
    /* Core files that a program takes, as service managers have it, know no limit. */
    if (setrlimit(RLIMIT_CORE, &none) != 0 || prctl(PR_SET_DUMPABLE, 0, 0, 0, 0) != 0)
        return tw_fail(err, TW_EACCES, "core files cannot be switched off: %s",
                       strerror(errno));
    if (lock_all() || !has_swap())
        return TW_OK;
    return tw_fail(err, TW_EACCES,
                   "memory cannot be locked, so what is in private zones may be swapped "
                   "out: allow it (LimitMEMLOCK=infinity, ulimit -l unlimited), or "
                   "switch swap off");
}
