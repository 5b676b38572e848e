/* The detector, on small pictures made here: what moves is found, what only changes its
 * light or shakes is not, and it is the same on every machine. */
#include <stdlib.h>
#include <string.h>

#include "../../src/core/detector_state.h"
#include "../support/scene.h"

enum { W = 160, H = 120, FPS = 10, WARM = 150 };

/* Without tracks: what moves counts at once. */
static void plain(tw_detector_config *config)
{
    tw_detector_defaults(config, W, H);
    config->travel_ppm = 0;
}

static scene *usual_place(void)
{
    tw_detector_config config;
    plain(&config);
    return make_scene(&config, FPS, 5);
}

/* Ground with texture, times gain (percent) plus offset, with noise. */
static void draw_ground(scene *p, int gain, int offset)
{
    for (int y = 0; y < H; y++) {
        for (int x = 0; x < W; x++) {
            const int texture = 60 + (x / 3 * 7 + y / 2 * 13) % 23;
            const int v = texture * gain / 100 + offset + noise(p);
            p->px[y * W + x] = (uint8_t)(v < 0 ? 0 : v > 255 ? 255 : v);
        }
    }
}

static void draw_box(scene *p, int left, int top, int w, int h, int level)
{
    for (int y = top; y < top + h; y++)
        for (int x = left; x < left + w; x++)
            if (x >= 0 && x < W && y >= 0 && y < H)
                p->px[y * W + x] = (uint8_t)(level + noise(p));
}

static void watch_ground(scene *p, int frames)
{
    for (int i = 0; i < frames; i++) {
        draw_ground(p, 100, 0);
        (void)see(p);
    }
}

/* Highest activity while a box crosses from left to right within so many frames. */
static uint32_t cross(scene *p, int frames, int w, int h, int level)
{
    uint32_t most = 0;
    for (int i = 0; i < frames; i++) {
        draw_ground(p, 100, 0);
        draw_box(p, i * (W + w) / frames - w, 60, w, h, level);
        const tw_reading *r = see(p);
        most = r->activity_ppm > most ? r->activity_ppm : most;
    }
    return most;
}

static void test_a_still_place_is_still(void **state)
{
    (void)state;
    scene *p = usual_place();
    uint32_t most = 0;
    for (int i = 0; i < 600; i++) {
        draw_ground(p, 100, 0);
        const tw_reading *r = see(p);
        most = r->activity_ppm > most && i > WARM ? r->activity_ppm : most;
    }
    assert_int_equal(most, 0);
    leave_scene(p);
}

static void test_what_crosses_is_found(void **state)
{
    (void)state;
    scene *p = usual_place();
    watch_ground(p, WARM);
    assert_true(cross(p, 60, 16, 12, 110) > 4000);  /* brighter */
    assert_true(cross(p, 60, 16, 12, 30) > 4000);   /* darker */
    assert_true(cross(p, 200, 16, 12, 110) > 4000); /* slowly */
    assert_true(cross(p, 24, 40, 30, 110) > 4000);  /* quickly, and near */
    leave_scene(p);
}

static void test_the_blob_is_where_the_subject_is(void **state)
{
    (void)state;
    scene *p = usual_place();
    watch_ground(p, WARM);
    for (int i = 0; i < 30; i++) {
        draw_ground(p, 100, 0);
        draw_box(p, 60 + i, 40, 24, 20, 120);
        (void)see(p);
    }
    const tw_reading *r = &p->reading;
    assert_true(r->blob_count >= 1);
    const tw_blob *b = &r->blob[0];
    assert_in_range(b->x_ppm, (60 + 29 + 12 - 6) * 1000000 / W,
                    (60 + 29 + 12 + 6) * 1000000 / W);
    assert_in_range(b->y_ppm, (50 - 6) * 1000000 / H, (50 + 6) * 1000000 / H);
    assert_true(b->left_ppm <= 92 * 1000000 / W && b->right_ppm >= 108 * 1000000 / W);
    assert_true(b->counted);
    assert_int_equal(b->size_ppm, (uint32_t)b->cells * 1000000ULL / (40 * 30));
    leave_scene(p);
}

