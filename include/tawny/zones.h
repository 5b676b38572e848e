/* tawny/zones.h - polygons that are watched or ignored. Pure: no I/O, clock or heap.
 *
 * Any thread: nothing is kept between calls. All memory is the caller's. */
#ifndef TW_ZONES_H
#define TW_ZONES_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/frame.h"
#include "tawny/error.h"

#ifdef __cplusplus
extern "C" {
#endif

/* A place in the picture, in millionths of its width and height from the upper left. */
typedef struct tw_point {
    int32_t x_ppm, y_ppm; /* 0..1000000 lies within the picture */
} tw_point;

typedef struct tw_zone {
    const tw_point *points; /* borrowed; the last is joined to the first */
    uint16_t count;         /* corners, >= 3 */
    bool watched;           /* nothing else is, but for other watched zones */
    /* Limits of its own, shares of the zone; start_ppm 0: it has none. It is watched like
     * the rest of the picture if watched is false. Neither: what moves inside is
     * ignored. */
    uint32_t start_ppm, stay_ppm;
} tw_zone;

enum {
    TW_OWN_LIMITS_MAX = 8, /* zones with limits of their own */
    TW_AREAS_MAX = 1 + TW_OWN_LIMITS_MAX
};

/* The grid of cells that lies over a picture. */
typedef struct tw_grid {
    uint16_t columns, rows; /* cells */
    uint16_t cell_px;       /* edge of a cell, reduced pixels */
    uint16_t width, height; /* the reduced picture, pixels */
} tw_grid;

/**
 * Mark the cells that are watched.
 *
 * Without a watched zone the whole picture is watched; with one or more, only what lies
 * inside. Ignored zones are then taken off. A cell belongs to a zone if its centre does
 * (even-odd rule). Where zones with limits of their own overlap, the later one has it.
 *
 * @param grid   Where the cells lie.
 * @param zones  Borrowed; may be NULL if count is 0.
 * @param mask   Caller's, grid->columns * grid->rows bytes: 0 ignored, 1 watched, 2 and
 *               up watched by the limits of the first, second... zone that has its own.
 * @return TW_OK; TW_EINVAL: NULL pointer, empty grid, a zone with fewer than 3 corners,
 *         or more than TW_OWN_LIMITS_MAX zones with limits of their own.
 */
TW_API tw_status tw_zones_mark(const tw_grid *grid, const tw_zone *zones, size_t count,
                               uint8_t *mask);

/**
 * Take off what a picture says is not to be watched: a cell stays as it is if at least
 * half of what it covers there is white.
 *
 * @param picture  Of any size, laid over the whole grid: black is ignored, white watched.
 * @param mask     What tw_zones_mark made; cells that are taken off become 0.
 * @return TW_OK; TW_EINVAL: NULL pointer, bad view, empty grid.
 */
TW_API tw_status tw_mask_mark(const tw_grid *grid, const tw_luma *picture, uint8_t *mask);

#ifdef __cplusplus
}
#endif

#endif
