/* Layouts of raw pictures. What ffmpeg makes of them is in tests/media/test_raw.c. */
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"
#include "tawny/frame.h"

enum { W = 7, H = 5, HALF_W = 4, HALF_H = 3, STRIDE = 32, PAD = 0xEE };

/* Brightness and colours of a place, of which the chroma is coarse. */
static uint8_t luma_at(int x, int y)
{
    return (uint8_t)(16 * y + 2 * x + 1);
}

static uint8_t chroma_at(int plane, int x, int y)
{
    return (uint8_t)(100 * plane + 10 * y + x);
}

typedef struct memory {
    uint8_t px[3][STRIDE * H];
} memory;

static void put(memory *m, int plane, int at, int y, uint8_t value)
{
    m->px[plane][y * STRIDE + at] = value;
}

static void draw_chroma(memory *m, tw_pixels pixels)
{
    for (int y = 0; y < HALF_H; y++) {
        for (int x = 0; x < HALF_W; x++) {
            for (int k = 0; k < 2 && pixels == TW_PIXELS_I420; k++)
                put(m, k + 1, x, y, chroma_at(k, x, y));
            for (int k = 0; k < 2 && pixels == TW_PIXELS_NV12; k++)
                put(m, 1, 2 * x + k, y, chroma_at(k, x, y));
        }
    }
}

static void draw_yuyv(memory *m)
{
    for (int y = 0; y < H; y++) {
        for (int x = 0; x < W; x++) {
            put(m, 0, 2 * x, y, luma_at(x, y));
            put(m, 0, 2 * x + 1, y, chroma_at(x & 1, x / 2, y / 2));
        }
    }
}

static tw_picture draw(memory *m, tw_pixels pixels)
{
    memset(m, PAD, sizeof *m);
    if (pixels == TW_PIXELS_YUYV)
        draw_yuyv(m);
    for (int y = 0; y < H && pixels != TW_PIXELS_YUYV; y++)
        for (int x = 0; x < W; x++)
            put(m, 0, x, y, luma_at(x, y));
    draw_chroma(m, pixels);
    return (tw_picture){.px = {m->px[0], m->px[1], m->px[2]},
                        .stride = {STRIDE, STRIDE, STRIDE},
                        .width = W,
                        .height = H,
                        .pixels = pixels};
}

static void check_luma(const uint8_t *px, uint32_t stride)
{
    for (int y = 0; y < H; y++)
        for (int x = 0; x < W; x++)
            assert_int_equal(px[(size_t)y * stride + (size_t)x], luma_at(x, y));
}

/* A last column without a partner has no second chroma in YUYV. */
static void check_chroma(const tw_picture *p, bool all)
{
    for (int k = 0; k < 2; k++)
        for (int y = 0; y < HALF_H; y++)
            for (int x = 0; x < HALF_W; x++)
                assert_int_equal(p->px[k + 1][y * HALF_W + x],
                                 !all && k == 1 && x == HALF_W - 1 ? 128
                                                                   : chroma_at(k, x, y));
}

static void test_all_become_planes(void **state)
{
    (void)state;
    static const tw_pixels all[] = {TW_PIXELS_I420, TW_PIXELS_NV12, TW_PIXELS_YUYV};
    enum { BYTES = W * H + 2 * HALF_W * HALF_H };
    memory m;
    for (size_t i = 0; i < sizeof all / sizeof *all; i++) {
        const tw_picture from = draw(&m, all[i]);
        uint8_t dst[BYTES + 1];
        tw_picture made = {.px = {NULL}};
        dst[BYTES] = PAD;
        assert_int_equal(tw_picture_check(&from), TW_OK);
        assert_int_equal(tw_picture_bytes(&from), BYTES);
        assert_int_equal(tw_picture_pack(&from, dst, BYTES - 1, &made), TW_ESIZE);
        assert_int_equal(tw_picture_pack(&from, dst, BYTES, &made), TW_OK);
        assert_int_equal(dst[BYTES], PAD);
        assert_int_equal(made.pixels, TW_PIXELS_I420);
        assert_int_equal(tw_picture_check(&made), TW_OK);
        assert_ptr_equal(made.px[0], dst);
        check_luma(made.px[0], made.stride[0]);
        check_chroma(&made, all[i] != TW_PIXELS_YUYV);
    }
}

static void test_grey_stays_grey(void **state)
{
    (void)state;
    memory m;
    uint8_t dst[W * H];
    tw_picture from = draw(&m, TW_PIXELS_GREY), made;
    for (int i = 0; i < 2; i++) {
        assert_int_equal(tw_picture_bytes(&from), W * H);
        assert_int_equal(tw_picture_pack(&from, dst, sizeof dst, &made), TW_OK);
        assert_int_equal(made.pixels, TW_PIXELS_GREY);
        assert_null(made.px[1]);
        check_luma(made.px[0], W);
        from.pixels = TW_PIXELS_I420; /* without chroma it is the same */
        from.px[1] = NULL;
    }
}

