/* Brightness and chroma: ITU-R BT.601, BT.709 and BT.2020; SMPTE 240M. */
#include "v4l2_colour.h"

#include <string.h>

enum { Q = 14, ONE = 1 << Q, LEVELS = 256 };

/* ---- what it means ------------------------------------------------------------------
 */

/* The shares of red and blue in brightness. */
typedef struct weights {
    double red, blue;
} weights;

static const weights BT601 = {0.299, 0.114};

static weights weights_of(uint32_t encoding)
{
    switch (encoding) {
    case V4L2_YCBCR_ENC_709:
    case V4L2_YCBCR_ENC_XV709: return (weights){0.2126, 0.0722};
    case V4L2_YCBCR_ENC_BT2020: return (weights){0.2627, 0.0593};
    case V4L2_YCBCR_ENC_SMPTE240M: return (weights){0.212, 0.087};
    default: return BT601;
    }
}

static bool is_rgb(uint32_t fourcc)
{
    return fourcc == V4L2_PIX_FMT_RGB24;
}

static bool is_limited(const struct v4l2_pix_format *f)
{
    if (f->quantization != V4L2_QUANTIZATION_DEFAULT)
        return f->quantization == V4L2_QUANTIZATION_LIM_RANGE;
    if (is_rgb(f->pixelformat) || f->pixelformat == V4L2_PIX_FMT_GREY)
        return false;
    return V4L2_MAP_QUANTIZATION_DEFAULT(false, f->colorspace, f->ycbcr_enc) ==
           V4L2_QUANTIZATION_LIM_RANGE;
}

static uint32_t encoding_of(const struct v4l2_pix_format *f)
{
    return f->ycbcr_enc != V4L2_YCBCR_ENC_DEFAULT
               ? f->ycbcr_enc
               : (uint32_t)V4L2_MAP_YCBCR_ENC_DEFAULT(f->colorspace);
}

static int32_t in_q(double value)
{
    return (int32_t)(value * ONE + (value < 0 ? -0.5 : 0.5));
}

/* Red and blue are worked out with one set of weights, and weighed with that of BT.601.
 */
static twi_v4l2_colour worked_out(const weights *w, double luma, double chroma)
{
    const double green = 1 - w->red - w->blue;
    const double blue = 2 * (1 - w->blue),
                 red = 2 * (1 - w->red); /* for each of chroma */
    const double own_green = 1 - BT601.red - BT601.blue;
    const double y_blue = BT601.blue * blue - own_green * w->blue * blue / green;
    const double y_red = BT601.red * red - own_green * w->red * red / green;
    const double own_blue = 2 * (1 - BT601.blue), own_red = 2 * (1 - BT601.red);
    return (twi_v4l2_colour){.y = in_q(luma),
                             .y_blue = in_q(chroma * y_blue),
                             .y_red = in_q(chroma * y_red),
                             .blue_blue = in_q(chroma * (blue - y_blue) / own_blue),
                             .blue_red = in_q(-chroma * y_red / own_blue),
                             .red_red = in_q(chroma * (red - y_red) / own_red),
                             .red_blue = in_q(-chroma * y_blue / own_red)};
}

twi_v4l2_colour twi_v4l2_colour_of(const struct v4l2_pix_format *format)
{
    const bool limited = is_limited(format);
    const bool plain =
        is_rgb(format->pixelformat) || format->pixelformat == V4L2_PIX_FMT_GREY;
    const weights w = plain ? BT601 : weights_of(encoding_of(format));
    twi_v4l2_colour out =
        worked_out(&w, limited ? 255.0 / 219 : 1, limited ? 255.0 / 224 : 1);
    out.black = limited ? 16 : 0;
    out.as_it_is = !limited && w.red == BT601.red && w.blue == BT601.blue;
    return out;
}

/* ---- pictures -----------------------------------------------------------------------
 */

static uint8_t clip(int32_t in_parts)
{
    const int32_t value = (in_parts + ONE / 2) >> Q;
    return (uint8_t)(value < 0 ? 0 : value > 255 ? 255 : value);
}

