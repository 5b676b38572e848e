/* The loops over pixels, not vectorised (the build says so), as a measure for the others.
 */
#include "kernels_loops.h"

static const tw_kernels KERNELS = {"c", add_pixels, slopes, fit, learn_noise, learn};

const tw_kernels *tw_kernels_c(void)
{
    return &KERNELS;
}
