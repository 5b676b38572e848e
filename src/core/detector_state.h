/* The detector's state, shared by its steps: cells.c measures and judges cells, learn.c
 * updates background and noise, blobs.c groups cells, detector.c runs them in order. */
#ifndef TWI_DETECTOR_STATE_H
#define TWI_DETECTOR_STATE_H

#include "kernels.h"
#include "tawny/detector.h"

/* Levels are base-2 logarithms of "residual over expected noise", in 1/65536. The cast is
 * of a constant, so no float is left at run time. */
#define TWI_LEVEL(x) ((int32_t)((x)*65536.0))
/* The same of shares and masses, where 65536 is one, in 64 bits. */
#define TWI_Q16(x) ((int64_t)((x)*65536.0))
#define TWI_FAST_ABOVE                                                                   \
    TWI_LEVEL(1.0) /* its limit is what does not last, if it counts                      \
                    */

enum {
    TWI_CLUTTERS = 5,
    TWI_AIRLIGHTS = 32,
    TWI_QUADRANTS = 4,
    TWI_FOUND_EACH = 3,    /* blobs in a frame for each track; more are not looked at */
    TWI_TRAIL_PLACES = 60, /* that a trail holds */
    TWI_CELL_MIN_PX = 4,   /* along the edge of a cell, however many there are across */
    TWI_CELL_MAX_PX = TWI_PATCH_ROWS_MAX, /* 1024 / 40, rounded up; sums hold no more */
    TWI_NOISE_START = 24,                 /* 1.5 levels, Q4.4 */
    TWI_ALL_FITTED_US = 10000000,         /* every cell is fitted at first */
    TWI_FIT_EVERY = 8,            /* still cells are fitted once in so many frames */
    TWI_LASTING_STEP_US = 125000, /* frames further apart show a subject elsewhere */
    TWI_CLIPPED_HI = 248, /* a pixel says nothing where the brighter one is over this */
    TWI_CLIPPED_LO = 190, /* and the darker one over this */
    TWI_NOISE_CLIP = 160, /* ten levels, Q4 */
    TWI_CELL_FEW = 16,    /* a cell with fewer than 5 of 16 of its pixels left ... */
    TWI_CELL_FEW_OF = 5   /* ... says nothing */
};

/* First and second order sums over one cell, x background and y frame, both Q2. */
typedef struct twi_cell_sums {
    int32_t n;                       /* pixels that are not clipped */
    int32_t x, d, dd;                /* of x, y - x and (y - x)^2 */
    int32_t noise;                   /* of the noise estimate, Q4 */
    int32_t area;                    /* pixels, clipped ones too */
    int32_t quadrant[TWI_QUADRANTS]; /* of the frame's pixels, clipped ones too */
    int32_t quadrant_px[TWI_QUADRANTS];
} twi_cell_sums;

/* What explains a cell: y = gain * x + offset + dx * du + dy * dv. */
typedef struct twi_cell_fit {
    float gain, dx, dy, offset;
    float airlight; /* that the fit tells, if there is fog; below 0: there is none */
    float middle;   /* the offset where nothing is explained by a shift, Q2 */
    float expected; /* squares that noise alone would leave of the cell; 0: not fitted */
    int32_t unshifted; /* the level that a fit without dx and dy would have left */
} twi_cell_fit;

enum { TWI_STILL_UNIT_US = 4000, TWI_PAST_STEP = 64 };

#define TWI_NOISE_HASH                                                                   \
    2654435761U /* the golden ratio of 2^32: neighbours differ most                      \
                 */

