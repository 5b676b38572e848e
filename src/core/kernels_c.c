/* The loops over pixels, not vectorised (the build says so), as a measure for the others.
 */
#include "kernels_loops.h"

static const twi_kernels KERNELS = {"c", add_pixels, slopes, fit, learn_noise, learn};

const twi_kernels *twi_kernels_c(void)
{
    return &KERNELS;
}
