/* Tracks: what goes somewhere is a subject, what stays in its place is not, at any frame
 * rate and any resolution. */
#include <stdlib.h>
#include <string.h>

#include "../../src/core/detector_state.h"
#include "../support/scene.h"

static scene *make(uint16_t width, uint16_t height, int fps)
{
    tw_detector_config config;
    tw_detector_defaults(&config, width, height);
    return make_scene(&config, fps, 9);
}

static void draw_ground(scene *p)
{
    for (int y = 0; y < p->height; y++)
        for (int x = 0; x < p->width; x++)
            p->px[y * p->width + x] =
                (uint8_t)(60 + (x / 3 * 7 + y / 2 * 13) % 23 + noise(p));
}

/* A box with its centre at shares of the width and height, of some permille of the width.
 */
static void draw_box(scene *p, double cx, double cy, int permille)
{
    const int side = p->width * permille / 1000;
    const int left = (int)(cx * p->width) - side / 2,
              top = (int)(cy * p->height) - side / 2;
    for (int y = top; y < top + side; y++)
        for (int x = left; x < left + side; x++)
            if (x >= 0 && y >= 0 && x < p->width && y < p->height)
                p->px[y * p->width + x] =
                    (uint8_t)(120 + (x * 5 + y * 3) % 17 + noise(p));
}

static void watch_ground(scene *p, int seconds)
{
    for (int i = 0; i < seconds * p->fps; i++) {
        draw_ground(p);
        (void)see(p);
    }
}

/* What was seen of something that was shown for a while. */
typedef struct seen {
    int frames;      /* with activity */
    double first_s;  /* of them, from the beginning of the show */
    double since_s;  /* when the reading said it had begun, likewise */
    uint32_t travel; /* most that was taken by travel, ppm */
} seen;

static void note(seen *s, const scene *p, const tw_reading *r, int i, int64_t zero_us)
{
    if (r->activity_ppm > 0 && s->frames++ == 0) {
        s->first_s = (double)i / p->fps;
        s->since_s = (double)(r->since_us - zero_us) / 1e6;
    }
    s->travel = r->travel_ppm > s->travel ? r->travel_ppm : s->travel;
}

/* A box crosses from left to right within so many seconds. */
static seen cross(scene *p, double seconds, int permille)
{
    seen s = {0};
    const int frames = (int)(seconds * p->fps);
    const int64_t zero = (int64_t)p->frame * 1000000 / p->fps;
    for (int i = 0; i < frames; i++) {
        draw_ground(p);
        draw_box(p, -0.1 + 1.2 * i / frames, 0.5, permille);
        note(&s, p, see(p), i, zero);
    }
    return s;
}

/* A box swings about its place, by a share of the width, twice a second. */
static seen swing(scene *p, int seconds, double share, int permille)
{
    static const double wave[] = {0, 0.6, 1, 0.6, 0, -0.6, -1, -0.6};
    seen s = {0};
    const int64_t zero = (int64_t)p->frame * 1000000 / p->fps;
    for (int i = 0; i < seconds * p->fps; i++) {
        draw_ground(p);
        draw_box(p, 0.5 + share * wave[i * 16 / p->fps % 8], 0.5, permille);
        note(&s, p, see(p), i, zero);
    }
    return s;
}

static void test_what_crosses_is_a_subject(void **state)
{
    (void)state;
    scene *p = make(240, 136, 10);
    watch_ground(p, 15);
    const seen s = cross(p, 6, 90);
    assert_true(s.frames > 35);
    assert_true(s.first_s < 2.0); /* known within little more than a second ... */
    assert_true(s.since_s < s.first_s - 0.4); /* ... and dated back to where it began */
    assert_true(s.travel > 0); /* until then it was taken for something else */
    leave_scene(p);
}

static void test_what_swings_in_its_place_is_none(void **state)
{
    (void)state;
    scene *p = make(240, 136, 10);
    watch_ground(p, 15);
    const seen s = swing(p, 12, 0.015, 20);
    assert_int_equal(s.frames, 0);
    assert_true(s.travel > 1000);
    leave_scene(p);
}

