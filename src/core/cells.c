/* The cell test: sums, the fit that explains light and small shifts, and the verdict. */
#include <string.h>

#include "detector_state.h"

/* Everything below is decided in a fixed order of float operations, one cell at a time;
 * the build forbids fused multiply-add, so that each CPU gives the same levels. */

#define NOISE_FLOOR 0.8F       /* levels: quantisation alone makes about this much */
#define MEAN_TO_VARIANCE 1.57F /* of a normal distribution: (pi / 2) */
#define RIDGE 8.0F             /* pull to "nothing changed", in noise variances */
#define GAIN_MIN 0.45F         /* below: the texture was replaced, not darkened */
#define GAIN_FOG 0.08F         /* or fog lies before it, of which all cells tell alike */
#define GAIN_MAX 8.0F          /* a headlight on a night picture */
#define LIT 1.6F               /* so many times brighter is a lamp, not a cloud */
#define GLOW 1.15F             /* around a lamp's light there is more of it */
#define SHIFT_MAX 0.8F         /* pixels: beyond, a first-order model is wrong */

static const int32_t LEVEL_BASE = TWI_LEVEL(1.0); /* no cell moves below this */
static const int32_t LEVEL_CALM = TWI_LEVEL(-1.0);
static const int32_t LEVEL_TOP = TWI_LEVEL(9.0);
static const int32_t SEED_ABOVE = TWI_LEVEL(0.6);
static const int32_t FLEETING_RISE = TWI_LEVEL(1.0);
static const int32_t FAST_CALM = TWI_LEVEL(0.5); /* usual level of cells that may be */
enum { US = 1000000, AROUND = 2 };

void twi_cells_sum_row(tw_detector *d, const tw_luma *luma, uint16_t row)
{
    const size_t width = d->config.width;
    memset(d->column.n, 0, width * sizeof *d->column.n);
    memset(d->column.x, 0, width * sizeof *d->column.x);
    memset(d->column.d, 0, width * sizeof *d->column.d);
    memset(d->column.dd, 0, width * sizeof *d->column.dd);
    memset(d->column.noise, 0, width * sizeof *d->column.noise);
    memset(d->column.top, 0, width * sizeof *d->column.top);
    memset(d->column.bottom, 0, width * sizeof *d->column.bottom);
    const uint32_t first = (uint32_t)row * d->grid.cell_px, end = twi_row_end(d, row);
    for (uint32_t y = first; y < end; y++) {
        const bool upper = y - first < d->grid.cell_px / 2U;
        const twi_column_sums sums = {.n = d->column.n,
                                      .x = d->column.x,
                                      .noise = d->column.noise,
                                      .d = d->column.d,
                                      .dd = d->column.dd,
                                      .half = upper ? d->column.top : d->column.bottom};
        d->kernels->add_pixels(luma->px + (size_t)y * luma->stride,
                               d->background + y * width, d->noise + y * width, width,
                               &sums);
    }
}

twi_cell_sums twi_cells_take(const tw_detector *d, uint16_t row, uint16_t column)
{
    twi_cell_sums s;
    memset(&s, 0, sizeof s);
    const uint32_t left = (uint32_t)column * d->grid.cell_px,
                   end = twi_column_end(d, column);
    const uint32_t top = (uint32_t)row * d->grid.cell_px;
    const int32_t rows = (int32_t)(twi_row_end(d, row) - top);
    const int32_t half = d->grid.cell_px / 2;
    const int32_t upper = rows < half ? rows : half;
    for (uint32_t i = left; i < end; i++) {
        s.n += d->column.n[i];
        s.x += d->column.x[i];
        s.d += d->column.d[i];
        s.dd += (int32_t)d->column.dd[i];
        s.noise += d->column.noise[i];
        const size_t right = i - left >= (uint32_t)half;
        s.quadrant[right] += d->column.top[i];
        s.quadrant[2 + right] += d->column.bottom[i];
        s.quadrant_px[right] += upper;
        s.quadrant_px[2 + right] += rows - upper;
    }
    s.area = rows * (int32_t)(end - left);
    return s;
}

static float largest(float a, float b)
{
    return a > b ? a : b;
}

/* Variance that noise alone would give, Q4 levels squared (x and y are Q2). */
static float expected_variance(const tw_detector *d, const twi_cell_sums *s)
{
    const float levels = d->config.difference;
    if (d->config.difference > 0) /* so that a mean change by this much is level 1.0 */
        return levels * levels * 8.0F;
    const float mean = largest((float)s->noise / (float)s->n / 16.0F, NOISE_FLOOR);
    return MEAN_TO_VARIANCE * mean * mean * 16.0F * (float)d->config.noise_margin_pct /
           100.0F;
}

