/* A card that fails in every way it can, under a station that goes on. */
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../support/support.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

enum { FRAMES = 750, SIGHTINGS = 3 };

typedef struct watch {
    atomic_int frames; /* also looked at by the card's clock */
    size_t stored, not_stored, other;
    problems problems;
} watch;

static void on_event(void *ctx, const tw_event *e)
{
    watch *w = ctx;
    w->frames += e->kind == TW_EVENT_READING;
    w->stored += e->kind == TW_EVENT_STORED;
    if (e->kind != TW_EVENT_PROBLEM)
        return;
    *(e->lost ? &w->not_stored : &w->other) += 1;
    collect_problem(&w->problems, e->text);
}

typedef struct outcome_of {
    watch watch;
    tw_camera_status camera;
    tw_store_status store;
    size_t files;
} outcome_of;

/* A clock by which a slow card takes no write while frames still come: it waits until so
 * many have been read. No real time is measured. */
typedef struct stuck {
    watch *watch; /* NULL: it does not wait yet */
    int frames;
} stuck;

static int64_t zero_us(void *ctx)
{
    (void)ctx;
    return 0;
}

static void wait_for_frames(void *ctx, int64_t t_us)
{
    const stuck *s = ctx;
    (void)t_us;
    while (s->watch && s->watch->frames > 0 && s->watch->frames < s->frames)
        (void)usleep(1000);
}

static tw_clock stuck_clock(stuck *s)
{
    static const tw_clock_ops ops = {.now_us = zero_us, .sleep_until = wait_for_frames};
    return (tw_clock){&ops, s};
}

static const char KERB[] = "[camera kerb]\nsource = sim:kerb,size=240x136\nfps = 5\n"
                           "pace = no\n";

/* A scene of three sightings with one still each, on a card with faults. */
static outcome_of run_on(tw_card *card, const char *lines, stuck *wait)
{
    outcome_of o = {0};
    char text[512];
    tw_station *station = NULL;
    tw_error err = {0};
    tw_settings *settings = tw_settings_new();
    (void)snprintf(text, sizeof text, "%s%s%s", KERB,
                   strstr(lines, "clips") ? "" : "clips = no\n",
                   strstr(lines, "stills") ? lines : "stills = first\n");
    if (!strstr(lines, "stills"))
        (void)snprintf(text + strlen(text), sizeof text - strlen(text), "%s", lines);
    assert_int_equal(
        tw_settings_read_text(settings, "test", text, strlen(text), NULL, NULL), TW_OK);
    const tw_platform platform = {
        .makers = TEST_MAKERS, .clock = tw_linux_clock(), .card = card};
    if (tw_station_new(&platform, settings, on_event, &o.watch, &station, &err) != TW_OK)
        fail_msg("%s", err.text);
    if (wait)
        wait->watch = &o.watch;
    assert_int_equal(tw_station_run(station), TW_OK);
    assert_int_equal(tw_station_camera(station, 0, &o.camera), TW_OK);
    assert_int_equal(tw_station_camera(station, 1, &o.camera), TW_ENOENT);
    assert_int_equal(tw_station_store(station, &o.store), TW_OK);
    tw_station_free(station);
    tw_settings_free(settings);
    o.files = tw_sim_card_count(card);
    /* Whatever the card does: every frame is looked at, and what happened is counted. */
    assert_int_equal(o.watch.frames, FRAMES);
    assert_int_equal(o.camera.frames, FRAMES);
    assert_int_equal(o.camera.sightings, SIGHTINGS);
    assert_int_equal(o.camera.stored, o.watch.stored);
    assert_int_equal(o.camera.not_stored, o.watch.not_stored);
    assert_false(o.camera.open);
    assert_int_equal(tw_sim_card_open(card), 0);
    return o;
}

static outcome_of run_with(const tw_sim_faults *faults, const char *lines)
{
    tw_card card;
    assert_int_equal(tw_sim_card(faults, &card), TW_OK);
    const outcome_of o = run_on(&card, lines, NULL);
    card.ops->destroy(card.ctx);
    return o;
}

static void test_a_card_without_faults(void **state)
{
    (void)state;
    const outcome_of o = run_with(NULL, "");
    assert_int_equal(o.watch.stored, SIGHTINGS);
    assert_int_equal(o.watch.not_stored, 0);
    assert_string_equal(o.camera.name, "kerb");
    assert_true(o.camera.stored_bytes > 1000);
    assert_true(o.store.card);
    assert_true(o.store.catalogue);
    assert_int_equal(o.store.waiting_bytes, 0);
}

