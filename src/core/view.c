/* Mirroring, turning and cropping. */
#include "view.h"

#include <string.h>

enum { WHOLE = 1000000 };

tw_turn twi_turn_then(tw_turn first, tw_turn then)
{
    /* A mirror turns what was turned before it the other way round. */
    const unsigned before = then.mirror ? 4U - first.quarters : first.quarters;
    return (tw_turn){(uint8_t)((before + then.quarters) % 4),
                     first.mirror != then.mirror};
}

bool twi_turn_is_none(tw_turn turn)
{
    return turn.quarters == 0 && !turn.mirror;
}

bool twi_crop_is_whole(const twi_crop *c)
{
    return c->right <= c->left || c->bottom <= c->top ||
           (c->left <= 0 && c->top <= 0 && c->right >= WHOLE && c->bottom >= WHOLE);
}

bool twi_view_is_straight(const twi_view *view)
{
    return twi_turn_is_none(view->turn) && twi_crop_is_whole(&view->crop);
}

bool twi_view_is_plain(const twi_view *view)
{
    return twi_view_is_straight(view) && view->hidden_count == 0;
}

/* One direction of a crop: first is rounded down, past up, both to steps. */
static void span(int32_t from_ppm, int32_t to_ppm, uint16_t side, uint16_t step,
                 uint16_t *first, uint16_t *length)
{
    const uint32_t unit = side >= step ? step : 1U;
    const uint32_t most = side / unit * unit;
    uint32_t from = (uint32_t)((int64_t)from_ppm * side / WHOLE) / unit * unit;
    uint32_t to = (uint32_t)(((int64_t)to_ppm * side + WHOLE - 1) / WHOLE);
    to = (to + unit - 1) / unit * unit;
    to = to > most ? most : to;
    if (from >= to)
        from = to - unit;
    *first = (uint16_t)from;
    *length = (uint16_t)(to - from);
}

twi_rect twi_view_rect(const twi_view *view, uint16_t width, uint16_t height,
                       uint16_t step)
{
    const bool whole = twi_crop_is_whole(&view->crop);
    const twi_crop crop = whole ? (twi_crop){0, 0, WHOLE, WHOLE} : view->crop;
    const bool lies = view->turn.quarters % 2 != 0;
    twi_rect r;
    span(crop.left, crop.right, lies ? height : width, step, &r.left, &r.width);
    span(crop.top, crop.bottom, lies ? width : height, step, &r.top, &r.height);
    return r;
}

void twi_view_plane(tw_turn turn, const tw_luma *src, const twi_rect *rect, uint8_t *out,
                    uint32_t out_stride)
{
    const ptrdiff_t row = (ptrdiff_t)src->stride, w = src->width, h = src->height;
    /* Where the turned picture's first pixel lies in src, and how far apart the pixels
     * beside it and below it are there. */
    const ptrdiff_t corner[4] = {0, (h - 1) * row, (h - 1) * row + w - 1, w - 1};
    const ptrdiff_t right[4] = {1, -row, -1, row}, below[4] = {row, 1, -row, -1};
    ptrdiff_t at = corner[turn.quarters % 4], dx = right[turn.quarters % 4],
              dy = below[turn.quarters % 4];
    if (turn.mirror) { /* left and right of src change places */
        static const uint8_t mirrored[4] = {3, 2, 1, 0};
        at = corner[mirrored[turn.quarters % 4]];
        dx = turn.quarters % 2 ? dx : -dx;
        dy = turn.quarters % 2 ? -dy : dy;
    }
    at += rect->left * dx + rect->top * dy;
    for (uint32_t y = 0; y < rect->height; y++, at += dy) {
        uint8_t *to = out + (size_t)y * out_stride;
        if (dx == 1) {
            memcpy(to, src->px + at, rect->width);
            continue;
        }
        ptrdiff_t from = at;
        for (uint32_t x = 0; x < rect->width; x++, from += dx)
            to[x] = src->px[from];
    }
}
