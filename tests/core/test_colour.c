/* Colour as a witness: what differs from its place in colour alone is seen, what light
 * has done to a place is not, and a blob whose colour only followed the light must show
 * more. */
#include <stdlib.h>
#include <string.h>

#include "../../src/core/detector_state.h"
#include "../support/support.h"

enum { WIDTH = 240, HEIGHT = 136, FPS = 10, ACROSS = WIDTH / 2, DOWN = HEIGHT / 2 };

/* A coloured place before a detector. */
typedef struct place {
    void *memory;
    uint8_t luma[WIDTH * HEIGHT], u[ACROSS * DOWN], v[ACROSS * DOWN];
    tw_detector *detector;
    tw_reading reading;
    int frame;
    uint32_t chance;
} place;

static int noise(place *p)
{
    p->chance = p->chance * 1664525U + 1013904223U;
    return (int)(p->chance >> 30) - 1;
}

static place *make(bool colour)
{
    place *p = calloc(1, sizeof *p);
    tw_detector_config config;
    size_t bytes = 0;
    assert_non_null(p);
    p->chance = 9;
    tw_detector_defaults(&config, WIDTH, HEIGHT);
    config.colour = colour;
    assert_int_equal(tw_detector_bytes(&config, &bytes), TW_OK);
    p->memory = malloc(bytes);
    assert_int_equal(tw_detector_init(&config, p->memory, bytes, &p->detector), TW_OK);
    return p;
}

static void leave(place *p)
{
    free(p->memory);
    free(p);
}

/* Green ground of some texture. */
static void draw_ground(place *p)
{
    for (int i = 0; i < WIDTH * HEIGHT; i++)
        p->luma[i] =
            (uint8_t)(90 + (i % WIDTH / 3 * 7 + i / WIDTH / 2 * 13) % 23 + noise(p));
    for (int i = 0; i < ACROSS * DOWN; i++) {
        p->u[i] = (uint8_t)(128 - 24 + noise(p));
        p->v[i] = (uint8_t)(128 - 16 + noise(p));
    }
}

/* A box of so many chroma pixels. */
typedef struct box {
    int left, top, wide, high;
} box;

/* Another colour, the brightness stays. */
static void paint(place *p, box b, int u, int v)
{
    for (int y = b.top; y < b.top + b.high; y++)
        for (int x = b.left; x < b.left + b.wide; x++)
            if (x >= 0 && x < ACROSS && y >= 0 && y < DOWN) {
                p->u[y * ACROSS + x] = (uint8_t)(128 + u + noise(p));
                p->v[y * ACROSS + x] = (uint8_t)(128 + v + noise(p));
            }
}

/* Light takes both in the same proportion; a little texture stays with it. */
static void shade(place *p, box b, int percent)
{
    for (int y = 2 * b.top; y < 2 * (b.top + b.high); y++)
        for (int x = 2 * b.left; x < 2 * (b.left + b.wide); x++)
            if (x >= 0 && x < WIDTH && y >= 0 && y < HEIGHT)
                p->luma[y * WIDTH + x] =
                    (uint8_t)(p->luma[y * WIDTH + x] * percent / 100);
    paint(p, b, -24 * percent / 100, -16 * percent / 100);
}

static const tw_reading *see(place *p, bool with_colour)
{
    const tw_luma luma = {p->luma, WIDTH, WIDTH, HEIGHT};
    const tw_chroma chroma = {p->u, p->v, ACROSS, ACROSS, DOWN};
    const int64_t t = (int64_t)p->frame++ * 1000000 / FPS;
    assert_int_equal(tw_detector_read_colour(p->detector, &luma,
                                             with_colour ? &chroma : NULL, t,
                                             &p->reading),
                     TW_OK);
    return &p->reading;
}

static void watch_ground(place *p, int seconds, bool with_colour)
{
    for (int i = 0; i < seconds * FPS; i++) {
        draw_ground(p);
        (void)see(p, with_colour);
    }
}

/* Something crosses that is as bright as the ground. @return frames with activity. */
static int cross_in_colour(place *p, bool with_colour)
{
    int frames = 0;
    for (int i = 0; i < 6 * FPS; i++) {
        draw_ground(p);
        paint(p, (box){-10 + 130 * i / (6 * FPS), 30, 10, 10}, 10, 20);
        frames += see(p, with_colour)->activity_ppm > 0;
    }
    return frames;
}

static void test_what_differs_in_colour_alone_is_seen(void **state)
{
    (void)state;
    place *p = make(true);
    watch_ground(p, 15, true);
    assert_true(cross_in_colour(p, true) > 30);
    leave(p);
}

static void test_without_colour_it_is_not(void **state)
{
    (void)state;
    place *grey = make(true), *deaf = make(false);
    watch_ground(grey, 15, false);
    watch_ground(deaf, 15, true);
    assert_int_equal(cross_in_colour(grey, false), 0);
    assert_int_equal(cross_in_colour(deaf, true), 0);
    leave(grey);
    leave(deaf);
}

/* A detector that heeds colour reads grey pictures as one that does not. */
static void test_grey_pictures_are_read_as_ever(void **state)
{
    (void)state;
    place *heeds = make(true), *deaf = make(false);
    for (int i = 0; i < 20 * FPS; i++) {
        draw_ground(heeds);
        if (i > 12 * FPS)
            shade(heeds, (box){i - 12 * FPS, 20, 12, 12}, 40);
        memcpy(deaf->luma, heeds->luma, sizeof deaf->luma);
        const tw_reading *a = see(heeds, false), *b = see(deaf, false);
        assert_int_equal(a->activity_ppm, b->activity_ppm);
        assert_int_equal(a->raw_ppm, b->raw_ppm);
        assert_memory_equal(a->cells, b->cells, (size_t)a->grid.columns * a->grid.rows);
    }
    leave(heeds);
    leave(deaf);
}