/* The light changes over two seconds, as with a cloud, and back. */
static uint32_t change_light(scene *p, int gain, int offset)
{
    uint32_t most = 0;
    for (int i = 0; i <= 40; i++) {
        const int share = i <= 20 ? i : 40 - i;
        draw_ground(p, 100 + (gain - 100) * share / 20, offset * share / 20);
        const tw_reading *r = see(p);
        most = r->activity_ppm > most ? r->activity_ppm : most;
    }
    return most;
}

static void test_light_is_explained(void **state)
{
    (void)state;
    scene *p = usual_place();
    watch_ground(p, WARM);
    assert_int_equal(change_light(p, 160, 0), 0);
    assert_int_equal(change_light(p, 70, 0), 0);
    assert_int_equal(change_light(p, 100, 40), 0);
    leave_scene(p);
}

static void test_without_the_light_guard_light_moves(void **state)
{
    (void)state;
    tw_detector_config config;
    plain(&config);
    config.light_guard = false;
    scene *p = make_scene(&config, FPS, 5);
    watch_ground(p, WARM);
    uint32_t most = 0;
    for (int i = 0; i < 20; i++) { /* a patch of light, not the whole picture */
        draw_ground(p, 100, 0);
        for (int y = 30; y < 70; y++)
            for (int x = 40; x < 90; x++)
                p->px[y * W + x] = (uint8_t)(p->px[y * W + x] + 30);
        const tw_reading *r = see(p);
        most = r->activity_ppm > most ? r->activity_ppm : most;
        assert_int_equal(r->light_ppm, 0);
    }
    assert_true(most > 50000);
    leave_scene(p);
}

static void test_the_reading_says_what_the_light_guard_took(void **state)
{
    (void)state;
    scene *p = usual_place();
    watch_ground(p, WARM);
    draw_ground(p, 100, 30);
    (void)see(p);
    draw_ground(p, 100, 30);
    const tw_reading *r = see(p);
    assert_true(r->light_ppm > 900000);
    assert_true(r->cells[20 * 40 + 20] & TW_CELL_LIGHT);
    leave_scene(p);
}

/* A smooth picture that swings by a third of a pixel. Smooth, as optics make it. */
static uint32_t shake(bool guard)
{
    tw_detector_config config;
    plain(&config);
    config.shake_guard = guard;
    config.sway_guard = false;
    scene *p = make_scene(&config, FPS, 5);
    uint32_t most = 0;
    for (int i = 0; i < WARM + 40; i++) {
        const int third = i < WARM ? 0 : i / 2 % 3 - 1; /* of a pixel, to both sides */
        for (int y = 0; y < H; y++) {
            for (int x = 0; x < W; x++) {
                /* a triangle wave of period 24 and height 96, at x + third/3 */
                const int at = (3 * x + third + 6 * y + 7200) % 72;
                const int wave = at < 36 ? at : 72 - at;
                p->px[y * W + x] = (uint8_t)(60 + wave * 96 / 36 + noise(p));
            }
        }
        const tw_reading *r = see(p);
        if (i > WARM)
            most = r->raw_ppm > most ? r->raw_ppm : most;
    }
    leave_scene(p);
    return most;
}

static void test_small_shake_is_explained(void **state)
{
    (void)state;
    const uint32_t with = shake(true), without = shake(false);
    assert_true(with < 20000);
    assert_true(without > 5 * with);
}

/* Reeds: a strip of the picture that flickers all the time. */
static void draw_reeds(scene *p)
{
    draw_ground(p, 100, 0);
    for (int y = 80; y < 100; y++) {
        for (int x = 20; x < 120; x++) {
            p->chance = p->chance * 1664525U + 1013904223U;
            p->px[y * W + x] =
                (uint8_t)(40 + (int)(p->chance >> 26) * ((x / 9 + p->frame / 3) % 3));
        }
    }
}

