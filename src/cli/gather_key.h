/* The key by which a gatherer signs settings. */
#ifndef TWI_CLI_GATHER_KEY_H
#define TWI_CLI_GATHER_KEY_H

#include "../deliver/secret.h"
#include "../settings/sections.h"
#include "common.h"

/** Read it. @param secret  Set to it, "" where no file is named; wipe it.
 * @return TW_OK; TW_EACCES: others may read it; TW_EINVAL: it is no key; TW_EIO... */
tw_status gather_key_read(const twi_gather_settings *set, char secret[SECRET_BYTES],
                          tw_error *err);

/** Make it if it is not there, and print what stations know it by. @return as main. */
int gather_key_show(const twi_gather_settings *set);

#endif