typedef struct twi_cell {
    int32_t level;    /* of this frame, as judged */
    int32_t limit;    /* moving above this */
    int32_t q98, q50; /* the cell's usual levels: 98th percentile and median */
    uint16_t quadrant[TWI_QUADRANTS]; /* means it is compared with, Q8 */
    int16_t past[2]; /* levels as measured a little earlier, see tw_detector.past, in
                        steps of TWI_PAST_STEP */
    uint8_t flags;   /* TW_CELL_ bits of this frame */
    uint8_t area;    /* of tw_reading.area_ppm */
    bool watched : 1;
    bool over_high : 1;  /* over the seed's limit in this frame */
    bool seed : 1;       /* and in the one before, or that is long ago */
    bool lit : 1;        /* explained only by much more light */
    bool glows : 1;      /* somewhat brighter than it was */
    bool owned : 1;      /* part of a subject in the last frame, or what may be one */
    bool counted : 1;    /* and that is a subject */
    bool predicted : 1;  /* what is followed should be about here in the next frame */
    bool fast : 1;       /* calm, and well over its limit, but not a moment ago */
    bool coloured : 1;   /* moving by its colour alone */
    bool unlike : 1;     /* moving only as it is unlike what is near it */
    bool plain : 1;      /* its colour is as usual, or only as much lighter or darker */
    unsigned absorb : 4; /* frames for which it is learned quickly */
    uint16_t still; /* how long a moving cell has looked the same, TWI_STILL_UNIT_US */
    uint16_t label; /* of its blob, counted from 1; 0 none */
} twi_cell;

/* What a second witness has said of a cell. */
typedef struct twi_witness {
    int32_t past[2];  /* levels a little earlier, as those of twi_cell */
    int32_t q98, q50; /* usual levels, likewise */
} twi_witness;

/* What is known of a cell against what is near it. */
typedef struct twi_nearby {
    twi_witness witness;
    int32_t still;  /* the cell's q98 when nothing moved in it */
    float ratio;    /* its mean brightness over that of its background; 0: not known */
    float expected; /* as of its fit, in this frame */
    bool explained; /* calm, once light and shift have explained what they can */
} twi_nearby;

/* What is usual of a cell's colour; blue and red differences from grey, in levels. */
typedef struct twi_colour {
    float u, v;     /* usual mean */
    float variance; /* usual square of what is off it, half of both */
    float now_u, now_v,
        off; /* in this frame; and half the square of what is unexplained */
    twi_witness witness;
} twi_colour;

/* A blob of this frame, as tracks see it. Lengths are millionths of the picture's width,
 * also those down the picture; Q16 where 65536 is one. */
typedef struct twi_found {
    tw_blob shape;      /* as the reading tells it */
    uint16_t label;     /* of its cells */
    bool allowed : 1;   /* its size is between smallest and largest */
    bool taken : 1;     /* it belongs to a track */
    bool stays : 1;     /* to a subject that was taken for one without travelling */
    bool promising : 1; /* to one that may yet become a subject */
    int32_t x, y;       /* weighted centre */
    int32_t size;       /* longer side of its box */
    int32_t mass;       /* sum of the weights of its cells, Q16 */
    int32_t changing;   /* share of its cells that have looked different of late, Q16 */
    int32_t restless;   /* mean usual level of its cells, Q16 */
    int32_t lit;        /* share of its cells that are lit, or of the cells around it that
                           glow if that is less, Q16 */
    int32_t coloured;   /* share of its cells that move by their colour alone, Q16 */
    int32_t unlike;     /* share of those that only are unlike what is near them, Q16 */
    int32_t shade;      /* share of the cells around it in which light has changed, Q16 */
    int32_t plain;      /* share of its cells whose colour only followed the light, Q16 */
} twi_found;

/* Where a track was, in PLACE_STEP millionths of the width. */
typedef struct twi_place {
    int16_t x, y;
} twi_place;

/* Where a track has been, at even times. */
typedef struct twi_trail {
    int64_t sampled_us; /* the newest place */
    uint32_t count;     /* places so far; the newest TWI_TRAIL_PLACES are held */
    twi_place place[TWI_TRAIL_PLACES];
} twi_trail;

/* Something that is followed from frame to frame. Times are the detector's age. */
typedef struct twi_track {
    bool used : 1;
    bool confirmed : 1;
    bool slow : 1;        /* confirmed by its slow trail */
    bool stays : 1;       /* confirmed without travelling */
    bool alive : 1;       /* confirmed, seen of late, and travelling of late */
    uint16_t blob;        /* label of its blob in this frame; 0: unseen */
    int32_t x, y, vx, vy; /* centre, and its speed a second */
    int32_t smooth_x, smooth_y, start_x, start_y;
    int64_t born_us, seen_us, moved_us;
    uint32_t hits, frames; /* in which it was seen, and in all */
    int32_t mass, size, changing, restless, lit, recent; /* smoothed, but for size */
    int32_t plain, coloured;                             /* smoothed */
    int32_t shade, unlike;                               /* smoothed */
    int32_t widest;                                      /* size, fading slowly */
    int32_t leap;    /* furthest that it was from where it should have been, fading */
    int32_t net;     /* how far it has travelled, as far as is remembered */
    int32_t calm;    /* how restless its cells were when it came, Q16 */
    twi_trail trail; /* five places a second */
    twi_trail slow_trail; /* one in two seconds */
} twi_track;

