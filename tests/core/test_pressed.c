/* Light that is pressed against white: a wall that the sun makes white is explained, what
 * walks before it is not. */
#include <stdlib.h>
#include <string.h>

#include "../../src/core/detector_state.h"
#include "../support/scene.h"

enum { W = 160, H = 96, CELLS = 20, CELL = W / CELLS, FPS = 10, WARM = 150, WHITE = 235 };

static scene *make(bool nearby)
{
    tw_detector_config config;
    tw_detector_defaults(&config, W, H);
    config.nearby = nearby;
    config.cells = CELLS;
    config.travel_ppm = 0;
    return make_scene(&config, FPS, 5);
}

/* A wall of stones, from 100 to 199. */
static int stone_at(int x, int y)
{
    return 100 + (x / 2 * 37 + y / 2 * 59 + x / 2 * (y / 2) * 11) % 100;
}

/* @param light  Of 100. */
static void draw(scene *p, int light)
{
    for (int y = 0; y < H; y++) {
        for (int x = 0; x < W; x++) {
            const int value = stone_at(x, y) * light / 100;
            p->px[y * W + x] = (uint8_t)((value < WHITE ? value : WHITE) + noise(p));
        }
    }
}

/* An animal, three cells square, that is about as bright as the wall's shadows. */
static void draw_animal(scene *p, int left, int top)
{
    for (int y = top; y < top + 3 * CELL; y++)
        for (int x = left; x < left + 3 * CELL; x++)
            p->px[y * W + x] = (uint8_t)(70 + (x * 7 + y * 13) % 41 + noise(p));
}

static scene *watched(bool nearby, int light)
{
    scene *p = make(nearby);
    for (int i = 0; i < WARM; i++) {
        draw(p, light);
        (void)see(p);
    }
    return p;
}

/* Light goes to another in two seconds. @return cells that move meanwhile. */
static int moving_in_light(scene *p, int from, int to)
{
    int count = 0;
    for (int i = 1; i <= 20; i++) {
        draw(p, from + (to - from) * i / 20);
        (void)see(p);
        count += moving_in(p, 0, 0, W, H);
    }
    return count;
}

static int moving_from(bool nearby, int from, int to)
{
    scene *p = watched(nearby, from);
    const int count = moving_in_light(p, from, to);
    leave_scene(p);
    return count;
}

static void test_what_the_sun_makes_white_is_explained(void **state)
{
    (void)state;
    assert_true(moving_from(false, 100, 145) > 300);
    assert_in_range(moving_from(true, 100, 145), 0, 10);
}

static void test_what_walks_before_it_is_not(void **state)
{
    (void)state;
    scene *p = watched(true, 100);
    int count = 0;
    (void)moving_in_light(p, 100, 145);
    for (int i = 0; i < 10; i++) {
        const int left = (40 + 2 * i) / CELL * CELL;
        draw(p, 145);
        draw_animal(p, left, 40);
        (void)see(p);
        count += moving_in(p, left, 40, 3 * CELL, 3 * CELL);
    }
    assert_in_range(count, 75, 90);
    leave_scene(p);
}

/* ---- one cell -----------------------------------------------------------------------
 */

enum { ROW = 5, COLUMN = 5 };

/* What is left of a level of 5 in the cell at ROW, COLUMN, as background, picture and
 * ratios are. */
static int32_t left_in(scene *p)
{
    static const twi_cell_fit fit = {.gain = 1.0F, .expected = CELL * CELL * 16.0F};
    const tw_luma luma = {.px = p->px, .width = W, .height = H, .stride = W};
    twi_patch *patch = calloc(1, sizeof *patch);
    assert_non_null(patch);
    twi_patch_take(p->detector, &luma, ROW, COLUMN, patch);
    const int32_t level =
        twi_pressed_explain(p->detector, patch, ROW, COLUMN, &fit, TWI_LEVEL(5.0));
    free(patch);
    return level;
}

/* What was as given in each three pixels, and what is now. @param around  What the cells
 * around tell. @return the level that is left, of one that was 5. */
static int32_t left_of(const int before[3], const int now[3], float around)
{
    scene *p = make(true);
    tw_detector *d = p->detector;
    for (int i = 0; i < W * H; i++) {
        d->background[i] = (uint16_t)(before[i % 3] << 8);
        p->px[i] = (uint8_t)now[i % 3];
    }
    for (uint32_t i = 0; i < d->cells; i++)
        d->nearby[i].ratio = i == ROW * CELLS + COLUMN + 1 ? 0.0F : around; /* unknown */
    const int32_t level = left_in(p);
    leave_scene(p);
    return level;
}

static const int WALL[3] = {120, 150, 180}, SUNNY[3] = {150, 200, 235};