static uint32_t count_coloured(const place *p)
{
    uint32_t count = 0;
    for (uint32_t i = 0; i < p->detector->cells; i++)
        count += p->detector->cell[i].coloured;
    return count;
}

/* A cloud's shadow takes colour with the light. */
static void test_a_shadow_is_no_change_of_colour(void **state)
{
    (void)state;
    place *p = make(true);
    watch_ground(p, 15, true);
    for (int i = 0; i < 3 * FPS; i++) {
        draw_ground(p);
        shade(p, (box){30, 10, 50, 40}, 55);
        (void)see(p, true);
        assert_int_equal(count_coloured(p), 0);
    }
    leave(p);
}

/* While the place is still being learned nothing is said of its colour. */
static void test_the_first_seconds_say_nothing(void **state)
{
    (void)state;
    place *p = make(true);
    watch_ground(p, 5, true);
    draw_ground(p);
    paint(p, (box){40, 30, 20, 20}, 10, 20);
    (void)see(p, true);
    draw_ground(p);
    paint(p, (box){40, 30, 20, 20}, 10, 20);
    (void)see(p, true);
    assert_int_equal(count_coloured(p), 0);
    leave(p);
}

/* Nor the first seconds of colour, where it comes later. */
static void test_colour_that_comes_later_is_learned_first(void **state)
{
    (void)state;
    place *p = make(true);
    watch_ground(p, 15, false);
    watch_ground(p, 2, true);
    for (int i = 0; i < 3 * FPS; i++) {
        draw_ground(p);
        paint(p, (box){20 + 2 * i, 2, 20, 16}, 10, 20);
        (void)see(p, true);
        assert_int_equal(count_coloured(p), 0);
    }
    watch_ground(p, 8, true);
    assert_true(cross_in_colour(p, true) > 30);
    leave(p);
}

/* The first frame is but the first guess. */
static void test_the_usual_colour_is_learned(void **state)
{
    (void)state;
    place *p = make(true);
    draw_ground(p);
    paint(p, (box){0, 0, ACROSS, DOWN}, 0, 0);
    (void)see(p, true);
    watch_ground(p, 15, true);
    for (uint32_t i = 0; i < p->detector->cells; i++) {
        const twi_colour *c = &p->detector->colour[i];
        assert_true(c->u > -26 && c->u < -21); /* the ground's 24 below grey, and 16 */
        assert_true(c->v > -18 && c->v < -13);
    }
    leave(p);
}

/* What stays for a while does not make the cell's colour look restless. */
static void test_what_moves_does_not_teach_how_colour_varies(void **state)
{
    (void)state;
    place *p = make(true);
    watch_ground(p, 15, true);
    const size_t middle =
        (size_t)(p->detector->grid.rows / 2) * p->detector->grid.columns +
        p->detector->grid.columns / 2U;
    const float before = p->detector->colour[middle].variance;
    for (int i = 0; i < 3 * FPS; i++) {
        draw_ground(p);
        paint(p, (box){ACROSS / 2 - 12, DOWN / 2 - 12, 24, 24}, 10, 20);
        (void)see(p, true);
    }
    assert_true(p->reading.colour_ppm > 0);
    assert_true(p->detector->colour[middle].variance < before + 10.0F);
    leave(p);
}

/* Chroma of any size that covers the picture. */
static void test_chroma_may_be_coarse(void **state)
{
    (void)state;
    static const uint8_t u[4] = {100, 140, 110, 150}, v[4] = {90, 100, 110, 120};
    place *p = make(true);
    const tw_luma luma = {p->luma, WIDTH, WIDTH, HEIGHT};
    const tw_chroma chroma = {u, v, 2, 2, 2};
    const tw_chroma bad = {u, v, 1, 2, 2};
    assert_int_equal(tw_detector_read_colour(p->detector, &luma, &bad, 0, &p->reading),
                     TW_EINVAL);
    assert_int_equal(tw_detector_read_colour(p->detector, &luma, &chroma, 0, &p->reading),
                     TW_OK);
    const twi_colour *c = p->detector->colour;
    const tw_grid g = tw_detector_grid(p->detector);
    assert_true(c[0].now_u == 100 - 128 && c[0].now_v == 90 - 128);
    assert_true(c[g.columns - 1].now_u == 140 - 128);
    assert_true(c[(size_t)g.columns * (g.rows - 1U)].now_v == 110 - 128);
    assert_true(c[(size_t)g.columns * g.rows - 1].now_u == 150 - 128);
    leave(p);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_what_differs_in_colour_alone_is_seen),
        cmocka_unit_test(test_without_colour_it_is_not),
        cmocka_unit_test(test_grey_pictures_are_read_as_ever),
        cmocka_unit_test(test_a_shadow_is_no_change_of_colour),
        cmocka_unit_test(test_the_first_seconds_say_nothing),
        cmocka_unit_test(test_colour_that_comes_later_is_learned_first),
        cmocka_unit_test(test_the_usual_colour_is_learned),
        cmocka_unit_test(test_what_moves_does_not_teach_how_colour_varies),
        cmocka_unit_test(test_chroma_may_be_coarse),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
