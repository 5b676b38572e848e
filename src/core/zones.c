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

enum which { ALL, WATCHED }; /* cells that are marked */

static void mark(const tw_grid *grid, const tw_zone *zone, enum which which,
                 uint8_t value, uint8_t *mask)
{
    for (uint32_t row = 0; row < grid->rows; row++) {
        const int64_t y = middle(row, grid->cell_px, grid->height);
        for (uint32_t column = 0; column < grid->columns; column++) {
            uint8_t *cell = &mask[row * grid->columns + column];
            if ((which == ALL || *cell != 0) &&
                inside(zone, middle(column, grid->cell_px, grid->width), y))
                *cell = value;
        }
    }
}

tw_status tw_zones_mark(const tw_grid *grid, const tw_zone *zones, size_t count,
                        uint8_t *mask)
{
    if (!grid || !mask || (!zones && count > 0) || grid->columns == 0 ||
        grid->rows == 0 || grid->width == 0 || grid->height == 0)
        return TW_EINVAL;
    bool any_runs = false;
    uint8_t own = 0;
    for (size_t i = 0; i < count; i++) {
        if (!zones[i].points || zones[i].count < 3)
            return TW_EINVAL;
        any_runs = any_runs || zones[i].watched;
        own = (uint8_t)(own + (zones[i].start_ppm > 0));
        if (own > TW_OWN_LIMITS_MAX)
            return TW_EINVAL;
    }
    memset(mask, any_runs ? 0 : 1, (size_t)grid->columns * grid->rows);
    for (size_t i = 0; i < count; i++)
        if (zones[i].watched)
            mark(grid, &zones[i], ALL, 1, mask);
    own = 0;
    for (size_t i = 0; i < count; i++)
        if (zones[i].start_ppm > 0)
            mark(grid, &zones[i], WATCHED, (uint8_t)(2 + own++), mask);
    for (size_t i = 0; i < count; i++)
        if (!zones[i].watched && zones[i].start_ppm == 0)
            mark(grid, &zones[i], ALL, 0, mask);
    return TW_OK;
}

/* The pixels of a side that a cell covers; at least the nearest one. */
static void covered(uint32_t cell, uint16_t cell_px, uint16_t side, uint16_t pixels,
                    uint32_t *first, uint32_t *end)
{
    const uint64_t from = (uint64_t)cell * cell_px, past = from + cell_px;
    *first = (uint32_t)(from * pixels / side);
    *end = (uint32_t)((past < side ? past : side) * pixels / side);
    if (*end <= *first)
        *end = *first + 1;
}

static bool is_white(const tw_grid *grid, const tw_luma *picture, uint32_t column,
                     uint32_t row)
{
    uint32_t left = 0, right = 0, top = 0, bottom = 0;
    uint64_t sum = 0;
    covered(column, grid->cell_px, grid->width, picture->width, &left, &right);
    covered(row, grid->cell_px, grid->height, picture->height, &top, &bottom);
    for (uint32_t y = top; y < bottom; y++)
        for (uint32_t x = left; x < right; x++)
            sum += picture->px[(size_t)y * picture->stride + x];
    return sum * 2 >= (uint64_t)(right - left) * (bottom - top) * 255;
}

tw_status tw_mask_mark(const tw_grid *grid, const tw_luma *picture, uint8_t *mask)
{
    if (!grid || !mask || tw_luma_check(picture) != TW_OK || grid->cell_px == 0 ||
        grid->width == 0 || grid->height == 0)
        return TW_EINVAL;
    for (uint32_t row = 0; row < grid->rows; row++)
        for (uint32_t column = 0; column < grid->columns; column++)
            if (!is_white(grid, picture, column, row))
                mask[row * grid->columns + column] = 0;
    return TW_OK;
}
