/* Making safe on a disk what was written. */
#ifndef TW_SYNC_H
#define TW_SYNC_H

/** Make a file's entry in its folder safe: after a rename, or it may have its old name
 * after a power cut. @return 0, or an errno. */
int twi_sync_folder_of(const char *path);

#endif