static uint32_t reeds(bool guard)
{
    tw_detector_config config;
    plain(&config);
    config.sway_guard = guard;
    scene *p = make_scene(&config, FPS, 5);
    uint64_t sum = 0;
    for (int i = 0; i < 900; i++) {
        draw_reeds(p);
        const tw_reading *r = see(p);
        if (i >= 600)
            sum += r->raw_ppm;
    }
    leave_scene(p);
    return (uint32_t)(sum / 300);
}

static void test_what_is_always_restless_is_learned(void **state)
{
    (void)state;
    const uint32_t with = reeds(true), without = reeds(false);
    assert_true(without > 50000);
    assert_true(with < without / 20);
}

static void test_size_limits(void **state)
{
    (void)state;
    tw_detector_config config;
    plain(&config);
    config.smallest_ppm = 20000; /* 24 cells */
    scene *p = make_scene(&config, FPS, 5);
    watch_ground(p, WARM);
    assert_int_equal(cross(p, 60, 12, 8, 110), 0);
    assert_true(p->reading.activity_ppm == 0);
    assert_true(cross(p, 60, 40, 32, 110) > 20000);
    leave_scene(p);
    plain(&config);
    config.largest_ppm = 20000;
    p = make_scene(&config, FPS, 5);
    watch_ground(p, WARM);
    assert_true(cross(p, 60, 12, 8, 110) > 2000);
    uint32_t taken = 0;
    for (int i = 0; i < 10; i++) {
        draw_ground(p, 100, 0);
        draw_box(p, 40 + i, 40, 48, 40, 120);
        const tw_reading *r = see(p);
        assert_int_equal(r->activity_ppm, 0);
        taken = r->size_ppm > taken ? r->size_ppm : taken;
    }
    assert_true(taken > 20000);
    leave_scene(p);
}

static void test_only_watched_cells_count(void **state)
{
    (void)state;
    scene *p = usual_place();
    const tw_grid grid = tw_detector_grid(p->detector);
    assert_int_equal(grid.columns, 40);
    assert_int_equal(grid.rows, 30);
    uint8_t mask[40 * 30];
    for (int i = 0; i < 40 * 30; i++)
        mask[i] = i / 40 < 12; /* the upper part; the box crosses below */
    assert_int_equal(tw_detector_watch_cells(p->detector, mask), TW_OK);
    watch_ground(p, WARM);
    uint32_t ignored = 0;
    for (int i = 0; i < 40; i++) {
        draw_ground(p, 100, 0);
        draw_box(p, i * 3, 60, 16, 12, 120);
        const tw_reading *r = see(p);
        assert_int_equal(r->activity_ppm, 0);
        ignored = r->ignored_ppm > ignored ? r->ignored_ppm : ignored;
    }
    assert_true(ignored > 4000);
    memset(mask, 0, sizeof mask);
    assert_int_equal(tw_detector_watch_cells(p->detector, mask), TW_EINVAL);
    leave_scene(p);
}

static void test_what_stays_becomes_background(void **state)
{
    (void)state;
    scene *p = usual_place();
    watch_ground(p, WARM);
    uint32_t early = 0, late = 0;
    for (int i = 0; i < 400; i++) { /* a box is put down and stays for 40 s */
        draw_ground(p, 100, 0);
        draw_box(p, 60, 40, 24, 20, 120);
        const tw_reading *r = see(p);
        if (i == 15)
            early = r->raw_ppm;
        late = r->raw_ppm;
    }
    assert_true(early > 10000);
    assert_true(late < early / 10);
    leave_scene(p);
}

static void test_a_switched_picture_is_said_to_be_one(void **state)
{
    (void)state;
    scene *p = usual_place();
    watch_ground(p, WARM);
    bool turned = false;
    for (int i = 0; i < 50; i++) { /* another place altogether */
        for (int y = 0; y < H; y++)
            for (int x = 0; x < W; x++)
                p->px[y * W + x] =
                    (uint8_t)(90 + (x / 5 * 17 + y / 7 * 31) % 67 + noise(p));
        const tw_reading *r = see(p);
        turned = turned || r->whole_picture;
        if (r->whole_picture)
            assert_int_equal(r->activity_ppm, 0);
        if (i > 30)
            assert_true(r->raw_ppm < 20000); /* learned within three seconds */
    }
    assert_true(turned);
    leave_scene(p);
}

