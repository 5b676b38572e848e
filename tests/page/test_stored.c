/* Sightings over the page: removed and undone, sent again, small pictures; and what waits
 * to be sent. */
#include <jansson.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../support/servers.h"
#include "../support/site.h"

#define OWN "X-Tawny-Change: local\r\n"
#define SECOND INT64_C(1000000)

static size_t sightings_of(const site *w)
{
    json_t *o = body_of(200, get(w, "/api/sightings", ""));
    const size_t count = json_array_size(json_object_get(o, "sightings"));
    json_decref(o);
    return count;
}

static size_t files_of(const site *w)
{
    char **files = list_files(w->s->store);
    const size_t count = list_length(files);
    free_list(files);
    return count;
}

static void test_a_strip_needs_little(void **state)
{
    (void)state;
    site *w = open_site(false);
    const int64_t running = begin_sighting(w->s);
    check(200, post(w, "/api/sightings/1", OWN, "{\"star\":true}"));
    json_t *o = body_of(200, get(w, "/api/sightings?brief=1", ""));
    json_t *list = json_object_get(o, "sightings"), *one = json_array_get(list, 0),
           *two = json_array_get(list, 1);
    assert_int_equal(json_array_size(list), 2);
    assert_int_equal(json_integer_value(json_array_get(one, 0)), 1);
    assert_string_equal(json_string_value(json_array_get(one, 1)), "kerb");
    assert_true(json_integer_value(json_array_get(one, 3)) >=
                json_integer_value(json_array_get(one, 2)));
    assert_true(json_is_true(json_array_get(one, 4)));
    assert_int_equal(json_integer_value(json_array_get(two, 0)), running);
    assert_int_equal(json_integer_value(json_array_get(two, 3)), 0); /* going on */
    json_decref(o);
    check(200, post(w, "/api/sightings/1", OWN, "{\"remove\":true}"));
    o = body_of(200, get(w, "/api/sightings?brief=1", ""));
    assert_int_equal(json_array_size(json_object_get(o, "sightings")), 1);
    json_decref(o);
    close_site(w);
}

static void test_a_removal_is_undone(void **state)
{
    (void)state;
    site *w = open_site(false);
    const size_t files = files_of(w);
    check(200, post(w, "/api/sightings/1", OWN, "{\"remove\":true}"));
    assert_int_equal(sightings_of(w), 0);
    check(404, get(w, "/api/sightings/1", ""));
    check(404, post(w, "/api/sightings/1", OWN, "{\"remove\":true}"));
    check(200, post(w, "/api/sightings/1", OWN, "{\"remove\":false}"));
    assert_int_equal(sightings_of(w), 1);
    check(404, post(w, "/api/sightings/1", OWN, "{\"remove\":false}"));
    atomic_store(&w->ahead_us, 60 * SECOND);
    (void)sleep(2); /* nothing is due any more */
    assert_int_equal(sightings_of(w), 1);
    assert_int_equal(files_of(w), files);
    close_site(w);
}

static void test_a_removal_is_carried_out_after_ten_seconds(void **state)
{
    (void)state;
    site *w = open_site(false);
    const size_t files = files_of(w);
    check(200, post(w, "/api/sightings/1", OWN, "{\"remove\":true}"));
    atomic_store(&w->ahead_us, 8 * SECOND);
    assert_int_equal(files_of(w), files);
    atomic_store(&w->ahead_us, 12 * SECOND);
    WAIT_FOR(files_of(w) == files - 2);
    check(404, post(w, "/api/sightings/1", OWN, "{\"remove\":false}"));
    assert_int_equal(sightings_of(w), 0);
    close_site(w);
}

static void test_the_end_carries_removals_out(void **state)
{
    (void)state;
    site *w = open_site(false);
    const int64_t second = sight(w->s, 1000);
    const size_t files = files_of(w);
    char path[64];
    (void)snprintf(path, sizeof path, "/api/sightings/%lld", (long long)second);
    check(200, post(w, path, OWN, "{\"remove\":true}"));
    twi_page_free(w->page);
    w->page = NULL;
    assert_int_equal(files_of(w), files - 2);
    close_site(w);
}