/* A bird at a feeder: it goes nowhere, but is of some size, came where it was calm, and
 * moves all the time. What comes in the first seconds must travel. */
static void test_what_comes_and_stays_is_a_subject(void **state)
{
    (void)state;
    scene *p = make(240, 136, 10);
    watch_ground(p, 15);
    const seen s = swing(p, 12, 0.015, 40);
    assert_true(s.frames > 80);
    assert_true(s.first_s > 1.0 && s.first_s < 4.0);
    leave_scene(p);
    p = make(240, 136, 10);
    watch_ground(p, 3);
    assert_int_equal(swing(p, 5, 0.015, 40).frames, 0);
    leave_scene(p);
}

/* A box is shown for a while, every second at another place.
 * @return the highest share of cells that moved, whatever became of them. */
static uint32_t flash(scene *p, int64_t shown_us, int permille)
{
    uint32_t most = 0;
    for (int i = 0; i < 8 * p->fps; i++) {
        const int64_t t_us = (int64_t)i * 1000000 / p->fps;
        const int64_t second = t_us / 1000000;
        draw_ground(p);
        if (t_us % 1000000 < shown_us)
            draw_box(p, 0.1 + 0.1 * (double)second, second % 2 ? 0.3 : 0.6, permille);
        const uint32_t moved = see(p)->raw_ppm;
        assert_int_equal(p->reading.activity_ppm, 0);
        assert_int_equal(p->reading.shake_ppm, 0); /* no guard has taken it */
        most = moved > most ? moved : most;
    }
    return most;
}

/* Flakes and drops, however many frames they are seen in. */
static void test_what_is_gone_a_tenth_of_a_second_later_is_nothing(void **state)
{
    (void)state;
    static const int rates[] = {10, 12, 15, 20, 25, 30, 50};
    for (size_t k = 0; k < sizeof rates / sizeof *rates; k++) {
        scene *p = make(240, 136, rates[k]);
        watch_ground(p, 15);
        if (flash(p, 61000, 30) != 0)
            fail_msg("it moves at %d frames a second", rates[k]);
        assert_true(flash(p, 61000, 90) > 0); /* more than a drop, but it goes nowhere */
        assert_true(flash(p, 400000, 30) > 0);
        leave_scene(p);
    }
}

/* Wider than a cell, and in none of them for longer than a drop: a runner, near. */
static void test_what_is_quick_and_large_is_a_subject(void **state)
{
    (void)state;
    static const int rates[] = {12, 15, 25, 30};
    for (size_t k = 0; k < sizeof rates / sizeof *rates; k++) {
        scene *p = make(240, 136, rates[k]);
        watch_ground(p, 15);
        const seen s = cross(p, 1.0, 100);
        if (s.frames * 4 < rates[k])
            fail_msg("%d frames of it at %d a second", s.frames, rates[k]);
        leave_scene(p);
    }
}

/* The same show at other frame rates and sizes: found just as soon. */
static void test_neither_rate_nor_resolution_matter(void **state)
{
    (void)state;
    static const struct {
        uint16_t width, height;
        int fps;
    } cases[] = {
        {240, 136, 5}, {240, 136, 10}, {240, 136, 25}, {320, 180, 10}, {480, 270, 10}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        scene *p = make(cases[i].width, cases[i].height, cases[i].fps);
        watch_ground(p, 15);
        const seen s = cross(p, 8, 90);
        if (s.frames < 5 * cases[i].fps || s.first_s > 2.6)
            fail_msg("%u x %u at %d: %d frames, first at %.2f s", cases[i].width,
                     cases[i].height, cases[i].fps, s.frames, s.first_s);
        leave_scene(p);
    }
}

static void test_a_subject_that_pauses_and_goes_on(void **state)
{
    (void)state;
    scene *p = make(240, 136, 10);
    watch_ground(p, 15);
    int gone = 0, late = 0;
    for (int i = 0; i < 140; i++) { /* walks 4 s, sits 3 s, walks on */
        const double x = i < 40 ? i * 0.01 : i < 70 ? 0.4 : 0.4 + (i - 70) * 0.01;
        draw_ground(p);
        draw_box(p, 0.05 + x, 0.5, 90);
        const tw_reading *r = see(p);
        gone += i > 25 && i < 70 && r->subjects == 0;
        late += i > 90 && i < 120 && r->subjects > 0;
    }
    assert_int_equal(gone, 0); /* still the same subject while it sits */
    assert_true(late > 15);
    leave_scene(p);
}

