/* The loops over pixels, for NEON, which every 64-bit ARM machine has. */
#include "kernels.h"

#if defined(__ARM_NEON)
#include "kernels_loops.h"

static const twi_kernels KERNELS = {"neon", add_pixels, slopes, fit, learn_noise, learn};

const twi_kernels *twi_kernels_neon(void)
{
    return &KERNELS;
}
#else
const twi_kernels *twi_kernels_neon(void)
{
    return NULL;
}
#endif
