/* Who is logged in, and how long who fails must wait: on a clock that is set by hand. */
#include <string.h>

#include "../../src/page/page.h"
#include "../support/support.h"

#define S INT64_C(1000000)
#define HOUR (3600 * S)
#define NOW (1000 * HOUR)

static sessions all;
static const tw_web_module *web;

static int start(void **state)
{
    (void)state;
    memset(&all, 0, sizeof all);
    (void)pthread_mutex_init(&all.lock, NULL);
    web = tw_web_load(NULL);
    assert_non_null(web);
    return 0;
}

static void fail_by(const char *peer, const char *name, int times, int64_t now_us)
{
    for (int i = 0; i < times; i++)
        tw_login_failed(&all, peer, name, now_us);
}

static void test_each_failure_makes_the_next_wait_longer(void **state)
{
    (void)state;
    static const int64_t waits_s[] = {0,  0,  1,   2,   4,   8,   16,
                                      32, 64, 128, 256, 512, 900, 900};
    for (size_t i = 0; i < sizeof waits_s / sizeof *waits_s; i++) {
        char peer[16];
        (void)snprintf(peer, sizeof peer, "10.0.0.%zu", i); /* from many places */
        fail_by(peer, "ann", 1, NOW);
        assert_int_equal(tw_login_wait(&all, "192.0.2.1", "ann", NOW), waits_s[i] * S);
    }
    assert_int_equal(tw_login_wait(&all, "192.0.2.1", "ann", NOW + 899 * S), S);
    assert_int_equal(tw_login_wait(&all, "192.0.2.1", "ann", NOW + 900 * S), 0);
    assert_int_equal(tw_login_wait(&all, "192.0.2.1", "bob", NOW), 0);
    tw_login_worked(&all, "192.0.2.1", "ann");
    fail_by("192.0.2.1", "ann", 2, NOW);
    assert_int_equal(tw_login_wait(&all, "192.0.2.1", "ann", NOW), 0);
}

static void test_who_tries_many_names_waits_too(void **state)
{
    (void)state;
    for (int i = 0; i < 9; i++) {
        char name[16];
        (void)snprintf(name, sizeof name, "name-%d", i);
        fail_by("10.0.0.1", name, 1, NOW);
    }
    assert_int_equal(tw_login_wait(&all, "10.0.0.1", "ann", NOW), 0);
    fail_by("10.0.0.1", "one-more", 1, NOW);
    assert_int_equal(tw_login_wait(&all, "10.0.0.1", "ann", NOW), S);
    assert_int_equal(tw_login_wait(&all, "10.0.0.2", "ann", NOW), 0);
    /* a name that is right does not let its guesser off */
    tw_login_worked(&all, "10.0.0.1", "ann");
    assert_int_equal(tw_login_wait(&all, "10.0.0.1", "bob", NOW), S);
    /* after an hour of quiet it is forgotten */
    fail_by("10.0.0.1", "late", 1, NOW + HOUR + S);
    assert_int_equal(tw_login_wait(&all, "10.0.0.1", "ann", NOW + HOUR + S), 0);
}

/* Thousands of names from thousands of places: memory is bounded, and the newest count.
 */
static void test_many_guessers_fill_no_memory(void **state)
{
    (void)state;
    for (int i = 0; i < 5000; i++) {
        char peer[32], name[32];
        (void)snprintf(peer, sizeof peer, "10.0.%d.%d", i / 256, i % 256);
        (void)snprintf(name, sizeof name, "name-%d", i);
        fail_by(peer, name, 1, NOW + i);
    }
    fail_by("192.0.2.1", "ann", 3, NOW + 5000);
    assert_true(tw_login_wait(&all, "192.0.2.9", "ann", NOW + 5000) > 0);
}

static void test_sessions_end(void **state)
{
    (void)state;
    const account ann = {.name = "ann", .may = TW_MAY_RUN};
    session first, made, found;
    tw_session_begin(&all, web, &ann, NOW, &first);
    assert_true(tw_session_find(&all, web, first.token, NOW + 11 * HOUR, &found));
    assert_string_equal(found.name, "ann");
    assert_string_equal(found.change, first.change);
    assert_string_not_equal(first.change, first.token);
    assert_true(tw_session_find(&all, web, first.token, NOW + 22 * HOUR, &found));
    assert_false(tw_session_find(&all, web, first.token, NOW + 35 * HOUR, &found));
    assert_false(tw_session_find(&all, web, "", NOW, &found));
    assert_false(tw_session_find(&all, web, NULL, NOW, &found));
    tw_session_begin(&all, web, &ann, NOW, &first);
    for (int i = 0; i < SESSIONS_MAX; i++) /* the one that was seen longest ago goes */
        tw_session_begin(&all, web, &ann, NOW + 1 + i, &made);
    assert_false(tw_session_find(&all, web, first.token, NOW + 100, &found));
    assert_true(tw_session_find(&all, web, made.token, NOW + 100, &found));
    tw_session_end(&all, web, made.token);
    assert_false(tw_session_find(&all, web, made.token, NOW + 100, &found));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup(test_each_failure_makes_the_next_wait_longer, start),
        cmocka_unit_test_setup(test_who_tries_many_names_waits_too, start),
        cmocka_unit_test_setup(test_many_guessers_fill_no_memory, start),
        cmocka_unit_test_setup(test_sessions_end, start),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
