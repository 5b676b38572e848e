/* The settings, over the page. */
#include <jansson.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "../support/site.h"
#include "tawny/settings.h"

#define OWN "X-Tawny-Change: local\r\n"

/* Change something: a list of changes, and whether it is written. */
static const char *change(const site *w, bool write, const char *changes)
{
    char body[4096];
    (void)snprintf(body, sizeof body, "{\"changes\":[%s],\"write\":%s}", changes,
                   write ? "true" : "false");
    return post(w, "/api/settings", OWN, body);
}

static json_t *row_of(json_t *rows, const char *key)
{
    json_t *row = NULL;
    size_t i = 0;
    json_array_foreach(rows, i, row)
    {
        if (strcmp(json_string_value(json_object_get(row, "key")), key) == 0)
            return row;
    }
    fail_msg("no row %s", key);
    return NULL;
}

static const char *text_in(const json_t *o, const char *key)
{
    return json_string_value(json_object_get(o, key));
}

static void test_sections_and_their_rows(void **state)
{
    (void)state;
    site *w = open_site(false);
    json_t *o = body_of(200, get(w, "/api/settings", ""));
    assert_int_equal(json_array_size(json_object_get(o, "sections")), 3);
    assert_string_equal(text_in(o, "file"), "station.ini");
    json_decref(o);
    o = body_of(200, get(w, "/api/settings?head=camera&name=kerb", ""));
    json_t *row = row_of(json_object_get(o, "rows"), "start_at");
    assert_string_equal(text_in(row, "value"), "0.5 %");
    assert_string_equal(text_in(row, "origin"), "station.ini:10");
    assert_string_equal(text_in(row_of(json_object_get(o, "rows"), "loop"), "choices"),
                        "yes no");
    json_decref(o);
    o = body_of(200, get(w, "/api/settings?head=destination&name=shed", ""));
    assert_has(text_in(row_of(json_object_get(o, "rows"), "url"), "value"), "file://");
    json_decref(o);
    check(200, get(w, "/api/settings?head=station", ""));
    check(404, get(w, "/api/settings?head=camera&name=none", ""));
    check(404, get(w, "/api/settings?head=hook&name=x", ""));
    close_site(w);
}

static void test_lines_are_shown_before_they_are_written(void **state)
{
    (void)state;
    static const char set[] =
        "{\"head\":\"camera\",\"name\":\"kerb\",\"key\":\"start_at\","
        "\"value\":\"2 %\"}";
    site *w = open_site(false);
    char *before = read_file(w->file, NULL);
    json_t *o = body_of(200, change(w, false, set));
    json_t *line = json_array_get(json_object_get(o, "lines"), 0);
    assert_int_equal(json_array_size(json_object_get(o, "lines")), 1);
    assert_string_equal(text_in(line, "before"), "start_at = 0.5 %   # after the storm");
    assert_string_equal(text_in(line, "after"), "start_at = 2 %   # after the storm");
    assert_int_equal(json_integer_value(json_object_get(line, "line")), 10);
    json_decref(o);
    char *now = read_file(w->file, NULL);
    assert_string_equal(now, before);
    assert_int_equal(atomic_load(&w->reloads), 0);
    free(now);
    check(200, change(w, true, set));
    assert_int_equal(atomic_load(&w->reloads), 1);
    now = read_file(w->file, NULL);
    assert_has(now, "\nstart_at = 2 %   # after the storm\n");
    assert_has(now, "# Hollin Lane\n[station]");
    free(now);
    char *path = join(w->s->folder, "station.ini.old"), *old = read_file(path, NULL);
    assert_string_equal(old, before);
    free(old);
    free(path);
    free(before);
    close_site(w);
}

