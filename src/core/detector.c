/* The detector: its memory, and the order of its steps. */
#include "tawny/detector.h"

#include <string.h>

#include "detector_state.h"
#include "scenes.h"
#include "sized.h"

enum {
    US = 1000000,
    STEP_MAX_US = 10 * US, /* a longer gap says nothing about the frame rate */
    STEP_USUAL_US = US / 10,
    PAST_STEP_US = 80000,      /* frames that far apart are compared one with the next */
    PAST_US = 95000,           /* those that come quicker with one so far back */
    PAST_KEEP_US = 65000,      /* between two levels that are kept */
    SETTLED_US = 8 * US,       /* before this everything is new, and nothing is sudden */
    TURNED_US = US,            /* fast learning after the whole picture turned */
    FALLING_US = 2 * US,       /* to notice rain and snow, and that they have ended */
    FALLING_GUESS_US = 600000, /* before, slow cameras are taken to see some */
    FALLING_MAX_STEP_US = 350000, /* frames further apart have nothing in common */
    FALLING_BEGINS_PCT = 13, /* of the cells; wind in leaves and water stay below this */
    FALLING_ENDS_PCT = 9,
    CELLS_USUAL = 40,
    EVIDENCE_USUAL = 100,
    ALIGN = 16
};

void tw_detector_defaults_sized(tw_detector_config *config, uint16_t width,
                                uint16_t height, size_t size)
{
    if (!config)
        return;
    const tw_detector_config usual = {.width = width,
                                      .height = height,
                                      .noise_margin_pct = 100,
                                      .largest_ppm = 1000000,
                                      .travel_ppm = 43750,
                                      .memory_us = INT64_C(30) * US,
                                      .cells = CELLS_USUAL,
                                      .tracks = TW_TRACKS_MAX,
                                      .light_guard = true,
                                      .sway_guard = true,
                                      .shake_guard = true,
                                      .colour = true,
                                      .nearby = true,
                                      .evidence_pct = EVIDENCE_USUAL,
                                      .lights = TW_LIGHTS_MAX};
    twi_sized_give(config, size, &usual, sizeof usual);
}

static bool valid_evidence(uint16_t pct)
{
    return pct == 0 || (pct >= TW_EVIDENCE_MIN && pct <= TW_EVIDENCE_MAX);
}

static bool valid(const tw_detector_config *c)
{
    return c->width >= TW_DETECTOR_MIN_SIDE && c->width <= TW_DETECTOR_MAX_SIDE &&
           c->height >= TW_DETECTOR_MIN_SIDE && c->height <= TW_DETECTOR_MAX_SIDE &&
           c->difference <= 255 && c->noise_margin_pct >= 10 &&
           c->noise_margin_pct <= 1000 && c->smallest_ppm <= c->largest_ppm &&
           c->largest_ppm <= 1000000 && c->travel_ppm <= 1000000 && c->memory_us >= US &&
           c->memory_us <= INT64_C(3600) * US && c->cells >= TW_CELLS_MIN &&
           c->cells <= TW_CELLS_MAX && c->tracks >= 1 && c->tracks <= TW_TRACKS_MAX &&
           valid_evidence(c->evidence_pct) && c->lights <= TW_LIGHTS_MAX;
}

/* A last row or column of cells is kept if at least half of it lies in the picture; it is
 * then smaller, and the pixels of one that is not kept are never read. */
static tw_grid grid_of(const tw_detector_config *c)
{
    uint32_t px = (c->width + c->cells / 2U) / c->cells;
    px = px < TWI_CELL_MIN_PX   ? TWI_CELL_MIN_PX
         : px > TWI_CELL_MAX_PX ? TWI_CELL_MAX_PX
                                : px;
    return (tw_grid){.columns = (uint16_t)((c->width + px / 2) / px),
                     .rows = (uint16_t)((c->height + px / 2) / px),
                     .cell_px = (uint16_t)px,
                     .width = c->width,
                     .height = c->height};
}

/* Hands out aligned pieces of one block; without a block it only counts. */
typedef struct pieces {
    uint8_t *base;
    size_t used;
} pieces;

static void *piece(pieces *p, size_t count, size_t size)
{
    void *at = p->base ? p->base + p->used : NULL;
    p->used += (count * size + ALIGN - 1) / ALIGN * ALIGN;
    return at;
}