static outcome_of run_stuck(int frames, const char *lines)
{
    stuck wait = {NULL, frames};
    const tw_sim_faults faults = {.slow_us = 500000, .clock = stuck_clock(&wait)};
    tw_card card;
    assert_int_equal(tw_sim_card(&faults, &card), TW_OK);
    const outcome_of o = run_on(&card, lines, &wait);
    card.ops->destroy(card.ctx);
    return o;
}

/* The card takes nothing until all frames have been looked at: they are all the same. */
static void test_a_slow_card(void **state)
{
    (void)state;
    const outcome_of o = run_stuck(FRAMES, "");
    assert_int_equal(o.watch.stored, SIGHTINGS);
    assert_int_equal(o.files, SIGHTINGS);
}

/* With little memory beside: frames of clips are lost, and counted; detection is not. */
static void test_a_card_that_is_too_slow_for_clips(void **state)
{
    (void)state;
    const outcome_of o =
        run_stuck(FRAMES * 9 / 10, "clips = yes\nclip_video = mjpeg\n"
                                   "pre_event_memory = 1 MB\n[station]\nqueue = 1 MB\n");
    assert_true(o.camera.lost_frames > 0);
    assert_has(o.watch.problems.text, "the card is too slow");
    assert_true(o.watch.stored >= SIGHTINGS);
}

/* 500 ms for a write, by the clock. */
static void test_half_a_second_a_write(void **state)
{
    (void)state;
    const tw_sim_faults faults = {.slow_us = 500000, .clock = tw_linux_clock()};
    const outcome_of o = run_with(&faults, "");
    assert_int_equal(o.watch.stored, SIGHTINGS);
    assert_int_equal(o.watch.not_stored, 0);
}

static void test_a_read_only_card(void **state)
{
    (void)state;
    tw_sim_faults faults = {
        .fail_call = 8, .dead = true, .read_only = true, .fail_with = TW_EACCES};
    const outcome_of o = run_with(&faults, "");
    assert_int_equal(o.watch.stored, 0);
    assert_int_equal(o.watch.not_stored, SIGHTINGS);
    assert_has(o.watch.problems.text, "still of sighting 1 not stored: cannot write");
    assert_has(o.watch.problems.text, "still of sighting 3 not stored: ");
}

/* EIO now and then: each capture is stored whole, or told as lost. */
static void test_errors_now_and_then(void **state)
{
    (void)state;
    size_t lost = 0;
    for (uint32_t every = 17; every < 30; every += 6) {
        tw_card card;
        const tw_sim_faults faults = {.fail_every = every, .fail_with = TW_EIO};
        assert_int_equal(tw_sim_card(&faults, &card), TW_OK);
        const outcome_of o = run_on(&card, "stills = every 4 s\n", NULL);
        assert_true(o.watch.stored > 3);
        lost += o.watch.not_stored;
        for (size_t i = 0; i < tw_sim_card_count(&card); i++) {
            const char *name = NULL;
            const uint8_t *data = NULL;
            size_t bytes = 0;
            (void)tw_sim_card_file(&card, i, &name, &data, &bytes);
            if (strstr(name, ".part")) /* one that could not even be removed */
                continue;
            assert_true(bytes > 500);
            assert_int_equal(data[bytes - 1], 0xD9); /* to the end of the picture */
        }
        card.ops->destroy(card.ctx);
    }
    assert_true(lost > 0);
}

/* Taken out and put back: what came meanwhile is lost and counted, what was there before
 * is as it was, and the rest is stored. */
static void test_taken_out_and_put_back(void **state)
{
    (void)state;
    const tw_sim_faults faults = {
        .fail_call = 30, .fail_with = TW_EIO, .dead = true, .back_call = 45};
    const outcome_of o = run_with(&faults, "stills = every 2 s\n");
    assert_true(o.watch.stored > 3);
    assert_true(o.watch.not_stored > 3);
    assert_true(o.files >= o.watch.stored);
    assert_has(o.watch.problems.text, "not stored: cannot");
}

static void test_a_full_card(void **state)
{
    (void)state;
    const tw_sim_faults faults = {.capacity = 300000};
    const outcome_of o = run_with(&faults, "stills = every 1 s\n");
    assert_true(o.watch.stored > 45);        /* 62 s of motion */
    assert_int_equal(o.watch.not_stored, 0); /* the oldest made room for each */
    assert_true(o.store.dropped > 0);
    assert_true(o.store.free_bytes <= 300000);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_card_without_faults),
        cmocka_unit_test(test_a_slow_card),
        cmocka_unit_test(test_a_card_that_is_too_slow_for_clips),
        cmocka_unit_test(test_half_a_second_a_write),
        cmocka_unit_test(test_a_read_only_card),
        cmocka_unit_test(test_errors_now_and_then),
        cmocka_unit_test(test_taken_out_and_put_back),
        cmocka_unit_test(test_a_full_card),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
