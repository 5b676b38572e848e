/* Changes of settings as JSON, into a draft. */
#ifndef TWI_CHANGES_H
#define TWI_CHANGES_H

#include <jansson.h>

#include "../settings/draft.h"

enum { TWI_CHANGES_MAX = 500 };

/**
 * Take in a list of changes: [{"head": "camera", "name": "kerb", "key": "start_at",
 * "value": "1 %"}]. A key that is null stands for the section, a value that is null takes
 * out; what is left out, or of another kind, is a mistake.
 *
 * @param changes  Anything.
 * @return TW_OK; TW_EINVAL, TW_ENOENT, TW_ESIZE, TW_ENOMEM: err says what is wrong.
 */
tw_status twi_changes_take(twi_draft *draft, const json_t *changes, tw_error *err);

#endif
