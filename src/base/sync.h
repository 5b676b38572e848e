/* Making safe on a disk what was written. */
#ifndef TWI_SYNC_H
#define TWI_SYNC_H

#include <stddef.h>

#include "tawny/error.h"

/** @return TW_OK; TW_EDAMAGED: others than its owner may read an open file, or it is
 * none. */
tw_status twi_check_private(int fd, const char *path, tw_error *err);

/** Make the entry of a file or folder in the folder above it safe: after a rename, or it
 * may have its old name after a power cut; after it was made, or it may not be there.
 * @param at  The folder that path is below; AT_FDCWD. @return 0, or an errno. */
int twi_sync_folder_of(int at, const char *path);

/** Make sure that a file is on the disk under the name that it was just given. On FAT a
 * name holds place and size of its file, and a new name has neither until the file itself
 * is written back: to write back its folder alone leaves an empty file. @return as above.
 */
int twi_sync_named(int at, const char *path);

/** Write a file that only its owner may read: as a whole, or not at all. Two must not do
 * so at once. @return TW_OK; else err says why it is as it was. */
tw_status twi_write_private(const char *path, const char *text, tw_error *err);

#endif