static void test_more_removals_than_fit(void **state)
{
    (void)state;
    enum { TURNS = 10, OF_ONE = 100 };
    site *w = open_site(false);
    const tw_clock clock = tw_linux_clock();
    const int64_t began_us = clock.ops->now_us(clock.ctx);
    assert_int_equal(twi_outbox_relax(w->s->catalogue, NULL), TW_OK); /* quicker */
    for (int turn = 0; turn <= TURNS; turn++) {
        char text[2048] = "{\"remove\":true,\"numbers\":[";
        for (int i = 0; i < OF_ONE; i++) {
            const int64_t id = begin_sighting(w->s);
            end_sighting(w->s, id);
            const size_t n = strlen(text);
            (void)snprintf(text + n, sizeof text - n, "%lld%s", (long long)id,
                           i + 1 < OF_ONE ? "," : "]}");
        }
        /* no removal comes to be due */
        atomic_store(&w->ahead_us, began_us - clock.ops->now_us(clock.ctx));
        assert_has(post(w, "/api/sightings", OWN, text),
                   turn < TURNS ? "\"changed\":100,\"failed\":[]" : "\"changed\":0,");
    }
    check(409, post(w, "/api/sightings/1050", OWN, "{\"remove\":true}"));
    close_site(w);
}

static void test_it_is_sent_again(void **state)
{
    (void)state;
    site *w = open_site(false);
    check(404, post(w, "/api/sightings/1", OWN, "{\"send\":\"nobody\"}"));
    check(404, post(w, "/api/sightings/99", OWN, "{\"send\":\"shed\"}"));
    check(200, post(w, "/api/sightings/1", OWN, "{\"send\":\"shed\"}"));
    assert_int_equal(filled(w->s, "shed").waiting, 2);
    json_t *o = body_of(200, get(w, "/api/outbox", ""));
    assert_int_equal(json_array_size(json_object_get(o, "items")), 2);
    json_t *d = json_array_get(json_object_get(o, "destinations"), 0);
    assert_int_equal(json_integer_value(json_object_get(d, "waiting")), 2);
    const json_int_t id = json_integer_value(
        json_object_get(json_array_get(json_object_get(o, "items"), 0), "id"));
    json_decref(o);
    char body[64];
    (void)snprintf(body, sizeof body, "{\"drop\":%lld}", (long long)id);
    check(200, post(w, "/api/outbox", OWN, body));
    check(404, post(w, "/api/outbox", OWN, body));
    assert_int_equal(filled(w->s, "shed").waiting, 1);
    /* One that was stopped is told in the head of every view, until it is tried again. */
    o = body_of(200, get(w, "/api/status", ""));
    assert_int_equal(json_array_size(json_object_get(o, "stopped")), 0);
    json_decref(o);
    assert_int_equal(
        twi_outbox_stop(w->s->catalogue, "shed", 1, "x", "no such folder", NULL), TW_OK);
    assert_int_equal(twi_outbox_stop(w->s->catalogue, "gone", 1, "x", "long ago", NULL),
                     TW_OK); /* the settings do not name it any more */
    o = body_of(200, get(w, "/api/status", ""));
    assert_int_equal(json_array_size(json_object_get(o, "stopped")), 1);
    d = json_array_get(json_object_get(o, "stopped"), 0);
    assert_string_equal(json_string_value(json_object_get(d, "destination")), "shed");
    assert_string_equal(json_string_value(json_object_get(d, "why")), "no such folder");
    json_decref(o);
    check(200, post(w, "/api/outbox", OWN, "{\"retry\":\"shed\"}"));
    o = body_of(200, get(w, "/api/status", ""));
    assert_int_equal(json_array_size(json_object_get(o, "stopped")), 0);
    json_decref(o);
    check(400, post(w, "/api/outbox", OWN, "{}"));
    check(400, post(w, "/api/sightings/1", OWN, "{}"));
    close_site(w);
}

static void test_a_destination_is_tried(void **state)
{
    (void)state;
    site *w = open_site(false);
    json_t *o = body_of(200, post(w, "/api/trial", OWN, "{\"destination\":\"shed\"}"));
    assert_true(json_is_false(json_object_get(o, "good"))); /* the folder is missing */
    assert_true(json_string_length(json_object_get(o, "text")) > 10);
    json_decref(o);
    char *shed = join(w->s->folder, "shed");
    outcome made = run_program(NULL, "mkdir", shed, NULL);
    assert_int_equal(made.code, 0);
    free_outcome(&made);
    o = body_of(200, post(w, "/api/trial", OWN, "{\"destination\":\"shed\"}"));
    assert_true(json_is_true(json_object_get(o, "good")));
    json_decref(o);
    char *file = join(shed, "tawny-test.txt"), *text = read_file(file, NULL);
    assert_has(text, "A test of tawny station hollin");
    free(text);
    free(file);
    free(shed);
    check(404, post(w, "/api/trial", OWN, "{\"destination\":\"nobody\"}"));
    check(400, post(w, "/api/trial", OWN, "{}"));
    close_site(w);
}

