/* Reading the settings again on SIGHUP, while a station runs. */
#ifndef TW_CLI_RELOAD_H
#define TW_CLI_RELOAD_H

#include "common.h"

typedef struct reloading reloading;

/* What is called, from the thread that waits. */
typedef struct reload_calls {
    void (*turn)(void *ctx); /* a few times a second */
    /* Likewise: whether somebody else than SIGHUP wants the settings read again. */
    gboolean (*asked)(void *ctx);
    /* The settings have been read again, and are given to the station next. */
    void (*read)(void *ctx, const tw_settings *settings);
    void *ctx;
} reload_calls;

/** From now on SIGHUP has the station's settings read again. Where the program was
 * started in a terminal and that is gone, the station is stopped instead. Before other
 * threads are started. @param common  Names the settings file; outlives this. */
reloading *reload_begin(const cli_common *common, tw_station *station,
                        reload_calls calls);
void reload_end(reloading *reloading);

#endif
