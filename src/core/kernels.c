/* Which loops over pixels this machine can run. */
#include "kernels.h"

#include <stdbool.h>

static bool has_avx2(void)
{
#if defined(__x86_64__) || defined(__i386__)
    return __builtin_cpu_supports("avx2") != 0;
#else
    return false;
#endif
}

const tw_kernels *tw_kernels_at(size_t index)
{
    /* the best first; each that is not there is passed over */
    const tw_kernels *all[] = {has_avx2() ? tw_kernels_avx2() : NULL, tw_kernels_sse2(),
                               tw_kernels_neon(), tw_kernels_c()};
    for (size_t i = 0; i < sizeof all / sizeof *all; i++)
        if (all[i] && index-- == 0)
            return all[i];
    return NULL;
}
