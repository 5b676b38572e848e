/* Light that is pressed against white: what is bright can brighten no further, so no gain
 * explains a cell of which a part is near white while the rest brightens, or in which
 * texture comes back as it darkens. Such a pixel may be anywhere between what it was and
 * what the light would make of it; how strong the light is, the cell's darker pixels and
 * the cells around it tell. */
#include "detector_state.h"

enum {
    GAIN_Q = 12,
    GAIN_ONE = 1 << GAIN_Q,
    BRIGHTER = GAIN_ONE * 108 / 100, /* less light makes no difference here */
    DARKER = GAIN_ONE * 93 / 100,
    DARK = 2 << 2, /* levels Q2, added to what is compared: a ratio of black is chance */
    NEAR_WHITE = 190 << 2, /* Q2: from here on a pixel is pressed */
    ALL_WHITE = 225,       /* white of limited range, with a codec's errors */
    WAS_BRIGHT = 150 << 2, /* Q2: which light may have made white */
    ENOUGH_PART = 8,       /* pixels that tell the gain: one of so many */
    ABOVE = 2,
    BELOW = 1,
    BESIDE = 2 /* cells that are asked */
};

/* The gain that is farthest from one in the cell's own direction, of it and those around;
 * those below are asked as far as they are summed. Q12; 0: not known. */
static int32_t told_gain(const tw_detector *d, int32_t row, int32_t column)
{
    const float own = twi_ratio_at(d, row, column);
    float found = own;
    for (int32_t r = row - ABOVE; r <= row + BELOW; r++) {
        for (int32_t c = column - BESIDE; c <= column + BESIDE; c++) {
            const float ratio = twi_ratio_at(d, r, c);
            if (ratio > 0.0F && (own > 1.0F ? ratio > found : ratio < found))
                found = ratio;
        }
    }
    return (int32_t)(found * (float)GAIN_ONE);
}

/* What light of a gain makes of a pixel. */
static int32_t lit(int32_t x, int32_t gain)
{
    return (int32_t)(((int64_t)(x + DARK) * gain) >> GAIN_Q) - DARK;
}

static bool is_pressed(int32_t x, int32_t y, int32_t told)
{
    return y >= NEAR_WHITE || x >= NEAR_WHITE ||
           (int64_t)x * told >= (int64_t)NEAR_WHITE << GAIN_Q;
}

/* The gain of the pixels that are not pressed, where they are enough to tell it. */
static int32_t gain_of_the_rest(const twi_patch *p, int32_t told)
{
    const uint16_t *background = p->background + p->row;
    int32_t sum_x = 0, sum_y = 0, count = 0, all = 0;
    for (size_t i = 0; i < p->count; i++) {
        const int32_t x = background[i] >> 6, y = p->frame[i] << 2;
        if (!p->inside[i])
            continue;
        all++;
        if (is_pressed(x, y, told))
            continue;
        sum_x += x + DARK;
        sum_y += y + DARK;
        count++;
    }
    return sum_x > 0 && count * ENOUGH_PART >= all
               ? (int32_t)(((int64_t)sum_y << GAIN_Q) / sum_x)
               : told;
}

/* How far a value is outside two others. */
static int32_t outside(int32_t value, int32_t a, int32_t b)
{
    const int32_t low = a < b ? a : b, high = a < b ? b : a;
    return value > high ? value - high : value < low ? low - value : 0;
}

/* Squares that are left, Q4. */
static int64_t squares_left(const twi_patch *p, int32_t told)
{
    const uint16_t *background = p->background + p->row;
    const int32_t gain = gain_of_the_rest(p, told);
    const int32_t most = (told > GAIN_ONE) == (gain > told) ? gain : told;
    int64_t squares = 0;
    for (size_t i = 0; i < p->count; i++) {
        const int32_t x = background[i] >> 6, y = p->frame[i] << 2;
        if (!p->inside[i] || (p->frame[i] > ALL_WHITE && x > WAS_BRIGHT))
            continue;
        const int32_t off =
            is_pressed(x, y, told) ? outside(y, x, lit(x, most)) : y - lit(x, gain);
        squares += (int64_t)off * off;
    }
    return squares;
}

int32_t twi_pressed_explain(const tw_detector *d, const twi_patch *patch, uint16_t row,
                            uint16_t column, const twi_cell_fit *fit, int32_t level)
{
    const int32_t told = told_gain(d, row, column);
    if (told == 0 || (told >= DARKER && told <= BRIGHTER))
        return level;
    const float squares = (float)squares_left(patch, told);
    return twi_lower(level, twi_log2_level(squares / fit->expected + 0.02F));
}
