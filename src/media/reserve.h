/* Buffers that are kept from picture to picture. */
#ifndef TWI_RESERVE_H
#define TWI_RESERVE_H

#include <stdbool.h>
#include <stdint.h>
#include <stdlib.h>

/** Have room for so many bytes in a buffer of malloc(); what is in it is lost where it
 * has to grow. @return false: out of memory, and the buffer is empty. */
static inline bool twi_reserve(uint8_t **buffer, size_t *have, size_t need)
{
    if (*have >= need)
        return true;
    free(*buffer);
    *buffer = malloc(need);
    *have = *buffer ? need : 0;
    return *buffer != NULL;
}

#endif
