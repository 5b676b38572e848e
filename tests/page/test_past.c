/* Activity that is past, and what other settings would have made of it. */
#include <jansson.h>
#include <stdlib.h>
#include <string.h>

#include "../../src/page/page_state.h"
#include "../support/site.h"
#include "tawny/events.h"
#include "tawny/settings.h"

#define OWN "X-Tawny-Change: local\r\n"
#define S INT64_C(1000000)

enum { COLUMNS = 20, ROWS = 12, CELLS = COLUMNS * ROWS, LEFT = 2 };

static const tw_grid GRID = {COLUMNS, ROWS, 16, 320, 192};

static int64_t wall_now(void)
{
    const tw_clock c = tw_linux_clock();
    const int64_t now = c.ops->wall_us(c.ctx);
    return now - now % S;
}

/* A frame of the camera; moving: so many cells at the upper left count. */
static void frame(site *w, int64_t wall_us, int moving)
{
    uint8_t cells[CELLS];
    memset(cells, TW_CELL_WATCHED, sizeof cells);
    for (int i = 0; i < moving; i++)
        cells[i / LEFT * COLUMNS + i % LEFT] |= TW_CELL_MOVING | TW_CELL_COUNTED;
    tw_reading r = {.t_us = wall_us,
                    .activity_ppm = (uint32_t)(moving * 1000000 / CELLS),
                    .cells = cells,
                    .grid = GRID};
    const tw_event e = {.kind = TW_EVENT_READING,
                        .camera = "kerb",
                        .t_us = wall_us,
                        .wall_us = wall_us,
                        .reading = &r};
    twi_page_event(w->page, &e);
}

/* Half a minute, ten frames a second: something moves from second 10 to 13. */
static void half_a_minute(site *w, int64_t from_us)
{
    for (int i = 0; i < 300; i++)
        frame(w, from_us + i * S / 10, i >= 100 && i < 130 ? 6 : 0);
}

/* A minute in the catalogue, before that: something moves from second 30 to 35. */
static void minute_before(const site *w, int64_t from_us)
{
    twi_trace trace = {0};
    twi_trace_minute done;
    for (int i = 0; i < 60; i++)
        if (twi_trace_add(&trace, from_us + i * S, i >= 30 && i < 35 ? 40000 : 0, &done))
            assert_int_equal(
                twi_catalogue_add_trace(w->s->catalogue, "kerb", &done, false, NULL),
                TW_OK);
    assert_true(twi_trace_end(&trace, &done));
    assert_int_equal(twi_catalogue_add_trace(w->s->catalogue, "kerb", &done, false, NULL),
                     TW_OK);
}

static json_int_t number_at(const json_t *o, const char *a, const char *b, const char *c)
{
    return json_integer_value(
        json_object_get(json_object_get(json_object_get(o, a), b), c));
}

static void test_a_trace_goes_on_to_now(void **state)
{
    (void)state;
    char path[256];
    site *w = open_site(false);
    const int64_t now_us = wall_now(), from_us = now_us - 90 * S;
    minute_before(w, from_us);
    half_a_minute(w, now_us - 30 * S);
    (void)snprintf(path, sizeof path, "/api/traces/kerb?from=%lld&until=%lld",
                   (long long)(from_us / 1000), (long long)(now_us / 1000));
    json_t *o = body_of(200, get(w, path, "")), *ppm = json_object_get(o, "ppm");
    assert_int_equal(json_array_size(ppm), 90);
    /* milliseconds, at the beginning of a second */
    assert_int_equal(json_integer_value(json_object_get(o, "from")), from_us / S * 1000);
    assert_int_equal(json_integer_value(json_object_get(o, "step_s")), 1);
    assert_int_equal(json_integer_value(json_array_get(ppm, 29)), 0);
    assert_int_equal(json_integer_value(json_array_get(ppm, 30)), 40000);
    assert_int_equal(json_integer_value(json_array_get(ppm, 70)), 25000);
    assert_int_equal(json_integer_value(json_array_get(ppm, 75)), 0);
    json_decref(o);
    (void)strcat(path, "&points=9");
    o = body_of(200, get(w, path, ""));
    ppm = json_object_get(o, "ppm");
    assert_int_equal(json_array_size(ppm), 9);
    assert_int_equal(json_integer_value(json_object_get(o, "step_s")), 10);
    assert_int_equal(json_integer_value(json_array_get(ppm, 3)), 40000);
    assert_int_equal(json_integer_value(json_array_get(ppm, 7)), 25000);
    json_decref(o);
    (void)snprintf(path, sizeof path, "/api/traces/kerb?from=%lld&until=%lld",
                   (long long)(from_us / 1000 - 600000), (long long)(from_us / 1000));
    o = body_of(200, get(w, path, "")); /* no frame came then */
    assert_int_equal(json_integer_value(json_array_get(json_object_get(o, "ppm"), 5)),
                     -1);
    json_decref(o);
    close_site(w);
}

static void test_what_is_no_span(void **state)
{
    (void)state;
    static const char *const bad[] = {
        "",        "?from=0",         "?from=2000&until=1000",
        "?from=1", "?from=x&until=y", "?from=99999999999999999&until=999999999999999999"};
    site *w = open_site(false);
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++) {
        char path[128];
        (void)snprintf(path, sizeof path, "/api/traces/kerb%s", bad[i]);
        check(400, get(w, path, ""));
    }
    check(404, get(w, "/api/traces/none?from=1&until=2", ""));
    close_site(w);
}

