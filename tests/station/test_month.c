/* Weeks on the virtual clock: three cameras, sightings, retention. TAWNY_DAYS says how
 * many days; two by default, thirty in `make soak`. */
#include <dirent.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../../src/station/pipeline.h"
#include "../../src/station/recovery.h"
#include "../../src/station/retention.h"
#include "../support/support.h"
#include "../../src/core/naming.h"
#include "../../src/settings/sections.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

#define S INT64_C(1000000)
#define WALL (INT64_C(1804896000) * S) /* 2027-03-13 00:00 UTC */
#define DAY (86400 * S)
#define EVENT_EVERY (36 * 60 * S)
#define EVENT_LENGTH (20 * S)

enum { CAMERAS = 3, W = 64, H = 36, QUIET_S = 4, KEEP_MB = 3 };

/* ---- a camera that has all the time in the world ----------------------------------- */

typedef struct slow_camera {
    tw_clock clock;
    int64_t t_us, until_us, offset_us;
    uint8_t luma[W * H];
} slow_camera;

static int64_t since_event(const slow_camera *c, int64_t t_us)
{
    return (t_us + c->offset_us) % EVENT_EVERY;
}

/* A square that crosses the picture, once in a while. */
static void draw(slow_camera *c)
{
    const int64_t since = since_event(c, c->t_us);
    for (int i = 0; i < W * H; i++)
        c->luma[i] = (uint8_t)(60 + i % W / 2 + i / W);
    if (since >= EVENT_LENGTH)
        return;
    const int left = (int)(since * (W - 10) / EVENT_LENGTH);
    for (int y = 14; y < 24; y++)
        memset(c->luma + y * W + left, 200, 10);
}

static tw_status next(void *ctx, tw_frame *frame, tw_error *err)
{
    slow_camera *c = ctx;
    const int64_t since = since_event(c, c->t_us);
    if (c->t_us >= c->until_us)
        return tw_fail(err, TW_EEND, "the end");
    draw(c);
    const int64_t wall = c->clock.ops->wall_us(c->clock.ctx);
    *frame = (tw_frame){.packet = {.t_us = c->t_us, .wall_us = wall},
                        .picture = {.px = {c->luma},
                                    .stride = {W},
                                    .width = W,
                                    .height = H,
                                    .pixels = TW_PIXELS_GREY}};
    /* Quick while something is near, slow when nothing will come for long. */
    const bool near_event = since < EVENT_LENGTH + 12 * S || since > EVENT_EVERY - 12 * S;
    c->t_us += near_event ? S / 2 : QUIET_S * S;
    return TW_OK;
}

static tw_status open_slow(void *ctx, tw_stream *stream, tw_error *err)
{
    (void)ctx;
    (void)err;
    *stream = (tw_stream){.codec = TW_CODEC_RAW,
                          .pixels = TW_PIXELS_GREY,
                          .codec_name = "grey",
                          .width = W,
                          .height = H,
                          .fps_num = 2,
                          .fps_den = 1};
    return TW_OK;
}

static void close_slow(void *ctx)
{
    (void)ctx;
}

static void destroy_slow(void *ctx)
{
    free(ctx);
}

static tw_status make_slow(const tw_camera_request *request, tw_camera *out,
                           tw_error *err)
{
    static const tw_camera_ops ops = {sizeof ops, "slow",     TW_RECORDED,  open_slow,
                                      next,       close_slow, destroy_slow, NULL};
    slow_camera *c = calloc(1, sizeof *c);
    (void)err;
    assert_non_null(c);
    c->clock = request->clock;
    c->offset_us = atoi(request->source) * 7 * 60 * S;
    *out = (tw_camera){&ops, c};
    return TW_OK;
}

/* ---- the station, in one thread ---------------------------------------------------- */

typedef struct weeks {
    char *folder;
    tw_sim_time time;
    tw_card card;
    twi_station_settings station;
    twi_camera_settings camera[CAMERAS];
    twi_channel channel[CAMERAS];
    twi_run run[CAMERAS];
    twi_writer writer;
    size_t sightings, stored, freed;
    problems problems;
} weeks;

