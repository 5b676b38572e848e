/* Which loops over pixels this machine can run. */
#include "kernels.h"

#include <stdbool.h>
#ifdef TWI_ASK_FOR_NEON
#include <sys/auxv.h>
#endif

static bool has_avx2(void)
{
#if defined(__x86_64__) || defined(__i386__)
    return __builtin_cpu_supports("avx2") != 0;
#else
    return false;
#endif
}

/* 64-bit ARM machines always have it; of 32-bit ones with Linux some have not. */
static bool has_neon(void)
{
#ifdef TWI_ASK_FOR_NEON
    enum { HWCAP_OF_NEON = 1 << 12 };
    return (getauxval(AT_HWCAP) & HWCAP_OF_NEON) != 0;
#else
    return true;
#endif
}

const twi_kernels *twi_kernels_at(size_t index)
{
    /* the best first; each that is not there is passed over */
    const twi_kernels *all[] = {has_avx2() ? twi_kernels_avx2() : NULL,
                                twi_kernels_sse2(),
                                has_neon() ? twi_kernels_neon() : NULL, twi_kernels_c()};
    for (size_t i = 0; i < sizeof all / sizeof *all; i++)
        if (all[i] && index-- == 0)
            return all[i];
    return NULL;
}
