/* Groups of moving cells, and the shares that the reading tells. */
#include <string.h>

#include "detector_state.h"

enum { MILLION = 1000000, CELL = 2 * 256 /* in half cells, Q8 */ };

static const int32_t WEIGHT_EXTRA =
    TWI_LEVEL(0.3); /* a cell just over its limit weighs this */
static const int32_t WEIGHT_MAX = TWI_LEVEL(3.0);

typedef struct sums {
    int64_t x, y, weight; /* weighted centre, in half cells */
    int64_t restless;     /* of the cells' usual levels */
    uint16_t left, top, right, bottom;
    uint16_t cells, changing, lit, coloured, plain, unlike;
} sums;

enum { CHANGED_WITHIN = 1500000 / TWI_STILL_UNIT_US };

static int64_t weight_of(const twi_cell *cell)
{
    const int32_t weight = cell->level - cell->limit + WEIGHT_EXTRA;
    return weight > WEIGHT_MAX ? WEIGHT_MAX : weight;
}

static bool joins(const twi_cell *cell)
{
    return (cell->flags & TW_CELL_MOVING) && cell->watched && cell->label == 0;
}

static void add_cell(const tw_detector *d, uint16_t index, sums *s)
{
    const uint16_t column = index % d->grid.columns, row = index / d->grid.columns;
    const twi_cell *cell = &d->cell[index];
    const int64_t weight = weight_of(cell);
    s->x += weight * (2 * column + 1);
    s->y += weight * (2 * row + 1);
    s->weight += weight;
    s->cells++;
    s->restless += cell->coloured ? twi_colour_restless(d, index) : cell->q98;
    s->changing = (uint16_t)(s->changing + (cell->still < CHANGED_WITHIN));
    s->lit = (uint16_t)(s->lit + cell->lit);
    s->unlike = (uint16_t)(s->unlike + cell->unlike);
    s->coloured = (uint16_t)(s->coloured + cell->coloured);
    s->plain = (uint16_t)(s->plain + cell->plain);
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
            twi_cell *cell = &d->cell[y * d->grid.columns + x];
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

/* A blob's centre along one axis, in half cells, Q8: finer than its cells, as each weighs
 * what moves in it. */
static int64_t centre(int64_t weighted, int64_t weight)
{
    return weighted * 256 / weight;
}

/* Half cells (Q8) to millionths of a side; cells at the edge may reach over it. */
static int32_t to_ppm(const tw_detector *d, int64_t half_cells, uint16_t side)
{
    const int64_t ppm = half_cells * d->grid.cell_px * (MILLION / 2) / side / 256;
    return (int32_t)(ppm > MILLION ? MILLION : ppm);
}

static tw_blob describe(const tw_detector *d, const sums *s)
{
    const uint16_t width = d->config.width, height = d->config.height;
    tw_blob blob;
    memset(&blob, 0, sizeof blob);
    blob.x_ppm = to_ppm(d, centre(s->x, s->weight), width);
    blob.y_ppm = to_ppm(d, centre(s->y, s->weight), height);
    blob.left_ppm = to_ppm(d, CELL * (int64_t)s->left, width);
    blob.right_ppm = to_ppm(d, CELL * ((int64_t)s->right + 1), width);
    blob.top_ppm = to_ppm(d, CELL * (int64_t)s->top, height);
    blob.bottom_ppm = to_ppm(d, CELL * ((int64_t)s->bottom + 1), height);
    blob.cells = s->cells;
    blob.size_ppm = (uint32_t)((uint64_t)s->cells * MILLION / d->cells);
    return blob;
}

/* Half cells (Q8) to millionths of the width. */
static int32_t to_width(const tw_detector *d, int64_t half_cells)
{
    return (int32_t)(half_cells * d->grid.cell_px * (MILLION / 2) / d->config.width /
                     256);
}

static int32_t share_q16(uint16_t part, uint16_t all)
{
    return (int32_t)(part * UINT32_C(65536) / all);
}

/* Of the cells around a blob. */
typedef struct surroundings {
    int32_t glow;  /* share of those that glow, Q16 */
    int32_t shade; /* of those in which light explains a change */
} surroundings;

/* A pool of light has soft edges; a pale animal before dark ground has not. Around the
 * edge of a cloud light changes everywhere. */
static surroundings look_around(const tw_detector *d, const sums *s, uint16_t label)
{
    enum { AROUND = 2 };
    const int left = s->left - AROUND, right = s->right + AROUND;
    const int top = s->top - AROUND, bottom = s->bottom + AROUND;
    uint16_t all = 0, glow = 0, shade = 0;
    for (int y = top < 0 ? 0 : top; y <= bottom && y < d->grid.rows; y++) {
        for (int x = left < 0 ? 0 : left; x <= right && x < d->grid.columns; x++) {
            const twi_cell *cell = &d->cell[y * d->grid.columns + x];
            if (cell->label == label)
                continue;
            all++;
            glow = (uint16_t)(glow + cell->glows);
            shade = (uint16_t)(shade + ((cell->flags & TW_CELL_LIGHT) != 0));
        }
    }
    return all > 0 ? (surroundings){share_q16(glow, all), share_q16(shade, all)}
                   : (surroundings){65536, 0};
}

static twi_found found_as(const tw_detector *d, const sums *s, uint16_t label)
{
    const int32_t across = s->right - s->left + 1, down = s->bottom - s->top + 1;
    twi_found f = {.shape = describe(d, s),
                   .label = label,
                   .x = to_width(d, centre(s->x, s->weight)),
                   .y = to_width(d, centre(s->y, s->weight)),
                   .size = to_width(d, CELL * (int64_t)(across > down ? across : down)),
                   .mass = (int32_t)(s->weight > INT32_MAX ? INT32_MAX : s->weight),
                   .changing = share_q16(s->changing, s->cells),
                   .restless = (int32_t)(s->restless / s->cells),
                   .lit = share_q16(s->lit, s->cells),
                   .unlike = share_q16(s->unlike, s->cells),
                   .coloured = share_q16(s->coloured, s->cells),
                   .plain = share_q16(s->plain, s->cells)};
    const surroundings around = look_around(d, s, label);
    f.lit = f.lit < around.glow ? f.lit : around.glow;
    f.shade = around.shade;
    f.allowed = f.shape.size_ppm >= d->config.smallest_ppm &&
                f.shape.size_ppm <= d->config.largest_ppm;
    f.taken = !f.allowed; /* no track may have it */
    return f;
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

/* What becomes of each blob's cells. */
static void mark_cells(tw_detector *d)
{
    for (uint32_t i = 0; i < d->cells; i++) {
        twi_cell *cell = &d->cell[i];
        const twi_found *f = cell->label > 0 ? &d->found[cell->label - 1] : NULL;
        twi_nearby_settle(d, i, f && f->stays && f->shape.counted && !cell->counted);
        cell->owned = cell->counted = false;
        if (!f)
            continue;
        cell->owned = (f->shape.counted || f->promising) && d->config.travel_ppm > 0;
        cell->counted = cell->owned && f->shape.counted;
        if (f->shape.counted)
            cell->flags |= TW_CELL_COUNTED;
        else
            cell->flags |= f->allowed ? TW_CELL_TRAVEL : TW_CELL_SIZE;
    }
}

static uint32_t share(uint32_t cells, uint32_t of)
{
    return of > 0 ? (uint32_t)((uint64_t)cells * MILLION / of) : 0;
}

/* Watched cells that have a flag. */
static uint32_t with_flag(const tw_detector *d, uint8_t flag)
{
    uint32_t count = 0;
    for (uint32_t i = 0; i < d->cells; i++)
        count += (d->shown[i] & TW_CELL_WATCHED) && (d->shown[i] & flag);
    return count;
}

/* Watched cells that only a second witness lets move. */
typedef struct by_witness {
    uint32_t colour, unlike;
} by_witness;

static by_witness moved_by_witness(const tw_detector *d)
{
    by_witness count = {0, 0};
    for (uint32_t i = 0; i < d->cells; i++) {
        const twi_cell *cell = &d->cell[i];
        if (!cell->watched || !(cell->flags & TW_CELL_MOVING))
            continue;
        count.colour += cell->coloured;
        count.unlike += cell->unlike;
    }
    return count;
}

static void write_shares(tw_detector *d, tw_reading *out)
{
    const uint32_t all = d->watched_cells;
    uint32_t ignored = 0;
    for (uint32_t i = 0; i < d->cells; i++) {
        d->shown[i] = d->cell[i].flags;
        ignored += (d->shown[i] & (TW_CELL_MOVING | TW_CELL_WATCHED)) == TW_CELL_MOVING;
    }
    uint32_t counted[TW_AREAS_MAX] = {0};
    for (uint32_t i = 0; i < d->cells; i++)
        counted[d->cell[i].area] += (d->shown[i] & TW_CELL_COUNTED) != 0;
    for (int i = 0; i < TW_AREAS_MAX; i++)
        out->area_ppm[i] = share(counted[i], d->area_cells[i]);
    out->raw_ppm = share(with_flag(d, TW_CELL_MOVING), all);
    out->activity_ppm = share(with_flag(d, TW_CELL_COUNTED), all);
    out->light_ppm = share(with_flag(d, TW_CELL_LIGHT), all);
    out->sway_ppm = share(with_flag(d, TW_CELL_SWAY), all);
    out->shake_ppm = share(with_flag(d, TW_CELL_SHAKE), all);
    out->size_ppm = share(with_flag(d, TW_CELL_SIZE), all);
    out->travel_ppm = share(with_flag(d, TW_CELL_TRAVEL), all);
    out->ignored_ppm = share(ignored, d->cells);
    const by_witness moved = moved_by_witness(d);
    out->colour_ppm = share(moved.colour, all);
    out->unlike_ppm = share(moved.unlike, all);
    out->cells = d->shown;
    out->grid = d->grid;
}

/* @return how many blobs there are. */
static size_t find_all(tw_detector *d)
{
    size_t count = 0;
    const size_t most = (size_t)TWI_FOUND_EACH * d->config.tracks;
    for (uint32_t i = 0; i < d->cells && count < most; i++) {
        if (!d->cell[i].seed || !joins(&d->cell[i]))
            continue;
        const uint16_t label = (uint16_t)(count + 1);
        const sums s = flood(d, (uint16_t)i, label);
        d->found[count++] = found_as(d, &s, label);
    }
    return count;
}

void twi_blobs_find(tw_detector *d, tw_reading *out)
{
    for (uint32_t i = 0; i < d->cells; i++)
        d->cell[i].label = 0;
    const size_t count = out->whole_picture ? 0 : find_all(d);
    if (d->config.travel_ppm > 0)
        twi_tracks_follow(d, count, out);
    for (size_t i = 0; i < count; i++) {
        twi_found *f = &d->found[i];
        const twi_track *track =
            d->config.travel_ppm > 0 ? twi_tracks_of(d, f->label) : NULL;
        f->shape.counted =
            f->allowed && (d->config.travel_ppm == 0 || (track && track->alive));
        f->shape.travel_ppm = track ? (uint32_t)track->net : 0;
        f->stays = track && track->stays;
        f->promising = track && twi_track_is_promising(d, track);
        list(out, &f->shape);
    }
    mark_cells(d);
    out->blobs_found = (uint16_t)count;
    write_shares(d, out);
}