static void on_event(void *ctx, const tw_event *e)
{
    weeks *w = ctx;
    w->sightings += e->kind == TW_EVENT_BEGAN;
    w->stored += e->kind == TW_EVENT_STORED;
    w->freed += e->kind == TW_EVENT_FREED;
    if (e->kind == TW_EVENT_PROBLEM)
        collect_problem(&w->problems, e->text);
}

static void set_cameras(weeks *w, tw_settings *settings, int64_t days)
{
    static const tw_camera_make_fn makers[] = {make_slow, NULL};
    static const char *const names[CAMERAS] = {"tunnel", "kerb", "mere"};
    const tw_platform platform = {
        .makers = makers, .clock = w->writer.clock, .card = &w->card};
    for (int i = 0; i < CAMERAS; i++) {
        const twi_sink sink = {.channel = &w->channel[i],
                               .jobs = twi_writer_jobs(&w->writer)};
        tw_error err = {0};
        assert_int_equal(twi_settings_camera(settings, names[i], &w->camera[i]), TW_OK);
        w->channel[i].camera = &w->camera[i];
        twi_writer_add_channel(&w->writer, &w->channel[i]);
        if (twi_run_open(&w->run[i], &platform, &w->camera[i], false, false, &sink,
                         on_event, w, &err) != TW_OK)
            fail_msg("%s", err.text);
        ((slow_camera *)w->run[i].camera.ctx)->until_us = days * DAY;
    }
}

static const char SETTINGS[] =
    "[station]\nname = hollin\n"
    "[cameras]\nstills = best\nclip_video = mjpeg\npre_event = 5 s\nkeep_size = 3 MB\n"
    "keep_for = 10 d, timed-still 1 d\ntimed_still = 30 min\nkeep_trace = 5 d\n"
    "[camera tunnel]\nsource = 0\n[camera kerb]\nsource = 1\n[camera mere]\nsource = 2\n";

static weeks *set_up(tw_settings *settings, int64_t days)
{
    weeks *w = calloc(1, sizeof *w);
    tw_error err = {0};
    assert_non_null(w);
    w->folder = make_folder();
    w->time = (tw_sim_time){.wall_at_zero_us = WALL};
    twi_settings_station(settings, &w->station);
    if (tw_linux_card(w->folder, &w->card, &err) != TW_OK)
        fail_msg("%s", err.text);
    w->writer =
        (twi_writer){.clock = tw_sim_clock(&w->time), .callback = on_event, .ctx = w};
    if (twi_writer_open(&w->writer, &w->card, &w->station, &err) != TW_OK)
        fail_msg("%s", err.text);
    set_cameras(w, settings, days);
    return w;
}

/* The camera whose frame comes next. @return false: all have ended. */
static bool step(weeks *w)
{
    int first = -1;
    int64_t t_us = INT64_MAX;
    for (int i = 0; i < CAMERAS; i++) {
        const slow_camera *c = w->run[i].camera.ctx;
        if (c->t_us < c->until_us && c->t_us < t_us) {
            t_us = c->t_us;
            first = i;
        }
    }
    if (first < 0)
        return false;
    tw_error err = {0};
    if (t_us / (60 * S) != w->time.now_us / (60 * S))
        twi_writer_tend(&w->writer);
    w->time.now_us = t_us;
    if (twi_run_step(&w->run[first], &err) != TW_OK)
        fail_msg("%s", err.text);
    return true;
}

/* ---- what must hold -----------------------------------------------------------------
 */

static void check_limits(weeks *w)
{
    for (int i = 0; i < CAMERAS; i++) {
        uint64_t bytes = 0;
        assert_int_equal(twi_catalogue_bytes(w->writer.catalogue, w->camera[i].name,
                                             TWI_KIND_COUNT, &bytes, NULL),
                         TW_OK);
        assert_true(bytes <= KEEP_MB * UINT64_C(1000000));
    }
    twi_catalogue_oldest oldest;
    if (twi_catalogue_find_oldest(w->writer.catalogue, NULL, TWI_KIND_TIMED_STILL, false,
                                  &oldest, NULL) == TW_OK)
        assert_true(oldest.start_us >= WALL + w->time.now_us - DAY - 60 * S);
}