static json_t *try(const site *w, int64_t from_us, const char *changes)
{
    char body[2048];
    (void)snprintf(body, sizeof body,
                   "{\"camera\":\"kerb\",\"from\":%lld,\"minute\":true,\"changes\":[%s]}",
                   (long long)(from_us / 1000), changes);
    return body_of(200, post(w, "/api/try", OWN, body));
}

static void test_limits_are_tried_on_the_trace(void **state)
{
    (void)state;
    site *w = open_site(false);
    char *before = read_file(w->file, NULL);
    const int64_t from_us = wall_now() - 90 * S;
    minute_before(w, from_us);
    half_a_minute(w, from_us + 60 * S);
    json_t *o = try(w, from_us, "");
    assert_int_equal(number_at(o, "trace", "now", "sightings"), 2);
    assert_int_equal(number_at(o, "trace", "changed", "sightings"), 2);
    json_decref(o);
    o = try(w, from_us,
            "{\"head\":\"camera\",\"name\":\"kerb\",\"key\":\"start_at\","
            "\"value\":\"3 %\"}");
    assert_int_equal(number_at(o, "trace", "now", "sightings"), 2);
    assert_int_equal(number_at(o, "trace", "changed", "sightings"), 1);
    json_t *changed = json_object_get(json_object_get(o, "trace"), "changed");
    assert_true(json_number_value(json_object_get(changed, "seconds")) > 4);
    assert_int_equal(json_array_size(json_object_get(changed, "spans")), 1);
    assert_true(json_integer_value(json_object_get(changed, "bytes")) > 0);
    json_decref(o);
    check(400, post(w, "/api/try", OWN,
                    "{\"camera\":\"kerb\",\"changes\":[{\"head\":\"camera\",\"name\":"
                    "\"kerb\",\"key\":\"start_at\",\"value\":\"x\"}]}"));
    check(404, post(w, "/api/try", OWN, "{\"camera\":\"none\",\"changes\":[]}"));
    check(400, post(w, "/api/try", OWN, "{\"changes\":[]}"));
    char *now = read_file(w->file, NULL);
    assert_string_equal(now, before); /* trying writes nothing */
    free(now);
    free(before);
    close_site(w);
}

static void test_zones_are_tried_on_the_last_minute(void **state)
{
    (void)state;
    static const char over[] =
        "{\"head\":\"zone\",\"name\":\"kerb/corner\",\"key\":\"area\",\"value\":\"0,0 "
        "20,0 20,60 0,60\"}";
    static const char beside[] =
        "{\"head\":\"zone\",\"name\":\"kerb/corner\",\"key\":\"area\",\"value\":\"50,0 "
        "90,0 90,60 50,60\"}";
    site *w = open_site(false);
    json_t *o = try(w, 0, over); /* no frame has come */
    assert_int_equal(number_at(o, "minute", "now", "frames"), 0);
    json_decref(o);
    half_a_minute(w, wall_now() - 30 * S);
    o = try(w, 0, over);
    assert_int_equal(number_at(o, "minute", "now", "frames"), 300);
    assert_int_equal(number_at(o, "minute", "now", "sightings"), 1);
    assert_int_equal(number_at(o, "minute", "changed", "sightings"), 0);
    json_t *ppm =
        json_object_get(json_object_get(json_object_get(o, "minute"), "changed"), "ppm");
    assert_int_equal(json_integer_value(json_array_get(ppm, 110)), 0);
    json_decref(o);
    o = try(w, 0, beside); /* the rest is less, so that it is more of it */
    assert_int_equal(number_at(o, "minute", "changed", "sightings"), 1);
    ppm =
        json_object_get(json_object_get(json_object_get(o, "minute"), "changed"), "ppm");
    assert_true(json_integer_value(json_array_get(ppm, 110)) > 25000);
    json_decref(o);
    close_site(w);
}

static void test_another_size_begins_anew(void **state)
{
    (void)state;
    site *w = open_site(false);
    const int64_t now_us = wall_now();
    half_a_minute(w, now_us - 30 * S);
    tw_reading r = {.t_us = now_us, .grid = GRID};
    r.grid.rows--;
    const tw_event e = {
        .kind = TW_EVENT_READING, .camera = "kerb", .wall_us = now_us, .reading = &r};
    twi_page_event(w->page, &e);
    json_t *o = try(w, 0, "");
    assert_int_equal(number_at(o, "minute", "now", "frames"), 1);
    json_decref(o);
    close_site(w);
}

static void test_live_pictures_take_another_pace(void **state)
{
    (void)state;
    site *w = open_site(false);
    tw_settings *more = sending_settings("", "");
    assert_int_equal(w->page->live.every_us, S / 5);
    assert_int_equal(tw_settings_set(more, "station.live_fps=10", NULL, NULL), TW_OK);
    assert_int_equal(twi_page_reload(w->page, more), TW_OK);
    assert_int_equal(w->page->live.every_us, S / 10);
    tw_settings_free(more);
    close_site(w);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_trace_goes_on_to_now),
        cmocka_unit_test(test_what_is_no_span),
        cmocka_unit_test(test_limits_are_tried_on_the_trace),
        cmocka_unit_test(test_zones_are_tried_on_the_last_minute),
        cmocka_unit_test(test_another_size_begins_anew),
        cmocka_unit_test(test_live_pictures_take_another_pace)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