static void test_zones_are_made_renamed_and_taken_out(void **state)
{
    (void)state;
    site *w = open_site(false);
    check(200, change(w, true,
                      "{\"head\":\"zone\",\"name\":\"kerb/reeds\",\"key\":\"area\","
                      "\"value\":\"0,0 30,0 20,40\"},{\"head\":\"zone\",\"name\":"
                      "\"kerb/reeds\",\"key\":\"kind\",\"value\":\"watched\"}"));
    check(200, change(w, true,
                      "{\"head\":\"zone\",\"name\":\"kerb/reeds\",\"key\":null,"
                      "\"value\":\"kerb/rushes\"}"));
    char *now = read_file(w->file, NULL);
    assert_has(now, "[zone kerb/rushes]\narea = 0,0 30,0 20,40\nkind = watched\n");
    free(now);
    tw_settings *again = tw_settings_new();
    assert_int_equal(tw_settings_read(again, w->file, NULL, NULL), TW_OK);
    assert_int_equal(twi_page_reload(w->page, again), TW_OK);
    tw_settings_free(again);
    json_t *o = body_of(200, get(w, "/api/zones/kerb", ""));
    json_t *zone = json_array_get(json_object_get(o, "zones"), 0);
    assert_string_equal(text_in(zone, "name"), "rushes");
    assert_string_equal(text_in(zone, "kind"), "watched");
    assert_int_equal(json_array_size(json_object_get(zone, "points")), 3);
    json_decref(o);
    check(200, change(w, true,
                      "{\"head\":\"zone\",\"name\":\"kerb/rushes\",\"key\":null,"
                      "\"value\":null}"));
    now = read_file(w->file, NULL);
    assert_null(strstr(now, "[zone"));
    free(now);
    check(404, get(w, "/api/zones/none", ""));
    close_site(w);
}

/* Nothing that is wrong, or no business of a page, reaches the file. */
static void test_what_never_reaches_the_file(void **state)
{
    (void)state;
    static const struct {
        int code;
        const char *change, *said;
    } bad[] = {
        {400,
         "{\"head\":\"camera\",\"name\":\"kerb\",\"key\":\"start_at\",\"value\":"
         "\"high\"}",
         "station.ini:10: start_at = high"},
        {400,
         "{\"head\":\"camera\",\"name\":\"kerb\",\"key\":\"stay_at\",\"value\":\"9 %\"}",
         "stay_at is over start_at"},
        {400,
         "{\"head\":\"camera\",\"name\":\"kerb\",\"key\":\"strat_at\",\"value\":\"1 %\"}",
         "strat_at"},
        {400, "{\"head\":\"camera\",\"name\":\"kerb\",\"key\":\"source\",\"value\":\"\"}",
         "source"},
        {400,
         "{\"head\":\"camera\",\"name\":\"kerb\",\"key\":\"caption\",\"value\":\"a\\n[hook "
         "x]\\nrun = /bin/sh\"}",
         "does not fit on a line"},
        {400,
         "{\"head\":\"camera\",\"name\":\"kerb\",\"key\":\"include\",\"value\":\"/etc/"
         "*\"}",
         "cannot be changed here"},
        {400,
         "{\"head\":\"camera\",\"name\":\"kerb\",\"key\":\"source\",\"value\":\"rtsp://"
         "a:***@h/"
         "\"}",
         "stands for a password"},
        {403,
         "{\"head\":\"hook\",\"name\":\"x\",\"key\":\"run\",\"value\":\"/bin/"
         "true\"},{\"head\":"
         "\"hook\",\"name\":\"x\",\"key\":\"on\",\"value\":\"began\"}",
         "changed in the file itself"},
        {403,
         "{\"head\":\"station\",\"name\":\"\",\"key\":\"accounts_file\",\"value\":\"/tmp/"
         "x\"}",
         "changed in the file itself"},
        /* A blank behind the key, which the reader of the file takes off. */
        {400,
         "{\"head\":\"camera\",\"name\":\"kerb\",\"key\":\"include \",\"value\":"
         "\"station.ini.old\"}",
         "does not fit"},
        {403,
         "{\"head\":\"destination\",\"name\":\"shed\",\"key\":\"secret_file\","
         "\"value\":\"/etc/shadow\"}",
         "secret_file of [destination shed] is changed in the file itself"},
        {403,
         "{\"head\":\"camera\",\"name\":\"kerb\",\"key\":\"mask\",\"value\":"
         "\"/etc/shadow\"}",
         "below the folder that footage in [station] names"},
        {403, "{\"head\":\"station\",\"name\":\"\",\"key\":\"store\",\"value\":\"/\"}",
         "store of [station]"},
        {400, "{\"head\":\"camera\",\"key\":\"fps\",\"value\":\"4\"}", "a change is"},
        {400, "{\"head\":\"camera\",\"name\":\"kerb\",\"key\":7,\"value\":\"4\"}", ""},
        {400, "{\"head\":\"camera\",\"name\":\"kerb\",\"value\":null}", "a change is"},
        {400, "{\"head\":\"camera\",\"name\":\"kerb\",\"key\":\"fps\"}", "a change is"},
        {400, "7", "a change is"},
    };
    site *w = open_site(false);
    char *before = read_file(w->file, NULL);
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++) {
        const char *answer = change(w, true, bad[i].change);
        if (code_of(answer) != bad[i].code)
            fail_msg("%s: not %d: %s", bad[i].change, bad[i].code, answer);
        assert_has(answer, bad[i].said);
    }
    check(400, post(w, "/api/settings", OWN, "{}"));
    check(400, post(w, "/api/settings", OWN, "nothing"));
    check(400,
          post(w, "/api/settings/file", OWN, "{\"text\":\"[camera kerb]\\nfps = x\"}"));
    check(400,
          post(w, "/api/settings/file", OWN, "{\"text\":\"include = /etc/passwd\"}"));
    check(403, post(w, "/api/settings/file", OWN,
                    "{\"write\":true,\"text\":\"[camera kerb]\\nsource = "
                    "sim:kerb\\n[hook x]\\nrun = /bin/true\\non = began\\n\"}"));
    char *now = read_file(w->file, NULL);
    assert_string_equal(now, before);
    assert_int_equal(atomic_load(&w->reloads), 0);
    free(now);
    free(before);
    close_site(w);
}

