/* The forms of JSON: what no sample of a running station shows. That each form is as
 * docs/page-api.json has it is for tests/browser/forms.test.mjs. */
#include <stddef.h>
#include <stdlib.h>
#include <string.h>

#include "../../src/json/json.h"
#include "../support/support.h"
#include "tawny/events.h"

#define MARCH INT64_C(1804973047250000) /* 2027-03-13 21:24:07.250 UTC */

static const char *text_at(const json_t *o, const char *key)
{
    return json_string_value(json_object_get(o, key));
}

/* ---- a camera in one word ---------------------------------------------------------- */

static void test_a_camera_in_one_word(void **state)
{
    (void)state;
    tw_camera_status c = {.name = "kerb"};
    assert_string_equal(tw_camera_state_name(&c), "starting");
    c.open = true;
    assert_string_equal(tw_camera_state_name(&c), "starting"); /* no frame yet */
    c.frame_us = MARCH;
    assert_string_equal(tw_camera_state_name(&c), "disarmed");
    c.state = TW_ARMED;
    assert_string_equal(tw_camera_state_name(&c), "armed");
    c.arming = TW_ARMED_BY_ORDER;
    assert_string_equal(tw_camera_state_name(&c), "armed");
    c.arming = TW_DISARMED_BY_SETTING; /* the detector hears of it with its next frame */
    assert_string_equal(tw_camera_state_name(&c), "disarmed");
    c.state = TW_SIGHTING; /* one that was asked for */
    assert_string_equal(tw_camera_state_name(&c), "sighting");
    c.open = false;
    assert_string_equal(tw_camera_state_name(&c), "starting"); /* it is opened again */
    c.ended = true;
    assert_string_equal(tw_camera_state_name(&c), "closed");
    c.lost_us = MARCH;
    assert_string_equal(tw_camera_state_name(&c), "lost");
}

/* ---- a reading ----------------------------------------------------------------------
 */

static void test_each_share_of_a_reading_has_its_key(void **state)
{
    (void)state;
    static const struct {
        const char *key;
        size_t at;
    } all[] = {{"activity", offsetof(tw_reading, activity_ppm)},
               {"raw", offsetof(tw_reading, raw_ppm)},
               {"light", offsetof(tw_reading, light_ppm)},
               {"sway", offsetof(tw_reading, sway_ppm)},
               {"shake", offsetof(tw_reading, shake_ppm)},
               {"colour", offsetof(tw_reading, colour_ppm)},
               {"unlike", offsetof(tw_reading, unlike_ppm)},
               {"size", offsetof(tw_reading, size_ppm)},
               {"travel", offsetof(tw_reading, travel_ppm)},
               {"ignored", offsetof(tw_reading, ignored_ppm)}};
    for (size_t i = 0; i < sizeof all / sizeof *all; i++) {
        tw_reading r = {0};
        const uint32_t ppm = 125000;
        memcpy((char *)&r + all[i].at, &ppm, sizeof ppm);
        json_t *o = twi_json_reading(&r, TW_ARMED, NULL);
        for (size_t k = 0; k < sizeof all / sizeof *all; k++)
            if (json_number_value(json_object_get(o, all[k].key)) !=
                (k == i ? 12.5 : 0.0))
                fail_msg("%s, with %s set", all[k].key, all[i].key);
        json_decref(o);
    }
}

/* ---- texts and times --------------------------------------------------------------- */

static void test_what_is_not_known_is_left_out(void **state)
{
    (void)state;
    tw_camera_status c = {.name = "kerb"};
    json_t *o = twi_json_camera(&c, NULL);
    assert_null(json_object_get(o, "last"));
    assert_null(json_object_get(o, "arming_until"));
    assert_null(json_object_get(o, "lost_why"));
    assert_null(json_object_get(o, "station"));
    json_decref(o);
    c.last_us = c.lost_us = MARCH;
    (void)snprintf(c.lost_why, sizeof c.lost_why, "no frame for 10 s");
    o = twi_json_camera(&c, "hollin");
    assert_string_equal(text_at(o, "last"), "2027-03-13T21:24:07.250Z");
    assert_string_equal(text_at(o, "lost"), "2027-03-13T21:24:07.250Z");
    assert_null(json_object_get(o, "next_try"));
    assert_string_equal(text_at(o, "lost_why"), "no frame for 10 s");
    assert_string_equal(text_at(o, "station"), "hollin");
    json_decref(o);
}

/* A file's name, or what a library said: an object without it would be worse. */
static void test_a_text_that_is_not_utf8(void **state)
{
    (void)state;
    const tw_event e = {.kind = TW_EVENT_STORED,
                        .camera = "kerb",
                        .file = "kr\xF6te\xFF.jpg",
                        .file_kind = "still",
                        .bytes = 7,
                        .text = "kr\xC3\xB6te"};
    json_t *o = twi_json_event(&e, NULL, 0);
    assert_string_equal(text_at(o, "file"), "kr?te?.jpg");
    assert_string_equal(text_at(o, "text"), "kr\xC3\xB6te");
    assert_null(json_object_get(o, "time"));
    json_decref(o);
    o = twi_json_event(&e, "hollin", MARCH); /* one that has no time of its own */
    assert_string_equal(text_at(o, "time"), "2027-03-13T21:24:07.250Z");
    json_decref(o);
}

