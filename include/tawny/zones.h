/* tawny/zones.h - polygons that are watched or ignored. Pure: no I/O, clock or heap. */
#ifndef TW_ZONES_H
#define TW_ZONES_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/status.h"

/* A place in the picture, in millionths of its width and height from the upper left. */
typedef struct tw_point {
    int32_t x_ppm, y_ppm; /* 0..1000000 lies within the picture */
} tw_point;

typedef struct tw_zone {
    const tw_point *points; /* borrowed; the last is joined to the first */
    uint16_t count;         /* corners, >= 3 */
    bool watched;           /* false: what moves inside is ignored */
} tw_zone;

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
 * (even-odd rule).
 *
 * @param grid   Where the cells lie.
 * @param zones  Borrowed; may be NULL if count is 0.
 * @param mask   Caller's, grid->columns * grid->rows bytes: 1 watched, 0 not.
 * @return TW_OK; TW_EINVAL: NULL pointer, empty grid, or a zone with fewer than 3
 * corners.
 */
TW_API tw_status tw_zones_mark(const tw_grid *grid, const tw_zone *zones, size_t count,
                               uint8_t *mask);

#endif
