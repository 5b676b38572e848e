/* What is said of a sighting from afar: its station keeps it, or says why not. */
#include <stdlib.h>
#include <string.h>

#include "../../src/deliver/retell.h"
#include "../../src/deliver/said.h"
#include "../support/stored.h"

#define SERIES "9f0c2a7be1d44c08"

static tw_status say(stored *s, const char *rest, tw_error *err)
{
    char text[2048];
    twi_said said = {0};
    (void)snprintf(text, sizeof text, "{\"do\":\"say\",\"series\":\"%s\",%s}", SERIES,
                   rest);
    const tw_status st = twi_said_take(s->catalogue, SERIES, text, strlen(text),
                                       1804972800000000, &said, err);
    assert_int_equal(said.number, st == TW_OK ? 1 : 0);
    return st;
}

/* What the catalogue has of it. */
typedef struct kept {
    bool starred;
    tw_mark mark;
    uint32_t count;
    char name[64], note[64];
} kept;

static bool take(void *ctx, const tw_sighting_record *r)
{
    kept *k = ctx;
    *k = (kept){.starred = r->starred, .mark = r->mark, .count = r->count};
    (void)snprintf(k->name, sizeof k->name, "%s", r->name ? r->name : "");
    (void)snprintf(k->note, sizeof k->note, "%s", r->note ? r->note : "");
    return false;
}

static kept kept_of(stored *s)
{
    kept k = {0};
    const tw_sighting_filter first = {.id = 1};
    assert_int_equal(tw_catalogue_sightings(s->catalogue, &first, take, &k, NULL), TW_OK);
    return k;
}

static void test_it_is_kept(void **state)
{
    (void)state;
    stored *s = make_stored();
    assert_int_equal(sight(s, 100), 1);
    assert_int_equal(say(s, "\"number\":1,\"star\":true", NULL), TW_OK);
    assert_int_equal(say(s, "\"number\":1,\"mark\":\"right\"", NULL), TW_OK);
    assert_int_equal(say(s,
                         "\"number\":1,\"name\":\"Bufo bufo\",\"count\":2,\"note\":\"by "
                         "the drain\"",
                         NULL),
                     TW_OK);
    kept k = kept_of(s);
    assert_true(k.starred);
    assert_int_equal(k.mark, TW_MARK_RIGHT);
    assert_int_equal(k.count, 2);
    assert_string_equal(k.name, "Bufo bufo");
    assert_string_equal(k.note, "by the drain");
    assert_int_equal(say(s, "\"number\":1,\"star\":false", NULL), TW_OK);
    assert_int_equal(say(s, "\"number\":1,\"mark\":\"none\"", NULL), TW_OK);
    k = kept_of(s);
    assert_false(k.starred);
    assert_int_equal(k.mark, TW_MARK_NONE);
    assert_string_equal(k.name, "Bufo bufo");
    leave_stored(s);
}

static void test_what_is_none_changes_nothing(void **state)
{
    (void)state;
    static const char *const wrong[] = {"\"number\":1",
                                        "\"number\":1,\"star\":1",
                                        "\"number\":1,\"mark\":\"lovely\"",
                                        "\"number\":1,\"name\":7",
                                        "\"number\":1,\"name\":\"x\",\"count\":-1",
                                        "\"number\":1,\"name\":\"x\",\"count\":1.5",
                                        "\"number\":1,\"name\":\"x\",\"note\":[]",
                                        "\"number\":0,\"star\":true",
                                        "\"number\":4294967296,\"star\":true",
                                        "\"number\":\"1\",\"star\":true"};
    stored *s = make_stored();
    twi_said said = {0};
    assert_int_equal(sight(s, 100), 1);
    for (size_t i = 0; i < sizeof wrong / sizeof *wrong; i++)
        if (say(s, wrong[i], NULL) != TW_ESYNTAX)
            fail_msg("%s", wrong[i]);
    assert_int_equal(say(s, "\"number\":9,\"star\":true", NULL), TW_ENOENT);
    static const char OTHER[] =
        "{\"do\":\"say\",\"series\":\"another\",\"number\":1,\"star\":true}";
    static const char *const orders[] = {"{\"do\":\"arm\"}", "{}",  "[]",
                                         "\"say\"",          "say", ""};
    assert_int_equal(
        twi_said_take(s->catalogue, SERIES, OTHER, strlen(OTHER), 0, &said, NULL),
        TW_ENOENT);
    for (size_t i = 0; i < sizeof orders / sizeof *orders; i++)
        assert_int_equal(twi_said_take(s->catalogue, SERIES, orders[i], strlen(orders[i]),
                                       0, &said, NULL),
                         TW_ENOTSUP);
    const kept k = kept_of(s);
    assert_false(k.starred);
    assert_int_equal(k.mark, TW_MARK_NONE);
    assert_string_equal(k.name, "");
    leave_stored(s);
}

static void test_its_record_is_told_once_more(void **state)
{
    (void)state;
    uint32_t number = 0;
    twi_retelling r = {.count = 0};
    twi_retell_add(&r, 7);
    twi_retell_add(&r, 7); /* it waits already */
    for (uint32_t n = 20; n < 20 + 2 * TWI_RETELL_RANGES; n += 2)
        twi_retell_add(&r, n); /* as far as there is room */
    assert_int_equal(r.count, TWI_RETELL_RANGES);
    assert_true(twi_retell_next(&r, &number));
    assert_int_equal(number, 7);
    assert_true(twi_retell_next(&r, &number));
    assert_int_equal(number, 20);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_it_is_kept),
        cmocka_unit_test(test_what_is_none_changes_nothing),
        cmocka_unit_test(test_its_record_is_told_once_more),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