static void lay_out_scene(const tw_detector_config *c, size_t cells, twi_scene *s,
                          pieces *p)
{
    const size_t pixels = (size_t)c->width * c->height;
    memset(s, 0, sizeof *s);
    s->background = piece(p, pixels, sizeof *s->background);
    s->noise = piece(p, pixels, sizeof *s->noise);
    s->cell = piece(p, cells, sizeof *s->cell);
    s->colour = c->colour ? piece(p, cells, sizeof *s->colour) : NULL;
    s->nearby = c->nearby ? piece(p, cells, sizeof *s->nearby) : NULL;
}

static tw_detector *lay_out(const tw_detector_config *c, pieces *p)
{
    const tw_grid grid = grid_of(c);
    const size_t pixels = (size_t)c->width * c->height;
    const size_t cells = (size_t)grid.columns * grid.rows;
    tw_detector counted;
    tw_detector *d = piece(p, 1, sizeof *d);
    tw_detector *at = d ? d : &counted;
    memset(at, 0, sizeof *at);
    at->config = *c;
    at->grid = grid;
    at->falling = true;
    at->scene = TW_LIGHTS_MAX;
    at->cells = at->watched_cells = at->area_cells[0] = (uint32_t)cells;
    at->background = piece(p, pixels, sizeof *at->background);
    at->noise = piece(p, pixels, sizeof *at->noise);
    at->cell = piece(p, cells, sizeof *at->cell);
    at->colour = c->colour ? piece(p, cells, sizeof *at->colour) : NULL;
    at->nearby = c->nearby ? piece(p, cells, sizeof *at->nearby) : NULL;
    at->row_sums =
        c->nearby ? piece(p, (size_t)2 * grid.columns, sizeof *at->row_sums) : NULL;
    at->shown = piece(p, cells, sizeof *at->shown);
    at->stack = piece(p, cells, sizeof *at->stack);
    at->other = piece(p, c->lights, sizeof *at->other);
    for (int i = 0; i < c->lights; i++) {
        twi_scene counted_one;
        lay_out_scene(c, cells, at->other ? &at->other[i] : &counted_one, p);
    }
    at->found = piece(p, (size_t)TWI_FOUND_EACH * c->tracks, sizeof *at->found);
    at->track = piece(p, c->tracks, sizeof *at->track);
    at->column.n = piece(p, c->width, sizeof *at->column.n);
    at->column.x = piece(p, c->width, sizeof *at->column.x);
    at->column.noise = piece(p, c->width, sizeof *at->column.noise);
    at->column.top = piece(p, c->width, sizeof *at->column.top);
    at->column.bottom = piece(p, c->width, sizeof *at->column.bottom);
    at->column.d = piece(p, c->width, sizeof *at->column.d);
    at->column.dd = piece(p, c->width, sizeof *at->column.dd);
    return d;
}

/* @return whether there is a configuration, and it is valid. @param own  Set to it. */
static bool take_config(const tw_detector_config *config, tw_detector_config *own)
{
    if (!config)
        return false;
    TWI_TAKE(*own, config);
    return valid(own);
}

tw_status tw_detector_bytes(const tw_detector_config *config, size_t *bytes)
{
    tw_detector_config own;
    if (!bytes || !take_config(config, &own))
        return TW_EINVAL;
    pieces p = {NULL, 0};
    (void)lay_out(&own, &p);
    *bytes = p.used;
    return TW_OK;
}

tw_status tw_detector_init(const tw_detector_config *config, void *memory, size_t bytes,
                           tw_detector **out)
{
    tw_detector_config own;
    if (!memory || !out || !take_config(config, &own) ||
        (uintptr_t)memory % sizeof(int64_t) != 0)
        return TW_EINVAL;
    pieces need = {NULL, 0}, p = {memory, 0};
    (void)lay_out(&own, &need);
    if (bytes < need.used)
        return TW_ESIZE;
    tw_detector *d = lay_out(&own, &p);
    d->kernels = twi_kernels_at(0);
    memset(d->cell, 0, d->cells * sizeof *d->cell);
    if (d->nearby)
        memset(d->nearby, 0, d->cells * sizeof *d->nearby);
    if (d->colour)
        memset(d->colour, 0, d->cells * sizeof *d->colour);
    memset(d->track, 0, d->config.tracks * sizeof *d->track);
    for (uint32_t i = 0; i < d->cells; i++) {
        d->cell[i].watched = true;
        d->cell[i].q98 = TWI_LEVEL(0.4);
    }
    *out = d;
    return TW_OK;
}

