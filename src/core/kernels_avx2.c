/* The loops over pixels, for AVX2; built with -mavx2 and chosen only where the machine
 * has it. */
#include "kernels.h"

#if defined(__AVX2__)
#include "kernels_loops.h"

static const twi_kernels KERNELS = {"avx2", add_pixels, slopes, fit, learn_noise, learn};

const twi_kernels *twi_kernels_avx2(void)
{
    return &KERNELS;
}
#else
const twi_kernels *twi_kernels_avx2(void)
{
    return NULL;
}
#endif
