/* What the view of the last night needs: nights, visits, larger stills, what is amiss. */
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../support/site.h"

#define OWN "X-Tawny-Change: local\r\n"
#define HOUR INT64_C(3600000)
/* Midnight of 14 March 2027 in UTC, milliseconds. */
#define MIDNIGHT INT64_C(1804982400000)

static json_t *nights(const site *w, int64_t from, int64_t until)
{
    char path[128];
    (void)snprintf(path, sizeof path, "/api/nights?from=%lld&until=%lld", (long long)from,
                   (long long)until);
    json_t *o = body_of(200, get(w, path, ""));
    json_t *list = json_incref(json_object_get(o, "nights"));
    json_decref(o);
    return list;
}

static size_t count_nights(const site *w, int64_t from, int64_t until)
{
    json_t *list = nights(w, from, until);
    const size_t count = json_array_size(list);
    json_decref(list);
    return count;
}

/* As the station does once its file has changed. */
static void stand_at(const site *w, const char *latitude, const char *longitude)
{
    char text[512];
    tw_settings *settings = tw_settings_new();
    (void)snprintf(text, sizeof text,
                   "[station]\naccounts_file = %s\n[camera kerb]\nsource = sim:kerb\n"
                   "latitude = %s\nlongitude = %s\n",
                   w->accounts, latitude, longitude);
    write_text(w->file, text);
    assert_int_equal(tw_settings_read(settings, w->file, NULL, NULL), TW_OK);
    assert_int_equal(twi_page_reload(w->page, settings), TW_OK);
    tw_settings_free(settings);
}

static void near(const json_t *time, int64_t ms)
{
    const int64_t off = json_integer_value(time) - ms;
    if (off < -5 * 60000 || off > 5 * 60000)
        fail_msg("%lld is %lld s away", (long long)json_integer_value(time),
                 (long long)off / 1000);
}

static void test_without_a_place_no_night_is_known(void **state)
{
    (void)state;
    site *w = open_site(false);
    assert_int_equal(count_nights(w, MIDNIGHT - 12 * HOUR, MIDNIGHT), 0);
    close_site(w);
}

/* At 52.3 N, 1.6 W the sun rises at about 06:27 in mid-March and sets at about 18:09;
 * civil twilight is 34 minutes more at both ends. */
static void test_nights_are_where_the_camera_is(void **state)
{
    (void)state;
    site *w = open_site(false);
    stand_at(w, "52.3", "-1.6");
    json_t *one = nights(w, MIDNIGHT - 12 * HOUR, MIDNIGHT + 12 * HOUR);
    assert_true(json_array_size(one) >= 1);
    const size_t last = json_array_size(one) - 1;
    const json_t *night = json_array_get(one, json_array_size(one) > 1 ? last - 1 : 0);
    /* The one that has midnight in it. */
    for (size_t i = 0; i < json_array_size(one); i++)
        if (json_integer_value(json_array_get(json_array_get(one, i), 0)) < MIDNIGHT &&
            json_integer_value(json_array_get(json_array_get(one, i), 1)) > MIDNIGHT)
            night = json_array_get(one, i);
    near(json_array_get(night, 0), MIDNIGHT - 24 * HOUR + 18 * HOUR + 43 * 60000);
    near(json_array_get(night, 1), MIDNIGHT + 5 * HOUR + 54 * 60000);
    json_decref(one);
    stand_at(w, "78.2", "-1.6"); /* where the sun does not set in June */
    assert_int_equal(
        count_nights(w, MIDNIGHT + 90 * 24 * HOUR, MIDNIGHT + 91 * 24 * HOUR), 0);
    close_site(w);
}

/* Wherever it stands, the night that midnight there lies in is told once. */
static void test_nights_are_told_at_any_longitude(void **state)
{
    (void)state;
    static const int degrees[] = {-179, -120, -60, 60, 120, 179};
    char longitude[8];
    site *w = open_site(false);
    for (size_t i = 0; i < sizeof degrees / sizeof *degrees; i++) {
        const int64_t there = MIDNIGHT - degrees[i] * HOUR / 15;
        size_t with = 0;
        (void)snprintf(longitude, sizeof longitude, "%d", degrees[i]);
        stand_at(w, "52.3", longitude);
        json_t *all = nights(w, there, there + HOUR);
        for (size_t k = 0; k < json_array_size(all); k++) {
            const json_t *one = json_array_get(all, k);
            with += json_integer_value(json_array_get(one, 0)) < there &&
                    json_integer_value(json_array_get(one, 1)) > there;
        }
        json_decref(all);
        assert_int_equal(with, 1);
    }
    close_site(w);
}