/* The ground at an exposure in percent, with a third at the left that is black until it
 * is exposed for longer. */
static void draw_exposed(scene *p, int exposure)
{
    draw_ground(p, exposure, 0);
    for (int y = 0; y < H; y++) {
        for (int x = 0; x < W / 3; x++) {
            const int v = (x * 5 + y * 11) % 61 * exposure / 100 - 60;
            p->px[y * W + x] = (uint8_t)(v < 0 ? 0 : v);
        }
    }
}

static void test_a_step_of_exposure_may_uncover_a_part(void **state)
{
    (void)state;
    scene *p = usual_place();
    int turned = 0;
    for (int i = 0; i < WARM; i++) {
        draw_exposed(p, 100);
        (void)see(p);
    }
    for (int i = 0; i < 5 * FPS; i++) {
        draw_exposed(p, 200);
        const tw_reading *r = see(p);
        turned += r->whole_picture;
        assert_int_equal(r->activity_ppm, 0);
    }
    assert_in_range(turned, 1, 2 * FPS); /* and it has settled again */
    leave_scene(p);
}

static void test_fixed_difference(void **state)
{
    (void)state;
    tw_detector_config config;
    plain(&config);
    config.difference = 40;
    config.light_guard = false;
    scene *p = make_scene(&config, FPS, 5);
    watch_ground(p, WARM);
    assert_int_equal(cross(p, 60, 16, 12, 95), 0); /* about 24 levels off */
    assert_true(cross(p, 60, 16, 12, 160) > 4000);
    leave_scene(p);
}

/* What it has learnt stays: the very next frame is judged by the new values. */
static void test_values_change_while_it_watches(void **state)
{
    (void)state;
    scene *p = usual_place();
    watch_ground(p, WARM);
    assert_true(cross(p, 60, 16, 12, 95) > 4000);
    tw_detector_config config = p->config;
    config.largest_ppm = 1000;
    assert_int_equal(tw_detector_adjust(p->detector, &config), TW_OK);
    assert_int_equal(cross(p, 60, 16, 12, 95), 0);
    config.largest_ppm = 1000000;
    config.difference = 40;
    config.light_guard = false;
    assert_int_equal(tw_detector_adjust(p->detector, &config), TW_OK);
    assert_int_equal(cross(p, 60, 16, 12, 95), 0);
    assert_true(cross(p, 60, 16, 12, 160) > 4000);
    config.width++;
    assert_int_equal(tw_detector_adjust(p->detector, &config), TW_ESIZE);
    config.width--;
    config.tracks--;
    assert_int_equal(tw_detector_adjust(p->detector, &config), TW_ESIZE);
    config.tracks++;
    config.difference = 256;
    assert_int_equal(tw_detector_adjust(p->detector, &config), TW_EINVAL);
    assert_int_equal(tw_detector_adjust(NULL, &config), TW_EINVAL);
    assert_int_equal(tw_detector_adjust(p->detector, NULL), TW_EINVAL);
    assert_true(cross(p, 60, 16, 12, 160) > 4000); /* as before */
    leave_scene(p);
}

static void test_a_higher_noise_margin_sees_less(void **state)
{
    (void)state;
    uint32_t most[2];
    for (int i = 0; i < 2; i++) {
        tw_detector_config config;
        plain(&config);
        config.noise_margin_pct = i == 0 ? 100 : 1000;
        scene *p = make_scene(&config, FPS, 5);
        watch_ground(p, WARM);
        most[i] = cross(p, 60, 16, 12, 84); /* faint: about 12 levels off */
        leave_scene(p);
    }
    assert_true(most[0] > most[1]);
}