static bool is_explained(const int before[3], const int now[3], float around)
{
    const int32_t left = left_of(before, now, around);
    assert_true(left < TWI_LEVEL(0.0) || left > TWI_LEVEL(2.0));
    return left < TWI_LEVEL(0.0);
}

static void test_a_pixel_may_be_between_what_it_was_and_all_of_the_light(void **state)
{
    (void)state;
    static const int all[3] = {168, 210, 235}, pressed[3] = {168, 200, 215},
                     as_it_was[3] = {168, 195, 182}, over[3] = {168, 222, 215},
                     dark[3] = {168, 100, 235};
    assert_true(is_explained(WALL, all, 1.4F));
    assert_true(is_explained(WALL, pressed, 1.4F));
    assert_true(is_explained(WALL, as_it_was, 1.4F));
    assert_false(is_explained(WALL, over, 1.4F));
    assert_false(is_explained(WALL, dark, 1.4F));
}

static void test_texture_comes_back_as_it_darkens(void **state)
{
    (void)state;
    static const int back[3] = {105, 140, 185}, too_dark[3] = {105, 140, 130},
                     brighter[3] = {105, 225, 185};
    assert_true(is_explained(SUNNY, back, 0.7F));
    assert_false(is_explained(SUNNY, too_dark, 0.7F));
    assert_false(is_explained(SUNNY, brighter, 0.7F));
}

/* The cells around are pressed, too, and tell too little; or one of them tells more. */
static void test_what_the_darker_pixels_tell_counts(void **state)
{
    (void)state;
    static const int all[3] = {168, 210, 220}, off[3] = {140, 210, 220};
    assert_true(is_explained(WALL, all, 1.25F));
    assert_true(is_explained(WALL, off, 1.4F)); /* by 1.17 */
}

static void test_white_that_was_bright_says_nothing(void **state)
{
    (void)state;
    static const int white[3] = {132, 165, 238}, was_dark[3] = {238, 165, 198};
    assert_true(is_explained(WALL, white, 1.1F));
    assert_false(is_explained(WALL, was_dark, 1.1F));
}

static void test_a_little_light_explains_nothing(void **state)
{
    (void)state;
    static const int brighter[3] = {127, 159, 188}, darker[3] = {112, 140, 170};
    assert_int_equal(left_of(WALL, brighter, 1.06F), TWI_LEVEL(5.0));
    assert_int_equal(left_of(WALL, darker, 0.94F), TWI_LEVEL(5.0));
    assert_int_equal(left_of(WALL, brighter, 0.0F), TWI_LEVEL(5.0)); /* not known */
}

/* Four pixels of 64 have become nearly twice as bright. */
static void test_a_few_dark_pixels_tell_no_gain(void **state)
{
    (void)state;
    scene *p = make(true);
    for (int i = 0; i < W * H; i++) {
        const bool few = i % W % CELL < 2 && i / W % CELL < 2;
        p->detector->background[i] = (uint16_t)((few ? 100 : 180) << 8);
        p->px[i] = few ? 185 : 215;
    }
    for (uint32_t i = 0; i < p->detector->cells; i++)
        p->detector->nearby[i].ratio = i == ROW * CELLS + COLUMN + 1 ? 0.0F : 1.25F;
    assert_int_equal(left_in(p), TWI_LEVEL(5.0));
    leave_scene(p);
}

/* Those two cells away are asked, and those of the next row, which is summed. */
static void test_which_cells_are_asked(void **state)
{
    (void)state;
    const int32_t level = TWI_LEVEL(5.0);
    scene *p = make(true);
    memset(p->px, 120, W * H);
    for (int i = 0; i < W * H; i++)
        p->detector->background[i] = 100 << 8;
    for (int row = ROW - 3; row <= ROW + 2; row++) {
        for (int column = COLUMN - 3; column <= COLUMN + 3; column++) {
            for (uint32_t i = 0; i < p->detector->cells; i++)
                p->detector->nearby[i].ratio = 1.02F;
            p->detector->nearby[row * CELLS + column].ratio = 1.2F;
            const bool asked = row >= ROW - 2 && row <= ROW + 1 && column >= COLUMN - 2 &&
                               column <= COLUMN + 2;
            assert_int_equal(left_in(p) < level, asked);
        }
    }
    leave_scene(p);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_what_the_sun_makes_white_is_explained),
        cmocka_unit_test(test_texture_comes_back_as_it_darkens),
        cmocka_unit_test(test_what_walks_before_it_is_not),
        cmocka_unit_test(test_a_pixel_may_be_between_what_it_was_and_all_of_the_light),
        cmocka_unit_test(test_what_the_darker_pixels_tell_counts),
        cmocka_unit_test(test_white_that_was_bright_says_nothing),
        cmocka_unit_test(test_a_few_dark_pixels_tell_no_gain),
        cmocka_unit_test(test_which_cells_are_asked),
        cmocka_unit_test(test_a_little_light_explains_nothing),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
