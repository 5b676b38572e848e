/* The loops over pixels, for SSE2, which every x86-64 machine has. */
#include "kernels.h"

#if defined(__SSE2__)
#include "kernels_loops.h"

static const twi_kernels KERNELS = {"sse2", add_pixels, slopes, fit, learn_noise, learn};

const twi_kernels *twi_kernels_sse2(void)
{
    return &KERNELS;
}
#else
const twi_kernels *twi_kernels_sse2(void)
{
    return NULL;
}
#endif
