/* What marks tell of a camera's settings, for the page. */
#ifndef TWI_CLI_PROPOSE_H
#define TWI_CLI_PROPOSE_H

#include "common.h"
#include "tawny/error.h"

/** Learn it, by tawny tune --marked in a process of its own. Any thread.
 * @param file  Of settings; NULL: that of the usual places.
 * @param stop  Not 0 once nobody waits for it any more.
 * @param out   Set on TW_OK, to be freed by free().
 * @return TW_OK; TW_EEND: it was stopped; TW_EINVAL: there is no proposal, err says why;
 *         TW_EIO, TW_ENOMEM. */
tw_status propose(const cli_common *common, const char *file, const char *camera,
                  const volatile int *stop, char **out, tw_error *err);

#endif