/* The same frames at another rate give about the same: times count, not frames. */
static void test_a_gap_or_a_step_back_in_time_does_no_harm(void **state)
{
    (void)state;
    scene *p = usual_place();
    watch_ground(p, WARM);
    p->frame += 100000; /* hours */
    draw_ground(p, 100, 0);
    assert_int_equal(see(p)->activity_ppm, 0);
    p->frame -= 50000;
    draw_ground(p, 100, 0);
    assert_int_equal(see(p)->activity_ppm, 0);
    watch_ground(p, 20);
    assert_true(cross(p, 60, 16, 12, 110) > 4000);
    leave_scene(p);
}

static uint64_t digest(void)
{
    scene *p = usual_place();
    uint64_t sum = 1469598103934665603U; /* FNV-1a over every reading */
    for (int i = 0; i < 200; i++) {
        draw_reeds(p);
        draw_box(p, i, 50, 16, 12, 110);
        const tw_reading *r = see(p);
        const uint32_t parts[] = {r->activity_ppm, r->raw_ppm, r->light_ppm, r->sway_ppm,
                                  r->blob_count > 0 ? (uint32_t)r->blob[0].x_ppm : 0};
        for (size_t k = 0; k < sizeof parts / sizeof *parts; k++)
            sum = (sum ^ parts[k]) * 1099511628211U;
        for (uint32_t k = 0; k < 1200; k++)
            sum = (sum ^ r->cells[k]) * 1099511628211U;
    }
    leave_scene(p);
    return sum;
}

static void test_readings_are_the_same_every_time(void **state)
{
    (void)state;
    assert_true(digest() == digest());
}

static void test_white_before_white_says_nothing(void **state)
{
    (void)state;
    scene *p = usual_place();
    for (int i = 0; i < WARM + 20; i++) {
        memset(p->px, i % 2 ? 255 : 249, (size_t)W * H);
        const tw_reading *r = see(p);
        assert_int_equal(r->raw_ppm, 0);
    }
    for (int i = 0; i < 6; i++) { /* but a dark subject before it is seen */
        memset(p->px, 255, (size_t)W * H);
        draw_box(p, 41 + i, 41, 24, 20, 100);
        (void)see(p);
    }
    assert_true(p->reading.activity_ppm >= 2500); /* its outline */
    leave_scene(p);
}

static void test_a_headlight_may_drive_pale_things_to_white(void **state)
{
    (void)state;
    scene *p = usual_place();
    for (int i = 0; i < WARM + 20; i++) {
        draw_ground(p, i < WARM ? 100 : 200, 0);
        for (int y = 50; y < 60; y++) /* a pale kerb, white in the light */
            for (int x = 0; x < W; x++)
                p->px[y * W + x] =
                    (uint8_t)(i < WARM ? 150 + (x / 8 % 2) * 10 + noise(p) : 255);
        const tw_reading *r = see(p);
        if (i >= WARM)
            assert_true(r->raw_ppm < 20000);
    }
    leave_scene(p);
}

static void test_odd_sizes(void **state)
{
    (void)state;
    static const uint16_t sizes[][2] = {{16, 16},  {17, 16},   {16, 1024}, {1024, 16},
                                        {161, 97}, {323, 181}, {1023, 33}, {59, 61}};
    for (size_t i = 0; i < sizeof sizes / sizeof *sizes; i++) {
        const uint16_t w = sizes[i][0], h = sizes[i][1];
        tw_detector_config config;
        tw_detector_defaults(&config, w, h);
        size_t bytes = 0;
        assert_int_equal(tw_detector_bytes(&config, &bytes), TW_OK);
        void *memory = malloc(bytes); /* exactly: the sanitizer sees one byte too far */
        uint8_t *px = malloc((size_t)w * h);
        tw_detector *detector = NULL;
        tw_reading r;
        assert_int_equal(tw_detector_init(&config, memory, bytes, &detector), TW_OK);
        uint32_t chance = 3;
        for (int frame = 0; frame < 30; frame++) {
            for (size_t k = 0; k < (size_t)w * h; k++) {
                chance = chance * 1664525U + 1013904223U;
                px[k] = frame % 3 ? (uint8_t)(chance >> 24) : 255;
            }
            const tw_luma luma = {px, w, w, h};
            assert_int_equal(tw_detector_read(detector, &luma, frame * 100000LL, &r),
                             TW_OK);
            assert_true(r.activity_ppm <= 1000000);
            assert_true(r.grid.columns * r.grid.cell_px + r.grid.cell_px / 2 >= w);
        }
        free(memory);
        free(px);
    }
}