/* Shot noise grows with brightness; a fixed difference does not. Below two levels of mean
 * nothing can be said of it. */
static float brightness_ratio(const tw_detector *d, const twi_cell_sums *s)
{
    if (d->config.difference > 0)
        return 1.0F;
    const float n = (float)s->n;
    const float mean_x = (float)s->x / n, mean_y = (float)(s->x + s->d) / n;
    return largest(mean_y / largest(mean_x, 8.0F), 1.0F);
}

/* What a cell's residual is held against. */
typedef struct scale {
    float variance; /* of noise alone */
    float brighter; /* how many times, at least 1 */
} scale;

static scale scale_of(const tw_detector *d, const twi_cell_sums *s)
{
    return (scale){expected_variance(d, s), brightness_ratio(d, s)};
}

static int32_t level_of(float squares, float n, float variance)
{
    return twi_log2_level(squares / (n * variance) + 0.02F);
}

/* The level without any explanation but a common offset (with it, light is partly gone),
 * or with none at all where the light guard is off. */
static int32_t plain_level(const tw_detector *d, const twi_cell_sums *s, const scale *by)
{
    const float n = (float)s->n, sum = (float)s->d;
    float squares = (float)s->dd;
    if (d->config.light_guard)
        squares = largest(squares - sum * sum / n, 0.0F);
    return level_of(squares, n, by->variance * by->brighter);
}

/* The level that a detector without light guard would have seen. */
static int32_t unguarded_level(const twi_cell_sums *s, const scale *by)
{
    return level_of((float)s->dd, (float)s->n, by->variance);
}

/* Sums of second order for the fit; u and v are the slopes of the background. */
typedef struct fit_sums {
    int32_t n;         /* pixels in the sums */
    int32_t saturated; /* left out: the frame cannot show how bright they are */
    int32_t x, y, u, v;
    int32_t xx, xy, yy, uu, uv, vv, ux, vx, uy, vy; /* at most 26 * 26 * 1020^2 */
} fit_sums;

static fit_sums sum_for_fit(const tw_detector *d, const twi_patch *patch)
{
    int32_t s[TWI_FIT_SUMS];
    d->kernels->fit(patch, s);
    return (fit_sums){.n = s[TWI_FIT_N],
                      .saturated = s[TWI_FIT_WHITE],
                      .x = s[TWI_FIT_X],
                      .y = s[TWI_FIT_Y],
                      .u = s[TWI_FIT_U],
                      .v = s[TWI_FIT_V],
                      .xx = s[TWI_FIT_XX],
                      .xy = s[TWI_FIT_XY],
                      .yy = s[TWI_FIT_YY],
                      .uu = s[TWI_FIT_UU],
                      .uv = s[TWI_FIT_UV],
                      .vv = s[TWI_FIT_VV],
                      .ux = s[TWI_FIT_UX],
                      .vx = s[TWI_FIT_VX],
                      .uy = s[TWI_FIT_UY],
                      .vy = s[TWI_FIT_VY]};
}

/* The same about their means. */
typedef struct moments {
    float xx, xy, yy, uu, uv, vv, ux, vx, uy, vy;
} moments;

static moments centre(const fit_sums *s, float n)
{
    const float x = (float)s->x / n, y = (float)s->y / n;
    const float u = (float)s->u / n, v = (float)s->v / n;
    return (moments){(float)s->xx - n * x * x, (float)s->xy - n * x * y,
                     (float)s->yy - n * y * y, (float)s->uu - n * u * u,
                     (float)s->uv - n * u * v, (float)s->vv - n * v * v,
                     (float)s->ux - n * u * x, (float)s->vx - n * v * x,
                     (float)s->uy - n * u * y, (float)s->vy - n * v * y};
}

/* dx and dy for a given gain: two equations with a ridge that keeps them solvable. */
static void solve_shift(const moments *m, float ridge, twi_cell_fit *fit)
{
    const float a = m->uu + ridge, b = m->uv, c = m->vv + ridge;
    const float p = m->uy - fit->gain * m->ux, q = m->vy - fit->gain * m->vx;
    const float determinant = a * c - b * b;
    fit->dx = (p * c - q * b) / determinant;
    fit->dy = (q * a - p * b) / determinant;
}

/* Gain by eliminating the shift from the normal equations (Schur complement). The ridge
 * pulls the gain to 1 and the shift to 0 where the background has no texture. */
