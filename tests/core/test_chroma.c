/* Chroma of pictures, reduced for the detector. */
#include <stdlib.h>
#include <string.h>

#include "../../src/core/chroma.h"
#include "../support/support.h"

enum { WIDE = 400, HIGH = 300 };

/* A colour ramp: blue rises to the right, red falls downwards. */
static uint8_t blue_at(unsigned x, unsigned width)
{
    return (uint8_t)(60 + 130 * x / width);
}

static uint8_t red_at(unsigned y, unsigned height)
{
    return (uint8_t)(190 - 130 * y / height);
}

/* The ramp in a layout, in memory to be freed. */
static uint8_t *draw(tw_pixels pixels, tw_picture *out)
{
    const unsigned w = WIDE / 2, h = HIGH / 2;
    uint8_t *px = calloc(4, (size_t)WIDE * HIGH), *chroma = px + (size_t)2 * WIDE * HIGH;
    assert_non_null(px);
    *out = (tw_picture){
        .px = {px}, .stride = {WIDE}, .width = WIDE, .height = HIGH, .pixels = pixels};
    for (unsigned y = 0; y < h; y++) {
        for (unsigned x = 0; x < w; x++) {
            const uint8_t u = blue_at(x, w), v = red_at(y, h);
            if (pixels == TW_PIXELS_I420) {
                chroma[y * w + x] = u;
                chroma[(size_t)w * h + y * w + x] = v;
            } else if (pixels == TW_PIXELS_NV12) {
                chroma[2 * (y * w + x)] = u;
                chroma[2 * (y * w + x) + 1] = v;
            } else {
                for (unsigned k = 0; k < 2; k++) {
                    uint8_t *at = px + (size_t)2 * ((2 * y + k) * WIDE + 2 * x);
                    at[1] = u;
                    at[3] = v;
                }
            }
        }
    }
    if (pixels == TW_PIXELS_YUYV) {
        out->stride[0] = 2 * WIDE;
    } else {
        out->px[1] = chroma;
        out->px[2] = chroma + (size_t)w * h;
        out->stride[1] = out->stride[2] = pixels == TW_PIXELS_NV12 ? 2 * w : w;
    }
    return px;
}

static void check_ramp(const tw_chroma *c)
{
    assert_int_equal(tw_chroma_check(c), TW_OK);
    for (unsigned y = 0; y < c->height; y++) {
        for (unsigned x = 0; x < c->width; x++) {
            const int u = c->u[y * c->stride + x], v = c->v[y * c->stride + x];
            assert_in_range(u - blue_at(2 * x + 1, 2U * c->width) + 1, 0, 2);
            assert_in_range(v - red_at(2 * y + 1, 2U * c->height) + 1, 0, 2);
        }
    }
}

static void test_is_reduced_from_any_layout(void **state)
{
    (void)state;
    static const struct {
        tw_pixels pixels;
        uint16_t width, height;
    } cases[] = {
        {TW_PIXELS_I420, 100, 75}, {TW_PIXELS_NV12, 100, 75}, {TW_PIXELS_YUYV, 100, 150}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        tw_picture picture;
        tw_chroma c = {0};
        uint8_t *px = draw(cases[i].pixels, &picture);
        const size_t bytes = tw_picture_chroma_bytes(&picture);
        assert_int_equal(bytes, (size_t)2 * cases[i].width * cases[i].height);
        uint8_t *out = malloc(bytes);
        assert_int_equal(tw_picture_chroma(&picture, out, bytes - 1, &c), TW_ESIZE);
        assert_int_equal(tw_picture_chroma(&picture, out, bytes, &c), TW_OK);
        assert_int_equal(c.width, cases[i].width);
        assert_int_equal(c.height, cases[i].height);
        check_ramp(&c);
        free(out);
        free(px);
    }
}

/* ITU-T T.871 of plain colours. */
static void test_is_made_from_rgb(void **state)
{
    (void)state;
    static const struct {
        uint8_t rgb[3], u, v;
    } cases[] = {{{255, 0, 0}, 85, 255},
                 {{0, 255, 0}, 44, 21},
                 {{0, 0, 255}, 255, 107},
                 {{90, 90, 90}, 128, 128}};
    enum { SIDE = 161 };
    static uint8_t px[3 * SIDE * SIDE], out[2 * SIDE * SIDE];
    const tw_picture picture = {.px = {px},
                                .stride = {3 * SIDE},
                                .width = SIDE,
                                .height = SIDE,
                                .pixels = TW_PIXELS_RGB};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        tw_chroma c;
        for (size_t at = 0; at < sizeof px; at++)
            px[at] = cases[i].rgb[at % 3];
        assert_int_equal(tw_picture_chroma(&picture, out, sizeof out, &c), TW_OK);
        assert_int_equal(c.width, SIDE / 2);
        assert_int_equal(c.u[7 * c.stride + 9], cases[i].u);
        assert_int_equal(c.v[7 * c.stride + 9], cases[i].v);
    }
}

static void test_grey_has_none(void **state)
{
    (void)state;
    static uint8_t px[64 * 48], out[64];
    const tw_picture grey = {
        .px = {px}, .stride = {64}, .width = 64, .height = 48, .pixels = TW_PIXELS_GREY};
    tw_chroma c = {.u = px};
    assert_int_equal(tw_picture_chroma_bytes(&grey), 0);
    assert_int_equal(tw_picture_chroma(&grey, out, sizeof out, &c), TW_OK);
    assert_null(c.u);
    assert_int_equal(tw_chroma_check(&c), TW_EINVAL);
    assert_int_equal(tw_chroma_check(NULL), TW_EINVAL);
    assert_int_equal(tw_picture_chroma(NULL, out, sizeof out, &c), TW_EINVAL);
}

/* Of a part that is looked at as much is left as of a whole. */
static void test_a_part_keeps_more(void **state)
{
    (void)state;
    assert_int_equal(twi_chroma_factor(960, 1000000), 12);
    assert_int_equal(twi_chroma_factor(960, 500000), 6);
    assert_int_equal(twi_chroma_factor(960, 10), 1);
    assert_int_equal(twi_chroma_factor(40, 1000000), 1);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_is_reduced_from_any_layout),
        cmocka_unit_test(test_is_made_from_rgb),
        cmocka_unit_test(test_grey_has_none),
        cmocka_unit_test(test_a_part_keeps_more),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
