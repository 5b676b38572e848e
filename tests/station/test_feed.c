/* Subscribers to a station's events: called from a thread of his own, under no lock, and
 * never to anybody else's cost. */
#include <pthread.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../../src/station/feed.h"
#include "../support/support.h"
#include "tawny/draw.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

/* ---- the feed alone -----------------------------------------------------------------
 */

typedef struct listener {
    atomic_bool held; /* it does not come back while this is set */
    atomic_bool inside;
    size_t readings, others;
    uint64_t missed_readings, missed_others;
    char told[4096];
} listener;

static void hear(void *ctx, const tw_event *e)
{
    listener *l = ctx;
    atomic_store(&l->inside, true);
    while (atomic_load(&l->held))
        (void)usleep(1000);
    l->readings += e->kind == TW_EVENT_READING;
    l->others += e->kind != TW_EVENT_READING;
    l->missed_readings = e->missed_readings;
    l->missed_others = e->missed_others;
    if (e->text)
        (void)snprintf(l->told + strlen(l->told), sizeof l->told - strlen(l->told),
                       "%s %s, ", e->camera, e->text);
}

static twi_feed *feed_of(listener *one, listener *other)
{
    twi_feed *feed = twi_feed_new();
    assert_non_null(feed);
    memset(one, 0, sizeof *one);
    memset(other, 0, sizeof *other);
    assert_int_equal(
        twi_feed_add(feed,
                     &(tw_subscriber){.callback = hear, .readings = true, .ctx = one}),
        TW_OK);
    assert_int_equal(twi_feed_add(feed, &(tw_subscriber){.callback = hear, .ctx = other}),
                     TW_OK);
    return feed;
}

static void give_reading(twi_feed *feed, bool patient)
{
    const tw_reading r = {.activity_ppm = 5};
    twi_feed_give(feed,
                  &(tw_event){.kind = TW_EVENT_READING, .camera = "mere", .reading = &r},
                  patient);
}

static void give_text(twi_feed *feed, const char *text)
{
    twi_feed_give(feed,
                  &(tw_event){.kind = TW_EVENT_PROBLEM, .camera = "mere", .text = text},
                  false);
}

/* Readings alone are left out, and that is counted; what is told after says so. */
static void test_who_is_slow_misses_readings(void **state)
{
    (void)state;
    enum { GIVEN = 500 };
    listener slow, quick;
    twi_feed *feed = feed_of(&slow, &quick);
    atomic_store(&slow.held, true);
    assert_int_equal(twi_feed_start(feed), TW_OK);
    give_text(feed, "first");
    while (!atomic_load(&slow.inside))
        (void)usleep(1000);
    for (int i = 0; i < GIVEN; i++)
        give_reading(feed, false);
    give_text(feed, "last");
    atomic_store(&slow.held, false);
    twi_feed_finish(feed);
    assert_string_equal(slow.told, "mere first, mere last, ");
    assert_true(slow.readings > 0 && slow.readings < GIVEN);
    assert_int_equal(slow.readings + slow.missed_readings, GIVEN);
    assert_int_equal(slow.missed_others, 0);
    assert_string_equal(quick.told, "mere first, mere last, ");
    assert_int_equal(quick.readings, 0); /* it takes none */
    assert_int_equal(quick.missed_readings, 0);
    twi_feed_free(feed);
}

/* Also one who never comes back takes no more than so much memory. */
static void test_who_has_hung_up_is_bounded(void **state)
{
    (void)state;
    enum { GIVEN = 10000 };
    listener stuck, other;
    twi_feed *feed = feed_of(&stuck, &other);
    atomic_store(&stuck.held, true);
    assert_int_equal(twi_feed_start(feed), TW_OK);
    for (int i = 0; i < GIVEN; i++)
        twi_feed_give(feed, &(tw_event){.kind = TW_EVENT_BEGAN, .camera = "mere"}, false);
    atomic_store(&stuck.held, false);
    twi_feed_finish(feed);
    assert_true(stuck.others >= 8192 && stuck.others < GIVEN);
    assert_int_equal(stuck.others + stuck.missed_others, GIVEN);
    twi_feed_free(feed);
}

typedef struct giver {
    twi_feed *feed;
    atomic_int given;
} giver;

static void *give_all(void *ctx)
{
    giver *g = ctx;
    for (int i = 0; i < 300; i++, (void)atomic_fetch_add(&g->given, 1))
        give_reading(g->feed, true);
    return NULL;
}

