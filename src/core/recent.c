/* Where it moved in the last minute. */
#include "recent.h"

#include <string.h>

/* One bit for each cell: whether what moves there counts. It is that of a subject, or
 * lies where nothing is watched. */
struct twi_recent {
    tw_grid grid;
    uint32_t cells;
    size_t row;          /* bytes of a frame's bits */
    size_t first, count; /* of the frames */
    int64_t *t_us;       /* TWI_RECENT_FRAMES of them */
    uint8_t *moving;     /* likewise, row bytes each */
};

static size_t row_bytes(const tw_grid *grid)
{
    return ((size_t)grid->columns * grid->rows + 7) / 8;
}

size_t twi_recent_bytes(const tw_grid *grid)
{
    return sizeof(twi_recent) + TWI_RECENT_FRAMES * (sizeof(int64_t) + row_bytes(grid));
}

twi_recent *twi_recent_init(void *memory, const tw_grid *grid)
{
    twi_recent *r = memory;
    memset(r, 0, sizeof *r);
    r->grid = *grid;
    r->cells = (uint32_t)grid->columns * grid->rows;
    r->row = row_bytes(grid);
    r->t_us = (int64_t *)(void *)(r + 1);
    r->moving = (uint8_t *)(r->t_us + TWI_RECENT_FRAMES);
    return r;
}

tw_grid twi_recent_grid(const twi_recent *r)
{
    return r->grid;
}

static size_t place(const twi_recent *r, size_t index)
{
    return (r->first + index) % TWI_RECENT_FRAMES;
}

static bool counts(uint8_t cell)
{
    return (cell & TW_CELL_COUNTED) ||
           (cell & (TW_CELL_MOVING | TW_CELL_WATCHED)) == TW_CELL_MOVING;
}

static bool is_new(const twi_recent *r, int64_t t_us)
{
    if (r->count == 0)
        return true;
    const int64_t since_us = t_us - r->t_us[place(r, r->count - 1)];
    return since_us < 0 || since_us >= TWI_RECENT_STEP_US;
}

tw_status twi_recent_add(twi_recent *r, const tw_reading *reading)
{
    if (memcmp(&reading->grid, &r->grid, sizeof r->grid) != 0)
        return TW_ESIZE;
    if (!is_new(r, reading->t_us))
        return TW_OK;
    if (r->count == TWI_RECENT_FRAMES)
        r->first = place(r, 1);
    else
        r->count++;
    const size_t at = place(r, r->count - 1);
    uint8_t *bits = r->moving + at * r->row;
    r->t_us[at] = reading->t_us;
    memset(bits, 0, r->row);
    for (uint32_t i = 0; i < r->cells && reading->cells; i++)
        if (counts(reading->cells[i]))
            bits[i / 8] = (uint8_t)(bits[i / 8] | (1U << (i % 8)));
    return TW_OK;
}

/* How many cells each area has, and all of them. @return that. */
static uint32_t count_areas(const twi_recent *r, const uint8_t *mask,
                            uint32_t areas[TW_AREAS_MAX])
{
    uint32_t all = 0;
    memset(areas, 0, TW_AREAS_MAX * sizeof *areas);
    for (uint32_t i = 0; i < r->cells; i++) {
        if (mask[i] == 0 || mask[i] > TW_AREAS_MAX)
            continue;
        areas[mask[i] - 1]++;
        all++;
    }
    return all;
}

static uint32_t share(uint32_t cells, uint32_t of)
{
    return of > 0 ? (uint32_t)((uint64_t)cells * 1000000 / of) : 0;
}

static void read_frame(const twi_recent *r, size_t at, const uint8_t *mask, uint32_t all,
                       const uint32_t areas[TW_AREAS_MAX], tw_reading *out)
{
    const uint8_t *bits = r->moving + at * r->row;
    uint32_t moving[TW_AREAS_MAX] = {0}, sum = 0;
    for (uint32_t i = 0; i < r->cells; i++) {
        if (!(bits[i / 8] >> (i % 8) & 1) || mask[i] == 0 || mask[i] > TW_AREAS_MAX)
            continue;
        moving[mask[i] - 1]++;
        sum++;
    }
    out->t_us = r->t_us[at];
    out->activity_ppm = share(sum, all);
    for (size_t i = 0; i < TW_AREAS_MAX; i++)
        out->area_ppm[i] = share(moving[i], areas[i]);
}

size_t twi_recent_walk(const twi_recent *r, const uint8_t *mask,
                       void (*visit)(void *ctx, const tw_reading *reading), void *ctx)
{
    uint32_t areas[TW_AREAS_MAX];
    const uint32_t all = count_areas(r, mask, areas);
    const int64_t newest_us = r->count > 0 ? r->t_us[place(r, r->count - 1)] : 0;
    size_t visited = 0;
    for (size_t i = 0; i < r->count; i++) {
        const size_t at = place(r, i);
        tw_reading reading;
        /* A clock that jumped back leaves frames that are later than the newest. */
        if (r->t_us[at] > newest_us || newest_us - r->t_us[at] > TWI_RECENT_SPAN_US)
            continue;
        memset(&reading, 0, sizeof reading);
        read_frame(r, at, mask, all, areas, &reading);
        visited++;
        if (visit)
            visit(ctx, &reading);
    }
    return visited;
}
