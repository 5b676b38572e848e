/* Groups of moving cells, and the shares that the reading tells. */
#include <string.h>

#include "detector_state.h"

enum { MILLION = 1000000 };

static const int32_t WEIGHT_EXTRA =
    TW_LEVEL(0.3); /* a cell just over its limit weighs this */
static const int32_t WEIGHT_MAX = TW_LEVEL(3.0);

typedef struct sums {
    int64_t x, y, weight; /* weighted centre, in half cells */
    uint16_t left, top, right, bottom;
    uint16_t cells, seeds;
} sums;

static int64_t weight_of(const tw_cell *cell)
{
    const int32_t weight = cell->level - cell->limit + WEIGHT_EXTRA;
    return weight > WEIGHT_MAX ? WEIGHT_MAX : weight;
}

static bool joins(const tw_cell *cell)
{
    return (cell->flags & TW_CELL_MOVING) && cell->watched && cell->label == 0;
}

static void add_cell(const tw_detector *d, uint16_t index, sums *s)
{
    const uint16_t column = index % d->grid.columns, row = index / d->grid.columns;
    const tw_cell *cell = &d->cell[index];
    const int64_t weight = weight_of(cell);
    s->x += weight * (2 * column + 1);
    s->y += weight * (2 * row + 1);
    s->weight += weight;
    s->cells++;
    s->seeds = (uint16_t)(s->seeds + cell->seed);
    s->left = column < s->left ? column : s->left;
    s->right = column > s->right ? column : s->right;
    s->top = row < s->top ? row : s->top;
    s->bottom = row > s->bottom ? row : s->bottom;
}

/* Push the unlabelled moving cells around one cell: its eight neighbours, and one cell
 * further where either of the two is a seed. Each cell is pushed once, so the stack
 * holds. */
static size_t push_around(tw_detector *d, uint16_t index, uint16_t label, size_t top)
{
    const int column = index % d->grid.columns, row = index / d->grid.columns;
    for (int y = row - 2; y <= row + 2; y++) {
        for (int x = column - 2; x <= column + 2; x++) {
            if (y < 0 || x < 0 || y >= d->grid.rows || x >= d->grid.columns)
                continue;
            tw_cell *cell = &d->cell[y * d->grid.columns + x];
            const bool near =
                y - row < 2 && row - y < 2 && x - column < 2 && column - x < 2;
            if (!joins(cell) || (!near && !cell->seed && !d->cell[index].seed))
                continue;
            cell->label = label;
            d->stack[top++] = (uint16_t)(y * d->grid.columns + x);
        }
    }
    return top;
}

static sums flood(tw_detector *d, uint16_t start, uint16_t label)
{
    sums s = {.left = UINT16_MAX, .top = UINT16_MAX};
    size_t top = 0;
    d->cell[start].label = label;
    d->stack[top++] = start;
    while (top > 0) {
        const uint16_t index = d->stack[--top];
        add_cell(d, index, &s);
        top = push_around(d, index, label, top);
    }
    return s;
}

/* Half cells to millionths of a side; cells at the edge may reach over it. */
static int32_t to_ppm(const tw_detector *d, int64_t half_cells, uint16_t side)
{
    const int64_t ppm = half_cells * d->grid.cell_px * (MILLION / 2) / side;
    return (int32_t)(ppm > MILLION ? MILLION : ppm);
}

static tw_blob describe(const tw_detector *d, const sums *s)
{
    const uint16_t width = d->config.width, height = d->config.height;
    tw_blob blob;
    memset(&blob, 0, sizeof blob);
    blob.x_ppm = to_ppm(d, s->x / s->weight, width);
    blob.y_ppm = to_ppm(d, s->y / s->weight, height);
    blob.left_ppm = to_ppm(d, 2 * (int64_t)s->left, width);
    blob.right_ppm = to_ppm(d, 2 * ((int64_t)s->right + 1), width);
    blob.top_ppm = to_ppm(d, 2 * (int64_t)s->top, height);
    blob.bottom_ppm = to_ppm(d, 2 * ((int64_t)s->bottom + 1), height);
    blob.cells = s->cells;
    blob.size_ppm = (uint32_t)((uint64_t)s->cells * MILLION / d->cells);
    blob.counted =
        blob.size_ppm >= d->config.smallest_ppm && blob.size_ppm <= d->config.largest_ppm;
    return blob;
}

/* Keep the reading's list sorted, largest first; the smallest falls off its end. */
static void list(tw_reading *out, const tw_blob *blob)
{
    uint16_t at = out->blob_count;
    if (at == TW_READING_BLOBS) {
        if (out->blob[at - 1].size_ppm >= blob->size_ppm)
            return;
        at--;
    } else {
        out->blob_count++;
    }
    for (; at > 0 && out->blob[at - 1].size_ppm < blob->size_ppm; at--)
        out->blob[at] = out->blob[at - 1];
    out->blob[at] = *blob;
}

static void mark_blob(tw_detector *d, uint16_t label, uint8_t flag)
{
    for (uint32_t i = 0; i < d->cells; i++)
        if (d->cell[i].label == label)
            d->cell[i].flags |= flag;
}

static uint32_t share(uint32_t cells, uint32_t of)
{
    return of > 0 ? (uint32_t)((uint64_t)cells * MILLION / of) : 0;
}

static void write_shares(tw_detector *d, tw_reading *out)
{
    uint32_t moving = 0, counted = 0, light = 0, sway = 0, size = 0, ignored = 0;
    for (uint32_t i = 0; i < d->cells; i++) {
        const uint8_t flags = d->cell[i].flags;
        d->shown[i] = flags;
        if (!(flags & TW_CELL_WATCHED)) {
            ignored += (flags & TW_CELL_MOVING) != 0;
            continue;
        }
        moving += (flags & TW_CELL_MOVING) != 0;
        counted += (flags & TW_CELL_COUNTED) != 0;
        light += (flags & TW_CELL_LIGHT) != 0;
        sway += (flags & TW_CELL_SWAY) != 0;
        size += (flags & TW_CELL_SIZE) != 0;
    }
    out->raw_ppm = share(moving, d->watched_cells);
    out->activity_ppm = share(counted, d->watched_cells);
    out->light_ppm = share(light, d->watched_cells);
    out->sway_ppm = share(sway, d->watched_cells);
    out->size_ppm = share(size, d->watched_cells);
    out->ignored_ppm = share(ignored, d->cells);
    out->cells = d->shown;
    out->grid = d->grid;
}

void tw_blobs_find(tw_detector *d, tw_reading *out)
{
    uint16_t label = 0;
    for (uint32_t i = 0; i < d->cells; i++)
        d->cell[i].label = 0;
    for (uint32_t i = 0; i < d->cells && !out->whole_picture; i++) {
        if (!d->cell[i].seed || !joins(&d->cell[i]))
            continue;
        const sums s = flood(d, (uint16_t)i, ++label);
        const tw_blob blob = describe(d, &s);
        mark_blob(d, label, blob.counted ? TW_CELL_COUNTED : TW_CELL_SIZE);
        list(out, &blob);
    }
    out->blobs_found = label;
    write_shares(d, out);
}
