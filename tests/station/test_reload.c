/* New settings while the station runs: what differs changes, and nothing else is touched.
 * The last test is for the thread sanitizer above all; TAWNY_SECONDS makes it longer. */
#include <pthread.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../support/support.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

/* What has been told, in order: "opened kerb, began kerb, ..." Events come one at a time;
 * the lock is for the test that looks on. */
typedef struct running {
    tw_card card;
    tw_settings *settings;
    tw_station *station;
    pthread_t thread;
    tw_status result;
    pthread_mutex_t lock;
    char told[16384];
    size_t reloads;
    int64_t clip_us; /* of the last sighting that ended */
} running;

static const char *word(const tw_event *e)
{
    switch (e->kind) {
    case TW_EVENT_OPENED: return "opened";
    case TW_EVENT_BEGAN: return "began";
    case TW_EVENT_ENDED: return "ended";
    case TW_EVENT_CLOSED: return e->status == TW_OK ? "closed" : "failed";
    case TW_EVENT_RELOADED:
    case TW_EVENT_PROBLEM: return e->text;
    default: return NULL;
    }
}

static void on_event(void *ctx, const tw_event *e)
{
    running *r = ctx;
    const char *what = word(e);
    if (!what)
        return;
    (void)pthread_mutex_lock(&r->lock);
    const size_t used = strlen(r->told);
    (void)snprintf(r->told + used, sizeof r->told - used, "%s %s, ", what,
                   e->camera ? e->camera : "station");
    r->reloads += e->kind == TW_EVENT_RELOADED;
    if (e->kind == TW_EVENT_ENDED)
        r->clip_us = e->sighting->clip_end_us - e->sighting->start_us;
    (void)pthread_mutex_unlock(&r->lock);
}

/* With their mistakes. */
static tw_settings *settings_as_they_are(const char *text)
{
    tw_settings *s = tw_settings_new();
    assert_non_null(s);
    (void)tw_settings_read_text(s, "test", text, strlen(text), NULL, NULL);
    (void)tw_settings_check(s, NULL, NULL);
    return s;
}

static void *run_station(void *ctx)
{
    running *r = ctx;
    r->result = tw_station_run(r->station);
    return NULL;
}

static running *start(const char *text)
{
    running *r = calloc(1, sizeof *r);
    tw_error err = {0};
    assert_non_null(r);
    r->settings = settings_as_they_are(text);
    (void)pthread_mutex_init(&r->lock, NULL);
    assert_int_equal(tw_sim_card(NULL, &r->card), TW_OK);
    const tw_platform platform = {
        .makers = TEST_MAKERS, .clock = tw_linux_clock(), .card = &r->card};
    if (tw_station_new(&platform, r->settings, on_event, r, &r->station, &err) != TW_OK)
        fail_msg("%s", err.text);
    assert_int_equal(pthread_create(&r->thread, NULL, run_station, r), 0);
    return r;
}

static void stop(running *r)
{
    tw_station_stop(r->station);
    (void)pthread_join(r->thread, NULL);
    tw_station_free(r->station);
    assert_int_equal(tw_sim_card_open(&r->card), 0);
    r->card.ops->destroy(r->card.ctx);
    tw_settings_free(r->settings);
    (void)pthread_mutex_destroy(&r->lock);
    free(r);
}

/* Wait until something has been told. @return a copy of all, to be freed. */
static char *wait_for(running *r, const char *words)
{
    for (int i = 0; i < 6000; i++) {
        (void)pthread_mutex_lock(&r->lock);
        char *all = strdup(r->told);
        (void)pthread_mutex_unlock(&r->lock);
        if (strstr(all, words))
            return all;
        free(all);
        (void)usleep(10000);
    }
    (void)pthread_mutex_lock(&r->lock);
    char *all = strdup(r->told);
    (void)pthread_mutex_unlock(&r->lock);
    fail_msg("\"%s\" was not told in 60 s, but: %s", words, all);
    return NULL;
}

static void wait_and_forget(running *r, const char *words)
{
    free(wait_for(r, words));
}

static void reload(running *r, const char *text, const char *answer)
{
    (void)pthread_mutex_lock(&r->lock);
    r->told[0] = '\0';
    (void)pthread_mutex_unlock(&r->lock);
    assert_int_equal(tw_station_apply(r->station, settings_as_they_are(text)), TW_OK);
    wait_and_forget(r, answer);
}

static tw_camera_status status_of(running *r, const char *camera)
{
    tw_camera_status c;
    for (size_t i = 0; tw_station_camera(r->station, i, &c) == TW_OK; i++)
        if (strcmp(c.name, camera) == 0)
            return c;
    fail_msg("no camera %s", camera);
    return c;
}