static void test_what_is_no_span(void **state)
{
    (void)state;
    static const char *const wrong[] = {
        "/api/nights", "/api/nights?from=5", "/api/nights?from=1000&until=1000",
        "/api/nights?from=1000&until=2764801001", "/api/nights?from=x&until=y"};
    site *w = open_site(false);
    for (size_t i = 0; i < sizeof wrong / sizeof *wrong; i++)
        check(400, get(w, wrong[i], ""));
    close_site(w);
}

static void test_a_visit_is_noted(void **state)
{
    (void)state;
    site *w = open_site(false);
    assert_has(post(w, "/api/visit", OWN, "{}"), "\"since\":0");
    assert_has(post(w, "/api/visit", OWN, "{}"), "\"since\":0");
    check(403, post(w, "/api/visit", "", "{}"));
    close_site(w);
}

static size_t bytes_of(const char *answer)
{
    const char *at = strstr(answer, "Content-Length: ");
    assert_non_null(at);
    return (size_t)strtoul(at + strlen("Content-Length: "), NULL, 10);
}

static void test_a_still_comes_as_large_as_it_is_wanted(void **state)
{
    (void)state;
    site *w = open_site(false);
    const size_t small = bytes_of(get(w, "/api/thumbs/1", ""));
    assert_true(bytes_of(get(w, "/api/thumbs/1?width=320", "")) >= small);
    assert_int_equal(bytes_of(get(w, "/api/thumbs/1?width=1", "")), small);
    check(200, get(w, "/api/thumbs/1?width=99999999999999999999", ""));
    check(200, get(w, "/api/thumbs/1?width=-4", ""));
    assert_int_equal(bytes_of(get(w, "/api/thumbs/1?width=wide", "")), small);
    close_site(w);
}

/* ---- what is learnt from marks -------------------------------------------------------
 */

/* Wait until what was begun is over. */
static json_t *proposal(const site *w)
{
    for (int i = 0; i < 1000; i++) {
        json_t *o = body_of(200, get(w, "/api/proposals", ""));
        if (strcmp(json_string_value(json_object_get(o, "state")), "running") != 0)
            return o;
        json_decref(o);
        (void)usleep(10000);
    }
    fail_msg("it never ended");
    return NULL;
}

static const char *state_of(const json_t *o)
{
    return json_string_value(json_object_get(o, "state"));
}

static void test_what_marks_tell_is_learnt_and_told(void **state)
{
    (void)state;
    site *w = open_site(false);
    json_t *o = proposal(w);
    assert_string_equal(state_of(o), "none");
    assert_true(json_is_true(json_object_get(o, "able")));
    json_decref(o);
    check(404, post(w, "/api/proposals", OWN, "{\"camera\":\"mere\"}"));
    check(404, post(w, "/api/proposals", OWN, "{}"));
    check(200, post(w, "/api/proposals", OWN, "{\"camera\":\"kerb\"}"));
    o = proposal(w);
    assert_string_equal(state_of(o), "done");
    assert_int_equal(json_array_size(json_object_get(o, "marks")), 1);
    assert_int_equal(json_integer_value(json_object_get(o, "found")), 3);
    const json_t *change = json_array_get(json_object_get(o, "changes"), 0);
    assert_string_equal(json_string_value(json_object_get(change, "key")), "travel");
    json_decref(o);
    w->proposes_nothing = 1;
    check(200, post(w, "/api/proposals", OWN, "{\"camera\":\"kerb\"}"));
    o = proposal(w);
    assert_string_equal(state_of(o), "failed");
    assert_string_equal(json_string_value(json_object_get(o, "why")),
                        "no sighting of kerb is marked yet");
    json_decref(o);
    close_site(w);
}

static void test_learning_is_stopped_by_who_waits_and_at_the_end(void **state)
{
    (void)state;
    site *w = open_site(false);
    w->proposes_slowly = 1;
    check(200, post(w, "/api/proposals", OWN, "{\"camera\":\"kerb\"}"));
    assert_has(get(w, "/api/proposals", ""), "\"state\":\"running\"");
    check(429, post(w, "/api/proposals", OWN, "{\"camera\":\"kerb\"}"));
    check(200, post(w, "/api/proposals", OWN, "{\"stop\":true}"));
    json_t *o = proposal(w);
    assert_string_equal(json_string_value(json_object_get(o, "why")), "it was stopped");
    json_decref(o);
    check(200, post(w, "/api/proposals", OWN, "{\"camera\":\"kerb\"}"));
    close_site(w); /* while it runs */
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_without_a_place_no_night_is_known),
        cmocka_unit_test(test_nights_are_where_the_camera_is),
        cmocka_unit_test(test_nights_are_told_at_any_longitude),
        cmocka_unit_test(test_what_is_no_span),
        cmocka_unit_test(test_a_visit_is_noted),
        cmocka_unit_test(test_a_still_comes_as_large_as_it_is_wanted),
        cmocka_unit_test(test_what_marks_tell_is_learnt_and_told),
        cmocka_unit_test(test_learning_is_stopped_by_who_waits_and_at_the_end)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