/* As a microcontroller would set it: much less memory, and what is near is still found.
 */
static void test_few_cells_and_tracks(void **state)
{
    (void)state;
    tw_detector_config config;
    size_t usual = 0, few = 0;
    tw_detector_defaults(&config, W, H);
    config.lights = 0;
    assert_int_equal(tw_detector_bytes(&config, &usual), TW_OK);
    config.cells = TW_CELLS_MIN;
    config.tracks = 1;
    assert_int_equal(tw_detector_bytes(&config, &few), TW_OK);
    const size_t pictures = (size_t)W * H * 3; /* background and noise */
    assert_true((few - pictures) * 5 < usual - pictures);
    scene *p = make_scene(&config, FPS, 5);
    assert_int_equal(tw_detector_grid(p->detector).columns, TW_CELLS_MIN);
    watch_ground(p, 2 * WARM);
    assert_true(cross(p, 60, 32, 24, 110) > 10000);
    leave_scene(p);
}

/* Cells do not grow beyond what their sums hold: a wide picture has more of them. */
static void test_cells_of_a_wide_picture(void **state)
{
    (void)state;
    tw_detector_config config;
    tw_detector_defaults(&config, TW_DETECTOR_MAX_SIDE, 16);
    config.cells = TW_CELLS_MIN;
    size_t bytes = 0;
    assert_int_equal(tw_detector_bytes(&config, &bytes), TW_OK);
    void *memory = malloc(bytes);
    tw_detector *detector = NULL;
    assert_int_equal(tw_detector_init(&config, memory, bytes, &detector), TW_OK);
    assert_int_equal(tw_detector_grid(detector).cell_px, 26);
    free(memory);
}

static void test_light_that_is_switched(void **state)
{
    (void)state;
    scene *p = usual_place();
    int unsaid = 0;
    for (int i = 0; i < WARM + 60; i++) {
        memset(p->px, 60, (size_t)W * H);
        if (i > WARM) /* something is lit that was not to be seen */
            for (int y = 40; y < 60; y++)
                memset(p->px + (ptrdiff_t)y * W + 50, 180, 30);
        if (i == WARM)
            tw_detector_light_switched(p->detector);
        const tw_luma luma = {p->px, W, W, H};
        assert_int_equal(
            tw_detector_read(p->detector, &luma, (int64_t)i * 100000, &p->reading),
            TW_OK);
        unsaid += p->reading.whole_picture;
        if (p->reading.whole_picture)
            assert_int_equal(p->reading.activity_ppm, 0);
    }
    assert_in_range(unsaid, 19, 21);
    assert_int_equal(p->reading.activity_ppm, 0); /* and it has been learned meanwhile */
    leave_scene(p);
}

static void test_conditions(void **state)
{
    (void)state;
    scene *p = usual_place();
    uint32_t light = 0, flicker = 0;
    for (int i = 0; i < WARM; i++) {
        memset(p->px, 51, (size_t)W * H); /* a fifth of the way to white */
        for (int k = 0; k < W * H; k++)
            p->px[k] = (uint8_t)(p->px[k] + (i + k) % 2 * 4); /* two levels off, always */
        const tw_luma luma = {p->px, W, W, H};
        assert_int_equal(
            tw_detector_read(p->detector, &luma, (int64_t)i * 100000, &p->reading),
            TW_OK);
    }
    tw_detector_conditions(p->detector, &light, &flicker);
    assert_in_range(light, 205000, 210000);
    assert_in_range(flicker, 28, 36); /* sixteenths */
    leave_scene(p);
}

