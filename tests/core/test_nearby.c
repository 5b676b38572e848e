/* What is nearby: leaves only change places, a coat has other contrasts than all of them.
 * And what has come to stay has not made its place restless. */
#include <stdlib.h>
#include <string.h>

#include "../../src/core/detector_state.h"
#include "../support/scene.h"

enum { W = 160, H = 96, CELLS = 20, CELL = W / CELLS, FPS = 10, WARM = 600 };

static scene *make(bool nearby, uint32_t travel_ppm)
{
    tw_detector_config config;
    tw_detector_defaults(&config, W, H);
    config.nearby = nearby;
    config.cells = CELLS;
    config.travel_ppm = travel_ppm;
    return make_scene(&config, FPS, 3);
}

static int chance(scene *s, uint32_t of)
{
    return (int)((roll(s) >> 16) % of);
}

static uint8_t leaf_at(int x, int y)
{
    return (uint8_t)(60 + (x / 2 * 37 + y / 2 * 59 + x / 2 * (y / 2) * 11) % 60);
}

/* Leaves from 60 to 119. In a gust each row of them is blown aside by up to two pixels;
 * one lasts for three frames of fifteen. */
static void draw_leaves(scene *p)
{
    const bool gust = p->frame / 3 % 5 == 0;
    for (int y = 0; y < H; y++) {
        const int aside = gust ? chance(p, 5) - 2 : 0;
        for (int x = 0; x < W; x++)
            p->px[y * W + x] = (uint8_t)(leaf_at(x + aside + 2, y) + chance(p, 3));
    }
}

static void draw_still(scene *p)
{
    for (int y = 0; y < H; y++)
        for (int x = 0; x < W; x++)
            p->px[y * W + x] = (uint8_t)(leaf_at(x, y) + chance(p, 3));
}

/* What hides leaves: a coat of stronger contrasts, or a branch with leaves as they are.
 */
typedef enum thing { COAT, BRANCH } thing;

static void draw_thing(scene *p, int left, int top, int side, thing what)
{
    for (int y = top; y < top + side; y++) {
        for (int x = left; x < left + side; x++) {
            const int leaf = leaf_at(x + 35, y + 62) + chance(p, 3);
            const int hair = 20 + (x * 7 + y * 13) % 120;
            p->px[y * W + x] = (uint8_t)(what == COAT ? hair : leaf);
        }
    }
}

/* How many cells that are wholly inside of a thing have moved, in some frames. */
static int moving_inside(scene *p, thing what)
{
    enum { LEFT = 80, TOP = 40, SIDE = 32, FRAMES = 10 };
    int count = 0;
    for (int i = 0; i < FRAMES; i++) {
        draw_leaves(p);
        draw_thing(p, LEFT, TOP, SIDE, what);
        const tw_reading *r = see(p);
        for (int y = TOP / CELL; y < (TOP + SIDE) / CELL; y++)
            for (int x = LEFT / CELL; x < (LEFT + SIDE) / CELL; x++)
                count += (r->cells[y * r->grid.columns + x] & TW_CELL_MOVING) != 0;
    }
    return count;
}

static scene *before_leaves(bool nearby)
{
    scene *p = make(nearby, 0);
    uint32_t moved = 0;
    for (int i = 0; i < WARM; i++) {
        draw_leaves(p);
        const tw_reading *r = see(p);
        moved += i > WARM / 2 && r->raw_ppm > 10000;
    }
    assert_in_range(moved, 0, WARM / 50);
    return p;
}

static int seen_before_leaves(bool nearby, thing what)
{
    scene *p = before_leaves(nearby);
    const int count = moving_inside(p, what);
    assert_true(p->reading.unlike_ppm <= p->reading.raw_ppm);
    assert_true((p->reading.unlike_ppm > 10000) == (nearby && what == COAT));
    leave_scene(p);
    return count;
}

static void test_what_is_unlike_all_leaves_is_seen_before_them(void **state)
{
    (void)state;
    assert_in_range(seen_before_leaves(false, COAT), 0, 10);
    assert_in_range(seen_before_leaves(true, COAT), 100, 160);
}

static void test_leaves_before_leaves_are_not(void **state)
{
    (void)state;
    assert_in_range(seen_before_leaves(false, BRANCH), 0, 15);
    assert_in_range(seen_before_leaves(true, BRANCH), 0, 15);
}

/* A bird comes, pecks for ten seconds and goes. @return whether it was a subject. */
static bool visit(scene *p)
{
    bool subject = false;
    for (int i = 0; i < 10 * FPS; i++) {
        draw_still(p);
        draw_thing(p, 72 + i % 3 * 2, 40 + i / 2 % 2 * 3, 24, COAT);
        subject = see(p)->subjects > 0 || subject;
    }
    for (int i = 0; i < 6 * FPS; i++) {
        draw_still(p);
        (void)see(p);
    }
    return subject;
}

static void test_a_visitor_does_not_make_its_place_restless(void **state)
{
    (void)state;
    enum { TRAVEL = 43750, VISITS = 5 };
    for (int nearby = 0; nearby < 2; nearby++) {
        scene *p = make(nearby, TRAVEL);
        for (int i = 0; i < 20 * FPS; i++) {
            draw_still(p);
            (void)see(p);
        }
        int seen = 0;
        for (int i = 0; i < VISITS; i++)
            seen += visit(p);
        if (nearby)
            assert_int_equal(seen, VISITS);
        else
            assert_true(seen < VISITS);
        leave_scene(p);
    }
}

static void test_memory_is_asked_for_only_where_it_is_wanted(void **state)
{
    (void)state;
    tw_detector_config config;
    size_t with = 0, without = 0;
    tw_detector_defaults(&config, W, H);
    assert_true(config.nearby);
    config.cells = CELLS;
    config.lights = 0;
    assert_int_equal(tw_detector_bytes(&config, &with), TW_OK);
    config.nearby = false;
    assert_int_equal(tw_detector_bytes(&config, &without), TW_OK);
    const size_t cells = (W / CELL) * ((H + CELL / 2) / CELL);
    const size_t all = cells * sizeof(twi_nearby) + 2 * CELLS * sizeof(twi_cell_sums);
    assert_in_range(with - without, all, all + 16);
    scene *p = make(true, 0);
    assert_int_equal(tw_detector_adjust(p->detector, &config), TW_ESIZE);
    leave_scene(p);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_what_is_unlike_all_leaves_is_seen_before_them),
        cmocka_unit_test(test_leaves_before_leaves_are_not),
        cmocka_unit_test(test_a_visitor_does_not_make_its_place_restless),
        cmocka_unit_test(test_memory_is_asked_for_only_where_it_is_wanted),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