static void test_two_at_once(void **state)
{
    (void)state;
    scene *p = make(320, 180, 10);
    uint16_t most = 0;
    watch_ground(p, 15);
    for (int i = 0; i < 60; i++) {
        draw_ground(p);
        draw_box(p, 0.1 + i * 0.012, 0.25, 80);
        draw_box(p, 0.9 - i * 0.012, 0.75, 80);
        const tw_reading *r = see(p);
        most = r->subjects > most ? r->subjects : most;
    }
    assert_int_equal(most, 2);
    leave_scene(p);
}

/* Many small things in many places, all the time: none of them is a subject. */
static void test_clutter_is_none(void **state)
{
    (void)state;
    scene *p = make(240, 136, 10);
    int frames = 0;
    watch_ground(p, 15);
    for (int i = 0; i < 200; i++) {
        draw_ground(p);
        for (int k = 0; k < 12; k++) {
            const uint32_t h = (uint32_t)(i / 3 * 31 + k) * 2654435761U;
            draw_box(p, (double)(h >> 22) / 1024, (double)(h >> 12 & 1023) / 1024, 40);
        }
        frames += see(p)->activity_ppm > 0;
    }
    assert_true(frames < 10);
    leave_scene(p);
}

/* ---- one blob, as the tracks see it ---------------------------------------------- */

enum { NEVER = 99 };

/* Others like it, which stay where they are. */
static void draw_crowd(tw_detector *d, const twi_found *blob, size_t others)
{
    for (size_t k = 1; k <= others; k++) {
        d->found[k] = *blob;
        d->found[k].label = (uint16_t)(k + 1);
        d->found[k].x = (int32_t)(k * 200000);
        d->found[k].y = 20000;
    }
}

/* A blob goes to the right by some millionths of the width each tenth of a second.
 * @return the seconds until it is a subject, or NEVER within 30 s. */
static double known_after_among(size_t others, int watched_s, twi_found blob,
                                int32_t speed)
{
    double after = NEVER;
    scene *p = make(240, 136, 10);
    watch_ground(p, watched_s);
    tw_detector *d = p->detector;
    blob.label = 1;
    blob.size = blob.size > 0 ? blob.size : 50000;
    blob.x = 50000;
    blob.y = 300000;
    for (int i = 0; i < 300 && after == NEVER && blob.x < 950000; i++) {
        tw_reading r = {0};
        d->age_us += d->step_us;
        d->found[0] = blob;
        draw_crowd(d, &blob, others);
        twi_tracks_follow(d, 1 + others, &r);
        after = r.subjects > 0 ? i / 10.0 : NEVER;
        blob.x += speed;
    }
    leave_scene(p);
    return after;
}

static double known_after_in(int watched_s, twi_found blob, int32_t speed)
{
    return known_after_among(0, watched_s, blob, speed);
}

static double known_after(twi_found blob, int32_t speed)
{
    return known_after_in(16, blob, speed);
}

/* A blob of which light explains all must go further than one that it does not. */
static void test_what_only_followed_the_light_must_show_more(void **state)
{
    (void)state;
    twi_found blob = {.mass = (int32_t)TWI_Q16(10), .changing = 65536};
    const double usual = known_after(blob, 6000);
    blob.plain = 65536;
    assert_true(known_after(blob, 6000) > usual + 0.8);
    /* A cloud is told by the light around it; what is not wide is none. */
    blob = (twi_found){.mass = (int32_t)TWI_Q16(90),
                       .changing = 65536,
                       .size = 300000,
                       .restless = (int32_t)TWI_Q16(2.6)};
    const double wide = known_after(blob, 10000);
    blob.shade = 65536;
    assert_true(known_after(blob, 10000) > wide + 0.8);
}

