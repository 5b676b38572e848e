/* What goes outward while a station runs: hooks, destinations, and the page. */
#ifndef TW_CLI_OUTWARD_H
#define TW_CLI_OUTWARD_H

#include "common.h"

typedef struct outward outward;

/** Told what becomes of a "hook", a "destination" or the "page". From any thread. */
typedef void (*outward_told_fn)(void *ctx, const char *type, tw_status st,
                                const char *line);

/** Nothing goes anywhere yet. @param store  Folder of the captures. */
outward *outward_begin(const char *store, tw_clock clock, outward_told_fn told,
                       void *ctx);

/** From now on it goes as the settings say; what they say as before goes on untouched.
 * @return FALSE: something cannot be served, and that has been told. */
gboolean outward_use(outward *outward, const tw_settings *settings);

/** The station that brokers speak of and to; NULL before it is freed. */
void outward_station(outward *outward, tw_station *station);

/** A frame was read, for who looks at the page. Any thread; NULL is fine. */
void outward_frame(outward *outward, const tw_event *event);

void outward_event(outward *outward,
                   const tw_event *event); /* any thread; NULL is fine */
void outward_end(outward *outward);

#endif
