/* Retention: captures that are too old or too much are dropped, and room is made on the
 * card. Runs in the writer's thread. */
#ifndef TWI_RETENTION_H
#define TWI_RETENTION_H

#include "writer.h"

/** Drop what is too old or too much, by the settings of each camera, and make room.
 * What cannot be dropped is told. */
void twi_retention_run(twi_writer *writer);

/** Look how much is free, and when the card will be full. */
void twi_retention_look(twi_writer *writer);

/** Make room, by dropping the oldest captures, for what the card is to have free and for
 * what the clips that run will need soon. */
void twi_retention_keep_free(twi_writer *writer);

/** Drop the oldest captures, of whatever camera, until so many bytes are gone, and then
 * more, as long as no destination waits for them.
 * @return whether any could be dropped. */
bool twi_retention_make_room(twi_writer *writer, uint64_t bytes, uint64_t more);

#endif
