/* The station: several cameras in threads, one writer, stopping. */
#include <pthread.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../support/support.h"
#include "tawny/catalogue.h"
#include "tawny/rehearse.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

/* What a station has told. Events come one at a time, so no lock is needed. */
typedef struct told {
    size_t opened, closed, failed, began, ended, clips, stills;
    problems problems;
    tw_station *stop_at_first; /* stop this station once a sighting has begun */
    int inside;                /* callbacks at this moment */
} told;

static void note_problem(void *ctx, const tw_event *e)
{
    if (e->kind == TW_EVENT_PROBLEM)
        collect_problem(ctx, e->text);
}

static void on_event(void *ctx, const tw_event *e)
{
    told *t = ctx;
    assert_int_equal(++t->inside, 1);
    t->opened += e->kind == TW_EVENT_OPENED;
    t->began += e->kind == TW_EVENT_BEGAN;
    t->ended += e->kind == TW_EVENT_ENDED;
    t->closed += e->kind == TW_EVENT_CLOSED;
    t->failed += e->kind == TW_EVENT_CLOSED && e->status != TW_OK;
    if (e->kind == TW_EVENT_STORED) {
        t->clips += strcmp(e->file_kind, "clip") == 0;
        t->stills += strcmp(e->file_kind, "still") == 0;
    }
    if (e->text && (e->kind != TW_EVENT_PROBLEM || is_fault(e)))
        collect_problem(&t->problems, e->text);
    if (e->kind == TW_EVENT_BEGAN && t->stop_at_first)
        tw_station_stop(t->stop_at_first);
    t->inside--;
}

typedef struct platform {
    tw_settings *settings;
    tw_card card;
    tw_platform platform;
    told told;
} platform;

static platform *set_up(const char *text, const tw_sim_faults *faults)
{
    platform *b = calloc(1, sizeof *b);
    problems p = {0};
    assert_non_null(b);
    b->settings = tw_settings_new();
    (void)tw_settings_read_text(b->settings, "test", text, strlen(text), collect_problem,
                                &p);
    if (p.count > 0)
        fail_msg("%s", p.text);
    assert_int_equal(tw_sim_card(faults, &b->card), TW_OK);
    b->platform =
        (tw_platform){.makers = TEST_MAKERS, .clock = tw_linux_clock(), .card = &b->card};
    return b;
}

static void take_down(platform *b)
{
    assert_int_equal(tw_sim_card_open(&b->card), 0);
    b->card.ops->destroy(b->card.ctx);
    tw_settings_free(b->settings);
    free(b);
}

static tw_status run(platform *b)
{
    tw_station *station = NULL;
    tw_error err = {0};
    if (tw_station_new(&b->platform, b->settings, on_event, &b->told, &station, &err) !=
        TW_OK)
        fail_msg("%s", err.text);
    const tw_status st = tw_station_run(station);
    tw_station_free(station);
    return st;
}

static const char THREE[] =
    "[cameras]\nfps = 5\npace = no\nclip_video = mjpeg\n"
    "[camera tunnel]\nsource = sim:kerb,size=240x136,seed=1\n"
    "[camera kerb]\nsource = sim:kerb,size=240x136,seed=2\n"
    "[camera mere]\nsource = sim:kerb,size=240x136,seed=3\nstills = none\n";

static void test_three_cameras_at_once(void **state)
{
    (void)state;
    platform *b = set_up(THREE, NULL);
    assert_int_equal(run(b), TW_OK);
    assert_int_equal(b->told.opened, 3);
    assert_int_equal(b->told.closed, 3);
    assert_int_equal(b->told.failed, 0);
    assert_int_equal(b->told.ended, 9);
    assert_int_equal(b->told.clips, 9);
    assert_int_equal(b->told.stills, 6); /* mere wants none: settings of one camera */
    assert_int_equal(tw_sim_card_count(&b->card), 15);
    take_down(b);
}

static void test_a_small_queue_loses_nothing(void **state)
{
    (void)state;
    char text[512];
    (void)snprintf(text, sizeof text, "[station]\nqueue = 1 MB\n%s", THREE);
    platform *b = set_up(text, NULL);
    assert_int_equal(run(b), TW_OK);
    assert_int_equal(b->told.clips, 9);
    assert_int_equal(b->told.problems.count, 0);
    take_down(b);
}

