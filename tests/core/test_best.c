/* Which frame shows the most. */
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"

enum { W = 100, H = 60 };

/* A reading with one blob, its box given in percent. */
static tw_reading with_blob(int left, int top, int right, int bottom)
{
    tw_reading r = {.activity_ppm = 1000, .blob_count = 1};
    r.blob[0] = (tw_blob){.left_ppm = left * 10000,
                          .top_ppm = top * 10000,
                          .right_ppm = right * 10000,
                          .bottom_ppm = bottom * 10000,
                          .size_ppm = (uint32_t)((right - left) * (bottom - top) * 100),
                          .counted = true};
    return r;
}

/* A chessboard of squares of so many pixels; no contrast: flat. */
static tw_luma platform(uint8_t *px, int square, int contrast)
{
    for (int y = 0; y < H; y++)
        for (int x = 0; x < W; x++)
            px[y * W + x] =
                (uint8_t)(100 + ((x / square + y / square) % 2 ? contrast : 0));
    return (tw_luma){px, W, W, H};
}

static void test_larger_is_better(void **state)
{
    (void)state;
    uint8_t px[W * H];
    const tw_luma flat = platform(px, 1, 0);
    twi_best best = {0};
    tw_reading r = with_blob(20, 20, 40, 40);
    assert_true(twi_best_take(&best, &r, &flat, 10));
    assert_false(twi_best_take(&best, &r, &flat, 10)); /* the same again is not better */
    r = with_blob(20, 20, 41, 41);                     /* nor is a little more */
    assert_true(r.blob[0].size_ppm > best.size_ppm);
    r.blob[0].size_ppm = best.size_ppm * 109 / 100;
    assert_false(twi_best_take(&best, &r, &flat, 10));
    r.blob[0].size_ppm = best.size_ppm * 111 / 100;
    assert_true(twi_best_take(&best, &r, &flat, 10));
    r = with_blob(50, 50, 52, 52);
    assert_false(twi_best_take(&best, &r, &flat, 10));
}

/* A subject that is still half outside is no good picture, however large. */
static void test_what_is_cut_off_counts_less(void **state)
{
    (void)state;
    uint8_t px[W * H];
    const tw_luma flat = platform(px, 1, 0);
    static const int edges[][4] = {
        {0, 20, 40, 50}, {60, 20, 100, 50}, {20, 0, 60, 30}, {20, 70, 60, 100}};
    for (size_t i = 0; i < 4; i++) {
        twi_best best = {0};
        tw_reading r = with_blob(edges[i][0], edges[i][1], edges[i][2], edges[i][3]);
        assert_true(twi_best_take(&best, &r, &flat, 10)); /* better than none */
        r = with_blob(30, 30, 50, 50);                    /* a third of that, but whole */
        assert_true(twi_best_take(&best, &r, &flat, 10));
        r = with_blob(edges[i][0], edges[i][1], edges[i][2], edges[i][3]);
        assert_false(twi_best_take(&best, &r, &flat, 10));
    }
}

static void test_of_two_alike_the_sharper(void **state)
{
    (void)state;
    uint8_t px[W * H], soft_px[W * H];
    const tw_luma sharp = platform(px, 1, 60), soft = platform(soft_px, 4, 60);
    twi_best best = {0};
    tw_reading r = with_blob(20, 20, 60, 60), smaller = with_blob(20, 20, 60, 59);
    assert_true(twi_best_take(&best, &r, &soft, 10));
    assert_true(twi_best_take(&best, &smaller, &sharp, 10));
    assert_false(twi_best_take(&best, &r, &soft, 10));
    smaller = with_blob(20, 20, 40, 40); /* sharpness does not make up for size */
    best = (twi_best){0};
    assert_true(twi_best_take(&best, &r, &soft, 10));
    assert_false(twi_best_take(&best, &smaller, &sharp, 10));
}

static void test_what_does_not_count(void **state)
{
    (void)state;
    uint8_t px[W * H];
    const tw_luma flat = platform(px, 1, 0);
    twi_best best = {0};
    tw_reading r = with_blob(20, 20, 60, 60);
    r.activity_ppm = 0; /* nothing is there */
    assert_false(twi_best_take(&best, &r, &flat, 10));
    assert_false(best.any);
    r.activity_ppm = 2000;
    r.blob[0].counted = false; /* only a zone's activity: better than nothing */
    assert_true(twi_best_take(&best, &r, &flat, 10));
    assert_int_equal(best.size_ppm, 500);
    r.blob[0].counted = true;
    assert_true(twi_best_take(&best, &r, &flat, 10));
    assert_false(twi_best_take(NULL, &r, &flat, 10));
    assert_false(twi_best_take(&best, &r, NULL, 10));
}

static void test_sharpness(void **state)
{
    (void)state;
    uint8_t px[W * H];
    const tw_blob all = {.right_ppm = 1000000, .bottom_ppm = 1000000};
    tw_luma l = platform(px, 1, 0);
    assert_int_equal(twi_sharpness(&l, &all), 0);
    l = platform(px, 1, 50); /* each pixel differs from its four neighbours by 50 */
    assert_int_equal(twi_sharpness(&l, &all), 200 * 256);
    l = platform(px, 4, 50);
    const uint32_t coarse = twi_sharpness(&l, &all);
    assert_in_range(coarse, 1, 199 * 256);
    const tw_blob outside = {
        .left_ppm = -300000, .top_ppm = -5, .right_ppm = 1300000, .bottom_ppm = 1300000};
    assert_int_equal(twi_sharpness(&l, &outside), coarse);
    const tw_blob tiny = {.left_ppm = 500000, .right_ppm = 510000, .bottom_ppm = 1000000};
    assert_int_equal(twi_sharpness(&l, &tiny), 0);
    assert_int_equal(twi_sharpness(NULL, &all), 0);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_larger_is_better),
        cmocka_unit_test(test_what_is_cut_off_counts_less),
        cmocka_unit_test(test_of_two_alike_the_sharper),
        cmocka_unit_test(test_what_does_not_count),
        cmocka_unit_test(test_sharpness),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
