/* Who is logged in, and how long who fails must wait: on a clock that is set by hand. */
#include <string.h>
#include <unistd.h>

#include "../../src/page/page_state.h"
#include "../support/support.h"

#define S INT64_C(1000000)
#define HOUR (3600 * S)
#define NOW (1000 * HOUR)

static sessions all;
static const twi_web_module *web;

static int start(void **state)
{
    (void)state;
    memset(&all, 0, sizeof all);
    (void)pthread_mutex_init(&all.lock, NULL);
    (void)pthread_mutex_init(&all.checking, NULL);
    web = twi_web_load(NULL);
    assert_non_null(web);
    return 0;
}

/* A try. @return how long it must wait, microseconds; 0: it was made. */
static int64_t try_by(const char *peer, const char *name, bool right, int64_t now_us)
{
    const int64_t wait_us = twi_login_begin(&all, peer, name, false, now_us);
    if (wait_us == 0)
        twi_login_end(&all, peer, name, right);
    return wait_us;
}

static void test_each_failure_makes_the_next_wait_longer(void **state)
{
    (void)state;
    static const int64_t waits_s[] = {0,  0,  1,   2,   4,   8,   16,
                                      32, 64, 128, 256, 512, 900, 900};
    int64_t now_us = NOW;
    for (size_t i = 0; i < sizeof waits_s / sizeof *waits_s; i++) {
        assert_int_equal(try_by("192.0.2.1", "ann", false, now_us), 0);
        if (waits_s[i] > 0) { /* and nothing goes a moment sooner */
            const int64_t end_us = now_us + waits_s[i] * S;
            assert_int_equal(try_by("192.0.2.1", "ann", true, end_us - 1), 1);
            now_us = end_us;
        }
    }
    /* Whoever sits elsewhere, or asks for somebody else, is not held up. */
    assert_int_equal(try_by("192.0.2.2", "ann", true, NOW), 0);
    assert_true(try_by("192.0.2.1", "ann", true, NOW) > 0);
    assert_int_equal(twi_login_begin(&all, "192.0.2.1", "ann", true, NOW), 0);
    twi_login_end(&all, "192.0.2.1", "ann", true); /* who is let in already */
}

static void test_who_tries_many_names_waits_too(void **state)
{
    (void)state;
    for (int i = 0; i < 9; i++) {
        char name[16];
        (void)snprintf(name, sizeof name, "name-%d", i);
        assert_int_equal(try_by("10.0.0.1", name, false, NOW), 0);
    }
    /* A name that is right does not let its guesser off. */
    assert_int_equal(try_by("10.0.0.1", "ann", true, NOW), 0);
    assert_int_equal(try_by("10.0.0.1", "one-more", false, NOW), 0);
    assert_int_equal(try_by("10.0.0.1", "ann", true, NOW), S);
    assert_int_equal(try_by("10.0.0.2", "ann", true, NOW), 0);
    /* After an hour of quiet it is forgotten. */
    assert_int_equal(try_by("10.0.0.1", "ann", true, NOW + HOUR + S), 0);
}

/* Somebody with IPv6 has all addresses of his network. */
static void test_a_network_is_one_place(void **state)
{
    (void)state;
    char peer[64];
    for (int i = 0; i < 3; i++) {
        (void)snprintf(peer, sizeof peer, "2001:db8:1:2:%x::7", i);
        assert_int_equal(try_by(peer, "ann", false, NOW), 0);
    }
    assert_int_equal(try_by("2001:db8:1:2:9::7", "ann", true, NOW), S);
    assert_int_equal(try_by("2001:db8:1:3:9::7", "ann", true, NOW), 0);
    for (int i = 0; i < 3; i++)
        assert_int_equal(try_by("::ffff:192.0.2.1", "bob", false, NOW), 0);
    assert_int_equal(try_by("::ffff:192.0.2.1", "bob", true, NOW), S);
    assert_int_equal(try_by("::ffff:192.0.2.2", "bob", true, NOW), 0);
}

/* What is being checked counts, and only so many wait for it. */
typedef struct waiting_try {
    pthread_t thread;
    int number;
    int64_t wait_us;
} waiting_try;

