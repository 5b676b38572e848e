/* Many captures as one ZIP file, made while it is read: no more of it is in memory than a
 * part of one capture. */
#ifndef TWI_STATION_PACK_H
#define TWI_STATION_PACK_H

#include <stddef.h>
#include <stdint.h>

#include "tawny/catalogue.h"
#include "tawny/error.h"

/* One thread at a time. */
typedef struct twi_pack twi_pack;

/** @param store  Folder of the captures; copied.
 * @return TW_OK: *out is the caller's; TW_ENOTSUP: a module is missing; TW_ENOMEM. */
tw_status twi_pack_new(const char *store, twi_pack **out, tw_error *err);

/** Add all captures of a sighting, before the first reading. Each is in once.
 * @return TW_OK; as tw_catalogue_captures; TW_ENOMEM. */
tw_status twi_pack_add(twi_pack *pack, tw_catalogue *catalogue, int64_t sighting,
                       tw_error *err);

/** Add a file by its name in the store. @return TW_OK; TW_ENOMEM. */
tw_status twi_pack_add_file(twi_pack *pack, const char *file, int64_t wall_us,
                            tw_error *err);

/** @return how many files were added. */
size_t twi_pack_count(const twi_pack *pack);

/** What comes next of the ZIP file. A capture that is gone by now is left out.
 * @return bytes, 1 or more; 0: that was all; -1: it failed, told in err. */
long twi_pack_read(twi_pack *pack, char *out, size_t room, tw_error *err);

/** NULL is fine. */
void twi_pack_free(twi_pack *pack);

#endif
