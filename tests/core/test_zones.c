/* Polygons over the grid of cells. */
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"
#include "tawny/zones.h"

static const tw_grid GRID = {10, 10, 8, 80, 80}; /* cell centres at 5, 15, ... 95 % */

static const tw_point LEFT_HALF[] = {
    {0, 0}, {500000, 0}, {500000, 1000000}, {0, 1000000}};
static const tw_point RIGHT_HALF[] = {
    {500000, 0}, {1000000, 0}, {1000000, 1000000}, {500000, 1000000}};
static const tw_point TRIANGLE[] = {{0, 0}, {1000000, 0}, {0, 1000000}};
static const tw_point MIDDLE[] = {
    {300000, 300000}, {700000, 300000}, {700000, 700000}, {300000, 700000}};

static size_t marked(const uint8_t *mask)
{
    size_t n = 0;
    for (size_t i = 0; i < 100; i++)
        n += mask[i];
    return n;
}

static void test_no_zone_watches_all(void **state)
{
    (void)state;
    uint8_t mask[100] = {0};
    assert_int_equal(tw_zones_mark(&GRID, NULL, 0, mask), TW_OK);
    assert_int_equal(marked(mask), 100);
}

static void test_watched_zone_leaves_the_rest_out(void **state)
{
    (void)state;
    uint8_t mask[100];
    const tw_zone zone = {LEFT_HALF, 4, true, 0, 0};
    assert_int_equal(tw_zones_mark(&GRID, &zone, 1, mask), TW_OK);
    assert_int_equal(marked(mask), 50);
    assert_int_equal(mask[0], 1);
    assert_int_equal(mask[4], 1);
    assert_int_equal(mask[5], 0);
}

static void test_ignored_zone_is_taken_off(void **state)
{
    (void)state;
    uint8_t mask[100];
    const tw_zone zones[] = {{MIDDLE, 4, false, 0, 0}, {LEFT_HALF, 4, true, 0, 0}};
    assert_int_equal(tw_zones_mark(&GRID, zones, 1, mask), TW_OK);
    assert_int_equal(marked(mask), 100 - 16);
    assert_int_equal(tw_zones_mark(&GRID, zones, 2, mask),
                     TW_OK); /* whatever the order */
    assert_int_equal(marked(mask), 50 - 8);
}

static void test_halves_share_no_cell_and_leave_none(void **state)
{
    (void)state;
    uint8_t left[100], right[100];
    const tw_grid odd = {7, 7, 8, 56, 56}; /* a column of centres on the common edge */
    const tw_zone l = {LEFT_HALF, 4, true, 0, 0}, r = {RIGHT_HALF, 4, true, 0, 0};
    assert_int_equal(tw_zones_mark(&odd, &l, 1, left), TW_OK);
    assert_int_equal(tw_zones_mark(&odd, &r, 1, right), TW_OK);
    for (size_t i = 0; i < 49; i++)
        assert_int_equal(left[i] + right[i], 1);
}

static void test_triangle_takes_cells_by_their_centre(void **state)
{
    (void)state;
    uint8_t mask[100];
    const tw_zone zone = {TRIANGLE, 3, true, 0, 0};
    assert_int_equal(tw_zones_mark(&GRID, &zone, 1, mask), TW_OK);
    for (size_t row = 0; row < 10; row++)
        for (size_t column = 0; column < 10; column++)
            if (row + column != 9) /* the diagonal itself lies on the edge */
                assert_int_equal(mask[row * 10 + column], row + column < 9);
}

static void test_a_zone_over_all_takes_cells_that_are_cut_off_too(void **state)
{
    (void)state;
    static const tw_point all[] = {
        {0, 0}, {1000000, 0}, {1000000, 1000000}, {0, 1000000}};
    const tw_grid grid = {10, 10, 8, 76, 76}; /* half of the last row and column */
    const tw_zone zone = {all, 4, true, 0, 0};
    uint8_t mask[100];
    assert_int_equal(tw_zones_mark(&grid, &zone, 1, mask), TW_OK);
    assert_int_equal(marked(mask), 100);
}