static uint8_t brightness(const twi_v4l2_colour *c, int32_t y, int32_t chroma)
{
    return clip(c->y * (y - c->black) + chroma);
}

/* What chroma adds to the brightness of its pixels. */
static int32_t added(const twi_v4l2_colour *c, int32_t blue, int32_t red)
{
    return c->y_blue * (blue - 128) + c->y_red * (red - 128);
}

static void turn_chroma(const twi_v4l2_colour *c, int32_t blue, int32_t red,
                        uint8_t *to_blue, uint8_t *to_red)
{
    blue -= 128;
    red -= 128;
    *to_blue = clip(c->blue_blue * blue + c->blue_red * red + 128 * ONE);
    *to_red = clip(c->red_red * red + c->red_blue * blue + 128 * ONE);
}

/* Bytes that are looked at one by one. */
static void turn_bytes(const twi_v4l2_colour *c, const uint8_t *from, uint8_t *to,
                       uint32_t stride, uint32_t bytes, uint32_t rows)
{
    uint8_t table[LEVELS];
    for (int32_t level = 0; level < LEVELS; level++)
        table[level] = brightness(c, level, 0);
    for (uint32_t y = 0; y < rows; y++)
        for (uint32_t x = 0; x < bytes; x++)
            to[(size_t)y * stride + x] = table[from[(size_t)y * stride + x]];
}

/* Luma, blue, luma, red. Of an odd width the last pair is whole if the row has room. */
static void turn_yuyv(const twi_v4l2_colour *c, const uint8_t *from, uint8_t *to,
                      uint32_t stride, uint32_t width, uint32_t rows)
{
    const uint32_t pairs = (width + 1) / 2 < stride / 4 ? (width + 1) / 2 : stride / 4;
    for (uint32_t y = 0; y < rows; y++) {
        const uint8_t *in = from + (size_t)y * stride;
        uint8_t *out = to + (size_t)y * stride;
        for (uint32_t x = 0; x < pairs; x++, in += 4, out += 4) {
            const int32_t more = added(c, in[1], in[3]);
            out[0] = brightness(c, in[0], more);
            out[2] = brightness(c, in[2], more);
            turn_chroma(c, in[1], in[3], &out[1], &out[3]);
        }
        if (width % 2 &&
            pairs < (width + 1) / 2) { /* half a pair: no red, so no matrix */
            out[0] = brightness(c, in[0], 0);
            out[1] = in[1];
        }
    }
}

static void turn_nv12(const twi_v4l2_colour *c, const uint8_t *from, uint8_t *to,
                      uint32_t stride, uint32_t width, uint32_t height)
{
    const uint8_t *chroma = from + (size_t)stride * height;
    uint8_t *to_chroma = to + (size_t)stride * height;
    for (uint32_t y = 0; y < height; y++) {
        const uint8_t *row = chroma + (size_t)(y / 2) * stride;
        for (uint32_t x = 0; x < width; x++) {
            const size_t at = (size_t)y * stride + x;
            const uint32_t pair = x / 2 * 2 + 1 < stride ? x / 2 * 2 : x / 2 * 2 - 2;
            to[at] = brightness(c, from[at], added(c, row[pair], row[pair + 1]));
        }
    }
    for (uint32_t y = 0; y < (height + 1) / 2; y++)
        for (uint32_t x = 0; x + 1 < stride && x < width; x += 2) {
            const size_t at = (size_t)y * stride + x;
            turn_chroma(c, chroma[at], chroma[at + 1], &to_chroma[at],
                        &to_chroma[at + 1]);
        }
}

void twi_v4l2_to_full(const twi_v4l2_colour *colour, uint32_t fourcc, const uint8_t *from,
                      uint8_t *to, uint32_t stride, uint32_t width, uint32_t height)
{
    if (fourcc == V4L2_PIX_FMT_YUYV)
        turn_yuyv(colour, from, to, stride, width, height);
    else if (fourcc == V4L2_PIX_FMT_NV12)
        turn_nv12(colour, from, to, stride, width, height);
    else
        turn_bytes(colour, from, to, stride, is_rgb(fourcc) ? 3 * width : width, height);
}
