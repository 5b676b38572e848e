/* Reading the settings again on SIGHUP, while a station runs. */
#ifndef TW_CLI_RELOAD_H
#define TW_CLI_RELOAD_H

#include "common.h"

typedef struct reloading reloading;

/** Called a few times a second, from the thread that waits. */
typedef void (*reload_turn_fn)(void *ctx);

/** From now on SIGHUP has the station's settings read again. Where the program was
 * started in a terminal and that is gone, the station is stopped instead. Before other
 * threads are started. @param common  Names the settings file; outlives this. */
reloading *reload_begin(const cli_common *common, tw_station *station,
                        reload_turn_fn turn, void *ctx);
void reload_end(reloading *reloading);

#endif