/* What is usual of a cell by another light. */
typedef struct twi_scene_cell {
    int32_t q98, q50;
    uint16_t quadrant[TWI_QUADRANTS];
} twi_scene_cell;

/* What was learnt by another light. */
typedef struct twi_scene {
    bool used;
    int64_t left_us; /* age when it was gone from last */
    int32_t clutter[TWI_CLUTTERS];
    uint16_t airlights[TWI_AIRLIGHTS];
    uint16_t airlight;
    uint16_t *background; /* as those of the detector */
    uint8_t *noise;
    twi_scene_cell *cell;
    twi_colour *colour;
    twi_nearby *nearby;
} twi_scene;

struct tw_detector {
    tw_detector_config config;
    const twi_kernels *kernels; /* chosen once */
    tw_grid grid;
    bool sampling : 1; /* levels of this frame are kept in the cells' past */
    bool newest : 1;   /* which of the two there is the newer one */
    bool past : 1;     /* which of the two this frame is compared with */
    bool falling : 1;  /* rain or snow, all over the picture */
    bool tinted : 1;   /* this frame has colour, and so had one before */
    bool turning : 1;  /* the whole picture turned, and has not settled yet */
    uint8_t scene;     /* that what is known is; TW_LIGHTS_MAX: a new one */
    uint16_t coloured, coloured_before; /* cells with colour, in this frame and before */
    int32_t scenes_in_us;               /* until others are thought of */
    int64_t scene_since_us;             /* in age: it has been that since */
    uint32_t cells;                     /* columns * rows */
    uint32_t watched_cells;             /* >= 1 */
    uint32_t area_cells[TW_AREAS_MAX];
    uint16_t evidence_pct[TW_AREAS_MAX]; /* asked for there; 0: as everywhere */
    uint32_t frames;                     /* read so far */
    uint16_t fleeting_cells;             /* high in this frame, and not a moment ago */
    uint16_t fleeting;                   /* their usual share, Q16 */
    int64_t last_us;
    int64_t age_us;          /* since the first frame, bad steps mended */
    int32_t step_us;         /* since the last frame, likewise */
    int32_t sampled_us;      /* since levels were kept */
    int64_t tinted_us;       /* in age: colour has been there since */
    int64_t turned_until_us; /* in age: most of the picture turned */
    struct {
        int32_t up, down;          /* of the trackers of cells, levels Q16 */
        int32_t noise;             /* Q12 */
    } pace;                        /* how far all learn in this frame */
    int32_t clutter[TWI_CLUTTERS]; /* how many blobs there are beside one: all, and those
                                      of some mass, Q16 */
    uint16_t airlights[TWI_AIRLIGHTS]; /* how many cells have told each, darkest first */
    uint16_t airlight;                 /* of the last frame's fog, Q2; 0: no fog */
    int32_t moving_usual;              /* cells that moved, mean of the last second, Q8 */
    int32_t lit_usual; /* cells in which light explained a change, likewise */
    /* Arrays in the caller's memory. */
    uint16_t *background;    /* width * height, Q8.8 */
    uint8_t *noise;          /* width * height: mean absolute residual, Q4.4 levels */
    twi_cell *cell;          /* columns * rows */
    twi_colour *colour;      /* columns * rows; NULL: not heeded */
    twi_nearby *nearby;      /* columns * rows; NULL: not asked */
    twi_cell_sums *row_sums; /* two rows of columns each; NULL: without nearby */
    uint8_t *shown;          /* columns * rows: TW_CELL_ bits for the reading */
    uint16_t *stack;         /* columns * rows: cells still to be visited */
    twi_scene *other;        /* config.lights: by other lights */
    twi_found *found;        /* TWI_FOUND_EACH for each track */
    twi_track *track;        /* config.tracks */
    struct {                 /* one column of pixels within a row of cells; width each */
        union {
            uint16_t *n;
            uint16_t *rate; /* learning rate of the background, Q16, once n is spent */
        };
        uint16_t *x, *noise, *top, *bottom;
        int16_t *d;
        uint32_t *dd;
    } column;
};

