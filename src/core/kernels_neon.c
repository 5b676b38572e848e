/* The loops over pixels, for NEON: every 64-bit ARM machine has it, most 32-bit ones do.
 */
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