static void test_refuses(void **state)
{
    (void)state;
    tw_detector_config good;
    size_t bytes = 0;
    tw_detector_defaults(&good, W, H);
    tw_detector_config bad[13];
    const size_t count = sizeof bad / sizeof *bad;
    for (size_t i = 0; i < count; i++)
        bad[i] = good;
    bad[0].width = TW_DETECTOR_MIN_SIDE - 1;
    bad[1].height = TW_DETECTOR_MAX_SIDE + 1;
    bad[2].difference = 256;
    bad[3].noise_margin_pct = 9;
    bad[4].smallest_ppm = 1000001;
    bad[5].largest_ppm = 1000001;
    bad[6].memory_us = 999999;
    bad[7].memory_us = INT64_C(3600000001);
    bad[8].travel_ppm = 1000001;
    bad[9].cells = TW_CELLS_MIN - 1;
    bad[10].cells = TW_CELLS_MAX + 1;
    bad[11].tracks = 0;
    bad[12].tracks = TW_TRACKS_MAX + 1;
    for (size_t i = 0; i < count; i++)
        assert_int_equal(tw_detector_bytes(&bad[i], &bytes), TW_EINVAL);
    scene *p = usual_place();
    uint64_t little[8];
    tw_detector *d = NULL;
    assert_int_equal(tw_detector_init(&good, little, sizeof little, &d), TW_ESIZE);
    assert_int_equal(tw_detector_init(&good, NULL, 1 << 20, &d), TW_EINVAL);
    const tw_luma other = {p->px, W, W, H - 1};
    tw_reading r = {.t_us = 77};
    assert_int_equal(tw_detector_read(p->detector, &other, 0, &r), TW_ESIZE);
    assert_int_equal(tw_detector_read(p->detector, NULL, 0, &r), TW_EINVAL);
    assert_int_equal(tw_detector_read(NULL, &other, 0, &r), TW_EINVAL);
    assert_int_equal(r.t_us, 77);
    leave_scene(p);
}

static void test_logarithm(void **state)
{
    (void)state;
    static const struct {
        float value;
        int32_t level;
    } cases[] = {{1.0F, 0},      {2.0F, 65536},    {0.5F, -65536}, {1024.0F, 655360},
                 {3.0F, 103872}, {0.02F, -369876}, {1.5F, 38336},  {1e6F, 1306235}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        const int32_t got = twi_log2_level(cases[i].value);
        assert_in_range(got - cases[i].level + 2, 0, 4);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_still_place_is_still),
        cmocka_unit_test(test_what_crosses_is_found),
        cmocka_unit_test(test_the_blob_is_where_the_subject_is),
        cmocka_unit_test(test_light_is_explained),
        cmocka_unit_test(test_without_the_light_guard_light_moves),
        cmocka_unit_test(test_the_reading_says_what_the_light_guard_took),
        cmocka_unit_test(test_small_shake_is_explained),
        cmocka_unit_test(test_what_is_always_restless_is_learned),
        cmocka_unit_test(test_size_limits),
        cmocka_unit_test(test_only_watched_cells_count),
        cmocka_unit_test(test_what_stays_becomes_background),
        cmocka_unit_test(test_a_switched_picture_is_said_to_be_one),
        cmocka_unit_test(test_a_step_of_exposure_may_uncover_a_part),
        cmocka_unit_test(test_fixed_difference),
        cmocka_unit_test(test_values_change_while_it_watches),
        cmocka_unit_test(test_a_higher_noise_margin_sees_less),
        cmocka_unit_test(test_a_gap_or_a_step_back_in_time_does_no_harm),
        cmocka_unit_test(test_readings_are_the_same_every_time),
        cmocka_unit_test(test_white_before_white_says_nothing),
        cmocka_unit_test(test_a_headlight_may_drive_pale_things_to_white),
        cmocka_unit_test(test_odd_sizes),
        cmocka_unit_test(test_few_cells_and_tracks),
        cmocka_unit_test(test_cells_of_a_wide_picture),
        cmocka_unit_test(test_light_that_is_switched),
        cmocka_unit_test(test_conditions),
        cmocka_unit_test(test_refuses),
        cmocka_unit_test(test_logarithm),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