/* First row of pixels below a row of cells, and first column right of a column: the last
 * ones may be cut off. */
static inline uint32_t twi_row_end(const tw_detector *d, uint16_t row)
{
    const uint32_t end = (row + 1U) * d->grid.cell_px;
    return end < d->config.height ? end : d->config.height;
}

static inline uint32_t twi_column_end(const tw_detector *d, uint16_t column)
{
    const uint32_t end = (column + 1U) * d->grid.cell_px;
    return end < d->config.width ? end : d->config.width;
}

/* How many times slower a cell learns to be restless from what moves in it: a subject
 * must not teach it. */
static inline int32_t twi_teaches(const twi_cell *cell)
{
    return cell->counted ? 16 : cell->owned ? 4 : 1;
}

/* Whether so many of a cell's pixels are enough to say something. */
static inline bool twi_cell_has_enough(const twi_cell_sums *sums, int32_t pixels)
{
    return pixels * TWI_CELL_FEW >= sums->area * TWI_CELL_FEW_OF;
}

/** Sum up the cells of one row of cells, without any fit. */
void twi_cells_sum_row(tw_detector *d, const tw_luma *luma, uint16_t row);

/** The sums of one cell of the row that was summed last. */
twi_cell_sums twi_cells_take(const tw_detector *d, uint16_t row, uint16_t column);

/** Work out the pace of this frame, before any of its cells is judged. */
void twi_cells_set_pace(tw_detector *d);
void twi_learn_set_pace(tw_detector *d);

/** Measure and judge one cell: sets its level, limit, flags and seed, moves its trackers.
 * @param fit    Set to what explains it.
 * @param patch  Where it was fitted: its pixels.
 * @return whether it was fitted, which is when its noise may be learned. */
bool twi_cells_judge(tw_detector *d, const tw_luma *luma, uint16_t row, uint16_t column,
                     const twi_cell_sums *sums, twi_cell_fit *fit, twi_patch *patch);

/** Take a frame's colours: means of each cell. @param chroma NULL: it has none. */
void twi_colour_take(tw_detector *d, const tw_chroma *chroma);

/** Let a cell move whose colour has changed by more than light and its own habits
 * explain, and note where light explains it. To be called once the cell's level and limit
 * are set. */
void twi_colour_judge(tw_detector *d, uint32_t index, const twi_cell_sums *sums);

/** How restless a cell's colour usually is, on the scale of brightness. */
int32_t twi_colour_restless(const tw_detector *d, uint32_t index);

/** @return the airlight that would explain a fit as fog, Q2; below 0: none. */
float twi_fog_airlight(float gain, float offset);

/** Let a cell tell the airlight it has seen. @param airlight  Below 0: it has none. */
void twi_fog_vote(tw_detector *d, float airlight);

/** After a frame: whether enough cells agree for the next frame. */
void twi_fog_count(tw_detector *d);

/** @return whether fog explains a fit, by the airlight that all cells tell. */
bool twi_fog_explains(const tw_detector *d, float gain, float offset);

/** Let a witness say its level of this frame, and learn what is usual of it.
 * @param least  Its limit is at least this.
 * @param calm   Lower than this makes no difference to what is usual.
 * @return by how much it is over its limit. */
int32_t twi_witness_hear(const tw_detector *d, const twi_cell *cell, twi_witness *w,
                         int32_t measured, int32_t least, int32_t calm);

/** Let a cell move whose pixels are outside of what is near them. To be called once the
 * cell's level and limit are set.
 * @param fit  What explains the cell; NULL: it is calm, and there is no need to look. */
void twi_nearby_judge(tw_detector *d, const tw_luma *luma, uint16_t row, uint16_t column,
                      const twi_cell_fit *fit);

