/* Fog: it may hide nearly all of a place's texture and is explained still, as all cells
 * tell the same airlight; what is only as pale as fog is not. */
#include <stdlib.h>
#include <string.h>

#include "../../src/core/detector_state.h"
#include "../support/scene.h"

enum { W = 160, H = 120, FPS = 10, WARM = 150, AIRLIGHT = 200 };

static scene *make(void)
{
    tw_detector_config config;
    tw_detector_defaults(&config, W, H);
    config.travel_ppm = 0;
    return make_scene(&config, FPS, 5);
}

/* Stones of all shades, through fog of some transmission from one column to another. */
static void draw(scene *p, int percent, int from, int to)
{
    for (int y = 0; y < H; y++) {
        for (int x = 0; x < W; x++) {
            const int stone = 20 + (x / 3 * 7 + y / 2 * 13) % 23 * 6;
            const int t = x >= from && x < to ? percent : 100;
            p->px[y * W + x] =
                (uint8_t)((stone * t + AIRLIGHT * (100 - t)) / 100 + noise(p));
        }
    }
}

static void draw_box(scene *p, int left, int top, int side, int level)
{
    for (int y = top; y < top + side; y++)
        for (int x = left; x < left + side; x++)
            p->px[y * W + x] = (uint8_t)(level + noise(p));
}

static scene *watched(void)
{
    scene *p = make();
    for (int i = 0; i < WARM; i++) {
        draw(p, 100, 0, 0);
        (void)see(p);
    }
    return p;
}

/* A bank of fog comes up over a fifth of the picture. @return the most that moved. */
static uint32_t bank_of_fog(scene *p, int percent)
{
    uint32_t most = 0;
    for (int i = 1; i <= 40; i++) {
        const int share = i < 30 ? i : 30;
        draw(p, 100 - (100 - percent) * share / 30, 40, 72);
        const tw_reading *r = see(p);
        most = r->activity_ppm > most ? r->activity_ppm : most;
        assert_false(r->whole_picture);
    }
    return most;
}

static void test_a_bank_of_fog_is_explained(void **state)
{
    (void)state;
    for (int percent = 60; percent >= 15; percent -= 15) {
        scene *p = watched();
        assert_int_equal(bank_of_fog(p, percent), 0);
        assert_true(p->reading.light_ppm > 150000);
        leave_scene(p);
    }
}

static void test_what_walks_in_fog_is_found(void **state)
{
    (void)state;
    scene *p = watched();
    assert_int_equal(bank_of_fog(p, 20), 0);
    uint32_t most = 0;
    for (int i = 0; i < 20; i++) {
        draw(p, 20, 40, 72);
        draw_box(p, 44 + i / 2, 50, 16, 130);
        const tw_reading *r = see(p);
        most = r->activity_ppm > most ? r->activity_ppm : most;
    }
    assert_true(most > 8000);
    leave_scene(p);
}

/* The same paleness over one cell in twenty: nothing else vouches for it. */
static void test_a_pale_sheet_is_no_fog(void **state)
{
    (void)state;
    scene *p = watched();
    uint32_t most = 0;
    for (int i = 0; i < 20; i++) {
        draw(p, 20, 60, 68);
        const tw_reading *r = see(p);
        most = r->activity_ppm > most ? r->activity_ppm : most;
    }
    assert_true(most > 30000);
    leave_scene(p);
}

static void test_a_cell_tells_an_airlight_only_where_there_is_some(void **state)
{
    (void)state;
    assert_true(twi_fog_airlight(0.5F, 400.0F) == 800.0F);
    assert_true(twi_fog_airlight(0.0F, 400.0F) == 400.0F);
    assert_true(twi_fog_airlight(0.81F, 100.0F) < 0.0F);
    assert_true(twi_fog_airlight(-0.1F, 100.0F) < 0.0F);
}

/* One frame in which so many cells of 1200 tell one airlight, and so many another. */
static uint16_t airlight_of(scene *p, int cells, float q2, int others, float other_q2)
{
    for (int i = 0; i < cells; i++)
        twi_fog_vote(p->detector, q2);
    for (int i = 0; i < others; i++)
        twi_fog_vote(p->detector, other_q2);
    twi_fog_count(p->detector);
    return p->detector->airlight;
}

static void test_enough_cells_must_agree(void **state)
{
    (void)state;
    scene *p = make();
    assert_int_equal(p->detector->cells, 1200);
    assert_int_equal(airlight_of(p, 179, 800.0F, 0, 0.0F), 0);
    assert_in_range(airlight_of(p, 180, 800.0F, 0, 0.0F), 784, 832);
    assert_int_equal(airlight_of(p, 0, 800.0F, 0, 0.0F), 0); /* each frame anew */
    assert_int_equal(airlight_of(p, 178, 800.0F, 170, 300.0F), 0);
    assert_in_range(airlight_of(p, 300, 800.0F, 170, 300.0F), 784, 832);
    assert_in_range(airlight_of(p, 100, 800.0F, 80, 690.0F), 672, 832); /* near enough */
    assert_int_equal(airlight_of(p, 600, -1.0F, 600, 1024.0F), 0);
    leave_scene(p);
}

static void test_what_is_off_the_line_is_not_explained(void **state)
{
    (void)state;
    scene *p = make();
    p->detector->airlight = 800;
    assert_true(twi_fog_explains(p->detector, 0.25F, 600.0F));
    assert_true(twi_fog_explains(p->detector, 0.25F, 671.0F));
    assert_false(twi_fog_explains(p->detector, 0.25F, 673.0F));
    assert_true(twi_fog_explains(p->detector, 0.25F, 529.0F));
    assert_false(twi_fog_explains(p->detector, 0.25F, 527.0F));
    p->detector->airlight = 0;
    assert_false(twi_fog_explains(p->detector, 0.25F, 0.0F));
    leave_scene(p);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_bank_of_fog_is_explained),
        cmocka_unit_test(test_what_walks_in_fog_is_found),
        cmocka_unit_test(test_a_pale_sheet_is_no_fog),
        cmocka_unit_test(test_a_cell_tells_an_airlight_only_where_there_is_some),
        cmocka_unit_test(test_enough_cells_must_agree),
        cmocka_unit_test(test_what_is_off_the_line_is_not_explained),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