/* In a crowd, what only is unlike what is near must go further; alone it need not. */
static void test_what_is_only_unlike_must_show_more_in_a_crowd(void **state)
{
    (void)state;
    twi_found blob = {.mass = (int32_t)TWI_Q16(10), .changing = 65536};
    const double alone = known_after(blob, 6000);
    const double among = known_after_among(2, 16, blob, 6000);
    blob.unlike = 65536;
    assert_true(known_after(blob, 6000) == alone);
    assert_true(known_after_among(2, 16, blob, 6000) > among + 0.3);
}

/* In the first seconds what is wide, where it looks restless, is the wind. */
static void test_wind_of_the_first_seconds_is_none(void **state)
{
    (void)state;
    const twi_found gust = {.mass = (int32_t)TWI_Q16(60),
                            .changing = 65536,
                            .size = 300000,
                            .restless = (int32_t)TWI_Q16(1.6)};
    assert_true(known_after_in(1, gust, 15000) > known_after_in(16, gust, 15000) + 1);
}

/* One blob that stays, leaps and stays again. @return whether it was ever a subject. */
static bool leaps_are_travel(int32_t leap)
{
    bool subject = false;
    scene *p = make(240, 136, 10);
    watch_ground(p, 16);
    tw_detector *d = p->detector;
    twi_found blob = {.mass = (int32_t)TWI_Q16(5),
                      .changing = 65536,
                      .label = 1,
                      .size = 50000,
                      .x = 300000,
                      .y = 300000};
    for (int i = 0; i < 33; i++) {
        tw_reading r = {0};
        d->age_us += d->step_us;
        blob.x += leap > 0 ? (i == 20 ? leap : 0) : 60000 / 30;
        d->found[0] = blob;
        twi_tracks_follow(d, 1, &r);
        subject = subject || r.subjects > 0;
    }
    leave_scene(p);
    return subject;
}

static void test_a_leap_is_no_travel(void **state)
{
    (void)state;
    assert_true(leaps_are_travel(0)); /* as far in even steps */
    assert_false(leaps_are_travel(60000));
}

/* What is heavy is not hidden in a crowd of what is far lighter. @return the seconds
 * until it is a subject. */
static double known_in_a_crowd(int32_t mass)
{
    double after = NEVER;
    scene *p = make(240, 136, 10);
    watch_ground(p, 16);
    tw_detector *d = p->detector;
    int32_t x = 50000;
    for (int i = 0; i < 80 && after == NEVER; i++, x += 6000) {
        tw_reading r = {0};
        d->age_us += d->step_us;
        d->found[0] = (twi_found){.mass = mass,
                                  .changing = 65536,
                                  .label = 1,
                                  .size = 50000,
                                  .x = x,
                                  .y = 500000};
        for (uint16_t k = 1; k <= 8; k++)
            d->found[k] = (twi_found){.mass = (int32_t)TWI_Q16(1.5),
                                      .changing = 65536,
                                      .label = (uint16_t)(k + 1),
                                      .size = 25000,
                                      .x = k * 100000,
                                      .y = 50000};
        twi_tracks_follow(d, 9, &r);
        after = r.subjects > 0 ? i / 10.0 : NEVER;
    }
    leave_scene(p);
    return after;
}

static void test_what_is_heavy_stands_out_from_a_crowd(void **state)
{
    (void)state;
    assert_true(known_in_a_crowd((int32_t)TWI_Q16(12)) + 1 <
                known_in_a_crowd((int32_t)TWI_Q16(5)));
}

static void test_what_is_small_where_it_is_restless_must_last(void **state)
{
    (void)state;
    const int32_t calm = (int32_t)TWI_Q16(0.5), restless = (int32_t)TWI_Q16(2);
    const int32_t light = (int32_t)TWI_Q16(3), heavy = (int32_t)TWI_Q16(30);
    const twi_found small = {.mass = light, .changing = 65536, .restless = calm};
    twi_found leaf = small, fox = small;
    leaf.restless = fox.restless = restless;
    fox.mass = heavy;
    assert_true(known_after(small, 15000) < 1);
    assert_true(known_after(fox, 15000) < 1);
    /* One that only just travels; how far it has gone speaks for it. */
    const double at_once = known_after(small, 3500), doubted = known_after(leaf, 3500);
    assert_true(doubted > at_once + 0.2);
    assert_true(known_after(leaf, 15000) < doubted);
}