/** Once it is known what a cell is part of: what has come to stay has not made it
 * restless.
 * @param stays  The cell is part of a subject that need not travel, and was not before.
 */
void twi_nearby_settle(tw_detector *d, uint32_t index, bool stays);

/** Note how much lighter or darker than its background a cell is. Only with nearby. */
void twi_slant_tell(tw_detector *d, uint32_t index, const twi_cell_sums *sums);

/** @return whether the cells around one are asked of its light: it has changed in much of
 * the picture of late. */
bool twi_slant_is_asked(const tw_detector *d);

/** @return the lesser of a cell's level and that which is left once light is explained
 * that changes across the cell, as the cells beside it tell.
 * @param fit  Of the cell, which has been fitted. */
int32_t twi_slant_explain(const tw_detector *d, const twi_patch *patch, uint16_t row,
                          uint16_t column, const twi_cell_fit *fit, int32_t level);

/** @return the ratio of a cell's brightness to that of its background; 0: it is not
 * known, or there is no such cell. Only with nearby. */
float twi_ratio_at(const tw_detector *d, int32_t row, int32_t column);

/** The same for light that is pressed against white, as the cell's darker pixels and the
 * cells around it tell. */
int32_t twi_pressed_explain(const tw_detector *d, const twi_patch *patch, uint16_t row,
                            uint16_t column, const twi_cell_fit *fit, int32_t level);

/** Once all cells are judged: those that move, and are explained by the edge of a shadow
 * between cells that light explains whole, do not. */
void twi_shade_explain(tw_detector *d, const tw_luma *luma);

/** Learn a cell's colour. @param rate  Of its background, Q16. */
void twi_colour_learn(tw_detector *d, uint32_t index, uint32_t rate);

static inline float twi_clamp(float value, float low, float high)
{
    if (value < low)
        return low;
    return value > high ? high : value;
}

static inline int32_t twi_lower(int32_t a, int32_t b)
{
    return a < b ? a : b;
}

/** @return what counts of a level, given those of a tenth of a second before and twice
 * that. */
int32_t twi_level_that_lasts(const tw_detector *d, int32_t measured, int32_t before,
                             int32_t older);

/** The limit of a cell by its usual levels: the 98th percentile and a margin that grows
 * with the spread. */
int32_t twi_limit_of(int32_t q98, int32_t q50);

/** @return log2(value) in 1/65536, for value > 0; exact to 2/65536 and the same
 * everywhere. */
int32_t twi_log2_level(float value);

/** Let cells move in which something large is at once that did not last: it is quick. */
void twi_fast_find(tw_detector *d);

/** Put a cell's pixels and slopes side by side; there are no slopes where the shake guard
 * is off. */
void twi_patch_take(const tw_detector *d, const tw_luma *luma, uint16_t row,
                    uint16_t column, twi_patch *out);

/** Learn the noise of one fitted cell that is not moving. */
void twi_learn_noise(tw_detector *d, const twi_patch *patch, uint16_t row,
                     uint16_t column, const twi_cell_fit *fit);

/** Choose how fast each cell of a row learns, then move its background. */
void twi_learn_background_row(tw_detector *d, const tw_luma *luma, uint16_t row);

/** Count how long a moving cell has looked the same, and absorb it in the end. */
void twi_learn_what_stays(tw_detector *d, twi_cell *cell, const twi_cell_sums *sums);

/** Group moving cells, ask the size limits and the tracks, and write blobs and shares to
 * out. */
void twi_blobs_find(tw_detector *d, tw_reading *out);

/** Follow this frame's blobs, of which those of allowed size come first in d->found.
 * Sets subjects and since_us of out. */
void twi_tracks_follow(tw_detector *d, size_t blobs, tw_reading *out);

/** Attend to the cells in which what is followed, and faint, should be next. */
void twi_predict(tw_detector *d);

/** Whether a track that is no subject yet may become one: it has been there for a while,
 * without a break, in cells that were calm when it came. */
bool twi_track_is_promising(const tw_detector *d, const twi_track *t);

/** The track that a blob of this frame belongs to, NULL: none yet. */
const twi_track *twi_tracks_of(const tw_detector *d, uint16_t label);

#endif
