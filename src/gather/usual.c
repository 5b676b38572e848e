/* When silence is an alarm: what is usual differs from a board on the mains to one that
 * wakes once a day. */
#include "ledger.h"

enum { WANES = 16, GROWS = 2 };

int64_t twi_usual_next(int64_t usual_us, int64_t since_us)
{
    const int64_t least = TWI_USUAL_LEAST_US;
    if (usual_us < least)
        usual_us = least;
    if (since_us <= usual_us)
        usual_us -= (usual_us - since_us) / WANES;
    else
        usual_us = since_us < usual_us * GROWS ? since_us : usual_us * GROWS;
    return usual_us < least ? least : usual_us;
}

bool twi_usual_is_silent(int64_t usual_us, int64_t since_us)
{
    if (usual_us < TWI_USUAL_LEAST_US)
        usual_us = TWI_USUAL_LEAST_US;
    return since_us > usual_us + usual_us / 2;
}