/* A stain that light has left behind, and of which now one and now another part is
 * seen, is no snail: nothing changes within it. */
static void test_what_does_not_change_is_no_snail(void **state)
{
    (void)state;
    twi_found snail = {.mass = (int32_t)TWI_Q16(5), .changing = 65536, .restless = 0};
    assert_true(known_after(snail, 500) < NEVER);
    snail.changing = (int32_t)TWI_Q16(0.05);
    assert_true(known_after(snail, 500) == NEVER);
}

/* ---- among shadows --------------------------------------------------------------- */

/* A hedgehog of half a cell crosses, hidden every now and then by the restless shadows of
 * branches. @return whether it was seen at last; whatever else there was fails. */
static bool crosses_among_shadows(int seed, uint32_t fps)
{
    enum { WIDTH = 320, HEIGHT = 180, BEGINS_S = 35, ENDS_S = 47 };
    char source[64];
    tw_stream stream;
    bool found = false;
    (void)snprintf(source, sizeof source, "sim:kerb-branches,seed=%d,size=%dx%d,raw=yes",
                   seed, WIDTH, HEIGHT);
    tw_camera camera = open_camera(source, fps, &stream);
    scene *p = make(WIDTH, HEIGHT, (int)fps);
    while (p->frame < ENDS_S * p->fps) {
        tw_frame frame;
        assert_int_equal(camera.ops->next(camera.ctx, &frame, NULL), TW_OK);
        for (size_t y = 0; y < HEIGHT; y++)
            memcpy(p->px + y * WIDTH, frame.picture.px[0] + y * frame.picture.stride[0],
                   WIDTH);
        const bool active = see(p)->activity_ppm > 0;
        assert_true(!active || p->frame > BEGINS_S * p->fps);
        found = found || active;
    }
    leave_scene(p);
    camera.ops->destroy(camera.ctx);
    return found;
}

static void test_a_faint_one_among_shadows_is_found(void **state)
{
    (void)state;
    for (int seed = 3; seed <= 4; seed++) {
        assert_true(crosses_among_shadows(seed, 10));
        assert_true(crosses_among_shadows(seed, 5));
    }
}

/* ---- snow ------------------------------------------------------------------------ */

/* Flakes of two hundredths of the width, each somewhere else in each frame. */
static void draw_snow(scene *p)
{
    enum { FLAKES = 40 };
    const int side = p->width / 50;
    for (int i = 0; i < FLAKES; i++) {
        const uint32_t at = (p->chance = p->chance * 1664525U + 1013904223U) >> 8;
        const int left = (int)(at % p->width), top = (int)(at / p->width % p->height);
        for (int y = top; y < top + side && y < p->height; y++)
            for (int x = left; x < left + side && x < p->width; x++)
                p->px[y * p->width + x] = (uint8_t)(190 + noise(p));
    }
}

/* What is seen in dense snow while something of an eighth of the width crosses, or
 * nothing does. */
static seen watch_snow(scene *p, int seconds, bool crossed)
{
    seen s = {0};
    const int frames = seconds * p->fps;
    const int64_t zero = (int64_t)p->frame * 1000000 / p->fps;
    for (int i = 0; i < frames; i++) {
        draw_ground(p);
        if (crossed)
            draw_box(p, -0.1 + 1.2 * i / frames, 0.6, 125);
        draw_snow(p);
        note(&s, p, see(p), i, zero);
    }
    return s;
}

static void check_snow(uint16_t width, uint16_t height, int fps)
{
    scene *p = make(width, height, fps);
    assert_int_equal(watch_snow(p, 25, false).frames, 0);
    assert_true(watch_snow(p, 8, true).frames > fps);
    leave_scene(p);
}

static void test_snow_is_no_subject_and_hides_none(void **state)
{
    (void)state;
    check_snow(320, 180, 10);
    check_snow(320, 180, 25);
    check_snow(240, 136, 10);
    check_snow(478, 270, 10);
}

