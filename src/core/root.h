/* Square roots of whole numbers. */
#ifndef TWI_ROOT_H
#define TWI_ROOT_H

#include <stdint.h>

/* The largest whole number whose square is at most n; bit by bit. */
static inline uint32_t twi_root(uint64_t n)
{
    uint64_t result = 0, bit = UINT64_C(1) << 62;
    while (bit > n)
        bit >>= 2;
    for (; bit > 0; bit >>= 2) {
        if (n >= result + bit) {
            n -= result + bit;
            result = (result >> 1) + bit;
        } else {
            result >>= 1;
        }
    }
    return (uint32_t)result;
}

#endif
