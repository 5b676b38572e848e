/* Structs of programs that may have been built with an older or newer version of the
 * headers: they begin with their size (see tawny/version.h). */
#ifndef TWI_SIZED_H
#define TWI_SIZED_H

#include <stddef.h>
#include <string.h>

/** Take a struct of a caller's into one of ours: as much of it as it has and we know, and
 * zeros for the rest; ours begins with its own size then.
 * @param given_size  0: that of version 0.1, which is still ours. */
static inline void twi_sized_take(void *own, size_t own_size, const void *given,
                                  size_t given_size)
{
    const size_t known = given_size == 0 || given_size > own_size ? own_size : given_size;
    memset(own, 0, own_size);
    memcpy(own, given, known);
    memcpy(own, &own_size, sizeof own_size);
}

/** Give a struct of ours to a caller: as much as he has room for, and zeros for what we
 * do not know; it begins with its size as he sees it. */
static inline void twi_sized_give(void *out, size_t out_size, const void *own,
                                  size_t own_size)
{
    const size_t known = out_size < own_size ? out_size : own_size;
    memset(out, 0, out_size);
    memcpy(out, own, known);
    if (out_size >= sizeof out_size)
        memcpy(out, &out_size, sizeof out_size);
}

/* Whether a table of functions of a caller's has a member. */
#define TWI_HAS(table, member)                                                           \
    ((table)->size == 0 ||                                                               \
     (const char *)(&(table)->member + 1) <= (const char *)(table) + (table)->size)

/* A caller's struct, whole, in one of ours of the same type. */
#define TWI_TAKE(own, given) twi_sized_take(&(own), sizeof(own), (given), (given)->size)

#endif
