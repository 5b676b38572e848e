/* The loops themselves, included once for each instruction set: written so that the
 * compiler makes whole vectors of them (rows, no branches, nothing that overlaps). */
#include "detector_state.h"
#include "kernels.h"

static void add_row(const uint8_t *restrict frame, const uint16_t *restrict background,
                    const uint8_t *restrict noise, size_t width, uint16_t *restrict sum_n,
                    uint16_t *restrict sum_x, int16_t *restrict sum_d,
                    uint32_t *restrict sum_dd, uint16_t *restrict sum_noise,
                    uint16_t *restrict sum_half)
{
    for (size_t i = 0; i < width; i++) {
        const uint16_t f = frame[i], b = (uint16_t)(background[i] >> 8);
        const uint16_t high = f > b ? f : b, low = f > b ? b : f;
        const uint16_t clipped =
            (uint16_t)((high >= TWI_CLIPPED_HI) & (low >= TWI_CLIPPED_LO));
        const uint16_t keep = (uint16_t)(clipped - 1); /* all ones, or none */
        const uint16_t x = (uint16_t)(background[i] >> 6);
        const int16_t diff =
            (int16_t)((int16_t)((uint16_t)(f << 2) & keep) - (int16_t)(x & keep));
        sum_n[i] = (uint16_t)(sum_n[i] + (keep & 1));
        sum_x[i] = (uint16_t)(sum_x[i] + (x & keep));
        sum_d[i] = (int16_t)(sum_d[i] + diff);
        sum_dd[i] += (uint32_t)((int32_t)diff * diff);
        sum_noise[i] = (uint16_t)(sum_noise[i] + (noise[i] & keep));
        sum_half[i] = (uint16_t)(sum_half[i] + f);
    }
}

static void add_pixels(const uint8_t *frame, const uint16_t *background,
                       const uint8_t *noise, size_t width, const twi_column_sums *s)
{
    add_row(frame, background, noise, width, s->n, s->x, s->d, s->dd, s->noise, s->half);
}

static void slopes_of(const uint16_t *restrict high, const uint16_t *restrict low,
                      size_t count, int16_t *restrict out)
{
    for (size_t i = 0; i < count; i++)
        out[i] = (int16_t)((high[i] - low[i]) / 128);
}

static void slopes(twi_patch *p)
{
    const uint16_t *at = p->background + p->row;
    slopes_of(at + 1, at - 1, p->count, p->across);
    slopes_of(at + p->row, at - p->row, p->count, p->down);
}

/* A pixel that is bright in the frame and in the background is the sensor's end of scale,
 * not the place; one that is white in the frame alone cannot show how bright it is. */
static void sum_fit(const uint8_t *restrict frame, const uint16_t *restrict background,
                    const int16_t *restrict across, const int16_t *restrict down,
                    const int16_t *restrict inside, size_t count,
                    int32_t out[TWI_FIT_SUMS])
{
    int32_t sx = 0, sy = 0, su = 0, sv = 0, xx = 0, xy = 0, yy = 0;
    int32_t uu = 0, uv = 0, vv = 0, ux = 0, vx = 0, uy = 0, vy = 0, n = 0, whites = 0;
    for (size_t i = 0; i < count; i++) {
        const int16_t f = frame[i], b = (int16_t)(background[i] >> 8);
        const int16_t white = (int16_t)(f >= TWI_CLIPPED_HI), dark = b < TWI_CLIPPED_LO;
        const int16_t silent = (int16_t)((b >= TWI_CLIPPED_HI) & (f >= TWI_CLIPPED_LO));
        const int16_t keep = (int16_t)(inside[i] & (int16_t)((white | silent) - 1));
        const int16_t x = (int16_t)((background[i] >> 6) & keep);
        const int16_t y = (int16_t)((f << 2) & keep);
        const int16_t u = (int16_t)(across[i] & keep), v = (int16_t)(down[i] & keep);
        sx += x;
        sy += y;
        su += u;
        sv += v;
        xx += (int32_t)x * x;
        xy += (int32_t)x * y;
        yy += (int32_t)y * y;
        uu += (int32_t)u * u;
        uv += (int32_t)u * v;
        vv += (int32_t)v * v;
        ux += (int32_t)u * x;
        vx += (int32_t)v * x;
        uy += (int32_t)u * y;
        vy += (int32_t)v * y;
        n -= keep;
        whites += white & dark & inside[i];
    }
    const int32_t sums[TWI_FIT_SUMS] = {sx, sy, su, sv, xx, xy, yy, uu,
                                        uv, vv, ux, vx, uy, vy, n,  whites};
    for (size_t i = 0; i < TWI_FIT_SUMS; i++)
        out[i] = sums[i];
}

static void fit(const twi_patch *p, int32_t out[TWI_FIT_SUMS])
{
    sum_fit(p->frame, p->background + p->row, p->across, p->down, p->inside, p->count,
            out);
}

/* The estimate has only 8 bits; rounding up or down by a hash of place and frame lets it
 * drift by less than its own step on average. */
static void move_noise(uint8_t *restrict noise, const uint8_t *restrict frame,
                       const uint16_t *restrict background,
                       const int16_t *restrict across, const int16_t *restrict down,
                       size_t count, const twi_noise_step *by)
{
    const int32_t gain = by->gain, dx = by->dx, dy = by->dy, offset = by->offset;
    const int32_t rate = by->rate;
    const uint32_t seed = by->seed;
    for (size_t i = 0; i < count; i++) {
        const int32_t off = (frame[i] << 8) - (gain * background[i] >> 8) - offset -
                            (dx * across[i] + dy * down[i]) / 4;
        const int32_t size = (off < 0 ? -off : off) >> 4; /* Q4 */
        const int32_t residual = size > TWI_NOISE_CLIP ? TWI_NOISE_CLIP : size;
        const int32_t dither = (int32_t)((seed + (uint32_t)i * TWI_NOISE_HASH) >> 20);
        const int32_t next =
            (noise[i] * 4096 + (residual - noise[i]) * rate + dither) >> 12;
        noise[i] = (uint8_t)(next < 1 ? 1 : next > 255 ? 255 : next);
    }
}

static void learn_noise(uint8_t *noise, const twi_patch *p, const twi_noise_step *by)
{
    move_noise(noise, p->frame, p->background + p->row, p->across, p->down, p->count, by);
}

/* Rounded towards the background on both sides; a step of one where the pixel is off by
 * half a level, so that slow learning does not stop short. */
static void learn(uint16_t *restrict background, const uint8_t *restrict frame,
                  const uint16_t *restrict rate, size_t width)
{
    for (size_t i = 0; i < width; i++) {
        const int32_t off = (frame[i] << 8) - background[i];
        const int32_t size = off < 0 ? -off : off;
        const int32_t share = (int32_t)((uint32_t)size * rate[i] >> 16);
        const int32_t step = share > 0 ? share : size > 128;
        background[i] = (uint16_t)(background[i] + (off < 0 ? -step : step));
    }
}
