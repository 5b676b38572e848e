/* Colour as a second witness: a cell whose colour has changed by more than light and its
 * own habits explain moves, and a blob whose colour only followed the light must show
 * more. */
#include "detector_state.h"

/* A lamp, a cloud and a shadow scale chroma as they scale luma, so all between "as it
 * was" and "scaled" is explained by light. Floats in one fixed order, as in cells.c. */

#define RATIO_MIN 0.2F
#define RATIO_MAX 4.0F
#define VARIANCE_MIN 0.15F /* rounding to whole levels alone makes about this much */
#define VARIANCE_START 1.0F
#define TINT_LOST                                                                        \
    0.03F                /* levels of colour that a level of light lost brings along ... \
                          */
#define TINT_GAINED 0.2F /* ... or gained: a lamp has a colour of its own */
#define COLOURFUL 36.0F  /* square of the chroma that tells something of light */
#define COLOURFUL_IN_NOISE 16.0F
#define PLAIN_WITHIN 3.0F /* times the expected variance */
#define COLOURED 4.0F     /* square of the chroma that rounding does not make of grey */

enum {
    US = 1000000,
    WHITE_PART = 16 /* more than one in so many pixels white: silent */
};

static const int32_t NOISE_Q98 = TWI_LEVEL(2.0);   /* of the mean of two squares */
static const int32_t LEVEL_LEAST = TWI_LEVEL(4.5); /* 6.7 standard deviations */
static const int32_t LEVEL_CALM = TWI_LEVEL(0.0);

/* The pixels of chroma that fill what one cell of luma does: at least one. */
static uint32_t edge_of(uint32_t luma_px, uint32_t luma_side, uint32_t chroma_side)
{
    return (luma_px * chroma_side + luma_side / 2) / luma_side;
}

static void take_cell(const tw_detector *d, const tw_chroma *chroma, uint16_t row,
                      uint16_t column, twi_colour *out)
{
    uint32_t left =
        edge_of((uint32_t)column * d->grid.cell_px, d->config.width, chroma->width);
    uint32_t right = edge_of(twi_column_end(d, column), d->config.width, chroma->width);
    uint32_t top =
        edge_of((uint32_t)row * d->grid.cell_px, d->config.height, chroma->height);
    uint32_t bottom = edge_of(twi_row_end(d, row), d->config.height, chroma->height);
    left = left < chroma->width ? left : chroma->width - 1U;
    top = top < chroma->height ? top : chroma->height - 1U;
    right = right > left ? right : left + 1;
    bottom = bottom > top ? bottom : top + 1;
    uint32_t u = 0, v = 0;
    for (uint32_t y = top; y < bottom; y++) {
        for (uint32_t x = left; x < right; x++) {
            u += chroma->u[(size_t)y * chroma->stride + x];
            v += chroma->v[(size_t)y * chroma->stride + x];
        }
    }
    const float n = (float)((right - left) * (bottom - top));
    out->now_u = (float)u / n - 128.0F;
    out->now_v = (float)v / n - 128.0F;
}

static void begin_cell(twi_colour *c)
{
    c->u = c->now_u;
    c->v = c->now_v;
    c->variance = VARIANCE_START;
    c->witness = (twi_witness){{0, 0}, 0, 0};
}

void twi_colour_take(tw_detector *d, const tw_chroma *chroma)
{
    const bool had = d->tinted;
    d->tinted = chroma && d->colour;
    if (!d->tinted)
        return;
    d->tinted_us = had ? d->tinted_us : d->age_us;
    d->coloured_before = had ? d->coloured : 0;
    d->coloured = 0;
    for (uint16_t row = 0; row < d->grid.rows; row++) {
        for (uint16_t column = 0; column < d->grid.columns; column++) {
            twi_colour *c = &d->colour[(size_t)row * d->grid.columns + column];
            take_cell(d, chroma, row, column, c);
            d->coloured =
                (uint16_t)(d->coloured +
                           (c->now_u * c->now_u + c->now_v * c->now_v > COLOURED));
            if (!had)
                begin_cell(c);
        }
    }
}

/* What light has done to a cell. */
typedef struct light {
    float ratio; /* of its means, now over before */
    float tint;  /* levels of colour that may have come with it */
} light;

static light light_of(const twi_cell_sums *s)
{
    const float n = (float)s->n;
    const float before = twi_clamp((float)s->x / n / 4.0F, 1.0F, 255.0F);
    const float gained = (float)s->d / n / 4.0F;
    return (light){twi_clamp((before + gained) / before, RATIO_MIN, RATIO_MAX),
                   gained > 0.0F ? gained * TINT_GAINED : -gained * TINT_LOST};
}

/* Half the square of what is left once light has explained as much as it can. */
static float unexplained(const twi_colour *c, float ratio)
{
    const float usual = c->u * c->u + c->v * c->v;
    const float least = ratio < 1.0F ? ratio : 1.0F, most = ratio > 1.0F ? ratio : 1.0F;
    const float scaled =
        usual > 0.0F ? (c->now_u * c->u + c->now_v * c->v) / usual : 1.0F;
    const float lambda = twi_clamp(scaled, least, most);
    const float u = c->now_u - lambda * c->u, v = c->now_v - lambda * c->v;
    return (u * u + v * v) / 2.0F;
}

void twi_colour_judge(tw_detector *d, uint32_t index, const twi_cell_sums *sums)
{
    twi_cell *cell = &d->cell[index];
    cell->coloured = cell->plain = false;
    if (!d->tinted)
        return;
    twi_colour *c = &d->colour[index];
    c->off = 0.0F;
    if (sums->n == 0 || (sums->area - sums->n) * WHITE_PART > sums->area)
        return;
    const light by = light_of(sums);
    c->off = unexplained(c, by.ratio);
    const float expected =
        (c->variance > VARIANCE_MIN ? c->variance : VARIANCE_MIN) + by.tint * by.tint;
    const int32_t level = twi_log2_level(c->off / expected + 0.02F);
    const int32_t above =
        twi_witness_hear(d, cell, &c->witness, level, LEVEL_LEAST, LEVEL_CALM);
    if (d->age_us - d->tinted_us < TWI_ALL_FITTED_US)
        return;
    const float usual = c->u * c->u + c->v * c->v;
    cell->plain = usual > COLOURFUL && usual > COLOURFUL_IN_NOISE * expected &&
                  c->off < PLAIN_WITHIN * expected;
    cell->coloured = above > 0 && cell->level <= cell->limit;
    if (above > cell->level - cell->limit)
        cell->level = cell->limit + above;
}

int32_t twi_colour_restless(const tw_detector *d, uint32_t index)
{
    return d->colour[index].witness.q98 - NOISE_Q98;
}

void twi_colour_learn(tw_detector *d, uint32_t index, uint32_t rate)
{
    if (!d->tinted)
        return;
    twi_colour *c = &d->colour[index];
    const float share = (float)rate / 65536.0F;
    c->u += (c->now_u - c->u) * share;
    c->v += (c->now_v - c->v) * share;
    if (!(d->cell[index].flags & TW_CELL_MOVING))
        c->variance += (c->off - c->variance) * share;
}