static bool compare(void *ctx, const char *name, uint64_t bytes)
{
    uint64_t *sum = ctx;
    if (strcmp(name, TWI_JOURNAL_FILE) != 0 &&
        strncmp(name, TWI_CATALOGUE_FILE, strlen(TWI_CATALOGUE_FILE)) != 0) {
        sum[0]++;
        sum[1] += bytes;
    }
    return true;
}

static bool count(void *ctx, const tw_capture_record *r)
{
    uint64_t *sum = ctx;
    sum[0]++;
    sum[1] += r->bytes;
    return true;
}

static void check_agreement(const weeks *w)
{
    uint64_t files[2] = {0, 0}, known[2] = {0, 0};
    assert_int_equal(w->card.ops->list(w->card.ctx, compare, files, NULL), TW_OK);
    assert_int_equal(tw_catalogue_captures(w->writer.catalogue, 0, count, known, NULL),
                     TW_OK);
    assert_true(files[0] > 100);
    assert_int_equal(files[0], known[0]);
    assert_int_equal(files[1], known[1]);
}

static bool count_points(void *ctx, const tw_trace_point *point)
{
    (void)point;
    ++*(size_t *)ctx;
    return true;
}

/* Resident memory, bytes. */
static size_t resident(void)
{
    long pages = 0;
    FILE *f = fopen("/proc/self/statm", "r");
    assert_non_null(f);
    assert_int_equal(fscanf(f, "%*s %ld", &pages), 1);
    (void)fclose(f);
    return (size_t)pages * (size_t)sysconf(_SC_PAGESIZE);
}

static void take_down(weeks *w)
{
    for (int i = 0; i < CAMERAS; i++)
        twi_run_close(&w->run[i]);
    check_agreement(w);
    twi_writer_close(&w->writer);
    w->card.ops->destroy(w->card.ctx);
    remove_folder(w->folder);
    free(w);
}

static void test_weeks_in_minutes(void **state)
{
    (void)state;
    const char *asked = getenv("TAWNY_DAYS");
    const int64_t days = asked ? atoi(asked) : 2;
    tw_settings *settings = tw_settings_new();
    problems p = {0};
    (void)setenv("TZ", "UTC", 1);
    (void)tw_settings_read_text(settings, "test", SETTINGS, strlen(SETTINGS),
                                collect_problem, &p);
    if (p.count > 0)
        fail_msg("%s", p.text);
    weeks *w = set_up(settings, days);
    size_t after_a_day = 0;
    for (int64_t hour = 0; step(w);) {
        if (w->time.now_us / (3600 * S) == hour)
            continue;
        hour = w->time.now_us / (3600 * S);
        check_limits(w);
        if (hour == 24)
            after_a_day = resident();
    }
    const size_t grown = resident() > after_a_day ? resident() - after_a_day : 0;
    size_t points = 0;
    assert_int_equal(tw_catalogue_trace(w->writer.catalogue, "kerb", 0, 0, count_points,
                                        &points, NULL),
                     TW_OK);
    (void)printf("%lld days: %zu sightings, %zu captures stored, room made %zu times, "
                 "%.1f MB more than after a day\n",
                 (long long)days, w->sightings, w->stored, w->freed, (double)grown / 1e6);
    assert_in_range(w->sightings, days * 40 * CAMERAS * 9 / 10, days * 40 * CAMERAS);
    assert_int_equal(w->problems.count, 0);
    assert_true(w->stored >= w->sightings * 2);
    assert_true(w->freed > 0);
    assert_true(points <= 5 * 86400 + 3600 && points > 20000);
    assert_true(grown < 4000000);
    take_down(w);
    tw_settings_free(settings);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_weeks_in_minutes),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