static void test_seconds_are_rounded_to_a_millisecond(void **state)
{
    (void)state;
    const tw_sighting s = {.start_us = 1000499, .end_us = 1000500, .clip_start_us = -600};
    json_t *o = twi_json_found("kerb", NULL, &s, 0, false);
    char *text = twi_json_text(o);
    assert_has(text, "\"start\":1.0,\"end\":1.001,\"clip_start\":-0.001,");
    free(text);
    assert_null(twi_json_text(NULL));
}

/* Shares are percent, rates a second, noise luma levels, sizes bytes. */
static void test_units(void **state)
{
    (void)state;
    const tw_camera_status c = {.name = "kerb",
                                .activity_ppm = 12345,
                                .real_milli = 9900,
                                .wanted_milli = 10000,
                                .busy_ppm = 250000,
                                .light_ppm = 181000,
                                .noise = 24,
                                .kept_bytes = 5000000,
                                .placed = true,
                                .latitude = 53812400,
                                .longitude = -1550000};
    char *text = twi_json_text(twi_json_camera(&c, NULL));
    assert_has(text, "\"latitude\":53.8124,\"longitude\":-1.55");
    free(text);
    text = twi_json_text(twi_json_camera_down(&c, "hollin"));
    assert_string_equal(text, "{\"type\":\"camera\",\"station\":\"hollin\",\"camera\":"
                              "\"kerb\",\"state\":\"down\",\"latitude\":53.8124,"
                              "\"longitude\":-1.55}");
    free(text);
    text = twi_json_text(twi_json_camera(&c, NULL));
    assert_has(text, "\"activity\":1.2345,");
    assert_has(text, "\"wanted_fps\":10.0,\"fps\":9.9,\"busy\":25.0,\"light\":18.1,"
                     "\"noise\":1.5,");
    assert_has(text, "\"kept_bytes\":5000000,\"kept_raw\":false");
    free(text);
    const tw_sighting_record r = {.id = 7,
                                  .camera = "kerb",
                                  .number = 3,
                                  .part = 1,
                                  .start_us = MARCH,
                                  .end_us = MARCH + 12250000,
                                  .peak_ppm = 13000,
                                  .why = ""};
    text = twi_json_text(twi_json_sighting(&r));
    assert_has(text, "{\"type\":\"sighting\",\"number\":7,"); /* the catalogue's */
    assert_has(text, "\"start\":\"2027-03-13T21:24:07.250Z\",\"end\":\""
                     "2027-03-13T21:24:19.500Z\",\"seconds\":12.25,\"peak\":1.3,");
    free(text);
    text = twi_json_text(twi_json_second(
        &(tw_trace_point){.t_us = MARCH, .max_ppm = 13000, .mean_ppm = 500}));
    assert_has(text, "\"max\":1.3,\"mean\":0.05}");
    free(text);
}

/* ---- events ------------------------------------------------------------------------ */

/* Each kind has a word of its own, and the description has all of them. */
static void test_each_kind_of_event_is_described(void **state)
{
    (void)state;
    json_t *api = json_load_file(SOURCE_DIR "/docs/page-api.json", 0, NULL), *word = NULL;
    const json_t *words = api;
    static const char *const path[] = {"components", "schemas", "Event",
                                       "properties", "type",    "enum"};
    for (size_t i = 0; i < sizeof path / sizeof *path; i++)
        words = json_object_get(words, path[i]);
    size_t at = 0, described = 0;
    for (int kind = TW_EVENT_OPENED; kind <= TW_EVENT_HOLDS; kind++) {
        const tw_event e = {.kind = (tw_event_kind)kind};
        json_t *o = twi_json_event(&e, NULL, 0);
        size_t found = 0;
        json_array_foreach(words, at, word) found +=
            strcmp(json_string_value(word), text_at(o, "type")) == 0;
        if (found != (kind != TW_EVENT_READING)) /* readings have a form of their own */
            fail_msg("%s is described %zu times", text_at(o, "type"), found);
        described += found;
        json_decref(o);
    }
    assert_int_equal(described, json_array_size(words));
    json_decref(api);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_each_share_of_a_reading_has_its_key),
        cmocka_unit_test(test_a_camera_in_one_word),
        cmocka_unit_test(test_what_is_not_known_is_left_out),
        cmocka_unit_test(test_a_text_that_is_not_utf8),
        cmocka_unit_test(test_seconds_are_rounded_to_a_millisecond),
        cmocka_unit_test(test_units),
        cmocka_unit_test(test_each_kind_of_event_is_described),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