static float solve_gain(const moments *m, float ridge)
{
    const float a = m->uu + ridge, b = m->uv, c = m->vv + ridge;
    const float determinant = a * c - b * b;
    const float wx_u = (m->ux * c - m->vx * b) / determinant;
    const float wx_v = (m->vx * a - m->ux * b) / determinant;
    const float above = m->xy + ridge - (wx_u * m->uy + wx_v * m->vy);
    const float below = m->xx + ridge - (wx_u * m->ux + wx_v * m->vx);
    return below > 0.0F ? above / below : 1.0F;
}

static float residual(const moments *m, const twi_cell_fit *f)
{
    const float squares =
        m->yy + f->gain * f->gain * m->xx + f->dx * f->dx * m->uu +
        f->dy * f->dy * m->vv +
        2.0F * (f->gain * f->dx * m->ux + f->gain * f->dy * m->vx +
                f->dx * f->dy * m->uv - f->gain * m->xy - f->dx * m->uy - f->dy * m->vy);
    return largest(squares, 0.0F);
}

/* What the fit says of white pixels, Q2: how far below the end of the scale they ought to
 * be. A headlight that drives pale stones to white is explained, a white subject is not;
 * nor is a dark one before a white wall that stays white around it. */
static float white_residual(const twi_patch *patch, const twi_cell_fit *fit)
{
    const uint16_t *background = patch->background + patch->row;
    float squares = 0.0F;
    for (size_t i = 0; i < patch->count; i++) {
        if (!patch->inside[i] || patch->frame[i] < TWI_CLIPPED_HI)
            continue;
        const bool silent = background[i] >> 8 >= TWI_CLIPPED_LO;
        const float least = (float)((silent ? TWI_CLIPPED_LO : TWI_CLIPPED_HI) << 2);
        const float fitted = fit->gain * (float)(background[i] >> 6) + fit->offset;
        if (fitted < least)
            squares += (least - fitted) * (least - fitted);
    }
    return squares;
}

/* The gain held within what light and fog can do. */
static float held_gain(const tw_detector *d, const fit_sums *s, float gain)
{
    const float n = (float)s->n;
    if (gain < GAIN_MIN) {
        const float fog = twi_clamp(gain, GAIN_FOG, GAIN_MIN);
        if (twi_fog_explains(d, fog, ((float)s->y - fog * (float)s->x) / n))
            return fog;
    }
    return twi_clamp(gain, GAIN_MIN, GAIN_MAX);
}

/* Solve for what the guards may explain. @return the squares that are left. */
static float explain(const tw_detector *d, const fit_sums *s, const moments *m,
                     float ridge, twi_cell_fit *fit)
{
    const float n = (float)s->n;
    if (d->config.light_guard) {
        const float gain = solve_gain(m, ridge);
        fit->gain = held_gain(d, s, gain);
        fit->airlight = twi_fog_airlight(gain, ((float)s->y - gain * (float)s->x) / n);
    }
    if (d->config.shake_guard) {
        solve_shift(m, ridge, fit);
        fit->dx = twi_clamp(fit->dx, -SHIFT_MAX * fit->gain, SHIFT_MAX * fit->gain);
        fit->dy = twi_clamp(fit->dy, -SHIFT_MAX * fit->gain, SHIFT_MAX * fit->gain);
    }
    const float offset = ((float)s->y - fit->gain * (float)s->x - fit->dx * (float)s->u -
                          fit->dy * (float)s->v) /
                         n;
    const float squares = residual(m, fit);
    if (d->config.light_guard) {
        fit->offset = offset;
        return squares;
    }
    return squares + n * offset * offset; /* the common offset is not explained away */
}

/* The squares that light alone would leave, the shift not explained. */
static float explain_by_light(const tw_detector *d, const fit_sums *s, const moments *m,
                              float ridge)
{
    twi_cell_fit fit = {.gain = 1.0F};
    if (d->config.light_guard) {
        fit.gain = held_gain(d, s, (m->xy + ridge) / (m->xx + ridge));
        return residual(m, &fit);
    }
    const float n = (float)s->n, offset = (float)(s->y - s->x) / n;
    return residual(m, &fit) + n * offset * offset;
}

