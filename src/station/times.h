/* Times of what was captured before the clock was set. Runs in the writer's thread. */
#ifndef TWI_TIMES_H
#define TWI_TIMES_H

#include "writer.h"

/** Look whether the clock has been set, or jumped. What was captured before it was set is
 * given its right time then: in the catalogue, in names and in EXIF. */
void twi_times_check(twi_writer *writer);

#endif