/* The corners of the colour cube, by ITU-T T.871. */
static void test_colours(void **state)
{
    (void)state;
    static const struct {
        uint8_t rgb[3], yuv[3];
    } known[] = {{{0, 0, 0}, {0, 128, 128}},      {{255, 255, 255}, {255, 128, 128}},
                 {{255, 0, 0}, {76, 85, 255}},    {{0, 255, 0}, {150, 44, 21}},
                 {{0, 0, 255}, {29, 255, 107}},   {{255, 255, 0}, {226, 0, 149}},
                 {{0, 255, 255}, {179, 171, 0}},  {{255, 0, 255}, {105, 212, 235}},
                 {{10, 200, 100}, {132, 110, 41}}};
    for (size_t i = 0; i < sizeof known / sizeof *known; i++) {
        uint8_t dst[3];
        tw_picture made;
        tw_luma luma;
        const tw_picture one = {.px = {known[i].rgb},
                                .stride = {3},
                                .width = 1,
                                .height = 1,
                                .pixels = TW_PIXELS_RGB};
        assert_int_equal(tw_picture_pack(&one, dst, sizeof dst, &made), TW_OK);
        for (int k = 0; k < 3; k++)
            assert_in_range(dst[k] + 1, known[i].yuv[k], known[i].yuv[k] + 2);
        const uint8_t level = dst[0];
        assert_int_equal(tw_picture_luma(&one, dst, 1, &luma), TW_OK);
        assert_int_equal(luma.px[0], level);
    }
}

static void test_luma_is_a_view_where_it_can_be(void **state)
{
    (void)state;
    memory m;
    uint8_t dst[W * H];
    tw_luma luma;
    static const tw_pixels in_rows[] = {TW_PIXELS_I420, TW_PIXELS_GREY, TW_PIXELS_NV12};
    for (size_t i = 0; i < sizeof in_rows / sizeof *in_rows; i++) {
        const tw_picture p = draw(&m, in_rows[i]);
        assert_int_equal(tw_picture_luma(&p, NULL, 0, &luma), TW_OK);
        assert_ptr_equal(luma.px, m.px[0]);
        check_luma(luma.px, luma.stride);
    }
    const tw_picture p = draw(&m, TW_PIXELS_YUYV);
    assert_int_equal(tw_picture_luma(&p, NULL, 0, &luma), TW_ESIZE);
    assert_int_equal(tw_picture_luma(&p, dst, sizeof dst - 1, &luma), TW_ESIZE);
    assert_int_equal(tw_picture_luma(&p, dst, sizeof dst, &luma), TW_OK);
    check_luma(luma.px, luma.stride);
    assert_int_equal(luma.width, W);
    assert_int_equal(luma.height, H);
}

static void test_what_is_no_picture(void **state)
{
    (void)state;
    memory m;
    uint8_t dst[256];
    tw_picture made;
    tw_luma luma;
    tw_picture bad[10];
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++)
        bad[i] = draw(&m, TW_PIXELS_I420);
    bad[0].px[0] = NULL;
    bad[1].width = 0;
    bad[2].height = 0;
    bad[3].stride[0] = W - 1;
    bad[4].stride[1] = HALF_W - 1;
    bad[5].px[2] = NULL;
    bad[6].pixels = (tw_pixels)77;
    bad[7].pixels = TW_PIXELS_YUYV;
    bad[7].stride[0] = 2 * W - 1;
    bad[8].pixels = TW_PIXELS_NV12;
    bad[8].stride[1] = 2 * HALF_W - 1;
    bad[9].pixels = TW_PIXELS_RGB;
    bad[9].stride[0] = 3 * W - 1;
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++) {
        assert_int_equal(tw_picture_check(&bad[i]), TW_EINVAL);
        assert_int_equal(tw_picture_bytes(&bad[i]), 0);
        assert_int_equal(tw_picture_pack(&bad[i], dst, sizeof dst, &made), TW_EINVAL);
        assert_int_equal(tw_picture_luma(&bad[i], dst, sizeof dst, &luma), TW_EINVAL);
    }
    const tw_picture good = draw(&m, TW_PIXELS_I420);
    assert_int_equal(tw_picture_check(NULL), TW_EINVAL);
    assert_int_equal(tw_picture_pack(&good, NULL, sizeof dst, &made), TW_EINVAL);
    assert_int_equal(tw_picture_pack(&good, dst, sizeof dst, NULL), TW_EINVAL);
    assert_int_equal(tw_picture_luma(&good, NULL, 0, NULL), TW_EINVAL);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_all_become_planes),
        cmocka_unit_test(test_grey_stays_grey),
        cmocka_unit_test(test_colours),
        cmocka_unit_test(test_luma_is_a_view_where_it_can_be),
        cmocka_unit_test(test_what_is_no_picture),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