/* How far a box has gone from the left, in permille of the width, when it is taken for a
 * subject; 0: it never was. The picture's left half may ask for something else. */
static int taken_at(uint16_t everywhere, uint16_t on_the_left)
{
    scene *p = make(320, 180, 10);
    tw_detector_config config;
    tw_detector_defaults(&config, 320, 180);
    config.evidence_pct = everywhere;
    assert_int_equal(tw_detector_adjust(p->detector, &config), TW_OK);
    const tw_grid grid = tw_detector_grid(p->detector);
    uint8_t mask[TW_CELLS_MAX * TW_CELLS_MAX];
    for (int i = 0; i < grid.columns * grid.rows; i++)
        mask[i] = i % grid.columns < grid.columns / 2 ? 2 : 1;
    assert_int_equal(tw_detector_watch_cells(p->detector, mask), TW_OK);
    assert_int_equal(tw_detector_area_evidence(p->detector, 1, on_the_left), TW_OK);
    watch_ground(p, 12);
    const seen s = cross(p, 20, 30);
    leave_scene(p);
    return s.frames > 0 ? (int)(1200 * s.first_s / 20) - 100 : 0;
}

static void test_evidence(void **state)
{
    (void)state;
    const int usual = taken_at(100, 0), keen = taken_at(50, 0), calm = taken_at(250, 0);
    assert_true(usual > 0 && keen > 0 && calm > 0);
    assert_true(keen < usual && usual < calm);
    assert_int_equal(taken_at(0, 0), usual); /* of a config that knows no evidence */
    assert_int_equal(taken_at(100, 100), usual);
    assert_int_equal(taken_at(100, 250), calm); /* it is on the left all that time */
    assert_int_equal(taken_at(250, 100), usual);
    assert_true(taken_at(100, 500) > calm);
}

static void test_evidence_out_of_range(void **state)
{
    (void)state;
    scene *p = make(320, 180, 10);
    tw_detector_config config;
    tw_detector_defaults(&config, 320, 180);
    assert_int_equal(config.evidence_pct, 100);
    static const uint16_t bad[] = {1, TW_EVIDENCE_MIN - 1, TW_EVIDENCE_MAX + 1, 65535};
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++) {
        config.evidence_pct = bad[i];
        assert_int_equal(tw_detector_adjust(p->detector, &config), TW_EINVAL);
        assert_int_equal(tw_detector_area_evidence(p->detector, 0, bad[i]), TW_EINVAL);
    }
    assert_int_equal(tw_detector_area_evidence(p->detector, TW_AREAS_MAX, 100),
                     TW_EINVAL);
    assert_int_equal(tw_detector_area_evidence(NULL, 0, 100), TW_EINVAL);
    leave_scene(p);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_what_crosses_is_a_subject),
        cmocka_unit_test(test_evidence),
        cmocka_unit_test(test_evidence_out_of_range),
        cmocka_unit_test(test_what_swings_in_its_place_is_none),
        cmocka_unit_test(test_what_comes_and_stays_is_a_subject),
        cmocka_unit_test(test_what_is_gone_a_tenth_of_a_second_later_is_nothing),
        cmocka_unit_test(test_what_is_quick_and_large_is_a_subject),
        cmocka_unit_test(test_neither_rate_nor_resolution_matter),
        cmocka_unit_test(test_a_subject_that_pauses_and_goes_on),
        cmocka_unit_test(test_two_at_once),
        cmocka_unit_test(test_clutter_is_none),
        cmocka_unit_test(test_what_only_followed_the_light_must_show_more),
        cmocka_unit_test(test_what_is_only_unlike_must_show_more_in_a_crowd),
        cmocka_unit_test(test_wind_of_the_first_seconds_is_none),
        cmocka_unit_test(test_a_leap_is_no_travel),
        cmocka_unit_test(test_what_is_heavy_stands_out_from_a_crowd),
        cmocka_unit_test(test_what_is_small_where_it_is_restless_must_last),
        cmocka_unit_test(test_what_does_not_change_is_no_snail),
        cmocka_unit_test(test_a_faint_one_among_shadows_is_found),
        cmocka_unit_test(test_snow_is_no_subject_and_hides_none),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
