/* Holds a table of loops over pixels against the plain ones, byte for byte. Needs nothing
 * but the core, so that it also runs where there is no test library. */
#ifndef TW_KERNEL_CHECK_H
#define TW_KERNEL_CHECK_H

#include "../../src/core/kernels.h"

/** @return NULL: all the same; else which loop differs. *width is set to the width of
 * the row that it was run with, 0: a patch of a cell. */
const char *kernel_check(const twi_kernels *kernels, size_t *width);

#endif