/* Least squares of y ~ gain x + offset + dx u + dy v. */
static int32_t fitted_level(const tw_detector *d, const twi_patch *patch,
                            const twi_cell_sums *sums, const scale *by, twi_cell_fit *fit)
{
    const float variance = by->variance;
    const fit_sums s = sum_for_fit(d, patch);
    if (!twi_cell_has_enough(sums, s.n)) /* all but white: nothing to explain it by */
        return plain_level(d, sums, by);
    const moments m = centre(&s, (float)s.n);
    float squares = explain(d, &s, &m, RIDGE * variance, fit);
    fit->middle = ((float)s.y - fit->gain * (float)s.x) / (float)s.n;
    if (s.n < sums->area)
        squares += white_residual(patch, fit);
    const float gain = largest(fit->gain, 1.0F), n = (float)(s.n + s.saturated);
    const float expected = variance * largest(0.6F * gain * gain + 0.4F, by->brighter);
    fit->expected = n * expected;
    if (d->config.shake_guard)
        fit->unshifted =
            level_of(explain_by_light(d, &s, &m, RIDGE * variance), n, expected);
    return level_of(squares, n, expected);
}

/* The same once what the cells around tell of the light has been asked. */
static int32_t level_in_light(const tw_detector *d, const twi_patch *patch, uint16_t row,
                              uint16_t column, twi_cell_fit *fit, int32_t level)
{
    if (level <= LEVEL_BASE || fit->expected <= 0.0F || !twi_slant_is_asked(d))
        return level;
    const int32_t pressed = twi_pressed_explain(d, patch, row, column, fit, level);
    const int32_t left = twi_slant_explain(d, patch, row, column, fit, pressed);
    if (left <= LEVEL_BASE) /* by light, and no shift is needed */
        fit->unshifted = left;
    return left;
}

/* Pixels that are left out may contradict a large offset of the others. */
static bool must_ask_white(const twi_cell_sums *sums)
{
    enum { LARGE = 30 << 2 }; /* levels, Q2 */
    const int32_t off = sums->d < 0 ? -sums->d : sums->d;
    return sums->n < sums->area && off > sums->n * LARGE;
}

/* Rates of the quantile trackers are high at first, then settle: a cell is known after
 * a minute. Returns per_second times the step, in levels. */
static int32_t tracker_step(const tw_detector *d, int32_t per_second)
{
    const int64_t age = d->age_us > 0 ? d->age_us : 1;
    int64_t times_256 = (int64_t)60 * US * 256 / age;
    times_256 = times_256 < 256 ? 256 : times_256 > 30 * 256 ? 30 * 256 : times_256;
    return (int32_t)((int64_t)per_second * d->step_us / US * times_256 / 256);
}

void twi_cells_set_pace(tw_detector *d)
{
    d->pace.up = tracker_step(d, TWI_LEVEL(0.15));
    d->pace.down = tracker_step(d, TWI_LEVEL(0.003));
}

static void track_usual(const tw_detector *d, twi_cell *cell, int32_t level,
                        bool unbiased)
{
    /* A subject must not teach the cell that it is restless. */
    const int32_t up = d->pace.up / twi_teaches(cell);
    const int32_t down = d->pace.down;
    const bool all = d->age_us < TWI_ALL_FITTED_US;
    if (unbiased) {
        const int32_t half = (up + down) / 2 * (all ? 1 : TWI_FIT_EVERY);
        cell->q50 += level > cell->q50 ? half : -half;
    }
    cell->q98 += level > cell->q98 ? up : -down;
    /* Calmer than this makes no difference, and must not look like a wide spread. */
    if (cell->q98 < LEVEL_CALM)
        cell->q98 = LEVEL_CALM;
    if (cell->q50 < LEVEL_CALM)
        cell->q50 = LEVEL_CALM;
}

/* The restless cell's limit: its own 98th percentile with a margin that grows with the
 * spread of its levels. Less of it where something is awaited. */
static int32_t sway_limit(const tw_detector *d, const twi_cell *cell)
{
    if (!d->config.sway_guard)
        return LEVEL_BASE;
    const int64_t margin = twi_limit_of(cell->q98, cell->q50) - cell->q98;
    const int64_t limit = cell->q98 + (cell->predicted ? margin * 3 / 10 : margin);
    if (limit < LEVEL_BASE)
        return LEVEL_BASE;
    return limit > LEVEL_TOP ? LEVEL_TOP : (int32_t)limit;
}

/* Where it rains or snows, what falls makes a cell restless by chance: one that two
 * flakes have met lately asks for far more than its neighbours. So they are asked as
 * well, and none has to be restless on its own. */
static int32_t limit_in_falling(const tw_detector *d, uint16_t row, uint16_t column)
{
    const int left = column - AROUND, right = column + AROUND, bottom = row + AROUND;
    int64_t sum = 0;
    int32_t count = 0;
    for (int y = row < AROUND ? 0 : row - AROUND; y <= bottom && y < d->grid.rows; y++) {
        for (int x = left < 0 ? 0 : left; x <= right && x < d->grid.columns; x++) {
            sum += sway_limit(d, &d->cell[y * d->grid.columns + x]);
            count++;
        }
    }
    const int32_t own = sway_limit(d, &d->cell[(size_t)row * d->grid.columns + column]);
    const int32_t usual = count > 0 ? (int32_t)(sum / count) : own;
    return twi_lower(own, usual);
}