/* Recorded footage waits for who is slow. */
static void test_the_patient_wait(void **state)
{
    (void)state;
    listener slow, other;
    pthread_t thread;
    giver g = {.feed = feed_of(&slow, &other)};
    atomic_store(&slow.held, true);
    assert_int_equal(twi_feed_start(g.feed), TW_OK);
    assert_int_equal(pthread_create(&thread, NULL, give_all, &g), 0);
    while (atomic_load(&g.given) < 60)
        (void)usleep(1000);
    assert_true(atomic_load(&g.given) < 300); /* it has nowhere to put them */
    atomic_store(&slow.held, false);
    (void)pthread_join(thread, NULL);
    twi_feed_finish(g.feed);
    assert_int_equal(slow.readings, 300);
    assert_int_equal(slow.missed_readings, 0);
    twi_feed_free(g.feed);
}

static void test_all_that_was_given_is_told(void **state)
{
    (void)state;
    listener one, other;
    twi_feed *feed = feed_of(&one, &other);
    give_text(feed, "before the start");
    assert_string_equal(one.told, "");
    twi_feed_free(feed); /* it never was started */
    assert_string_equal(one.told, "mere before the start, ");
    feed = feed_of(&one, &other);
    give_text(feed, "before the start");
    assert_int_equal(twi_feed_start(feed), TW_OK);
    give_text(feed, "after it");
    twi_feed_finish(feed);
    assert_string_equal(one.told, "mere before the start, mere after it, ");
    assert_string_equal(other.told, one.told);
    twi_feed_free(feed);
    twi_feed_free(NULL);
}

static void test_subscribers_are_counted(void **state)
{
    (void)state;
    listener l = {0};
    twi_feed *feed = twi_feed_new();
    assert_int_equal(twi_feed_add(feed, &(tw_subscriber){.ctx = &l}), TW_EINVAL);
    assert_int_equal(twi_feed_add(feed, NULL), TW_EINVAL);
    for (int i = 0; i < 16; i++)
        assert_int_equal(
            twi_feed_add(feed, &(tw_subscriber){.callback = hear, .ctx = &l}), TW_OK);
    assert_int_equal(twi_feed_add(feed, &(tw_subscriber){.callback = hear, .ctx = &l}),
                     TW_ESIZE);
    assert_int_equal(tw_station_subscribe(NULL, &(tw_subscriber){.callback = hear}),
                     TW_EINVAL);
    twi_feed_free(feed);
}

/* Everything that an event points to may be gone once it is given. */
static void test_events_are_copied_whole(void **state)
{
    (void)state;
    listener l = {0};
    twi_feed *feed = twi_feed_new();
    assert_int_equal(twi_feed_add(feed, &(tw_subscriber){.callback = hear, .ctx = &l}),
                     TW_OK);
    char *camera = strdup("mere"), *text = strdup("a line");
    twi_feed_give(
        feed, &(tw_event){.kind = TW_EVENT_LOST, .camera = camera, .text = text}, false);
    memset(camera, 'x', 4);
    memset(text, 'x', 6);
    free(camera);
    free(text);
    twi_feed_free(feed);
    assert_string_equal(l.told, "mere a line, ");
}

/* ---- a station ----------------------------------------------------------------------
 */

static const char TWO[] = "[cameras]\nfps = 50\nloop = yes\nsettle = 0 s\nclips = no\n"
                          "stills = none\npost_event = 1 s\nconfirm = 1 of 1\n"
                          "[camera kerb]\nsource = sim:kerb,size=160x90\n"
                          "[camera mere]\nsource = sim:mere,size=160x90\n";

typedef struct watching {
    tw_station *station;
    atomic_int pictures, unwanted;
    atomic_bool wants;
    size_t readings, began, ended, ordered, reloaded;
    uint64_t missed;
    bool done;
} watching;

static uint64_t frames_of(watching *w, size_t camera)
{
    tw_camera_status status;
    assert_int_equal(tw_station_camera(w->station, camera, &status), TW_OK);
    return status.frames;
}

/* @return whether both cameras have read so many frames more; within a minute. */
static bool both_go_on(watching *w, uint64_t more)
{
    const uint64_t from[2] = {frames_of(w, 0), frames_of(w, 1)};
    for (int i = 0; i < 6000; i++) {
        if (frames_of(w, 0) >= from[0] + more && frames_of(w, 1) >= from[1] + more)
            return true;
        (void)usleep(10000);
    }
    return false;
}

