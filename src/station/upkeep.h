/* Keeping the store in order: room on the card, and agreement between files and
 * catalogue. Runs in the writer's thread. */
#ifndef TW_UPKEEP_H
#define TW_UPKEEP_H

#include "writer.h"

/** Drop what is too old or too much, by the settings of each camera, and make room.
 * What cannot be dropped is told. */
void tw_upkeep(tw_writer *writer);

/** Make room, by dropping the oldest captures, for what the card is to have free and for
 * what the clips that run will need soon. */
void tw_upkeep_keep_free(tw_writer *writer);

/** Look whether the clock has been set, or jumped. What was captured before it was set is
 * given its right time then: in the catalogue, in names and in EXIF. */
void tw_upkeep_clock(tw_writer *writer);

/** Drop the oldest captures, of whatever camera, until so many bytes are gone, and then
 * more, as long as no destination waits for them.
 * @return whether any could be dropped. */
bool tw_upkeep_make_room(tw_writer *writer, uint64_t bytes, uint64_t more);

/** After a power cut: remove or adopt half-written files, adopt captures that the
 * catalogue does not know, forget those whose file is gone. Says what was done. Before
 * anything is written. */
void tw_upkeep_mend(tw_writer *writer);

#endif