tw_status tw_detector_adjust(tw_detector *detector, const tw_detector_config *config)
{
    tw_detector_config own;
    if (!detector || !take_config(config, &own))
        return TW_EINVAL;
    const tw_detector_config *had = &detector->config;
    if (own.width != had->width || own.height != had->height || own.cells != had->cells ||
        own.colour != had->colour || own.nearby != had->nearby ||
        own.tracks != had->tracks || own.lights != had->lights)
        return TW_ESIZE;
    detector->config = own;
    return TW_OK;
}

void tw_detector_light_switched(tw_detector *d)
{
    d->turned_until_us = d->age_us + 2 * TURNED_US;
}

void tw_detector_conditions(const tw_detector *d, uint32_t *light_ppm, uint32_t *noise)
{
    const uint32_t pixels = (uint32_t)d->config.width * d->config.height;
    uint64_t light = 0, flicker = 0;
    *light_ppm = *noise = 0;
    if (pixels == 0) /* which no detector has */
        return;
    for (uint32_t i = 0; i < pixels; i++) {
        light += d->background[i];
        flicker += d->noise[i];
    }
    *light_ppm = (uint32_t)(light * 1000000 / ((uint64_t)pixels * 255 * 256));
    *noise = (uint32_t)(flicker / pixels);
}

tw_status tw_detector_coloured(const tw_detector *d, uint32_t *coloured_ppm)
{
    if (!d || !coloured_ppm)
        return TW_EINVAL;
    if (!d->tinted)
        return TW_ENOENT;
    *coloured_ppm = (uint32_t)((uint64_t)d->coloured * 1000000 / d->cells);
    return TW_OK;
}

tw_grid tw_detector_grid(const tw_detector *detector)
{
    return detector ? detector->grid : (tw_grid){0};
}

tw_status tw_detector_watch_cells(tw_detector *detector, const uint8_t *mask)
{
    if (!detector || !mask)
        return TW_EINVAL;
    uint32_t watched = 0;
    for (uint32_t i = 0; i < detector->cells; i++) {
        watched += mask[i] != 0;
        if (mask[i] > TW_AREAS_MAX)
            return TW_EINVAL;
    }
    if (watched == 0)
        return TW_EINVAL;
    memset(detector->area_cells, 0, sizeof detector->area_cells);
    for (uint32_t i = 0; i < detector->cells; i++) {
        twi_cell *cell = &detector->cell[i];
        cell->watched = mask[i] != 0;
        cell->area = cell->watched ? (uint8_t)(mask[i] - 1) : 0;
        detector->area_cells[cell->area] += cell->watched;
    }
    detector->watched_cells = watched;
    return TW_OK;
}

tw_status tw_detector_area_evidence(tw_detector *detector, uint8_t area, uint16_t pct)
{
    if (!detector || area >= TW_AREAS_MAX || !valid_evidence(pct))
        return TW_EINVAL;
    detector->evidence_pct[area] = pct;
    return TW_OK;
}

/* The first frame is the first guess at the background. */
static void take_first(tw_detector *d, const tw_luma *luma)
{
    const size_t width = d->config.width;
    for (size_t y = 0; y < d->config.height; y++)
        for (size_t x = 0; x < width; x++)
            d->background[y * width + x] =
                (uint16_t)(luma->px[y * luma->stride + x] << 8);
    memset(d->noise, TWI_NOISE_START, width * d->config.height);
    for (uint32_t i = 0; i < d->cells; i++)
        d->cell[i].flags = d->cell[i].watched ? TW_CELL_WATCHED : 0;
}

/* Cells keep two levels of before, so that a frame can be compared with one that is about
 * a tenth of a second older, however many come in between: the frame before where they
 * are that far apart already. */
static void choose_past(tw_detector *d)
{
    if (d->sampling) {
        d->newest = !d->newest;
        d->sampled_us = 0;
    }
    d->sampled_us += d->step_us;
    const int32_t enough = d->step_us >= PAST_STEP_US ? PAST_STEP_US : PAST_US;
    d->past = d->sampled_us >= enough ? d->newest : !d->newest;
    d->sampling = d->sampled_us >= PAST_KEEP_US;
}

