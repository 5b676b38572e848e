/* Light that changes across a cell: the soft edge of a cloud's shadow is explained, what
 * walks in it is not, and neither is what only looks like such an edge. */
#include <stdlib.h>
#include <string.h>

#include "../../src/core/detector_state.h"
#include "../support/scene.h"

enum { W = 160, H = 96, CELLS = 20, CELL = W / CELLS, FPS = 10, WARM = 150, SOFT = 40 };

static scene *make(bool nearby)
{
    tw_detector_config config;
    tw_detector_defaults(&config, W, H);
    config.nearby = nearby;
    config.cells = CELLS;
    config.travel_ppm = 0;
    return make_scene(&config, FPS, 7);
}

static int stone_at(int x, int y)
{
    return 90 + (x / 3 * 7 + y / 2 * 13) % 23 * 4;
}

/* Of 100: the light at a place when the middle of a shadow's soft edge is at another. */
static int light_at(int x, int edge)
{
    const int into = x - edge + SOFT / 2;
    return 100 - 40 * (into < 0 ? 0 : into > SOFT ? SOFT : into) / SOFT;
}

/* @param upright  The edge stands; else it lies, and edge is a row. */
static void draw(scene *p, int edge, bool upright)
{
    for (int y = 0; y < H; y++)
        for (int x = 0; x < W; x++)
            p->px[y * W + x] =
                (uint8_t)(stone_at(x, y) * light_at(upright ? x : y, edge) / 100 +
                          noise(p));
}

static scene *watched(bool nearby)
{
    scene *p = make(nearby);
    for (int i = 0; i < WARM; i++) {
        draw(p, 2 * W, true);
        (void)see(p);
    }
    return p;
}

/* A shadow comes over two thirds of the picture: by then light has changed in many cells,
 * which is when it is asked whether it is slanted. */
static scene *under_a_shadow(bool nearby, bool upright)
{
    scene *p = watched(nearby);
    const int side = upright ? W : H;
    for (int edge = side + SOFT / 2; edge > side / 3; edge -= 2) {
        draw(p, edge, upright);
        (void)see(p);
    }
    return p;
}

/* @return cells that move in ten frames in which the shadow goes on. */
static int moving_at_an_edge(bool nearby, bool upright)
{
    scene *p = under_a_shadow(nearby, upright);
    int count = 0;
    for (int i = 1; i <= 10; i++) {
        draw(p, (upright ? W : H) / 3 - i, upright);
        (void)see(p);
        count += moving_in(p, 0, 0, W, H);
        assert_in_range(p->reading.shake_ppm, 0, 50000); /* what it is taken by */
    }
    leave_scene(p);
    return count;
}

static void test_a_soft_edge_is_explained(void **state)
{
    (void)state;
    for (int upright = 0; upright < 2; upright++) {
        const int without = moving_at_an_edge(false, upright);
        const int with = moving_at_an_edge(true, upright);
        assert_true(without > 250);
        assert_true(with * 3 < without);
    }
}

/* A grey animal in the middle of the soft edge. */
static void test_what_walks_in_it_is_not(void **state)
{
    (void)state;
    enum { TOP = 32, SIDE = 24 };
    scene *p = under_a_shadow(true, true);
    int count = 0;
    for (int i = 1; i <= 10; i++) {
        const int edge = W / 3 - i, left = (edge - SIDE / 2) / CELL * CELL;
        draw(p, edge, true);
        for (int y = TOP; y < TOP + SIDE; y++)
            for (int x = left; x < left + SIDE; x++)
                p->px[y * W + x] = (uint8_t)(60 + (x * 7 + y * 13) % 17 + noise(p));
        (void)see(p);
        count += moving_in(p, left, TOP, SIDE, SIDE);
    }
    assert_in_range(count, 80, 90);
    leave_scene(p);
}

/* A wide thing whose shading is that of the soft edge, in a picture whose light is as it
 * was: no cell that it covers is explained. */
static void test_shading_is_no_light_while_the_rest_stays_as_it_is(void **state)
{
    (void)state;
    int seen[2];
    for (int nearby = 0; nearby < 2; nearby++) {
        scene *p = watched(nearby);
        seen[nearby] = 0;
        for (int i = 0; i < 10; i++) {
            draw(p, 2 * W, true);
            for (int y = 32; y < 56; y++)
                for (int x = 60; x < 60 + SOFT; x++)
                    p->px[y * W + x] =
                        (uint8_t)(stone_at(x, y) * light_at(x, 80) / 100 + noise(p));
            (void)see(p);
            seen[nearby] += moving_in(p, 64, 32, 32, 24);
        }
        leave_scene(p);
    }
    assert_true(seen[0] > 60);
    assert_true(seen[1] >= seen[0]);
}

/* ---- what the cells tell --------------------------------------------------------- */

/* Ratios of three rows of cells about one, and light all over. */
static void tell(scene *p, const float ratio[3][3])
{
    tw_detector *d = p->detector;
    for (int y = 0; y < 3; y++)
        for (int x = 0; x < 3; x++)
            d->nearby[(4 + y) * d->grid.columns + 4 + x].ratio = ratio[y][x];
    d->lit_usual = (int32_t)(d->cells / 4 * 256);
}

