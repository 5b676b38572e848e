/* The edge of a shadow within a cell: it is explained where cells in the shadow and in
 * the light are beside it, and the ground shows through. */
#include <stdlib.h>

#include "../../src/core/detector_state.h"
#include "../support/scene.h"

enum { W = 160, H = 96, CELLS = 20, CELL = W / CELLS, FPS = 10, WARM = 150 };

static scene *make(bool nearby)
{
    tw_detector_config config;
    tw_detector_defaults(&config, W, H);
    config.nearby = nearby;
    config.cells = CELLS;
    config.travel_ppm = 0;
    return make_scene(&config, FPS, 9);
}

static int ground_at(int x, int y)
{
    return 90 + (x / 2 * 37 + y / 2 * 59 + x / 2 * (y / 2) * 11) % 60;
}

/* Of 100: the light at a place, of a shadow whose edges are a cell wide. */
static int light_at(int x, int left, int right)
{
    const int in = x - left, out = right - x, into = in < out ? in : out;
    return 100 - 45 * (into < -4 ? 0 : into > 4 ? 8 : into + 4) / 8;
}

/* The ground, in the shadow of a trunk from left to right. */
static void draw(scene *p, int left, int right)
{
    for (int y = 0; y < H; y++)
        for (int x = 0; x < W; x++)
            p->px[y * W + x] =
                (uint8_t)(ground_at(x, y) * light_at(x, left, right) / 100 +
                          2 * noise(p));
}

static scene *watched(bool nearby)
{
    scene *p = make(nearby);
    for (int i = 0; i < WARM; i++) {
        draw(p, -20, -10);
        (void)see(p);
    }
    return p;
}

/* @return cells that move while a shadow of 40 pixels is there for two seconds, its edges
 * in the middle of cells, and then goes on by a pixel a frame for one. */
static int moving_in_shade(bool nearby)
{
    scene *p = watched(nearby);
    int count = 0;
    for (int i = 0; i < 30; i++) {
        const int left = 44 + (i < 20 ? 0 : i - 20);
        draw(p, left, left + 40);
        (void)see(p);
        count += moving_in(p, 0, 0, W, H);
    }
    leave_scene(p);
    return count;
}

static void test_an_edge_is_explained(void **state)
{
    (void)state;
    const int without = moving_in_shade(false), with = moving_in_shade(true);
    assert_true(without > 250);
    assert_true(with * 4 < without);
}

/* A flat animal, and one with a coat, at the edge of that shadow. */
static int animal_seen(bool nearby, int coat)
{
    scene *p = watched(nearby);
    int count = 0;
    for (int i = 0; i < 10; i++) {
        draw(p, 44, 84);
        for (int y = 40; y < 64; y++)
            for (int x = 32; x < 56; x++)
                p->px[y * W + x] =
                    (uint8_t)(75 + (coat ? (x / 2 * 11 + y / 2 * 7) % coat : 0) +
                              2 * noise(p));
        (void)see(p);
        count += moving_in(p, 32, 40, 24, 24);
    }
    leave_scene(p);
    return count;
}

static void test_what_covers_the_ground_is_seen(void **state)
{
    (void)state;
    assert_in_range(animal_seen(true, 0), 70, 90);
    assert_in_range(animal_seen(true, 40), 70, 90);
}

/* ---- one cell -----------------------------------------------------------------------
 */

enum { ROW = 5, COLUMN = 5, AT = ROW * CELLS + COLUMN };

/* @param ground  Its brightness, of 100. A cell of which the right half is in shadow, as
 * all is to the right of it; it moves, and light explains the cells around it. */
static scene *at_an_edge(int ground)
{
    scene *p = make(true);
    tw_detector *d = p->detector;
    d->falling = false;
    for (int i = 0; i < W * H; i++) {
        const int x = i % W, stone = ground_at(x, i / W) * ground / 100;
        d->background[i] = (uint16_t)(stone << 8);
        p->px[i] = (uint8_t)(stone * light_at(x, COLUMN * CELL + CELL / 2, 2 * W) / 100);
    }
    for (uint32_t i = 0; i < d->cells; i++) {
        d->cell[i] = (twi_cell){.flags = TW_CELL_WATCHED};
        d->nearby[i].explained = true;
        d->nearby[i].ratio = i % CELLS <= COLUMN ? 1.0F : 0.55F;
    }
    d->cell[AT] = (twi_cell){.level = TWI_LEVEL(5.0),
                             .limit = TWI_LEVEL(1.5),
                             .flags = TW_CELL_WATCHED | TW_CELL_MOVING,
                             .seed = true,
                             .over_high = true};
    d->nearby[AT].expected = CELL * CELL * 16.0F * 2.0F;
    d->nearby[AT].explained = false;
    return p;
}

static bool still_moves(scene *p)
{
    const tw_luma luma = {.px = p->px, .width = W, .height = H, .stride = W};
    twi_shade_explain(p->detector, &luma);
    return (p->detector->cell[AT].flags & TW_CELL_MOVING) != 0;
}

