/* Keeping the store in order: room on the card, and agreement between files and
 * catalogue. Runs in the writer's thread. */
#ifndef TWI_UPKEEP_H
#define TWI_UPKEEP_H

#include "writer.h"

/** Drop what is too old or too much, by the settings of each camera, and make room.
 * What cannot be dropped is told. */
void twi_upkeep(twi_writer *writer);

/** Make room, by dropping the oldest captures, for what the card is to have free and for
 * what the clips that run will need soon. */
void twi_upkeep_keep_free(twi_writer *writer);

/** Look whether the clock has been set, or jumped. What was captured before it was set is
 * given its right time then: in the catalogue, in names and in EXIF. */
void twi_upkeep_clock(twi_writer *writer);

/** Drop the oldest captures, of whatever camera, until so many bytes are gone, and then
 * more, as long as no destination waits for them.
 * @return whether any could be dropped. */
bool twi_upkeep_make_room(twi_writer *writer, uint64_t bytes, uint64_t more);

/** After a power cut: remove or adopt half-written files, adopt captures that the
 * catalogue does not know, forget those whose file is gone. Says what was done. Before
 * anything is written. */
void twi_upkeep_mend(twi_writer *writer);

#endif