static void move_clock(tw_detector *d, int64_t t_us)
{
    const int64_t step = t_us - d->last_us;
    d->step_us = (int32_t)(step <= 0 || step > STEP_MAX_US ? STEP_USUAL_US : step);
    d->age_us += d->step_us;
    d->last_us = t_us;
    choose_past(d);
}

/* Rain and snow: at any moment a good part of the cells is high that was not a moment
 * ago, for as long as it goes on. A plain mean at the start, then exponential forgetting.
 */
static void follow_falling(tw_detector *d)
{
    const int32_t now = (int32_t)((uint64_t)d->fleeting_cells * 65535 / d->cells);
    const int64_t known = d->age_us < FALLING_US ? d->age_us : FALLING_US;
    const int64_t step = d->step_us < known ? d->step_us : known;
    d->fleeting = (uint16_t)(d->fleeting + (now - d->fleeting) * step / known);
    d->fleeting_cells = 0;
    const bool slow = d->step_us > TWI_LASTING_STEP_US;
    const int32_t least =
        (d->falling ? FALLING_ENDS_PCT : FALLING_BEGINS_PCT) * 65536 / 100;
    d->falling = d->step_us <= FALLING_MAX_STEP_US &&
                 (d->fleeting > least || (slow && d->age_us < FALLING_GUESS_US));
}

/* Sum up a row of cells and keep its sums: what light does in a cell is asked of those
 * below it, too. */
static void take_row(tw_detector *d, const tw_luma *luma, uint16_t row,
                     twi_cell_sums *sums)
{
    twi_cells_sum_row(d, luma, row);
    for (uint16_t column = 0; column < d->grid.columns; column++) {
        sums[column] = twi_cells_take(d, row, column);
        twi_slant_tell(d, (uint32_t)row * d->grid.columns + column, &sums[column]);
    }
}

/* @param held  The row's sums; NULL: it is the row that was summed last. */
static void judge_row(tw_detector *d, const tw_luma *luma, uint16_t row,
                      const twi_cell_sums *held)
{
    twi_patch patch;
    for (uint16_t column = 0; column < d->grid.columns; column++) {
        twi_cell *cell = &d->cell[(size_t)row * d->grid.columns + column];
        const twi_cell_sums sums = held ? held[column] : twi_cells_take(d, row, column);
        twi_cell_fit fit;
        const bool fitted = twi_cells_judge(d, luma, row, column, &sums, &fit, &patch);
        if (fitted && !(cell->flags & TW_CELL_MOVING))
            twi_learn_noise(d, &patch, row, column, &fit);
        twi_learn_what_stays(d, cell, &sums);
    }
}

static void judge_rows(tw_detector *d, const tw_luma *luma)
{
    for (uint16_t row = 0; row < d->grid.rows; row++) {
        twi_cells_sum_row(d, luma, row);
        judge_row(d, luma, row, NULL);
    }
}

/* The same with the sums of a row ahead. */
static void judge_rows_ahead(tw_detector *d, const tw_luma *luma)
{
    twi_cell_sums *row_sums[2] = {d->row_sums, d->row_sums + d->grid.columns};
    take_row(d, luma, 0, row_sums[0]);
    for (uint16_t row = 0; row < d->grid.rows; row++) {
        if (row + 1 < d->grid.rows)
            take_row(d, luma, (uint16_t)(row + 1), row_sums[(row + 1) % 2]);
        judge_row(d, luma, row, row_sums[row % 2]);
    }
}

/* What a frame has done to the cells. */
typedef struct tally {
    uint32_t moving, lit; /* lit: light explains what has changed in them */
    uint32_t quarter[4]; /* of those that move, how many in each quarter of the picture */
} tally;

static tally count_cells(const tw_detector *d)
{
    tally count = {0, 0, {0}};
    for (uint32_t i = 0; i < d->cells; i++) {
        count.lit += (d->cell[i].flags & TW_CELL_LIGHT) != 0;
        if (!(d->cell[i].flags & TW_CELL_MOVING))
            continue;
        const bool lower = i / d->grid.columns * 2 >= d->grid.rows;
        const bool right = i % d->grid.columns * 2 >= d->grid.columns;
        count.quarter[lower * 2 + right]++;
        count.moving++;
    }
    return count;
}

/* Keep the mean of the last second of a number of cells, Q8. */
static void follow_usual(const tw_detector *d, int32_t *usual, uint32_t now)
{
    const int64_t step = d->step_us < US ? d->step_us : US;
    *usual += (int32_t)(((int64_t)now * 256 - *usual) * step / US);
}