/* It is away for two hundred frames; then it calls all that any thread may. */
static void on_slow(void *ctx, const tw_event *e)
{
    watching *w = ctx;
    tw_store_status store;
    w->readings += e->kind == TW_EVENT_READING;
    w->began += e->kind == TW_EVENT_BEGAN;
    w->ended += e->kind == TW_EVENT_ENDED;
    w->ordered += e->kind == TW_EVENT_ORDERED;
    w->reloaded += e->kind == TW_EVENT_RELOADED;
    w->missed = e->missed_readings;
    if (e->kind == TW_EVENT_READING && !w->done) {
        w->done = true;
        assert_true(both_go_on(w, 200)); /* its own camera, too */
        assert_int_equal(tw_station_store(w->station, &store), TW_OK);
        assert_int_equal(tw_station_trigger(w->station, "mere"), TW_OK);
        assert_int_equal(tw_station_snap(w->station, NULL), TW_OK);
        assert_int_equal(tw_station_arm(w->station, "kerb", true, 0), TW_OK);
        assert_int_equal(tw_station_arm_as_set(w->station, "kerb"), TW_OK);
        assert_int_equal(tw_station_order(w->station, "snap", "kerb", 0), TW_OK);
        assert_int_equal(tw_station_apply(w->station, settings_of(TWO)), TW_OK);
        assert_true(both_go_on(w, 20));
    }
    if (w->reloaded > 0 && w->ended > 0 && w->missed > 0)
        tw_station_stop(w->station);
}

static void run_two(watching *w, tw_event_fn told, const tw_subscriber *more)
{
    tw_card card;
    tw_error err = {0};
    tw_settings *settings = settings_of(TWO);
    assert_int_equal(tw_sim_card(NULL, &card), TW_OK);
    const tw_platform platform = {
        .makers = TEST_MAKERS, .clock = tw_linux_clock(), .card = &card};
    if (tw_station_new(&platform, settings, told, w, &w->station, &err) != TW_OK)
        fail_msg("%s", err.text);
    if (more)
        assert_int_equal(tw_station_subscribe(w->station, more), TW_OK);
    assert_int_equal(tw_station_run(w->station), TW_OK);
    tw_station_free(w->station);
    card.ops->destroy(card.ctx);
    tw_settings_free(settings);
}

static void test_a_slow_callback_holds_up_nobody(void **state)
{
    (void)state;
    watching w = {0};
    run_two(&w, on_slow, NULL);
    assert_true(w.missed > 0);
    assert_int_equal(w.began, w.ended);
    assert_true(w.ordered >= 6); /* nothing but readings was missed */
    assert_int_equal(w.reloaded, 1);
}

static bool wants(void *ctx, const char *camera)
{
    watching *w = ctx;
    return strcmp(camera, "mere") == 0 && atomic_load(&w->wants);
}

static void on_picture(void *ctx, const tw_event *e)
{
    watching *w = ctx;
    uint8_t *jpeg = NULL;
    size_t bytes = 0;
    uint32_t sharpness = 0;
    if (e->kind != TW_EVENT_READING)
        return;
    if (strcmp(e->camera, "kerb") == 0) { /* of which none is wanted */
        assert_int_equal(tw_event_picture(e, &jpeg, &bytes, NULL), TW_EINVAL);
        assert_null(e->luma);
        (void)atomic_fetch_add(&w->unwanted, 1);
    } else if (tw_event_picture(e, &jpeg, &bytes, NULL) == TW_OK) {
        assert_int_equal(tw_picture_sharpness(jpeg, bytes, NULL, &sharpness, NULL),
                         TW_OK);
        assert_non_null(e->luma);
        assert_true(e->luma->width > 0 && e->luma->px[e->luma->width - 1] > 0);
        free(jpeg);
        if (atomic_fetch_add(&w->pictures, 1) == 20)
            atomic_store(&w->wants, false);
    } else if (atomic_load(&w->pictures) > 20 && atomic_load(&w->unwanted) > 0) {
        tw_station_stop(w->station); /* and now none comes any more */
    }
}

static void test_pictures_come_to_who_wants_them(void **state)
{
    (void)state;
    watching w = {0};
    atomic_init(&w.wants, true);
    const tw_subscriber who = {
        .callback = on_picture, .readings = true, .wants = wants, .ctx = &w};
    run_two(&w, NULL, &who);
    assert_true(atomic_load(&w.pictures) > 20);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_who_is_slow_misses_readings),
        cmocka_unit_test(test_who_has_hung_up_is_bounded),
        cmocka_unit_test(test_the_patient_wait),
        cmocka_unit_test(test_all_that_was_given_is_told),
        cmocka_unit_test(test_subscribers_are_counted),
        cmocka_unit_test(test_events_are_copied_whole),
        cmocka_unit_test(test_a_slow_callback_holds_up_nobody),
        cmocka_unit_test(test_pictures_come_to_who_wants_them),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
