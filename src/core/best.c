/* Choosing the frame that shows the most. */
#include "best.h"

#include <stddef.h>

enum { MILLION = 1000000, EDGE_PART = 4 };

/* One that reaches the edge is only partly in the picture. The outermost cells may reach
 * over it a little, and a subject may stand close: half a percent is the edge. */
static bool at_edge(const tw_blob *b)
{
    enum { NEAR = 5000 };
    return b->left_ppm < NEAR || b->top_ppm < NEAR || b->right_ppm > MILLION - NEAR ||
           b->bottom_ppm > MILLION - NEAR;
}

static uint32_t worth(const tw_blob *b)
{
    return at_edge(b) ? b->size_ppm / EDGE_PART : b->size_ppm;
}

/* The counted blob that shows the most, NULL: none. */
static const tw_blob *largest(const tw_reading *r)
{
    const tw_blob *found = NULL;
    for (uint16_t i = 0; i < r->blob_count; i++)
        if (r->blob[i].counted && (!found || worth(&r->blob[i]) > worth(found)))
            found = &r->blob[i];
    return found;
}

static size_t to_px(int32_t ppm, uint16_t side)
{
    const int64_t px = (int64_t)ppm * side / MILLION;
    return px < 0 ? 0 : px > side ? side : (size_t)px;
}

uint32_t twi_sharpness(const tw_luma *luma, const tw_blob *blob)
{
    if (tw_luma_check(luma) != TW_OK || !blob)
        return 0;
    const size_t left = to_px(blob->left_ppm, luma->width),
                 right = to_px(blob->right_ppm, luma->width),
                 top = to_px(blob->top_ppm, luma->height),
                 bottom = to_px(blob->bottom_ppm, luma->height);
    if (right < left + 3 || bottom < top + 3)
        return 0;
    uint64_t sum = 0;
    for (size_t y = top + 1; y + 1 < bottom; y++) {
        const uint8_t *row = luma->px + y * luma->stride;
        for (size_t x = left + 1; x + 1 < right; x++) {
            const int around =
                row[x - 1] + row[x + 1] + row[x - luma->stride] + row[x + luma->stride];
            const int off = 4 * row[x] - around;
            sum += (uint64_t)(off < 0 ? -off : off);
        }
    }
    const uint64_t count = (uint64_t)(right - left - 2) * (bottom - top - 2);
    return (uint32_t)(sum * 256 / count);
}

bool twi_best_take(twi_best *best, const tw_reading *reading, const tw_luma *luma,
                   uint32_t dear_pct)
{
    if (!best || !reading || !luma || reading->activity_ppm == 0)
        return false;
    const tw_blob *blob = largest(reading);
    const twi_best now = {.any = true,
                          .size_ppm =
                              blob ? worth(blob) : reading->activity_ppm / EDGE_PART,
                          .sharpness = blob ? twi_sharpness(luma, blob) : 0};
    const uint64_t size = (uint64_t)now.size_ppm * 100, had = best->size_ppm;
    const bool larger = size > had * (100 + dear_pct);
    const bool alike = size >= had * (100 - dear_pct / 2);
    const bool sharper =
        (uint64_t)now.sharpness * 100 > (uint64_t)best->sharpness * (100 + 2 * dear_pct);
    if (best->any && !larger && !(alike && sharper))
        return false;
    *best = now;
    return true;
}
