/* The film of a day: made at its time, once, no longer than is wanted, and a capture like
 * others. */
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "../support/support.h"
#include "tawny/catalogue.h"
#include "tawny/events.h"

#define S INT64_C(1000000)
#define NOON (INT64_C(1804939200) * S) /* 2027-03-13 12:00 UTC */
#define BEGIN (NOON + 50 * S)          /* of the test; the film is due at 12:02 */

/* A quick clock of a day that is chosen: it is a little past noon when the test begins.
 */
static int64_t begun_us, late_us;

static int64_t wall_us(void *ctx)
{
    const tw_clock quick = quick_clock();
    (void)ctx;
    return BEGIN + quick.ops->now_us(quick.ctx) - begun_us + late_us;
}

static int32_t no_offset(void *ctx, int64_t at_us)
{
    (void)ctx;
    (void)at_us;
    return 0;
}

static tw_clock noon_clock(void)
{
    static tw_clock_ops ops;
    const tw_clock quick = quick_clock();
    ops = *quick.ops;
    ops.wall_us = wall_us;
    ops.offset_s = no_offset;
    return (tw_clock){&ops, quick.ctx};
}

typedef struct heard {
    tw_station *station;
    int films, clips;
    int64_t until_us; /* wall time */
    bool first;       /* it ends with the first film */
    char film[512];
    problems wrong;
} heard;

static void on_event(void *ctx, const tw_event *e)
{
    heard *h = ctx;
    if (e->kind == TW_EVENT_STORED && strcmp(e->file_kind, "clip") == 0)
        h->clips++;
    if (e->kind == TW_EVENT_STORED && strcmp(e->file_kind, "reel") == 0) {
        h->films++;
        assert_null(e->sighting);
        (void)snprintf(h->film, sizeof h->film, "%s", e->file);
    }
    if (e->kind == TW_EVENT_PROBLEM)
        collect_problem(&h->wrong, e->text);
    if (wall_us(NULL) > h->until_us || (h->first && h->films > 0))
        tw_station_stop(h->station);
}

/* @param more  Lines of the settings. */
static void watch(const char *store, const char *more, heard *h)
{
    char text[1024];
    tw_card card;
    tw_error err = {0};
    (void)snprintf(text, sizeof text,
                   "[station]\nkeep_free = 0\ndaily_reel = 12:02\n[camera kerb]\n"
                   "source = sim:kerb,size=160x90\nfps = 5\nloop = yes\n%s",
                   more);
    tw_settings *settings = settings_of(text);
    assert_int_equal(tw_linux_card(store, &card, &err), TW_OK);
    const tw_platform platform = {.size = sizeof platform,
                                  .makers = TEST_MAKERS,
                                  .clock = noon_clock(),
                                  .card = &card};
    assert_int_equal(tw_station_new(&platform, settings, on_event, h, &h->station, &err),
                     TW_OK);
    assert_int_equal(tw_station_run(h->station), TW_OK);
    tw_station_free(h->station);
    card.ops->destroy(card.ctx);
    tw_settings_free(settings);
    if (h->wrong.count > 0)
        fail_msg("%s", h->wrong.text);
}

static double seconds_of(const char *store, const char *file)
{
    char line[1024];
    (void)snprintf(line, sizeof line,
                   "'%s' -v error -show_entries format=duration -of csv=p=0 '%s/%s'",
                   FFPROBE, store, file);
    char *said = run_shell(store, line);
    const double s = strtod(said, NULL);
    free(said);
    return s;
}

static bool count_films(void *ctx, const tw_capture_record *r)
{
    *(int *)ctx += strcmp(r->kind, "reel") == 0 && r->sighting == 0 && r->bytes > 1000;
    return true;
}

static int films_in(const char *store)
{
    tw_catalogue *c = NULL;
    int films = 0;
    char *path = join(store, "catalogue.db");
    assert_int_equal(tw_catalogue_open(path, false, &c, NULL), TW_OK);
    assert_int_equal(tw_catalogue_captures(c, 0, count_films, &films, NULL), TW_OK);
    tw_catalogue_close(c);
    free(path);
    return films;
}

static void begin_day(void)
{
    const tw_clock quick = quick_clock();
    begun_us = quick.ops->now_us(quick.ctx);
    late_us = 0;
}

/* The clips of a minute become ten seconds; a new start makes no second film, and the
 * next day another. */
static void test_the_clips_of_a_day(void **state)
{
    (void)state;
    char *store = make_folder(), video[64];
    heard h = {.until_us = NOON + 600 * S, .first = true}, again = {0},
          next = {.first = true};
    begin_day();
    watch(store, "reel_length = 10 s\n", &h);
    assert_int_equal(h.films, 1);
    assert_true(h.clips >= 1);
    assert_has(h.film, "-reel.mp4");
    assert_has(h.film, "kerb-20270312T120200"); /* of what it is */
    describe_video(store, h.film, video);
    assert_has(video, "h264");
    const double s = seconds_of(store, h.film);
    if (s < 2 || s > 12)
        fail_msg("%.1f s", s);
    assert_int_equal(films_in(store), 1);
    again.until_us = wall_us(NULL) + 90 * S;
    watch(store, "reel_length = 10 s\n", &again);
    assert_int_equal(again.films, 0);
    late_us = 86400 * S;
    next.until_us = wall_us(NULL) + 600 * S;
    watch(store, "reel_length = 10 s\n", &next);
    assert_int_equal(next.films, 1);
    char **files = list_files(store);
    assert_int_equal(count_ending(files, "-reel.mp4"), 2);
    for (size_t i = 0; files[i]; i++)
        assert_null(strstr(files[i], ".reel-")); /* nothing is left of the making */
    free_list(files);
    remove_folder(store);
}

static void test_timed_stills(void **state)
{
    (void)state;
    char *store = make_folder();
    heard h = {.until_us = NOON + 600 * S, .first = true};
    begin_day();
    watch(store,
          "reel_of = timed-stills\nreel_length = 5 s\ntimed_still = 2 s\narmed = no\n",
          &h);
    assert_int_equal(h.films, 1);
    assert_int_equal(h.clips, 0);
    const double s = seconds_of(store, h.film); /* 35 stills */
    if (s < 1 || s > 6)
        fail_msg("%.1f s", s);
    remove_folder(store);
}

static void test_none_is_made_where_none_is_wanted(void **state)
{
    (void)state;
    char *store = make_folder();
    heard h = {.until_us = NOON + 150 * S};
    begin_day();
    watch(store, "reel_of = none\n", &h);
    assert_int_equal(h.films, 0);
    assert_true(h.clips > 0);
    remove_folder(store);
}

/* A film that is being made does not hold up the end of the station. */
static void test_a_station_ends_in_the_middle_of_it(void **state)
{
    (void)state;
    char *store = make_folder();
    heard h = {.until_us = NOON + 121 * S};
    begin_day();
    watch(store, "reel_length = 1 h\n", &h);
    char **files = list_files(store);
    for (size_t i = 0; files[i]; i++) {
        assert_null(strstr(files[i], ".reel-"));
        assert_null(strstr(files[i], ".part"));
    }
    free_list(files);
    remove_folder(store);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_the_clips_of_a_day),
        cmocka_unit_test(test_timed_stills),
        cmocka_unit_test(test_none_is_made_where_none_is_wanted),
        cmocka_unit_test(test_a_station_ends_in_the_middle_of_it),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
