/* What goes outward while a station runs: hooks, destinations, and the page. */
#ifndef TW_CLI_OUTWARD_H
#define TW_CLI_OUTWARD_H

#include "common.h"

typedef struct outward outward;

/* What it needs of who runs the station. Both are called from any thread. */
typedef struct outward_calls {
    /* Told what becomes of a "hook", a "destination" or the "page". */
    void (*told)(void *ctx, const char *type, tw_status st, const char *line);
    /* The page has changed the settings file: it is to be read again. */
    void (*reload)(void *ctx);
    void *ctx;
} outward_calls;

/** Nothing goes anywhere yet.
 * @param card           Where captures are; outlives this.
 * @param settings_file  That the page may change. */
outward *outward_begin(const tw_card *card, const char *settings_file, tw_clock clock,
                       outward_calls calls);

/** From now on it goes as the settings say; what they say as before goes on untouched.
 * @return FALSE: something cannot be served, and that has been told. */
gboolean outward_use(outward *outward, const tw_settings *settings);

/** The station that brokers speak of and to; NULL before it is freed. */
void outward_station(outward *outward, tw_station *station);

/** Try again what could not begin, if it is time; in the thread that uses settings. */
void outward_turn(outward *o);

void outward_end(outward *outward);

#endif
