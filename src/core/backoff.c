/* Waiting before trying again. */
#include "backoff.h"

enum { DOUBLINGS_MAX = 40 };

int64_t twi_backoff_next(twi_backoff *b)
{
    if (!b || b->least_us <= 0)
        return 0;
    int64_t wait = b->least_us;
    for (uint32_t i = 0; i < b->tries && i < DOUBLINGS_MAX && wait < b->most_us; i++)
        wait *= 2;
    if (wait > b->most_us)
        wait = b->most_us;
    b->tries++;
    b->seed = b->seed * 1664525U + 1013904223U;
    const int64_t chance = (int64_t)(b->seed >> 16) - 32768; /* about zero */
    return wait + wait / 131072 * chance; /* a quarter of it, times -1 to 1 */
}

void twi_backoff_reset(twi_backoff *b)
{
    if (b)
        b->tries = 0;
}