static void test_small_pictures_forecasts_and_what_happened(void **state)
{
    (void)state;
    site *w = open_site(false);
    const char *answer = get(w, "/api/thumbs/1", "");
    check(200, answer);
    assert_has(answer, "Content-Type: image/jpeg");
    check(404, get(w, "/api/thumbs/99", ""));
    check(404, get(w, "/api/thumbs/1x", ""));
    json_t *o = body_of(200, get(w, "/api/plan", ""));
    json_t *camera = json_array_get(json_object_get(o, "cameras"), 0);
    assert_string_equal(json_string_value(json_object_get(camera, "camera")), "kerb");
    assert_true(json_number_value(json_object_get(o, "bytes_a_day")) > 50000);
    json_decref(o);
    const tw_log_entry told = {
        .at_us = 1804969800 * SECOND, .what = "problem", .text = "the lens is dirty"};
    assert_int_equal(twi_catalogue_happened(w->s->catalogue, &told, NULL), TW_OK);
    assert_has(get(w, "/api/log", ""), "the lens is dirty");
    close_site(w);
}

/* ---- what was missed --------------------------------------------------------------- */

static size_t missed_of(const site *w, const char *query)
{
    char path[128];
    (void)snprintf(path, sizeof path, "/api/missed%s", query);
    json_t *o = body_of(200, get(w, path, ""));
    const size_t count = json_array_size(json_object_get(o, "missed"));
    json_decref(o);
    return count;
}

static const char *say_missed(const site *w, const char *camera, int64_t at_ms)
{
    char body[128];
    (void)snprintf(body, sizeof body, "{\"camera\":\"%s\",\"at\":%lld}", camera,
                   (long long)at_ms);
    return post(w, "/api/missed", OWN, body);
}

static void test_what_was_missed_is_said_and_taken_back(void **state)
{
    (void)state;
    const int64_t now_ms = tw_linux_clock().ops->wall_us(NULL) / 1000;
    char query[96];
    site *w = open_site(false);
    assert_int_equal(missed_of(w, ""), 0);
    assert_has(say_missed(w, "kerb", now_ms - 7200000), "\"number\":1");
    assert_has(say_missed(w, "kerb", now_ms - 1000), "\"number\":2");
    assert_int_equal(missed_of(w, ""), 2);
    assert_int_equal(missed_of(w, "?camera=kerb"), 2);
    assert_int_equal(missed_of(w, "?camera=mere"), 0);
    (void)snprintf(query, sizeof query, "?from=%lld", (long long)(now_ms - 3600000));
    assert_int_equal(missed_of(w, query), 1);
    (void)snprintf(query, sizeof query, "?until=%lld", (long long)(now_ms - 3600000));
    assert_int_equal(missed_of(w, query), 1);
    check(200, post(w, "/api/missed", OWN, "{\"take_back\":1}"));
    assert_int_equal(missed_of(w, ""), 1);
    check(404, post(w, "/api/missed", OWN, "{\"take_back\":1}"));
    close_site(w);
}

static void test_what_cannot_have_been_missed(void **state)
{
    (void)state;
    const int64_t now_ms = tw_linux_clock().ops->wall_us(NULL) / 1000;
    site *w = open_site(false);
    check(404, say_missed(w, "mere", now_ms - 1000));
    assert_has(say_missed(w, "kerb", now_ms + 3600000), "is past");
    check(400, say_missed(w, "kerb", now_ms + 3600000));
    check(200, say_missed(w, "kerb", now_ms + 20000)); /* a browser's clock */
    check(400, say_missed(w, "kerb", 0));
    check(400, say_missed(w, "kerb", -5));
    check(400, post(w, "/api/missed", OWN, "{\"camera\":\"kerb\"}"));
    check(400, post(w, "/api/missed", OWN, "{\"camera\":\"kerb\",\"at\":\"now\"}"));
    check(400, post(w, "/api/missed", OWN, "{\"take_back\":\"1\"}"));
    check(400, post(w, "/api/missed", OWN, "[]"));
    check(400, post(w, "/api/missed", OWN, "not JSON"));
    assert_int_equal(missed_of(w, ""), 1);
    close_site(w);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_strip_needs_little),
        cmocka_unit_test(test_a_removal_is_undone),
        cmocka_unit_test(test_a_removal_is_carried_out_after_ten_seconds),
        cmocka_unit_test(test_the_end_carries_removals_out),
        cmocka_unit_test(test_more_removals_than_fit),
        cmocka_unit_test(test_it_is_sent_again),
        cmocka_unit_test(test_a_destination_is_tried),
        cmocka_unit_test(test_small_pictures_forecasts_and_what_happened),
        cmocka_unit_test(test_what_was_missed_is_said_and_taken_back),
        cmocka_unit_test(test_what_cannot_have_been_missed)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