static void test_one_bad_camera_does_not_stop_the_others(void **state)
{
    (void)state;
    platform *b = set_up("[cameras]\nfps = 5\npace = no\n"
                         "[camera bad]\nsource = file:/none/at/all.mp4\n"
                         "[camera kerb]\nsource = sim:kerb,size=240x136\n",
                         NULL);
    assert_int_equal(run(b), TW_OK);
    assert_int_equal(b->told.failed, 1);
    assert_has(b->told.problems.text, "/none/at/all.mp4: No such file or directory");
    assert_int_equal(b->told.clips, 3);
    take_down(b);
}

static void test_nothing_but_bad_cameras(void **state)
{
    (void)state;
    platform *b = set_up("[camera bad]\nsource = file:/none/at/all.mp4\n"
                         "[camera worse]\nsource = tape:1\n",
                         NULL);
    assert_int_equal(run(b), TW_EIO);
    assert_int_equal(b->told.failed, 2);
    take_down(b);
}

static void test_stopping_completes_what_is_written(void **state)
{
    (void)state;
    platform *b =
        set_up("[camera kerb]\nsource = sim:kerb,size=240x136\nfps = 10\npace = "
               "no\nloop = yes\n",
               NULL);
    tw_station *station = NULL;
    assert_int_equal(
        tw_station_new(&b->platform, b->settings, on_event, &b->told, &station, NULL),
        TW_OK);
    b->told.stop_at_first = station;
    assert_int_equal(tw_station_run(station),
                     TW_OK); /* the scene loops: only this ends it */
    tw_station_free(station);
    assert_int_equal(b->told.began, 1);
    assert_int_equal(b->told.ended, 1);
    assert_int_equal(b->told.clips, 1);
    assert_int_equal(b->told.stills, 1);
    assert_int_equal(tw_sim_card_count(&b->card), 2);
    take_down(b);
}

static void *stop_soon(void *ctx)
{
    const tw_clock clock = tw_linux_clock();
    clock.ops->sleep_until(clock.ctx, clock.ops->now_us(clock.ctx) + 300000);
    tw_station_stop(ctx);
    return NULL;
}

static void test_a_paced_camera_stops_soon(void **state)
{
    (void)state;
    platform *b = set_up("[camera kerb]\nsource = sim:kerb,size=64x64\nfps = 1\n", NULL);
    tw_station *station = NULL;
    pthread_t thread;
    assert_int_equal(
        tw_station_new(&b->platform, b->settings, on_event, &b->told, &station, NULL),
        TW_OK);
    assert_int_equal(pthread_create(&thread, NULL, stop_soon, station), 0);
    const tw_clock clock = tw_linux_clock();
    const int64_t before = clock.ops->now_us(clock.ctx);
    assert_int_equal(tw_station_run(station), TW_OK);
    assert_true(clock.ops->now_us(clock.ctx) - before < 60000000); /* not 150 s */
    assert_int_equal(pthread_join(thread, NULL), 0);
    tw_station_free(station);
    take_down(b);
}

static void test_a_card_that_dies_is_told_and_watching_goes_on(void **state)
{
    (void)state;
    const tw_sim_faults faults = {.fail_call = 9, .fail_with = TW_EIO, .dead = true};
    platform *b = set_up(THREE, &faults);
    assert_int_equal(run(b), TW_OK);
    assert_int_equal(b->told.ended, 9);
    assert_true(b->told.clips <= 1);
    assert_has(b->told.problems.text, "not stored: cannot write simulated card");
    take_down(b);
}