static void test_refuses(void **state)
{
    (void)state;
    uint8_t mask[100];
    const tw_zone two = {LEFT_HALF, 2, true, 0, 0}, none = {NULL, 4, true, 0, 0};
    const tw_grid empty = {0};
    assert_int_equal(tw_zones_mark(NULL, NULL, 0, mask), TW_EINVAL);
    assert_int_equal(tw_zones_mark(&GRID, NULL, 0, NULL), TW_EINVAL);
    assert_int_equal(tw_zones_mark(&GRID, NULL, 1, mask), TW_EINVAL);
    assert_int_equal(tw_zones_mark(&GRID, &two, 1, mask), TW_EINVAL);
    assert_int_equal(tw_zones_mark(&GRID, &none, 1, mask), TW_EINVAL);
    assert_int_equal(tw_zones_mark(&empty, NULL, 0, mask), TW_EINVAL);
}

static void test_zones_with_limits_of_their_own_are_areas(void **state)
{
    (void)state;
    const tw_grid grid = {10, 10, 10, 100, 100};
    uint8_t mask[100];
    const tw_zone zones[] = {{LEFT_HALF, 4, false, 500, 200},
                             {MIDDLE, 4, false, 0, 0},
                             {RIGHT_HALF, 4, false, 900, 900}};
    assert_int_equal(tw_zones_mark(&grid, zones, 3, mask), TW_OK);
    assert_int_equal(mask[0], 2); /* the first that has its own */
    assert_int_equal(mask[9], 3);
    assert_int_equal(mask[55], 0); /* ignored wins */
    const tw_zone only[] = {{MIDDLE, 4, true, 0, 0}, {LEFT_HALF, 4, false, 500, 200}};
    assert_int_equal(tw_zones_mark(&grid, only, 2, mask), TW_OK);
    assert_int_equal(mask[0], 0); /* it does not widen what is watched */
    assert_int_equal(mask[54], 2);
    assert_int_equal(mask[55], 1);
    tw_zone many[TW_OWN_LIMITS_MAX + 1];
    for (int i = 0; i <= TW_OWN_LIMITS_MAX; i++)
        many[i] = zones[0];
    assert_int_equal(tw_zones_mark(&grid, many, TW_OWN_LIMITS_MAX, mask), TW_OK);
    assert_int_equal(tw_zones_mark(&grid, many, TW_OWN_LIMITS_MAX + 1, mask), TW_EINVAL);
}

/* The same mask at any size leaves the same cells. */
static void test_a_mask_of_any_size(void **state)
{
    (void)state;
    static const uint16_t sides[] = {2, 10, 37, 400, 3};
    const tw_grid grid = {10, 10, 10, 100, 100};
    for (size_t i = 0; i < sizeof sides / sizeof *sides; i++) {
        const uint16_t side = sides[i];
        uint8_t *px = malloc((size_t)side * (side + 5U)), mask[100];
        for (size_t k = 0; k < (size_t)side * (side + 5U); k++)
            px[k] = k % (side + 5U) * 2 < side ? 0 : 255; /* the left half is black */
        const tw_luma picture = {px, side + 5U, side, side};
        memset(mask, 1, sizeof mask);
        mask[9] = 3;
        assert_int_equal(tw_mask_mark(&grid, &picture, mask), TW_OK);
        for (int row = 0; row < 10; row++) {
            assert_int_equal(mask[row * 10 + 3], 0);
            assert_int_equal(mask[row * 10 + 7], 1);
        }
        assert_int_equal(mask[9], 3); /* areas stay what they are */
        free(px);
    }
    uint8_t mask[100], grey = 128, dark = 127;
    memset(mask, 1, sizeof mask);
    const tw_luma half = {&grey, 1, 1, 1}, less = {&dark, 1, 1, 1};
    assert_int_equal(tw_mask_mark(&grid, &half, mask), TW_OK);
    assert_int_equal(mask[0], 1);
    assert_int_equal(tw_mask_mark(&grid, &less, mask), TW_OK);
    assert_int_equal(mask[0], 0);
    assert_int_equal(tw_mask_mark(&grid, NULL, mask), TW_EINVAL);
    assert_int_equal(tw_mask_mark(NULL, &half, mask), TW_EINVAL);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_no_zone_watches_all),
        cmocka_unit_test(test_watched_zone_leaves_the_rest_out),
        cmocka_unit_test(test_ignored_zone_is_taken_off),
        cmocka_unit_test(test_halves_share_no_cell_and_leave_none),
        cmocka_unit_test(test_triangle_takes_cells_by_their_centre),
        cmocka_unit_test(test_a_zone_over_all_takes_cells_that_are_cut_off_too),
        cmocka_unit_test(test_refuses),
        cmocka_unit_test(test_zones_with_limits_of_their_own_are_areas),
        cmocka_unit_test(test_a_mask_of_any_size),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