static void *begin_and_end(void *ctx)
{
    waiting_try *w = ctx;
    char peer[32];
    (void)snprintf(peer, sizeof peer, "10.0.1.%d", w->number);
    w->wait_us = try_by(peer, "ann", false, NOW);
    return NULL;
}

static unsigned waiting(void)
{
    (void)pthread_mutex_lock(&all.lock);
    const unsigned n = all.waiting;
    (void)pthread_mutex_unlock(&all.lock);
    return n;
}

static void test_few_wait_while_one_is_checked(void **state)
{
    (void)state;
    waiting_try w[LOGINS_MAX];
    assert_int_equal(twi_login_begin(&all, "10.0.0.1", "ann", false, NOW), 0);
    for (int i = 1; i < LOGINS_MAX; i++) {
        w[i] = (waiting_try){.number = i};
        assert_int_equal(pthread_create(&w[i].thread, NULL, begin_and_end, &w[i]), 0);
    }
    while (waiting() < LOGINS_MAX)
        (void)usleep(1000);
    assert_int_equal(twi_login_begin(&all, "10.0.2.1", "bob", false, NOW), S);
    twi_login_end(&all, "10.0.0.1", "ann", false);
    for (int i = 1; i < LOGINS_MAX; i++) {
        assert_int_equal(pthread_join(w[i].thread, NULL), 0);
        assert_int_equal(w[i].wait_us, 0);
    }
    assert_int_equal(try_by("10.0.2.1", "bob", true, NOW), 0);
    /* Two more from one place while the first is being checked: the fourth waits. */
    for (int i = 0; i < 2; i++)
        assert_int_equal(try_by("10.0.0.1", "ann", false, NOW), 0);
    assert_int_equal(try_by("10.0.0.1", "ann", true, NOW), S);
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
        assert_int_equal(try_by(peer, name, false, NOW + i), 0);
    }
    for (int i = 0; i < 3; i++)
        assert_int_equal(try_by("192.0.2.1", "ann", false, NOW + 5000), 0);
    assert_true(try_by("192.0.2.1", "ann", true, NOW + 5000) > 0);
}

static void test_sessions_end(void **state)
{
    (void)state;
    const account ann = {.name = "ann", .may = TWI_MAY_RUN};
    session first, made, found;
    twi_session_begin(&all, web, &ann, NOW, &first);
    assert_true(twi_session_find(&all, web, first.token, NOW + 11 * HOUR, &found));
    assert_string_equal(found.name, "ann");
    assert_string_equal(found.change, first.change);
    assert_string_not_equal(first.change, first.token);
    assert_true(twi_session_find(&all, web, first.token, NOW + 22 * HOUR, &found));
    assert_false(twi_session_find(&all, web, first.token, NOW + 35 * HOUR, &found));
    assert_false(twi_session_find(&all, web, "", NOW, &found));
    assert_false(twi_session_find(&all, web, NULL, NOW, &found));
    twi_session_begin(&all, web, &ann, NOW, &first);
    const account bob = {.name = "bob", .may = TWI_MAY_LOOK};
    session other;
    twi_session_begin(&all, web, &bob, NOW - 1, &other);
    for (int i = 0; i < 1000; i++) /* of one's own, that seen longest ago goes */
        twi_session_begin(&all, web, &ann, NOW + 1 + i, &made);
    assert_true(twi_session_find(&all, web, other.token, NOW + 100, &found));
    assert_false(twi_session_find(&all, web, first.token, NOW + 100, &found));
    assert_true(twi_session_find(&all, web, made.token, NOW + 100, &found));
    twi_session_end(&all, web, made.token);
    assert_false(twi_session_find(&all, web, made.token, NOW + 100, &found));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup(test_each_failure_makes_the_next_wait_longer, start),
        cmocka_unit_test_setup(test_who_tries_many_names_waits_too, start),
        cmocka_unit_test_setup(test_a_network_is_one_place, start),
        cmocka_unit_test_setup(test_few_wait_while_one_is_checked, start),
        cmocka_unit_test_setup(test_many_guessers_fill_no_memory, start),
        cmocka_unit_test_setup(test_sessions_end, start),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
