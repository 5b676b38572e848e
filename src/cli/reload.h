/* Reading the settings again on SIGHUP, while a station runs. */
#ifndef TWI_CLI_RELOAD_H
#define TWI_CLI_RELOAD_H

#include "common.h"

typedef struct reloading reloading;

/* What else the thread that waits sees to. @return milliseconds until the next time, -1:
 * there is none. */
typedef int (*reload_turn_fn)(void *ctx);

/** From now on SIGHUP has the station's settings read again and applied. Where the
 * program was started in a terminal and that is gone, the station is stopped instead.
 * Before other threads are started. @param common  Names the settings file; outlives
 * this.
 * @return NULL: told. */
reloading *reload_begin(const cli_common *common, tw_station *station,
                        reload_turn_fn turn, void *ctx);
void reload_end(reloading *reloading); /* NULL is fine */

#endif