static size_t cameras_of(running *r)
{
    size_t n = 0;
    tw_camera_status c;
    while (tw_station_camera(r->station, n, &c) == TW_OK)
        n++;
    return n;
}

/* One that is dropped is there until its thread has ended. */
static void wait_for_cameras(running *r, size_t count)
{
    for (int i = 0; cameras_of(r) != count && i < 3000; i++)
        (void)usleep(10000);
    assert_int_equal(cameras_of(r), count);
}

#define SHARED                                                                           \
    "[cameras]\nfps = 5\npace = no\nloop = yes\nclip_video = mjpeg\nlongest = 1 min\n"
#define TUNNEL "[camera tunnel]\nsource = sim:kerb,size=240x136,seed=1\n"
#define KERB "[camera kerb]\nsource = sim:kerb,size=240x136,seed=2\n"
#define MERE "[camera mere]\nsource = sim:kerb,size=240x136,seed=3\n"
#define POND "[camera pond]\nsource = sim:kerb,size=240x136,seed=4\n"

static void test_what_differs_changes(void **state)
{
    (void)state;
    running *r = start(SHARED TUNNEL KERB MERE);
    wait_and_forget(r, "opened tunnel");
    wait_and_forget(r, "opened kerb");
    wait_and_forget(r, "opened mere");
    const uint64_t frames = status_of(r, "tunnel").frames;
    reload(r, SHARED TUNNEL KERB "rest = 2 s\n" POND "post_event = 2 s\n",
           "cameras changed 1, new 1, dropped 1");
    wait_and_forget(r, "opened pond");
    char *all = wait_for(r, "closed mere");
    assert_null(strstr(all, "tunnel"));      /* it was not touched */
    assert_null(strstr(all, "opened kerb")); /* and this one goes on, too */
    assert_true(status_of(r, "tunnel").frames >= frames);
    free(all);
    wait_for_cameras(r, 3);
    reload(r, SHARED TUNNEL KERB "rest = 2 s\n" POND "post_event = 2 s\n",
           "no camera differs");
    reload(r, SHARED TUNNEL KERB "rest = 2 s\nfps = 4\n" POND "post_event = 2 s\n",
           "cameras opened again 1");
    wait_and_forget(r, "opened kerb");
    /* Two in quick succession: the last one holds. */
    assert_int_equal(
        tw_station_apply(r->station, settings_as_they_are(SHARED TUNNEL POND)), TW_OK);
    reload(r, SHARED TUNNEL KERB MERE, "settings read again");
    wait_and_forget(r, "opened mere");
    wait_for_cameras(r, 3);
    stop(r);
}

static void test_a_running_sighting_is_finished(void **state)
{
    (void)state;
    running *r = start(SHARED KERB "post_event = 20 s\nsettle = 0 s\n");
    wait_and_forget(r, "opened kerb");
    assert_int_equal(tw_station_trigger(r->station, "kerb"), TW_OK);
    wait_and_forget(r, "began kerb");
    const uint32_t before = status_of(r, "kerb").sightings;
    reload(r, SHARED KERB "post_event = 20 s\nsettle = 0 s\nfps = 4\n",
           "cameras opened again 1");
    /* The same once more differs in nothing, though the camera has not got there yet. */
    assert_int_equal(
        tw_station_apply(r->station,
                         settings_as_they_are(
                             SHARED KERB "post_event = 20 s\nsettle = 0 s\nfps = 4\n")),
        TW_OK);
    wait_and_forget(r, "no camera differs");
    char *all = wait_for(r, "opened kerb");
    const char *end = strstr(all, "ended kerb"), *opened = strstr(all, "opened kerb");
    assert_non_null(end);
    assert_true(end < opened);
    (void)pthread_mutex_lock(&r->lock);
    assert_true(r->clip_us >= 20000000); /* not cut short */
    (void)pthread_mutex_unlock(&r->lock);
    free(all);
    assert_true(status_of(r, "kerb").sightings >= before); /* the count goes on */
    assert_int_equal(tw_station_trigger(r->station, "kerb"), TW_OK);
    wait_and_forget(r, "began kerb");
    stop(r);
}

