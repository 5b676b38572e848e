/* tawny/outward.h - what goes outward from a station: hooks, destinations and the page,
 * as its settings say, and as new ones say while it runs.
 *
 * Begun and ended by the thread that runs the station; it has threads of its own, from
 * which the host is told. */
#ifndef TW_OUTWARD_H
#define TW_OUTWARD_H

#include "tawny/error.h"
#include "tawny/settings.h"
#include "tawny/station.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct tw_outward tw_outward;

/* What it needs of the program. */
typedef struct tw_outward_host {
    size_t size;               /* of this struct; 0: see version.h */
    const char *store;         /* folder of the captures */
    const tw_card *card;       /* the same; outlives this */
    const char *settings_file; /* that the page may change; NULL: none */
    tw_clock clock;
    /* Told of what becomes of a "hook", a "destination" or the "page", one line, from any
     * thread. May be NULL.
     * @param st  TW_OK; TW_EAGAIN: it is tried again; else somebody must do something. */
    void (*callback)(void *ctx, const char *what, tw_status st, const char *line);
    /* Told once of each that cannot begin. May be NULL. */
    void (*failed)(void *ctx, const char *line);
    void *ctx;
    /* What the marks of a camera's sightings tell of its settings, for the page: as long
     * as that takes, in a thread of the page's, one at a time. NULL: nothing is proposed.
     * @param stop  Not 0 once nobody waits for it any more; set by another thread, so it
     *              is read by __atomic_load_n.
     * @param out   Set on TW_OK to JSON objects, one a line, as tawny tune --marked
     * --json prints them; the caller frees it.
     * @return TW_OK; TW_EEND: it was stopped; else err says why there is no proposal. */
    tw_status (*propose)(void *ctx, const char *camera, const volatile int *stop,
                         char **out, tw_error *err);
} tw_outward_host;

/**
 * Begin what the settings say, and follow those that tw_station_apply brings. What has
 * not changed goes on, and the page keeps its address. What the page changes in the file
 * is given to the station at once, with what tw_settings_set said on top. What cannot
 * begin is told, and the rest goes on. Destinations whose card cannot be read are tried
 * again every ten seconds.
 *
 * @param station   Not run yet. Freed after this.
 * @param settings  Copied.
 * @param host      Its texts are copied.
 * @param out       Set on TW_OK; end it with tw_outward_end.
 * @return TW_OK; TW_EINVAL; TW_ENOMEM.
 */
TW_API tw_status tw_outward_begin(tw_station *station, const tw_settings *settings,
                                  const tw_outward_host *host, tw_outward **out,
                                  tw_error *err);

/** After tw_station_run, before tw_station_free. What is under way has five seconds left.
 * NULL is fine. */
TW_API void tw_outward_end(tw_outward *outward);

#ifdef __cplusplus
}
#endif

#endif
