/* Live pictures by a broker: who is given some, of which camera, for how long, and how
 * many. The pictures themselves: tests/browser/many.test.mjs. */
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"

#include "../../src/deliver/look.h"

static int64_t now;

static int64_t now_us(void *ctx)
{
    (void)ctx;
    return now;
}

static const tw_clock_ops CLOCK = {.now_us = now_us};
#define S INT64_C(1000000)
#define LONG "0123456789012345678901234567890123456789012345678901234567890123"

static twi_looking *anew(void)
{
    now = 1000 * S;
    return twi_looking_new((tw_clock){&CLOCK, NULL});
}

static tw_status ask(twi_looking *l, const char *who, const char *text)
{
    return twi_looking_take(l, who, text, strlen(text));
}

static void test_where_nobody_looks_nothing_is_wanted(void **state)
{
    (void)state;
    twi_looking *l = anew();
    assert_false(twi_looking_wants(l, "kerb"));
    assert_int_equal(ask(l, "hub", "{\"look\":\"kerb\",\"for_s\":5}"), TW_OK);
    assert_false(twi_looking_wants(l, "mere"));
    assert_true(twi_looking_wants(l, "kerb"));
    assert_false(twi_looking_wants(l, "kerb")); /* one a second */
    now += S - 1;
    assert_false(twi_looking_wants(l, "kerb"));
    now += 1;
    assert_true(twi_looking_wants(l, "kerb"));
    now += 4 * S;
    assert_false(twi_looking_wants(l, "kerb")); /* it is over */
    twi_looking_free(l);
    twi_looking_free(NULL);
}

static void test_who_looks_on_asks_again_and_none_asks_for_ever(void **state)
{
    (void)state;
    twi_looking *l = anew();
    assert_int_equal(ask(l, "hub", "{\"look\":\"kerb\",\"for_s\":1e9}"), TW_OK);
    now += (TWI_LOOK_MOST_S - 1) * S;
    assert_true(twi_looking_wants(l, "kerb"));
    assert_int_equal(ask(l, "hub", "{\"look\":\"kerb\",\"for_s\":30}"), TW_OK);
    now += 29 * S;
    assert_true(twi_looking_wants(l, "kerb"));
    now += S;
    assert_false(twi_looking_wants(l, "kerb"));
    assert_int_equal(ask(l, "hub", "{\"look\":\"kerb\",\"for_s\":1e9}"), TW_OK);
    now += TWI_LOOK_MOST_S * S;
    assert_false(twi_looking_wants(l, "kerb"));
    twi_looking_free(l);
}

static void test_so_many_are_looked_at_and_no_more(void **state)
{
    (void)state;
    char text[64];
    twi_looking *l = anew();
    for (int i = 0; i < TWI_LOOKS_MAX; i++) {
        (void)snprintf(text, sizeof text, "{\"look\":\"c%d\",\"for_s\":%d}", i, i + 5);
        assert_int_equal(ask(l, "hub", text), TW_OK);
    }
    assert_int_equal(ask(l, "hub", "{\"look\":\"kerb\",\"for_s\":5}"), TW_ESIZE);
    assert_int_equal(ask(l, "hub", "{\"look\":\"c3\",\"for_s\":5}"), TW_OK);
    now += 5 * S; /* the first is over */
    assert_int_equal(ask(l, "hub", "{\"look\":\"kerb\",\"for_s\":5}"), TW_OK);
    assert_true(twi_looking_wants(l, "kerb"));
    assert_false(twi_looking_wants(l, "c0"));
    twi_looking_free(l);
}

static void test_what_is_no_such_question_is_told_from_what_is_wrong(void **state)
{
    (void)state;
    static const char *const others[] = {"", "{}", "[]", "look",
                                         "{\"series\":\"9f\",\"numbers\":[[1,2]]}"};
    static const char *const wrong[] = {"{\"look\":7,\"for_s\":5}",
                                        "{\"look\":\"\",\"for_s\":5}",
                                        "{\"look\":\"kerb\"}",
                                        "{\"look\":\"kerb\",\"for_s\":0}",
                                        "{\"look\":\"kerb\",\"for_s\":-5}",
                                        "{\"look\":\"kerb\",\"for_s\":\"5\"}",
                                        "{\"look\":\"" LONG "\",\"for_s\":5}"};
    char large[2048];
    twi_looking *l = anew();
    for (size_t i = 0; i < sizeof others / sizeof *others; i++) {
        assert_int_equal(ask(l, "hub", others[i]), TW_ENOTSUP);
        assert_false(twi_looking_is(others[i], strlen(others[i])));
    }
    for (size_t i = 0; i < sizeof wrong / sizeof *wrong; i++) {
        if (ask(l, "hub", wrong[i]) != TW_ESYNTAX)
            fail_msg("%s", wrong[i]);
        assert_true(twi_looking_is(wrong[i], strlen(wrong[i])));
    }
    (void)snprintf(large, sizeof large, "{\"look\":\"kerb\",\"for_s\":5%1500s}", "");
    assert_int_equal(ask(l, "hub", large), TW_ENOTSUP);
    assert_false(twi_looking_wants(l, "kerb"));
    twi_looking_free(l);
}

static void test_an_event_without_a_picture_gives_none(void **state)
{
    (void)state;
    char camera[TWI_LOOK_NAME];
    uint8_t *jpeg = NULL;
    size_t bytes = 0;
    twi_looking *l = anew();
    const tw_event reading = {.kind = TW_EVENT_READING, .camera = "kerb"},
                   began = {.kind = TW_EVENT_BEGAN, .camera = "kerb"};
    assert_int_equal(ask(l, "hub", "{\"look\":\"kerb\",\"for_s\":5}"), TW_OK);
    twi_looking_event(l, &reading);
    twi_looking_event(l, &began);
    assert_false(twi_looking_next(l, "hub", camera, &jpeg, &bytes));
    twi_looking_free(l);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_where_nobody_looks_nothing_is_wanted),
        cmocka_unit_test(test_who_looks_on_asks_again_and_none_asks_for_ever),
        cmocka_unit_test(test_so_many_are_looked_at_and_no_more),
        cmocka_unit_test(test_what_is_no_such_question_is_told_from_what_is_wrong),
        cmocka_unit_test(test_an_event_without_a_picture_gives_none),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
