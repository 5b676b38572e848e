/* Bars of colour as devices code them, and as full-range BT.601 has them. */
#include <linux/videodev2.h>
#include <stdlib.h>
#include <string.h>

#include "../../src/port/linux/v4l2_colour.h"
#include "../support/support.h"

enum { BARS = 8, W = 2 * BARS, H = 4 };

/* White, yellow, cyan, green, magenta, red, blue, black: at three quarters. */
static const int RGB[BARS][3] = {{191, 191, 191}, {191, 191, 0}, {0, 191, 191},
                                 {0, 191, 0},     {191, 0, 191}, {191, 0, 0},
                                 {0, 0, 191},     {0, 0, 0}};

/* By the standards' own formulas, in parts of 1. */
static void coded(const int rgb[3], double red, double blue, bool limited, uint8_t out[3])
{
    const double r = rgb[0] / 255.0, g = rgb[1] / 255.0, b = rgb[2] / 255.0;
    const double y = red * r + (1 - red - blue) * g + blue * b;
    const double cb = (b - y) / (2 * (1 - blue)), cr = (r - y) / (2 * (1 - red));
    out[0] = (uint8_t)(0.5 + (limited ? 16 + 219 * y : 255 * y));
    out[1] = (uint8_t)(0.5 + (128 + (limited ? 224 : 255) * cb));
    out[2] = (uint8_t)(0.5 + (128 + (limited ? 224 : 255) * cr));
}

static void draw(uint32_t fourcc, double red, double blue, bool limited, uint8_t *px)
{
    for (int y = 0; y < H; y++) {
        for (int x = 0; x < W; x++) {
            uint8_t c[3];
            coded(RGB[x / 2], red, blue, limited, c);
            if (fourcc == V4L2_PIX_FMT_YUYV) {
                px[(y * W + x) * 2] = c[0];
                px[(y * W + x) * 2 + 1] = c[x % 2 ? 2 : 1];
            } else {
                px[y * W + x] = c[0];
                px[(H + y / 2) * W + x] = c[x % 2 ? 2 : 1];
            }
        }
    }
}

static void check_bars(uint32_t fourcc, const struct v4l2_pix_format *said, double red,
                       double blue, bool limited)
{
    uint8_t from[W * H * 2], to[W * H * 2], wanted[W * H * 2];
    const uint32_t stride = fourcc == V4L2_PIX_FMT_YUYV ? 2 * W : W;
    memset(from, 0, sizeof from);
    memset(to, 0, sizeof to);
    memset(wanted, 0, sizeof wanted);
    draw(fourcc, red, blue, limited, from);
    draw(fourcc, 0.299, 0.114, false, wanted);
    struct v4l2_pix_format format = *said;
    format.pixelformat = fourcc;
    const twi_v4l2_colour colour = twi_v4l2_colour_of(&format);
    if (colour.as_it_is)
        memcpy(to, from, sizeof to);
    else
        twi_v4l2_to_full(&colour, fourcc, from, to, stride, W, H);
    for (size_t i = 0; i < sizeof to; i++)
        if (to[i] - wanted[i] > 2 || wanted[i] - to[i] > 2)
            fail_msg("byte %zu: %d instead of %d", i, to[i], wanted[i]);
}

