/* Polygons laid over the grid of cells. */
#include "tawny/zones.h"

#include <string.h>

/* Even-odd rule. A corner that lies exactly on the ray belongs to the edge below it, so
 * that two zones which share an edge never both claim a cell. */
static bool inside(const tw_zone *zone, int64_t x, int64_t y)
{
    bool in = false;
    for (uint16_t i = 0, j = (uint16_t)(zone->count - 1); i < zone->count; j = i++) {
        const tw_point a = zone->points[i], b = zone->points[j];
        if ((a.y_ppm > y) == (b.y_ppm > y))
            continue;
        /* x < crossing, both sides times the height of the edge */
        const int64_t height = (int64_t)b.y_ppm - a.y_ppm;
        const int64_t side =
            (x - a.x_ppm) * height - ((int64_t)b.x_ppm - a.x_ppm) * (y - a.y_ppm);
        if (height > 0 ? side < 0 : side > 0)
            in = !in;
    }
    return in;
}

/* Middle of what a cell shows of a side, in millionths: the last one may be cut off. */
static int64_t middle(uint32_t cell, uint16_t cell_px, uint16_t side)
{
    const int64_t first = (int64_t)cell * cell_px, past = first + cell_px;
    return (first + (past < side ? past : side)) * 500000 / side;
}

static void mark(const tw_grid *grid, const tw_zone *zone, uint8_t value, uint8_t *mask)
{
    for (uint32_t row = 0; row < grid->rows; row++) {
        const int64_t y = middle(row, grid->cell_px, grid->height);
        for (uint32_t column = 0; column < grid->columns; column++)
            if (inside(zone, middle(column, grid->cell_px, grid->width), y))
                mask[row * grid->columns + column] = value;
    }
}

tw_status tw_zones_mark(const tw_grid *grid, const tw_zone *zones, size_t count,
                        uint8_t *mask)
{
    if (!grid || !mask || (!zones && count > 0) || grid->columns == 0 ||
        grid->rows == 0 || grid->width == 0 || grid->height == 0)
        return TW_EINVAL;
    bool any_watched = false;
    for (size_t i = 0; i < count; i++) {
        if (!zones[i].points || zones[i].count < 3)
            return TW_EINVAL;
        any_watched = any_watched || zones[i].watched;
    }
    memset(mask, any_watched ? 0 : 1, (size_t)grid->columns * grid->rows);
    for (size_t i = 0; i < count; i++)
        if (zones[i].watched)
            mark(grid, &zones[i], 1, mask);
    for (size_t i = 0; i < count; i++)
        if (!zones[i].watched)
            mark(grid, &zones[i], 0, mask);
    return TW_OK;
}