static void test_one_with_mistakes(void **state)
{
    (void)state;
    running *r = start(SHARED TUNNEL KERB "start_at = much\n");
    wait_and_forget(r, "opened tunnel"); /* it is not stopped by the other's mistake */
    wait_and_forget(r, "failed kerb");
    const tw_camera_status kerb = status_of(r, "kerb");
    assert_false(kerb.open);
    assert_string_equal(tw_camera_state_name(&kerb), "closed");
    reload(r, SHARED TUNNEL KERB, "cameras opened again 1");
    wait_and_forget(r, "opened kerb");
    reload(r, SHARED TUNNEL "rest = x\n" KERB,
           "no camera differs; cameras with mistakes, which keep their old settings: 1");
    reload(r, "[station]\nname = other\n" SHARED TUNNEL KERB,
           "some of what has changed in [station] holds from the next start on");
    tw_settings *wrong = settings_as_they_are("[cameras]\nrest = x\n" TUNNEL);
    assert_int_equal(tw_station_apply(r->station, wrong), TW_EINVAL);
    assert_int_equal(tw_station_apply(r->station, settings_as_they_are("")), TW_EINVAL);
    assert_int_equal(tw_station_apply(r->station, NULL), TW_EINVAL);
    stop(r);
}

/* A file that is not there fails; once it is named right, the camera is there. */
static void test_one_that_failed_is_tried_again(void **state)
{
    (void)state;
    running *r = start(SHARED TUNNEL "[camera kerb]\nsource = file:/none/at/all.mp4\n");
    wait_and_forget(r, "failed kerb");
    reload(r, SHARED TUNNEL KERB, "cameras opened again 1");
    wait_and_forget(r, "opened kerb");
    stop(r);
}

/* One that was live and is a file now is not looked for again and again. */
static void test_another_kind_of_source(void **state)
{
    (void)state;
    running *r = start(SHARED TUNNEL "[camera kerb]\nsource = http://127.0.0.1:9/\n");
    for (int i = 0; status_of(r, "kerb").lost_us == 0 && i < 3000; i++)
        (void)usleep(10000);
    reload(r, SHARED TUNNEL "[camera kerb]\nsource = file:/none/at/all.mp4\n",
           "cameras opened again 1");
    wait_and_forget(r, "failed kerb");
    reload(r, SHARED TUNNEL KERB, "cameras opened again 1");
    wait_and_forget(r, "opened kerb");
    stop(r);
}

/* ---- eight cameras, never left alone --------------------------------------------- */

static void *arm_and_disarm(void *ctx)
{
    running *r = ctx;
    for (unsigned i = 0; tw_station_arm(r->station, NULL, i % 2, 0) == TW_OK; i++) {
        (void)tw_station_trigger(r->station, "camera-3");
        (void)tw_station_snap(r->station, NULL);
        (void)usleep(3000);
        (void)pthread_mutex_lock(&r->lock);
        const bool over = r->reloads == SIZE_MAX / 2;
        (void)pthread_mutex_unlock(&r->lock);
        if (over)
            break;
    }
    return NULL;
}

/* Every second time half of them differ, and one is missing. */
static void write_eight(char *text, size_t capacity, unsigned round)
{
    static const char *const WHAT[] = {"burst", "fps", "still_quality"};
    size_t n = (size_t)snprintf(text, capacity, SHARED "stills = first\n");
    for (unsigned i = 0; i < 8; i++)
        if (i != 7 || round % 2 == 0)
            n += (size_t)snprintf(text + n, capacity - n,
                                  "[camera camera-%u]\nsource = "
                                  "sim:kerb,size=240x136,seed=%u\n%s = %u\n",
                                  i, i, WHAT[i % 3], i % 2 ? 2 + round % 2 : 2);
}

static void test_eight_cameras_reloaded_without_end(void **state)
{
    (void)state;
    char text[2048];
    const char *longer = getenv("TAWNY_SECONDS");
    const unsigned seconds = longer ? (unsigned)strtoul(longer, NULL, 10) : 2;
    const unsigned step_us = longer ? 1000000 : 250000;
    pthread_t orders;
    write_eight(text, sizeof text, 0);
    running *r = start(text);
    wait_and_forget(r, "opened camera-7");
    assert_int_equal(pthread_create(&orders, NULL, arm_and_disarm, r), 0);
    for (unsigned round = 1; round * step_us <= seconds * 1000000; round++) {
        (void)usleep(step_us);
        write_eight(text, sizeof text, round);
        reload(r, text, "settings read again");
    }
    assert_true(r->reloads > 0);
    (void)pthread_mutex_lock(&r->lock);
    r->reloads = SIZE_MAX / 2;
    (void)pthread_mutex_unlock(&r->lock);
    (void)pthread_join(orders, NULL);
    assert_true(status_of(r, "camera-0").frames > 0);
    stop(r);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_what_differs_changes),
        cmocka_unit_test(test_a_running_sighting_is_finished),
        cmocka_unit_test(test_one_with_mistakes),
        cmocka_unit_test(test_one_that_failed_is_tried_again),
        cmocka_unit_test(test_another_kind_of_source),
        cmocka_unit_test(test_eight_cameras_reloaded_without_end),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
