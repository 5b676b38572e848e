/* Blocks that nobody may see: all that a zone reaches into, whichever way up the picture
 * is shown. */
#include <stdlib.h>
#include <string.h>

#include "../../src/core/hidden.h"
#include "../support/support.h"

enum { W = 328, H = 200, COLUMNS = 21, ROWS = 13 };

static const tw_point BOX[] = {
    {250000, 500000}, {400000, 500000}, {400000, 750000}, {250000, 750000}};
static const tw_zone ZONE = {.points = BOX, .count = 4};

static void marks(const twi_view *view, uint8_t *blocks)
{
    assert_int_equal(twi_hidden_along(W), COLUMNS);
    assert_int_equal(twi_hidden_along(H), ROWS);
    twi_hidden_mark(view, W, H, blocks);
}

static void test_a_box_is_hidden_to_the_edges_of_its_blocks(void **state)
{
    (void)state;
    const twi_view view = {.hidden = &ZONE, .hidden_count = 1};
    uint8_t blocks[COLUMNS * ROWS];
    marks(&view, blocks);
    /* 82 to 131.2 of 328, and 100 to 150 of 200. */
    for (int y = 0; y < ROWS; y++)
        for (int x = 0; x < COLUMNS; x++)
            assert_int_equal(blocks[y * COLUMNS + x],
                             x >= 5 && x <= 8 && y >= 6 && y <= 9);
}

static void test_nothing_is_hidden_of_a_view_that_hides_nothing(void **state)
{
    (void)state;
    const twi_view view = {.crop = {0, 0, 500000, 500000}};
    uint8_t blocks[COLUMNS * ROWS];
    marks(&view, blocks);
    for (int i = 0; i < COLUMNS * ROWS; i++)
        assert_int_equal(blocks[i], 0);
    assert_false(twi_view_is_plain(&view));
    assert_true(twi_view_is_plain(&(twi_view){.hidden = &ZONE}));
    assert_false(twi_view_is_plain(&(twi_view){.hidden = &ZONE, .hidden_count = 1}));
    assert_true(twi_view_is_straight(&(twi_view){.hidden = &ZONE, .hidden_count = 1}));
}

/* A sliver between the middles of blocks, and one that holds no corner of any. */
static void test_thin_zones_are_hidden_too(void **state)
{
    (void)state;
    static const tw_point sliver[] = {{0, 0}, {1000000, 1000000}, {1000000, 999000}};
    static const tw_point dot[] = {{510000, 510000}, {511000, 510000}, {510000, 511000}};
    const tw_zone zones[] = {{.points = sliver, .count = 3}, {.points = dot, .count = 3}};
    const twi_view view = {.hidden = zones, .hidden_count = 2};
    uint8_t blocks[COLUMNS * ROWS];
    int hidden = 0;
    marks(&view, blocks);
    for (int i = 0; i < COLUMNS * ROWS; i++)
        hidden += blocks[i];
    assert_in_range(hidden, COLUMNS + ROWS - 2, 2 * (COLUMNS + ROWS));
    for (int x = 0; x < W; x++) /* each pixel that the diagonal goes through */
        assert_int_equal(blocks[x * H / W / 16 * COLUMNS + x / 16], 1);
    assert_int_equal(blocks[102 / 16 * COLUMNS + 167 / 16], 1);
}

/* Each pixel that is shown within the zone must be hidden, by whatever way it got there:
 * asked of the function that turns pictures. */
static void test_it_is_hidden_whichever_way_up(void **state)
{
    (void)state;
    static const twi_crop crops[] = {
        {0, 0, 0, 0}, {100000, 200000, 900000, 1000000}, {333333, 0, 777777, 555555}};
    static uint8_t black[W * H], shown[W * H];
    for (int turn = 0; turn < 8; turn++)
        for (size_t c = 0; c < sizeof crops / sizeof *crops; c++) {
            const twi_view view = {.turn = {(uint8_t)(turn % 4), turn >= 4},
                                   .crop = crops[c],
                                   .hidden = &ZONE,
                                   .hidden_count = 1};
            uint8_t blocks[COLUMNS * ROWS];
            marks(&view, blocks);
            memset(black, 200, sizeof black);
            twi_hidden_fill(blocks, W, H, 0, 0, black, W);
            for (uint16_t step = 1; step <= 16; step = (uint16_t)(step * 16)) {
                const tw_luma src = {black, W, W, H};
                const twi_rect r = twi_view_rect(&view, W, H, step);
                int open = 0;
                twi_view_plane(view.turn, &src, &r, shown, r.width);
                for (int y = r.height / 2; y < r.height * 3 / 4; y++)
                    for (int x = r.width / 4; x < r.width * 2 / 5; x++)
                        assert_int_equal(shown[y * r.width + x], 0);
                for (int i = 0; i < r.width * r.height; i++)
                    open += shown[i] == 200;
                assert_true(open > r.width * r.height / 5); /* and no more than need be */
            }
        }
}

static void test_planes_are_filled(void **state)
{
    (void)state;
    uint8_t blocks[3 * 2] = {0, 1, 0, 0, 0, 1};
    uint8_t px[25 * 50], half[13 * 30];
    memset(px, 7, sizeof px);
    memset(half, 7, sizeof half);
    twi_hidden_fill(blocks, 41, 25, 0, 0, px, 50);
    twi_hidden_fill(blocks, 41, 25, 1, 128, half, 30);
    for (int y = 0; y < 25; y++)
        for (int x = 0; x < 50; x++) {
            const bool hidden =
                x < 41 && (y < 16 ? x >= 16 && x < 32 : x >= 32); /* not past the row */
            assert_int_equal(px[y * 50 + x], hidden ? 0 : 7);
        }
    for (int y = 0; y < 13; y++)
        for (int x = 0; x < 30; x++) {
            const bool hidden = x < 21 && (y < 8 ? x >= 8 && x < 16 : x >= 16);
            assert_int_equal(half[y * 30 + x], hidden ? 128 : 7);
        }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_box_is_hidden_to_the_edges_of_its_blocks),
        cmocka_unit_test(test_nothing_is_hidden_of_a_view_that_hides_nothing),
        cmocka_unit_test(test_thin_zones_are_hidden_too),
        cmocka_unit_test(test_it_is_hidden_whichever_way_up),
        cmocka_unit_test(test_planes_are_filled),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