static void test_bars(void **state)
{
    (void)state;
    static const struct {
        struct v4l2_pix_format said;
        double red, blue;
        bool limited;
    } all[] = {
        {{.colorspace = V4L2_COLORSPACE_SRGB}, 0.299, 0.114, true},
        {{.colorspace = V4L2_COLORSPACE_SMPTE170M}, 0.299, 0.114, true},
        {{.colorspace = V4L2_COLORSPACE_JPEG}, 0.299, 0.114, false},
        {{.colorspace = V4L2_COLORSPACE_REC709}, 0.2126, 0.0722, true},
        {{.colorspace = V4L2_COLORSPACE_REC709,
          .quantization = V4L2_QUANTIZATION_FULL_RANGE},
         0.2126,
         0.0722,
         false},
        {{.colorspace = V4L2_COLORSPACE_SRGB, .ycbcr_enc = V4L2_YCBCR_ENC_709},
         0.2126,
         0.0722,
         true},
        {{.colorspace = V4L2_COLORSPACE_BT2020}, 0.2627, 0.0593, true},
        {{.colorspace = V4L2_COLORSPACE_SMPTE240M}, 0.212, 0.087, true},
        {{.colorspace = V4L2_COLORSPACE_REC709, .ycbcr_enc = V4L2_YCBCR_ENC_601},
         0.299,
         0.114,
         true},
        {{.colorspace = V4L2_COLORSPACE_DEFAULT}, 0.299, 0.114, true},
    };
    for (size_t i = 0; i < sizeof all / sizeof *all; i++) {
        check_bars(V4L2_PIX_FMT_YUYV, &all[i].said, all[i].red, all[i].blue,
                   all[i].limited);
        check_bars(V4L2_PIX_FMT_NV12, &all[i].said, all[i].red, all[i].blue,
                   all[i].limited);
    }
}

static void test_nothing_is_done_where_nothing_has_to_be(void **state)
{
    (void)state;
    struct v4l2_pix_format f = {.pixelformat = V4L2_PIX_FMT_YUYV,
                                .colorspace = V4L2_COLORSPACE_JPEG};
    assert_true(twi_v4l2_colour_of(&f).as_it_is);
    f.colorspace = V4L2_COLORSPACE_SRGB;
    assert_false(twi_v4l2_colour_of(&f).as_it_is);
    f.pixelformat = V4L2_PIX_FMT_GREY;
    assert_true(twi_v4l2_colour_of(&f).as_it_is);
    f.pixelformat = V4L2_PIX_FMT_RGB24;
    f.colorspace = V4L2_COLORSPACE_REC709;
    assert_true(twi_v4l2_colour_of(&f).as_it_is);
}

/* Odd sides, in rows that are no wider than their pixels: no byte is written past them.
 */
static void test_odd_sizes_stay_within(void **state)
{
    (void)state;
    enum { ODD = 7, ROWS = 5 };
    static const struct {
        uint32_t fourcc, stride, bytes;
    } all[] = {{V4L2_PIX_FMT_YUYV, 2 * ODD, 2 * ODD * ROWS},
               {V4L2_PIX_FMT_NV12, ODD, ODD * (ROWS + 3)},
               {V4L2_PIX_FMT_NV12, ODD + 1, (ODD + 1) * (ROWS + 3)},
               {V4L2_PIX_FMT_GREY, ODD, ODD * ROWS},
               {V4L2_PIX_FMT_RGB24, 3 * ODD, 3 * ODD * ROWS}};
    for (size_t i = 0; i < sizeof all / sizeof *all; i++) {
        const struct v4l2_pix_format f = {.pixelformat = all[i].fourcc,
                                          .colorspace = V4L2_COLORSPACE_REC709,
                                          .quantization = V4L2_QUANTIZATION_LIM_RANGE};
        const twi_v4l2_colour colour = twi_v4l2_colour_of(&f);
        uint8_t *from = malloc(all[i].bytes), *to = malloc(all[i].bytes);
        assert_true(from && to);
        memset(from, 16, all[i].bytes);
        twi_v4l2_to_full(&colour, all[i].fourcc, from, to, all[i].stride, ODD, ROWS);
        if (all[i].fourcc == V4L2_PIX_FMT_GREY || all[i].fourcc == V4L2_PIX_FMT_RGB24)
            for (uint32_t k = 0; k < all[i].bytes; k++)
                assert_int_equal(to[k], 0);
        free(from);
        free(to);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_bars),
        cmocka_unit_test(test_nothing_is_done_where_nothing_has_to_be),
        cmocka_unit_test(test_odd_sizes_stay_within),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