/* A cell whose background grows as the square of the column, and that has become brighter
 * to the right by 20 % a cell and been shifted by half a pixel; three of its pixels are
 * white. @return the level that is left, of one that was 5. */
static int32_t left_of_a_slope(scene *p)
{
    enum { ROW = 5, COLUMN = 5 };
    static const twi_cell_fit fit = {
        .gain = 1.0F, .dx = 0.5F, .expected = CELL * CELL * 16.0F};
    twi_patch *patch = calloc(1, sizeof *patch);
    assert_non_null(patch);
    for (int i = 0; i < W * H; i++) {
        const int x = i % W - COLUMN * CELL, within = x < -1 ? -1 : x > CELL ? CELL : x;
        const int background = 60 + within * within;
        p->detector->background[i] = (uint16_t)(background << 8);
        p->px[i] = (uint8_t)(background + within +
                             (2 * within - CELL + 1) * background / (10 * CELL));
    }
    for (int x = 2; x < 5; x++)
        p->px[(ROW * CELL + 3) * W + COLUMN * CELL + x] = 255;
    const tw_luma luma = {.px = p->px, .width = W, .height = H, .stride = W};
    twi_patch_take(p->detector, &luma, ROW, COLUMN, patch);
    const int32_t level =
        twi_slant_explain(p->detector, patch, ROW, COLUMN, &fit, TWI_LEVEL(5.0));
    free(patch);
    return level;
}

static void test_both_sides_and_both_rows_must_agree(void **state)
{
    (void)state;
    static const float slope[3][3] = {{.8F, 1, 1.2F}, {.8F, 1, 1.2F}, {.8F, 1, 1.2F}};
    static const float one_side[3][3] = {{.8F, 1, 1}, {.8F, 1, 1}, {.8F, 1, 1}};
    static const float one_row[3][3] = {{1, 1, 1}, {.8F, 1, 1.2F}, {.8F, 1, 1.2F}};
    static const float back[3][3] = {{1.2F, 1, .8F}, {.8F, 1, 1.2F}, {1.2F, 1, .8F}};
    static const float unknown[3][3] = {{.8F, 1, 1.2F}, {0, 1, 1.2F}, {.8F, 1, 1.2F}};
    scene *p = make(true);
    tell(p, slope);
    assert_true(left_of_a_slope(p) < TWI_LEVEL(-1.0));
    tell(p, one_side);
    assert_int_equal(left_of_a_slope(p), TWI_LEVEL(5.0));
    tell(p, one_row);
    assert_int_equal(left_of_a_slope(p), TWI_LEVEL(5.0));
    tell(p, back);
    assert_int_equal(left_of_a_slope(p), TWI_LEVEL(5.0));
    tell(p, unknown);
    assert_int_equal(left_of_a_slope(p), TWI_LEVEL(5.0));
    leave_scene(p);
}

static void test_it_is_asked_only_while_light_changes_widely(void **state)
{
    (void)state;
    static const float slope[3][3] = {{1}};
    scene *p = make(true), *without = make(false);
    tell(p, slope);
    assert_true(twi_slant_is_asked(p->detector));
    p->detector->lit_usual--;
    assert_false(twi_slant_is_asked(p->detector));
    p->detector->lit_usual++;
    p->detector->config.light_guard = false;
    assert_false(twi_slant_is_asked(p->detector));
    without->detector->lit_usual = (int32_t)(without->detector->cells * 256);
    assert_false(twi_slant_is_asked(without->detector));
    leave_scene(without);
    leave_scene(p);
}

/* One cell of a row moves, and no other. */
static void test_each_row_is_judged_by_itself(void **state)
{
    (void)state;
    for (int row = 4; row <= 7; row++) {
        scene *p = watched(true);
        for (int i = 0; i < 3; i++) {
            draw(p, 2 * W, true);
            for (int y = row * CELL; y < (row + 1) * CELL; y++)
                for (int x = 64; x < 64 + CELL; x++)
                    p->px[y * W + x] = (uint8_t)(40 + (x * 5 + y * 11) % 90);
            (void)see(p);
        }
        assert_int_equal(moving_in(p, 64, row * CELL, CELL, CELL), 1);
        assert_int_equal(moving_in(p, 0, 0, W, H), 1);
        leave_scene(p);
    }
}

static void test_a_cell_tells_how_much_lighter_it_is(void **state)
{
    (void)state;
    scene *p = make(true);
    const twi_cell_sums sums = {.n = 64, .x = 64 * 392, .d = 64 * 200};
    twi_slant_tell(p->detector, 7, &sums);
    assert_true(p->detector->nearby[7].ratio == 1.5F);
    const twi_cell_sums white = {.n = 0};
    twi_slant_tell(p->detector, 7, &white);
    assert_true(p->detector->nearby[7].ratio == 0.0F);
    leave_scene(p);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_soft_edge_is_explained),
        cmocka_unit_test(test_what_walks_in_it_is_not),
        cmocka_unit_test(test_shading_is_no_light_while_the_rest_stays_as_it_is),
        cmocka_unit_test(test_both_sides_and_both_rows_must_agree),
        cmocka_unit_test(test_it_is_asked_only_while_light_changes_widely),
        cmocka_unit_test(test_each_row_is_judged_by_itself),
        cmocka_unit_test(test_a_cell_tells_how_much_lighter_it_is),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
