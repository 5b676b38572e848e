/* Recovery: files and catalogue are made to agree. Runs in the writer's thread. */
#ifndef TWI_RECOVERY_H
#define TWI_RECOVERY_H

#include "writer.h"

/** After a power cut: remove or adopt half-written files, adopt captures that the
 * catalogue does not know, forget those whose file is gone. Says what was done. Before
 * anything is written. */
void twi_recovery_run(twi_writer *writer);

#endif