static void test_what_cannot_be_a_station(void **state)
{
    (void)state;
    tw_station *station = NULL;
    tw_error err = {0};
    platform *b = set_up("[station]\nname = x\n", NULL);
    assert_int_equal(
        tw_station_new(&b->platform, b->settings, NULL, NULL, &station, &err), TW_ENOENT);
    assert_has(err.text, "there is no camera: write a [camera NAME] section");
    take_down(b);
    b = set_up("[station]\nnames = {cam}\n[camera a]\nsource = sim:kerb\n", NULL);
    assert_int_equal(
        tw_station_new(&b->platform, b->settings, NULL, NULL, &station, &err),
        TW_ESYNTAX);
    assert_has(err.text, "names = {cam}");
    take_down(b);
    const tw_sim_faults dead = {.fail_call = 1, .fail_with = TW_EACCES, .dead = true};
    b = set_up("[camera a]\nsource = sim:kerb\n", &dead);
    /* A card that cannot be written is told, and ends no watch. */
    problems said = {0};
    assert_int_equal(
        tw_station_new(&b->platform, b->settings, note_problem, &said, &station, &err),
        TW_OK);
    tw_station_free(station); /* it never ran: what was to be told is told now */
    assert_has(said.text, "the station watches, and tries each capture");
    tw_station_free(NULL);
    tw_station_stop(NULL);
    assert_int_equal(tw_station_run(NULL), TW_EINVAL);
    take_down(b);
}

static bool no_sighting(void *ctx, const tw_sighting_record *record)
{
    (void)ctx;
    (void)record;
    return true;
}

/* A program that was built when structs were shorter: what lies behind them is somebody
 * else's, which the address sanitizer watches. */
static void test_an_older_program_is_given_what_it_knows(void **state)
{
    (void)state;
    enum {
        CAMERA = offsetof(tw_camera_status, format),
        STORE = offsetof(tw_store_status, dropped),
        PLATFORM = offsetof(tw_platform, pins),
        RESULT = offsetof(tw_rehearsal_result, length_us),
        FILTER = offsetof(tw_sighting_filter, most)
    };
    platform *b = set_up("[camera kerb]\nsource = sim:kerb,size=240x136\n", NULL);
    tw_error err = {0};
    tw_station *station = NULL;
    tw_platform *older = make_block(PLATFORM);
    memcpy(older, &b->platform, PLATFORM);
    older->size = PLATFORM;
    if (tw_station_new(older, b->settings, NULL, NULL, &station, &err) != TW_OK)
        fail_msg("%s", err.text);
    tw_camera_status *camera = make_block(CAMERA);
    tw_store_status *store = make_block(STORE);
    assert_int_equal(tw_station_camera_sized(station, 0, camera, CAMERA), TW_OK);
    assert_int_equal(camera->size, CAMERA);
    assert_string_equal(camera->name, "kerb");
    assert_int_equal(tw_station_store_sized(station, store, STORE), TW_OK);
    assert_int_equal(store->size, STORE);
    assert_true(store->total_bytes > 0);
    tw_station_free(station);
    older->card = NULL;
    tw_rehearsal_result *result = make_block(RESULT);
    assert_int_equal(tw_rehearse_sized(older, b->settings, "kerb", NULL, NULL, NULL,
                                       result, &err, RESULT),
                     TW_OK);
    assert_int_equal(result->size, RESULT);
    assert_true(result->frames > 100);
    tw_catalogue *catalogue = NULL;
    tw_sighting_filter *filter = make_block(FILTER);
    filter->size = FILTER;
    assert_int_equal(tw_catalogue_open(NULL, true, &catalogue, &err), TW_OK);
    assert_int_equal(tw_catalogue_sightings(catalogue, filter, no_sighting, NULL, &err),
                     TW_OK);
    tw_catalogue_close(catalogue);
    free(filter);
    free(result);
    free(store);
    free(camera);
    free(older);
    take_down(b);
}

/* A subscriber may ask the station, and give it orders. */
typedef struct asking {
    tw_station *station;
    unsigned asked, ordered;
    bool armed;
} asking;

static void ask_back(void *ctx, const tw_event *e)
{
    asking *a = ctx;
    tw_camera_status status;
    tw_store_status store;
    if (e->kind == TW_EVENT_ORDERED)
        a->ordered++;
    if (e->kind != TW_EVENT_BEGAN || !a->station)
        return;
    assert_int_equal(tw_station_camera(a->station, 0, &status), TW_OK);
    assert_int_equal(tw_station_store(a->station, &store), TW_OK);
    assert_int_equal(tw_station_trigger(a->station, "kerb"), TW_OK);
    assert_int_equal(tw_station_arm(a->station, NULL, true, 60000000), TW_OK);
    assert_int_equal(tw_station_arm(a->station, NULL, true, INT64_MAX), TW_EINVAL);
    a->asked++;
}