/* A switched lamp or a knocked camera: more than half of the picture at once, or suddenly
 * far more than in the last second, and nearly everywhere; or while another quarter of
 * the picture was suddenly lit, which is a step of exposure that white or black parts of
 * the picture could not follow. */
static bool whole_picture_turned(tw_detector *d)
{
    const tally now = count_cells(d);
    uint32_t wide = 0;
    for (int k = 0; k < 4; k++)
        wide += now.quarter[k] * 100 >= d->cells; /* 4 % of a quarter */
    const uint32_t sudden = d->cells * 12 / 100 + 3 * (uint32_t)d->moving_usual / 256;
    const bool flash = now.lit > d->cells / 4 + (uint32_t)d->lit_usual / 256;
    follow_usual(d, &d->moving_usual, now.moving);
    follow_usual(d, &d->lit_usual, now.lit);
    if (now.moving * 2 > d->cells)
        return true;
    return d->age_us >= SETTLED_US && now.moving > sudden && (wide >= 3 || flash);
}

/* The whole picture may be lit otherwise from this frame on. */
static void follow_turns(tw_detector *d, const tw_luma *luma)
{
    const bool turned = whole_picture_turned(d) || twi_scenes_tint_turned(d);
    if (turned)
        d->turned_until_us = d->age_us + TURNED_US;
    const bool turns = d->age_us < d->turned_until_us;
    const bool mistaken = turned && d->age_us - d->scene_since_us > TURNED_US / 2;
    const bool begins = turns && (!d->turning || mistaken);
    d->turning = turns;
    /* Light explains some turns, of a lens that was covered for one. */
    d->scenes_in_us -= d->step_us;
    if (!turns && d->scenes_in_us > 0)
        return;
    d->scenes_in_us = US;
    const bool recalled = twi_scenes_recall(d, luma);
    if (begins && !recalled)
        twi_scenes_leave(d);
    if (!recalled || turns)
        return;
    d->turned_until_us = d->age_us + TURNED_US / 2;
    d->turning = true;
}

static tw_status read_frame(tw_detector *detector, const tw_luma *luma,
                            const tw_chroma *chroma, int64_t t_us, tw_reading *out)
{
    tw_detector *d = detector;
    if (luma->width != d->config.width || luma->height != d->config.height)
        return TW_ESIZE;
    memset(out, 0, sizeof *out);
    out->size = sizeof *out;
    out->t_us = out->since_us = out->earliest_us = t_us;
    if (d->frames == 0) {
        take_first(d, luma);
        twi_colour_take(d, chroma);
        d->last_us = t_us;
    } else {
        move_clock(d, t_us);
        twi_cells_set_pace(d);
        twi_learn_set_pace(d);
        twi_colour_take(d, chroma);
        if (d->nearby)
            judge_rows_ahead(d, luma);
        else
            judge_rows(d, luma);
        twi_shade_explain(d, luma);
        twi_fog_count(d);
        follow_falling(d);
        twi_fast_find(d);
        follow_turns(d, luma);
        out->whole_picture = d->turning;
        for (uint16_t row = 0; row < d->grid.rows; row++)
            twi_learn_background_row(d, luma, row);
    }
    d->frames++;
    twi_blobs_find(d, out);
    return TW_OK;
}

/* For a program that knows less of a reading, or more. */
static tw_status read_for(tw_detector *detector, const tw_luma *luma,
                          const tw_chroma *chroma, int64_t t_us, tw_reading *out,
                          size_t size)
{
    tw_reading own;
    const tw_status st = read_frame(detector, luma, chroma, t_us, &own);
    if (st == TW_OK)
        twi_sized_give(out, size, &own, sizeof own);
    return st;
}

tw_status tw_detector_read_sized(tw_detector *detector, const tw_luma *luma,
                                 const tw_chroma *chroma, int64_t t_us, tw_reading *out,
                                 size_t size)
{
    if (!detector || !out || tw_luma_check(luma) != TW_OK ||
        (chroma && tw_chroma_check(chroma) != TW_OK))
        return TW_EINVAL;
    return size == sizeof *out ? read_frame(detector, luma, chroma, t_us, out)
                               : read_for(detector, luma, chroma, t_us, out, size);
}
