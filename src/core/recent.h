/* Where it moved in the last minute, to try other zones on. Pure: no
 * I/O, clock or heap. */
#ifndef TWI_RECENT_H
#define TWI_RECENT_H

#include "tawny/detector.h"

enum {
    TWI_RECENT_FRAMES = 600,    /* that are kept: a minute at ten a second */
    TWI_RECENT_STEP_US = 95000, /* frames that come quicker are left out */
    TWI_RECENT_SPAN_US = 60000000
};

/* Lies in the caller's memory. One thread at a time. */
typedef struct twi_recent twi_recent;

/** @return how much memory it takes for a grid, bytes: up to 600 kB. */
size_t twi_recent_bytes(const tw_grid *grid);

/** @param memory  At least twi_recent_bytes, aligned as malloc does. @return it. */
twi_recent *twi_recent_init(void *memory, const tw_grid *grid);

/** The grid that it was made for. */
tw_grid twi_recent_grid(const twi_recent *recent);

/** Keep a reading's cells; the oldest go.
 * @return TW_OK; TW_ESIZE: it is of another grid. */
tw_status twi_recent_add(twi_recent *recent, const tw_reading *reading);

/**
 * Go through what is kept of the minute before the newest frame, the oldest first, as if
 * other cells were watched. What moved where nothing was watched counts as a subject:
 * whether it would have been one is not known.
 *
 * @param mask   columns * rows bytes as tw_zones_mark makes them.
 * @param visit  Given t_us, activity_ppm and area_ppm; the rest is 0. May be NULL.
 * @return how many frames there were.
 */
size_t twi_recent_walk(const twi_recent *recent, const uint8_t *mask,
                       void (*visit)(void *ctx, const tw_reading *reading), void *ctx);

#endif
