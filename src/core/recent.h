/* Where it moved in the last minute, to try other zones on. Pure: no
 * I/O, clock or heap. */
#ifndef TW_RECENT_H
#define TW_RECENT_H

#include "tawny/detector.h"

enum {
    TW_RECENT_FRAMES = 600,    /* that are kept: a minute at ten a second */
    TW_RECENT_STEP_US = 95000, /* frames that come quicker are left out */
    TW_RECENT_SPAN_US = 60000000
};

/* Lies in the caller's memory. One thread at a time. */
typedef struct tw_recent tw_recent;

/** @return how much memory it takes for a grid, bytes: up to 600 kB. */
size_t tw_recent_bytes(const tw_grid *grid);

/** @param memory  At least tw_recent_bytes, aligned as malloc does. @return it. */
tw_recent *tw_recent_init(void *memory, const tw_grid *grid);

/** The grid that it was made for. */
tw_grid tw_recent_grid(const tw_recent *recent);

/** Keep a reading's cells; the oldest go.
 * @return TW_OK; TW_ESIZE: it is of another grid. */
tw_status tw_recent_add(tw_recent *recent, const tw_reading *reading);

/**
 * Go through what is kept of the minute before the newest frame, the oldest first, as if
 * other cells were watched. What moved where nothing was watched counts as a subject:
 * whether it would have been one is not known.
 *
 * @param mask   columns * rows bytes as tw_zones_mark makes them.
 * @param visit  Given t_us, activity_ppm and area_ppm; the rest is 0. May be NULL.
 * @return how many frames there were.
 */
size_t tw_recent_walk(const tw_recent *recent, const uint8_t *mask,
                      void (*visit)(void *ctx, const tw_reading *reading), void *ctx);

#endif