/* Which guard has kept a cell from moving. */
static uint8_t taken_by(const tw_detector *d, const twi_cell *cell,
                        const twi_cell_sums *sums, const scale *by,
                        const twi_cell_fit *fit, int32_t measured)
{
    if (cell->level > LEVEL_BASE)
        return TW_CELL_SWAY;
    if (measured > LEVEL_BASE) /* it did not last, which is no guard's doing */
        return 0;
    if (fit->unshifted > LEVEL_BASE)
        return TW_CELL_SHAKE;
    const bool lit = d->config.light_guard && twi_cell_has_enough(sums, sums->n) &&
                     unguarded_level(sums, by) > LEVEL_BASE;
    return lit ? TW_CELL_LIGHT : 0;
}

/* What lasts of a level, which is kept for later ones. */
static int32_t lasting_level(tw_detector *d, twi_cell *cell, int32_t measured)
{
    const int32_t before = cell->past[d->past] * TWI_PAST_STEP,
                  older = cell->past[!d->past] * TWI_PAST_STEP;
    if (d->sampling)
        cell->past[!d->newest] = (int16_t)(measured / TWI_PAST_STEP);
    if (measured > LEVEL_BASE + SEED_ABOVE && measured - before > FLEETING_RISE)
        d->fleeting_cells++;
    return twi_level_that_lasts(d, measured, before, older);
}

bool twi_cells_judge(tw_detector *d, const tw_luma *luma, uint16_t row, uint16_t column,
                     const twi_cell_sums *sums, twi_cell_fit *fit, twi_patch *patch)
{
    twi_cell *cell = &d->cell[(size_t)row * d->grid.columns + column];
    const bool turn = (column + 3U * row + d->frames) % TWI_FIT_EVERY == 0;
    const bool unbiased = turn || d->age_us < TWI_ALL_FITTED_US;
    const bool says_something = twi_cell_has_enough(sums, sums->n);
    bool fitted = false;
    scale by = {1.0F, 1.0F};
    int32_t level = twi_log2_level(0.02F);
    *fit = (twi_cell_fit){
        .gain = 1.0F, .airlight = -1.0F, .unshifted = twi_log2_level(0.02F)};
    if (says_something) {
        by = scale_of(d, sums);
        level = plain_level(d, sums, &by);
        /* The fit can only lower the level: where it is low already there is no need. */
        fitted =
            unbiased || level > LEVEL_BASE || level > cell->q98 || must_ask_white(sums);
        if (fitted) {
            twi_patch_take(d, luma, row, column, patch);
            level = fitted_level(d, patch, sums, &by, fit);
            level = level_in_light(d, patch, row, column, fit, level);
            twi_fog_vote(d, fit->airlight);
        }
    }
    cell->lit = fit->gain > LIT || by.brighter > LIT;
    cell->glows = by.brighter > GLOW;
    const int32_t measured = level;
    level = lasting_level(d, cell, measured);
    cell->level = level;
    cell->limit = d->falling ? limit_in_falling(d, row, column) : sway_limit(d, cell);
    twi_colour_judge(d, (uint32_t)(cell - d->cell), sums);
    if (d->nearby) {
        d->nearby[cell - d->cell].expected = fit->expected;
        d->nearby[cell - d->cell].explained = measured <= LEVEL_BASE;
    }
    const bool worth = measured > LEVEL_BASE && fit->expected > 0.0F;
    twi_nearby_judge(d, luma, row, column, worth ? fit : NULL);
    const bool high = cell->level > cell->limit + SEED_ABOVE;
    /* Where frames are far apart a subject may be in a cell for one of them alone. */
    const bool apart = d->step_us > TWI_LASTING_STEP_US && !d->falling && !cell->unlike;
    cell->seed = high && (cell->over_high || apart);
    cell->over_high = high;
    cell->fast = !d->falling && d->age_us > TWI_ALL_FITTED_US && cell->q98 < FAST_CALM &&
                 measured > cell->limit + TWI_FAST_ABOVE && level <= cell->limit;
    const uint8_t watched = cell->watched ? TW_CELL_WATCHED : 0;
    const uint8_t became = cell->level > cell->limit
                               ? TW_CELL_MOVING
                               : taken_by(d, cell, sums, &by, fit, measured);
    cell->flags = watched | became;
    track_usual(d, cell, level, unbiased);
    return fitted && unbiased;
}