static void test_all_of_it_is_downloaded_and_restored(void **state)
{
    (void)state;
    site *w = open_site(false);
    const char *answer = get(w, "/api/settings/file", "");
    check(200, answer);
    assert_has(answer, "attachment; filename=\"station.ini\"");
    char *before = read_file(w->file, NULL);
    assert_has(answer, before);
    json_t *body = json_pack("{ss sb}", "text", before, "write", true);
    check(200, change(w, true,
                      "{\"head\":\"camera\",\"name\":\"kerb\",\"key\":\"fps\",\"value\":"
                      "\"4\"}"));
    char *text = json_dumps(body, 0);
    json_t *o = body_of(200, post(w, "/api/settings/file", OWN, text));
    assert_int_equal(json_array_size(json_object_get(o, "lines")), 1);
    char *now = read_file(w->file, NULL);
    assert_string_equal(now, before);
    assert_int_equal(atomic_load(&w->reloads), 2);
    json_decref(o);
    json_decref(body);
    free(text);
    free(now);
    free(before);
    close_site(w);
}

static void test_who_may_only_look_sees_no_settings(void **state)
{
    (void)state;
    char cookie[256], token[256], both[512];
    site *w = open_site(true);
    log_in(w, "bob", "tadpoles", cookie, token);
    (void)snprintf(both, sizeof both, "%s%s", cookie, token);
    static const char *const paths[] = {"/api/settings", "/api/settings?head=station",
                                        "/api/settings/file"};
    for (size_t i = 0; i < 3; i++)
        check(403, get(w, paths[i], cookie));
    static const char *const changes[] = {"/api/settings", "/api/settings/file",
                                          "/api/try",      "/api/outbox",
                                          "/api/trial",    "/api/order"};
    for (size_t i = 0; i < sizeof changes / sizeof *changes; i++)
        check(403, post(w, changes[i], both, "{\"changes\":[]}"));
    check(200, get(w, "/api/zones/kerb", cookie));
    close_site(w);
}

static void test_a_file_that_cannot_be_written(void **state)
{
    (void)state;
    site *w = open_site(false);
    assert_int_equal(unlink(w->file), 0);
    assert_has(change(w, true, ""), "500");
    assert_has(get(w, "/api/settings/file", ""), "500");
    close_site(w);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_sections_and_their_rows),
        cmocka_unit_test(test_lines_are_shown_before_they_are_written),
        cmocka_unit_test(test_zones_are_made_renamed_and_taken_out),
        cmocka_unit_test(test_what_never_reaches_the_file),
        cmocka_unit_test(test_all_of_it_is_downloaded_and_restored),
        cmocka_unit_test(test_who_may_only_look_sees_no_settings),
        cmocka_unit_test(test_a_file_that_cannot_be_written)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
