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
            (uint16_t)((high >= TW_CLIPPED_HI) & (low >= TW_CLIPPED_LO));
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
                       const uint8_t *noise, size_t width, const tw_column_sums *s)
{
    add_row(frame, background, noise, width, s->n, s->x, s->d, s->dd, s->noise, s->half);
}

static void slopes(const uint16_t *restrict high, const uint16_t *restrict low,
                   size_t count, int16_t *restrict out)
{
    for (size_t i = 0; i < count; i++)
        out[i] = (int16_t)((high[i] - low[i]) / 128);
}

static void fit(const int16_t *restrict x, const int16_t *restrict y,
                const int16_t *restrict u, const int16_t *restrict v, size_t count,
                int32_t out[TW_FIT_SUMS])
{
    int32_t sx = 0, sy = 0, su = 0, sv = 0, xx = 0, xy = 0, yy = 0;
    int32_t uu = 0, uv = 0, vv = 0, ux = 0, vx = 0, uy = 0, vy = 0;
    for (size_t i = 0; i < count; i++) {
        sx += x[i];
        sy += y[i];
        su += u[i];
        sv += v[i];
        xx += (int32_t)x[i] * x[i];
        xy += (int32_t)x[i] * y[i];
        yy += (int32_t)y[i] * y[i];
        uu += (int32_t)u[i] * u[i];
        uv += (int32_t)u[i] * v[i];
        vv += (int32_t)v[i] * v[i];
        ux += (int32_t)u[i] * x[i];
        vx += (int32_t)v[i] * x[i];
        uy += (int32_t)u[i] * y[i];
        vy += (int32_t)v[i] * y[i];
    }
    const int32_t sums[TW_FIT_SUMS] = {sx, sy, su, sv, xx, xy, yy,
                                       uu, uv, vv, ux, vx, uy, vy};
    for (size_t i = 0; i < TW_FIT_SUMS; i++)
        out[i] = sums[i];
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
