/* Recorded footage whose beginning is shown several times first, so that a detector knows
 * the place. */
#ifndef TWI_CLI_PRIME_H
#define TWI_CLI_PRIME_H

#include "common.h"

/** How much later footage comes whose first so many microseconds, > 0, are shown first.
 */
int64_t cli_prime_lead(int64_t beginning_us);

/** A source for cli_prime_make: its first so many microseconds, > 0, are quiet, and are
 * shown for 12 s and more before all comes in its order, cli_prime_lead later. Of footage
 * without packets nothing is shown, and it comes no later. g_free it. */
char *cli_prime_source(const char *source, int64_t beginning_us);

/** A tw_camera_make_fn for such a source; what lies in it is opened by the commands' own
 * makers. */
tw_status cli_prime_make(const tw_camera_request *request, tw_camera *out, tw_error *err);

#endif
