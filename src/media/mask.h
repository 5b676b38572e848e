/* Masks: pictures that say which part of a camera's picture is watched. */
#ifndef TWI_MASK_H
#define TWI_MASK_H

#include "tawny/error.h"
#include "tawny/frame.h"

/**
 * Read a PNG or PGM picture of any size, by the codec module.
 *
 * @param memory  Set on TW_OK to what luma is a view of; the caller's to free().
 * @return TW_OK; TW_ENOTSUP: no codec module, or another kind of file; TW_ENOENT,
 *         TW_EACCES, TW_EIO, TW_EDAMAGED; err says which file.
 */
tw_status twi_mask_read(const char *path, uint8_t **memory, tw_luma *luma, tw_error *err);

#endif
