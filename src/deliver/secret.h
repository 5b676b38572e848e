/* Secrets of what is reached over a network. */
#ifndef TWI_SECRET_H
#define TWI_SECRET_H

#include "../settings/sections.h"
#include "tawny/error.h"

enum { SECRET_BYTES = 1024 };

/** @param out  Wipe it after use. @return TW_OK; TW_EACCES, TW_ENOENT...: err says what
 * to do. */
tw_status twi_secret_read(const twi_destination_settings *to, char out[SECRET_BYTES],
                          tw_error *err);

#endif
