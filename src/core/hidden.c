/* Blocks of a picture that nobody may see. */
#include "hidden.h"

#include <string.h>

enum { WHOLE = 1000000 };

/* A place in millionths; a box of them. */
typedef struct place {
    int64_t x, y;
} place;

typedef struct box {
    int64_t left, top, right, bottom;
} box;

/* Where a place of what is shown lies in the camera's picture. */
static place place_of(const twi_view *view, tw_point point)
{
    const bool whole = twi_crop_is_whole(&view->crop);
    const twi_crop c = whole ? (twi_crop){0, 0, WHOLE, WHOLE} : view->crop;
    place p = {c.left + (int64_t)point.x_ppm * (c.right - c.left) / WHOLE,
               c.top + (int64_t)point.y_ppm * (c.bottom - c.top) / WHOLE};
    for (int q = 0; q < view->turn.quarters % 4; q++) /* back, a quarter at a time */
        p = (place){p.y, WHOLE - p.x};
    if (view->turn.mirror)
        p.x = WHOLE - p.x;
    return p;
}

/* Which side of the line from a to b a place is on: the sign. */
static int64_t side_of(place a, place b, int64_t x, int64_t y)
{
    return (b.x - a.x) * (y - a.y) - (b.y - a.y) * (x - a.x);
}

/* Two convex shapes are apart where a line along an edge of one of them parts them. */
static bool edge_meets(place a, place b, const box *r)
{
    if ((a.x < r->left && b.x < r->left) || (a.x > r->right && b.x > r->right) ||
        (a.y < r->top && b.y < r->top) || (a.y > r->bottom && b.y > r->bottom))
        return false;
    const int64_t corner[4] = {
        side_of(a, b, r->left, r->top), side_of(a, b, r->right, r->top),
        side_of(a, b, r->left, r->bottom), side_of(a, b, r->right, r->bottom)};
    int before = 0, behind = 0;
    for (int i = 0; i < 4; i++) {
        before += corner[i] < 0;
        behind += corner[i] > 0;
    }
    return before < 4 && behind < 4;
}

/* An edge goes through the box; or there is none near, and the box is inside or outside
 * as a whole, as its corner is (even-odd rule). */
static bool zone_meets(const twi_view *view, const tw_zone *zone, const box *r)
{
    bool inside = false;
    for (uint16_t i = 0, j = (uint16_t)(zone->count - 1); i < zone->count; j = i++) {
        const place a = place_of(view, zone->points[i]),
                    b = place_of(view, zone->points[j]);
        if (edge_meets(a, b, r))
            return true;
        if ((a.y > r->top) != (b.y > r->top) &&
            (side_of(a, b, r->left, r->top) > 0) == (b.y > a.y))
            inside = !inside;
    }
    return inside;
}

/* A block in millionths. What lies beyond the picture's edge lies at it. */
static box box_of(uint16_t column, uint16_t row, uint16_t width, uint16_t height,
                  int64_t margin)
{
    const int64_t left = (int64_t)column * TWI_HIDDEN_PX - margin,
                  top = (int64_t)row * TWI_HIDDEN_PX - margin,
                  side = TWI_HIDDEN_PX + 2 * margin;
    return (box){left * WHOLE / width, top * WHOLE / height,
                 ((left + side) * WHOLE + width - 1) / width,
                 ((top + side) * WHOLE + height - 1) / height};
}

void twi_hidden_mark(const twi_view *view, uint16_t width, uint16_t height,
                     uint8_t *blocks)
{
    const uint16_t columns = twi_hidden_along(width), rows = twi_hidden_along(height);
    const int64_t margin = twi_view_is_straight(view) ? 0 : TWI_HIDDEN_PX;
    memset(blocks, 0, (size_t)columns * rows);
    for (uint16_t row = 0; row < rows; row++)
        for (uint16_t column = 0; column < columns; column++) {
            const box r = box_of(column, row, width, height, margin);
            for (uint16_t i = 0; i < view->hidden_count; i++)
                if (zone_meets(view, &view->hidden[i], &r))
                    blocks[(size_t)row * columns + column] = 1;
        }
}

void twi_hidden_fill(const uint8_t *blocks, uint16_t width, uint16_t height, int shift,
                     uint8_t value, uint8_t *px, uint32_t stride)
{
    const uint32_t w = ((uint32_t)width + (1U << shift) - 1) >> shift,
                   h = ((uint32_t)height + (1U << shift) - 1) >> shift,
                   edge = TWI_HIDDEN_PX >> shift;
    const uint16_t columns = twi_hidden_along(width);
    for (uint32_t y = 0; y < h; y++) {
        const uint8_t *row = blocks + (size_t)(y / edge) * columns;
        for (uint32_t x = 0; x < w; x += edge)
            if (row[x / edge])
                memset(px + (size_t)y * stride + x, value, w - x < edge ? w - x : edge);
    }
}
