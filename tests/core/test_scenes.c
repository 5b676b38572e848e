/* A place by day and by infrared: nothing begins by the switch, and what was learnt of
 * the one is there again when it comes back. */
#include <stdlib.h>
#include <string.h>

#include "../../src/core/detector_state.h"
#include "../support/support.h"

enum { WIDTH = 160, HEIGHT = 96, FPS = 10, ACROSS = WIDTH / 2, DOWN = HEIGHT / 2 };
enum { REED_LEFT = 16, REED_RIGHT = 56, REED_TOP = 40, REED_BOTTOM = 80 };

typedef enum light { DAY, INFRARED, LAMP, MOON, LIGHTS } light;

typedef struct place {
    void *memory;
    uint8_t luma[WIDTH * HEIGHT], u[ACROSS * DOWN], v[ACROSS * DOWN];
    tw_detector *detector;
    tw_reading reading;
    int frame;
    uint32_t chance;
    unsigned counted; /* frames in which something counted */
    unsigned turned;  /* frames of a picture that turned */
} place;

static uint32_t roll(place *p)
{
    p->chance = p->chance * 1664525U + 1013904223U;
    return p->chance >> 16;
}

static place *make(uint8_t lights)
{
    place *p = calloc(1, sizeof *p);
    tw_detector_config config;
    size_t bytes = 0;
    assert_non_null(p);
    p->chance = 9;
    tw_detector_defaults(&config, WIDTH, HEIGHT);
    assert_int_equal(config.lights, TW_LIGHTS_MAX);
    config.lights = lights;
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

/* What a place looks like: leaves that are dark by day are bright by infrared, and a
 * camera's own light is brightest in the middle. */
static int look_of(light by, int x, int y)
{
    const int leaves = (x / 6 * 17 + y / 5 * 29) % 61, far_x = abs(x - WIDTH / 2),
              far_y = abs(y - HEIGHT / 2);
    switch (by) {
    case INFRARED: return 150 - leaves - (far_x + far_y) / 3;
    case LAMP: return 40 + leaves / 2 + (x < 120 ? 110 - x / 2 : 20);
    case MOON: return 22 + leaves * 2 / 3 + (y < 40 ? 40 : 0);
    case DAY:
    case LIGHTS: break;
    }
    return 70 + leaves + y / 3;
}

static void draw(place *p, light by)
{
    const bool grey = by == INFRARED;
    const int sway = (int)(roll(p) % 7);
    for (int y = 0; y < HEIGHT; y++)
        for (int x = 0; x < WIDTH; x++) {
            const bool reed =
                x >= REED_LEFT && x < REED_RIGHT && y >= REED_TOP && y < REED_BOTTOM;
            p->luma[y * WIDTH + x] =
                (uint8_t)(look_of(by, reed ? x + sway * 2 : x, y) + (int)(roll(p) % 3));
        }
    memset(p->u, grey ? 128 : 104, sizeof p->u);
    memset(p->v, grey ? 128 : 118, sizeof p->v);
}

static void draw_subject(place *p, int left, int level)
{
    for (int y = 20; y < 44; y++)
        for (int x = left < 0 ? 0 : left; x < left + 30 && x < WIDTH; x++)
            p->luma[y * WIDTH + x] = (uint8_t)(level + (int)(roll(p) % 3));
}

static void see(place *p)
{
    const tw_luma luma = {p->luma, WIDTH, WIDTH, HEIGHT};
    const tw_chroma chroma = {p->u, p->v, ACROSS, ACROSS, DOWN};
    assert_int_equal(tw_detector_read_colour(p->detector, &luma, &chroma,
                                             (int64_t)p->frame++ * 1000000 / FPS,
                                             &p->reading),
                     TW_OK);
    p->counted += p->reading.activity_ppm > 0;
    p->turned += p->reading.whole_picture;
}

static void watch(place *p, light by, int seconds)
{
    for (int i = 0; i < seconds * FPS; i++) {
        draw(p, by);
        see(p);
    }
}

/* How far the background is off the place by a light, in the mean of a part without
 * reeds, levels. */
static int off(const place *p, light by)
{
    int sum = 0, n = 0;
    for (int y = 0; y < 40; y += 3)
        for (int x = 0; x < WIDTH; x += 3, n++)
            sum += abs((p->detector->background[y * WIDTH + x] >> 8) - look_of(by, x, y));
    return sum / n;
}

/* The mean of what is usual of the reeds' cells. */
static int32_t restless(const place *p)
{
    const tw_grid g = tw_detector_grid(p->detector);
    int64_t sum = 0, n = 0;
    for (int row = REED_TOP / g.cell_px + 1; row < REED_BOTTOM / g.cell_px - 1; row++)
        for (int c = REED_LEFT / g.cell_px + 1; c < REED_RIGHT / g.cell_px - 1; c++, n++)
            sum += p->detector->cell[row * g.columns + c].q98;
    return (int32_t)(sum / n);
}

/* Frames of so many in which a subject that crosses counts. */
static unsigned cross(place *p, light by, int frames)
{
    const unsigned before = p->counted;
    for (int i = 0; i < frames; i++) {
        draw(p, by);
        draw_subject(p, i * (WIDTH + 30) / frames - 30, by == DAY ? 30 : 240);
        see(p);
    }
    return p->counted - before;
}

static void test_the_night_is_there_again_at_dusk(void **state)
{
    (void)state;
    place *p = make(2);
    watch(p, DAY, 60);
    watch(p, INFRARED, 60);
    assert_true(off(p, INFRARED) <= 4);
    const int32_t by_night = restless(p);
    watch(p, DAY, 2);
    assert_true(off(p, DAY) <= 4);
    const int32_t by_day = restless(p);
    watch(p, DAY, 30);
    assert_int_equal(p->counted, 0);
    draw(p, INFRARED); /* with the first frame of the second night */
    see(p);
    assert_true(p->reading.whole_picture);
    assert_true(off(p, INFRARED) <= 4);
    assert_in_range(restless(p), by_night * 9 / 10, by_night * 11 / 10);
    watch(p, INFRARED, 2);
    assert_int_equal(p->counted, 0);
    assert_in_range(restless(p), by_night * 9 / 10, by_night * 11 / 10);
    assert_true(by_night != by_day);
    assert_true(cross(p, INFRARED, 4 * FPS) > FPS);
    leave(p);
}

/* So that the test above sees something. */
static void test_without_memory_for_it_it_is_learnt_anew(void **state)
{
    (void)state;
    place *p = make(0);
    watch(p, DAY, 60);
    watch(p, INFRARED, 60);
    watch(p, DAY, 30);
    assert_int_equal(p->counted, 0);
    draw(p, INFRARED);
    see(p);
    assert_true(off(p, INFRARED) > 20);
    watch(p, INFRARED, 3);
    assert_true(off(p, INFRARED) <= 4);
    leave(p);
}

/* Cameras that go over show black, or far too much, until they have exposed anew. */
static void test_black_and_white_frames_in_between_are_no_scene(void **state)
{
    (void)state;
    place *p = make(2);
    watch(p, DAY, 60);
    for (int night = 0; night < 3; night++) {
        for (int i = 0; i < 6; i++) {
            draw(p, INFRARED);
            memset(p->luma, i < 3 ? 0 : 255, sizeof p->luma);
            see(p);
        }
        watch(p, INFRARED, 2);
        assert_true(off(p, INFRARED) <= 4);
        watch(p, INFRARED, 28);
        for (int i = 0; i < 4; i++) {
            draw(p, DAY);
            memset(p->luma, 255, sizeof p->luma);
            see(p);
        }
        watch(p, DAY, 1);
        assert_true(off(p, DAY) <= 4);
        watch(p, DAY, 29);
    }
    assert_int_equal(p->counted, 0);
    leave(p);
}

/* A picture that is hidden for a moment is what it was afterwards, and what moves then is
 * seen. */
static void test_what_was_hidden_for_a_moment_is_known_again(void **state)
{
    (void)state;
    place *p = make(1);
    watch(p, DAY, 60);
    const int32_t before = restless(p);
    for (int i = 0; i < 5 * FPS; i++) { /* an animal before the lens */
        draw(p, DAY);
        for (int k = 0; k < WIDTH * HEIGHT * 4 / 5; k++) /* its fur */
            p->luma[k] =
                (uint8_t)(30 + (k % WIDTH / 3 * 53 + k / WIDTH / 2 * 71 + i) % 150);
        see(p);
    }
    watch(p, DAY, 2);
    assert_true(off(p, DAY) <= 4);
    assert_in_range(restless(p), before * 9 / 10, before * 11 / 10);
    leave(p);
}

/* Of more lights than there is memory for, that which was seen least lately goes. */
static void test_the_light_that_was_seen_least_lately_goes(void **state)
{
    (void)state;
    place *p = make(2);
    watch(p, DAY, 40);
    watch(p, INFRARED, 40);
    watch(p, LAMP, 40);
    watch(p, MOON, 40); /* what is kept is infrared and the lamp */
    draw(p, INFRARED);
    see(p);
    assert_true(off(p, INFRARED) <= 4);
    watch(p, INFRARED, 25);
    draw(p, DAY);
    see(p);
    assert_true(off(p, DAY) > 10);
    leave(p);
}

/* ... but not that which comes back just then. */
static void test_the_light_that_comes_back_stays(void **state)
{
    (void)state;
    place *p = make(2);
    static const light first[] = {DAY, INFRARED, LAMP}, round[] = {DAY, LAMP};
    for (int i = 0; i < 3; i++)
        watch(p, first[i], 40);
    for (int i = 0; i < 6; i++) {
        watch(p, round[i % 2], 1); /* light explains it at first */
        assert_true(off(p, round[i % 2]) <= 4);
        watch(p, round[i % 2], 25);
    }
    assert_int_equal(p->counted, 0);
    leave(p);
}

/* A light that has changed since it was last seen is learnt as a new one is. */
static void test_what_it_is_mistaken_for_does_not_stay(void **state)
{
    (void)state;
    place *p = make(2);
    watch(p, DAY, 40);
    watch(p, INFRARED, 40);
    for (int i = 0; i < 4 * FPS; i++) { /* the day, seen by a camera that was knocked */
        draw(p, DAY);
        memmove(p->luma, p->luma + (size_t)7 * WIDTH, (size_t)(HEIGHT - 7) * WIDTH);
        for (int y = 0; y < HEIGHT; y++)
            memmove(p->luma + (size_t)y * WIDTH, p->luma + (size_t)y * WIDTH + 9,
                    WIDTH - 9);
        see(p);
    }
    int sum = 0, n = 0;
    for (int y = 0; y < 40; y += 3)
        for (int x = 0; x < WIDTH - 12; x += 3, n++)
            sum += abs((p->detector->background[y * WIDTH + x] >> 8) -
                       look_of(DAY, x + 9, y + 7));
    assert_true(sum / n <= 4);
    leave(p);
}

/* Infrared may look much like the day in brightness: its colour tells. */
static void test_colour_that_goes_tells_of_the_switch(void **state)
{
    (void)state;
    place *p = make(2);
    uint32_t coloured = 0;
    watch(p, DAY, 40);
    assert_int_equal(p->turned, 0);
    assert_int_equal(tw_detector_coloured(p->detector, &coloured), TW_OK);
    assert_int_equal(coloured, 1000000);
    for (int i = 0; i < 3 * FPS; i++) {
        draw(p, DAY);
        memset(p->u, 128, sizeof p->u);
        memset(p->v, 128, sizeof p->v);
        see(p);
        if (i == 0)
            assert_true(p->reading.whole_picture);
    }
    assert_in_range(p->turned, FPS / 2, 2 * FPS);
    assert_int_equal(p->counted, 0);
    assert_int_equal(tw_detector_coloured(p->detector, &coloured), TW_OK);
    assert_int_equal(coloured, 0);
    leave(p);
}

static void test_colour_is_not_told_of_where_there_is_none(void **state)
{
    (void)state;
    place *p = make(0);
    uint32_t coloured = 0;
    draw(p, DAY);
    const tw_luma luma = {p->luma, WIDTH, WIDTH, HEIGHT};
    assert_int_equal(tw_detector_read(p->detector, &luma, 0, &p->reading), TW_OK);
    assert_int_equal(tw_detector_coloured(p->detector, &coloured), TW_ENOENT);
    assert_int_equal(tw_detector_coloured(NULL, &coloured), TW_EINVAL);
    assert_int_equal(tw_detector_coloured(p->detector, NULL), TW_EINVAL);
    leave(p);
}

static void test_how_many_lights_is_set_at_the_start(void **state)
{
    (void)state;
    place *p = make(1);
    tw_detector_config config;
    size_t one = 0, two = 0, bytes = 0;
    tw_detector_defaults(&config, WIDTH, HEIGHT);
    config.lights = 1;
    assert_int_equal(tw_detector_adjust(p->detector, &config), TW_OK);
    assert_int_equal(tw_detector_bytes(&config, &one), TW_OK);
    config.lights = 2;
    assert_int_equal(tw_detector_adjust(p->detector, &config), TW_ESIZE);
    assert_int_equal(tw_detector_bytes(&config, &two), TW_OK);
    assert_true(two > one + (size_t)WIDTH * HEIGHT * 3);
    config.lights = TW_LIGHTS_MAX + 1;
    assert_int_equal(tw_detector_bytes(&config, &bytes), TW_EINVAL);
    leave(p);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_the_night_is_there_again_at_dusk),
        cmocka_unit_test(test_without_memory_for_it_it_is_learnt_anew),
        cmocka_unit_test(test_black_and_white_frames_in_between_are_no_scene),
        cmocka_unit_test(test_what_was_hidden_for_a_moment_is_known_again),
        cmocka_unit_test(test_the_light_that_was_seen_least_lately_goes),
        cmocka_unit_test(test_the_light_that_comes_back_stays),
        cmocka_unit_test(test_what_it_is_mistaken_for_does_not_stay),
        cmocka_unit_test(test_colour_that_goes_tells_of_the_switch),
        cmocka_unit_test(test_colour_is_not_told_of_where_there_is_none),
        cmocka_unit_test(test_how_many_lights_is_set_at_the_start),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
