/* Times of what was captured before the clock was set. Runs in the writer's thread. */
#ifndef TWI_TIMES_H
#define TWI_TIMES_H

#include "writer.h"

/** Look whether the clock has been set, or jumped. What was captured before it was set is
 * given its right time then: in the catalogue, in names and in EXIF. */
void twi_times_check(twi_writer *writer);

/** Give what has been stored since, or could not be put right then, its right time: a
 * file may have its name from before the clock was set. Costs nothing if it never was
 * unset. */
void twi_times_put_right(twi_writer *writer);

#endif