static void test_what_is_explained_is_light(void **state)
{
    (void)state;
    scene *p = at_an_edge(100);
    assert_false(still_moves(p));
    const twi_cell *c = &p->detector->cell[AT];
    assert_int_equal(c->flags, TW_CELL_WATCHED | TW_CELL_LIGHT);
    assert_true(c->level <= c->limit);
    assert_false(c->seed || c->over_high);
    leave_scene(p);
}

/* Each spoils one thing that is asked for. */
static void no_light_guard(tw_detector *d)
{
    d->config.light_guard = false;
}

static void falls(tw_detector *d)
{
    d->falling = true;
}

static void is_a_subject(tw_detector *d)
{
    d->cell[AT].counted = true;
}

static void by_colour(tw_detector *d)
{
    d->cell[AT].coloured = true;
}

static void unlike_what_is_near(tw_detector *d)
{
    d->cell[AT].unlike = true;
}

static void not_fitted(tw_detector *d)
{
    d->nearby[AT].expected = 0.0F;
}

static void no_cell_in_the_shadow(tw_detector *d)
{
    for (uint32_t i = 0; i < d->cells; i++)
        d->nearby[i].explained = i % CELLS <= COLUMN && i != AT;
}

static void no_cell_in_the_light(tw_detector *d)
{
    for (uint32_t i = 0; i < d->cells; i++)
        d->nearby[i].explained = i % CELLS > COLUMN;
}

static void no_cell_tells(tw_detector *d)
{
    for (uint32_t i = 0; i < d->cells; i++)
        d->nearby[i].explained = false;
}

static void a_weaker_shadow_is_told(tw_detector *d)
{
    for (uint32_t i = 0; i < d->cells; i++)
        d->nearby[i].ratio = i % CELLS <= COLUMN ? 1.0F : 0.85F;
}

static void hardly_a_shadow_is_told(tw_detector *d)
{
    for (uint32_t i = 0; i < d->cells; i++)
        d->nearby[i].ratio = i % CELLS <= COLUMN ? 0.60F : 0.55F;
}

static void test_each_of_what_is_asked_for(void **state)
{
    (void)state;
    static void (*const spoil[])(tw_detector *) = {
        no_light_guard,         falls,
        is_a_subject,           by_colour,
        unlike_what_is_near,    not_fitted,
        no_cell_in_the_shadow,  no_cell_in_the_light,
        no_cell_tells,          a_weaker_shadow_is_told,
        hardly_a_shadow_is_told};
    for (size_t i = 0; i < sizeof spoil / sizeof *spoil; i++) {
        scene *p = at_an_edge(100);
        spoil[i](p->detector);
        if (!still_moves(p))
            fail_msg("it is explained all the same, %zu", i);
        assert_int_equal(p->detector->cell[AT].level, TWI_LEVEL(5.0));
        leave_scene(p);
    }
}

/* @param noise  How much more of it there is than usual. */
static bool explained_on_ground(int ground, float noise)
{
    scene *p = at_an_edge(ground);
    p->detector->nearby[AT].expected *= noise;
    p->detector->cell[AT].limit = TWI_LEVEL(4.0);
    const bool moves = still_moves(p);
    leave_scene(p);
    return !moves;
}

static void test_not_where_noise_hides_the_ground(void **state)
{
    (void)state;
    assert_true(explained_on_ground(100, 1));
    assert_true(explained_on_ground(100, 20));
    assert_false(explained_on_ground(100, 200));
    assert_true(explained_on_ground(20, 1));
    assert_false(explained_on_ground(20, 20));
}

/* Two gains that hardly differ are no edge: one gain would have done. */
static void test_no_edge_between_two_that_are_alike(void **state)
{
    (void)state;
    scene *p = at_an_edge(100);
    tw_detector *d = p->detector;
    for (int i = 0; i < W * H; i++)
        p->px[i] = (uint8_t)((d->background[i] >> 8) * 58 / 100);
    hardly_a_shadow_is_told(d);
    assert_true(still_moves(p));
    leave_scene(p);
}

/* More light than any cell around it has. */
static void test_more_light_than_is_told_is_not_explained(void **state)
{
    (void)state;
    scene *p = at_an_edge(100);
    tw_detector *d = p->detector;
    for (int i = 0; i < W * H; i++)
        p->px[i] = (uint8_t)((d->background[i] >> 8) * 5 / 4);
    assert_true(still_moves(p));
    leave_scene(p);
}

/* The ground does not show: the shadow's half is flat. */
static void test_flat_is_no_shadow(void **state)
{
    (void)state;
    scene *p = at_an_edge(100);
    for (int i = 0; i < W * H; i++)
        if (i % W >= COLUMN * CELL + CELL / 2)
            p->px[i] = 72;
    assert_true(still_moves(p));
    leave_scene(p);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_an_edge_is_explained),
        cmocka_unit_test(test_what_covers_the_ground_is_seen),
        cmocka_unit_test(test_what_is_explained_is_light),
        cmocka_unit_test(test_each_of_what_is_asked_for),
        cmocka_unit_test(test_not_where_noise_hides_the_ground),
        cmocka_unit_test(test_no_edge_between_two_that_are_alike),
        cmocka_unit_test(test_more_light_than_is_told_is_not_explained),
        cmocka_unit_test(test_flat_is_no_shadow),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