static void test_who_is_told_may_ask_back(void **state)
{
    (void)state;
    tw_error err = {0};
    asking a = {NULL, 0, 0, false};
    platform *b = set_up("[camera kerb]\nsource = sim:kerb,size=240x136\nfps = 5\npace = "
                         "no\nclips = no\n",
                         NULL);
    assert_int_equal(
        tw_station_new(&b->platform, b->settings, ask_back, &a, &a.station, &err), TW_OK);
    (void)alarm(600); /* it used to wait for itself */
    assert_int_equal(tw_station_run(a.station), TW_OK);
    (void)alarm(0);
    assert_true(a.asked >= 3);
    assert_true(a.ordered >= 2);
    tw_station_free(a.station);
    take_down(b);
}

static void *run_station(void *station)
{
    assert_int_equal(tw_station_run(station), TW_OK);
    return NULL;
}

typedef struct armings {
    tw_station *station;
    unsigned frames, began;
    tw_arming seen[8];
    size_t count;
} armings;

/* Arms it after a few frames; notes each change of what decides. */
static void watch_arming(void *ctx, const tw_event *e)
{
    armings *a = ctx;
    tw_camera_status status;
    a->began += e->kind == TW_EVENT_BEGAN;
    if (e->kind != TW_EVENT_READING)
        return;
    if (++a->frames == 4)
        assert_int_equal(tw_station_arm(a->station, NULL, true, 0), TW_OK);
    assert_int_equal(tw_station_camera(a->station, 0, &status), TW_OK);
    if (a->count < 8 && (a->count == 0 || a->seen[a->count - 1] != status.arming))
        a->seen[a->count++] = status.arming;
}

static void test_what_arms_a_camera_is_told(void **state)
{
    (void)state;
    tw_error err = {0};
    armings a = {0};
    platform *b = set_up("[camera kerb]\nsource = sim:kerb,size=160x90\nfps = 30\n"
                         "arm_delay = 3 s\nclips = no\narmed = no\npre_event_disarmed = "
                         "no\n",
                         NULL);
    assert_int_equal(
        tw_station_new(&b->platform, b->settings, watch_arming, &a, &a.station, &err),
        TW_OK);
    pthread_t thread;
    assert_int_equal(pthread_create(&thread, NULL, run_station, a.station), 0);
    tw_camera_status status = {.arming = TW_ARMED_BY_SETTING};
    for (int i = 0; i < 600 && status.arming != TW_ARMED_BY_ORDER; i++) {
        (void)usleep(100000);
        assert_int_equal(tw_station_camera(a.station, 0, &status), TW_OK);
    }
    tw_station_stop(a.station);
    assert_int_equal(pthread_join(thread, NULL), 0);
    assert_int_equal(status.arming, TW_ARMED_BY_ORDER);
    bool delayed = false, refused = false;
    for (size_t i = 0; i < a.count; i++) {
        refused = refused || a.seen[i] == TW_DISARMED_BY_SETTING;
        delayed = delayed || (refused && a.seen[i] == TW_DISARMED_BY_DELAY);
    }
    assert_true(refused);
    assert_true(delayed); /* time to get out of the picture, after each order */
    assert_string_equal(tw_arming_name(TW_DISARMED_BY_HOURS), "disarmed by its hours");
    tw_station_free(a.station);
    take_down(b);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_an_older_program_is_given_what_it_knows),
        cmocka_unit_test(test_who_is_told_may_ask_back),
        cmocka_unit_test(test_what_arms_a_camera_is_told),
        cmocka_unit_test(test_three_cameras_at_once),
        cmocka_unit_test(test_a_small_queue_loses_nothing),
        cmocka_unit_test(test_one_bad_camera_does_not_stop_the_others),
        cmocka_unit_test(test_nothing_but_bad_cameras),
        cmocka_unit_test(test_stopping_completes_what_is_written),
        cmocka_unit_test(test_a_paced_camera_stops_soon),
        cmocka_unit_test(test_a_card_that_dies_is_told_and_watching_goes_on),
        cmocka_unit_test(test_what_cannot_be_a_station),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
