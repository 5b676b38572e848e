/* Where cameras stood, on each engine: a place is kept once, from when it was told. */
#include "../support/engine.h"
#include "../../src/core/civil.h"
#include "../../src/gather/stands.h"

#include <stdlib.h>
#include <string.h>

#define S INT64_C(1000000)
#define WALL (INT64_C(1804969800) * S) /* 2027-03-13 20:30 UTC */

/* A camera's state as a station tells it. @param place  NULL: it says none. */
static twi_heard told(const char *camera, int64_t at_s, const char *place)
{
    twi_heard h;
    char topic[64], text[256], time[TWI_UTC_MAX];
    (void)snprintf(topic, sizeof topic, "lane/hollin/%s/state", camera);
    (void)snprintf(text, sizeof text, "{\"state\":\"armed\",\"time\":\"%s\"%s%s}",
                   twi_utc(WALL + at_s * S, time), place ? "," : "", place ? place : "");
    assert_int_equal(twi_heard_read("lane", topic, text, strlen(text), &h), TW_OK);
    return h;
}

#define NORTH "\"latitude\":52.1,\"longitude\":-1.25"
#define SOUTH "\"latitude\":-52.0000006,\"longitude\":-1.25"

static void list(void *ctx, const twi_stand *s)
{
    char *words = ctx;
    const size_t used = strlen(words);
    (void)snprintf(words + used, 512 - used, "%s/%s %lld %lld,%lld; ", s->station,
                   s->camera, (long long)((s->since_us - WALL) / S),
                   (long long)s->latitude, (long long)s->longitude);
}

static void expect(twi_ledger *l, const char *words)
{
    char all[512] = "";
    tw_error err = {0};
    if (twi_stands(engine_kind(), l, list, all, &err) != TW_OK)
        fail_msg("%s", err.text);
    assert_string_equal(all, words);
}

static void put_one(twi_ledger *l, twi_heard h)
{
    engine_put(l, &h, 1, WALL);
}

static void test_a_place_is_kept_once(void **state)
{
    (void)state;
    twi_ledger *l = engine_anew();
    expect(l, "");
    put_one(l, told("kerb", 10, NORTH));
    put_one(l, told("kerb", 20, NORTH));
    put_one(l, told("reeds", 20, SOUTH));
    put_one(l, told("shed", 20, NULL));
    put_one(l, told("kerb", 15, NORTH)); /* told late */
    put_one(l, told("kerb", 10, NORTH)); /* told again */
    expect(l, "hollin/kerb 10 52100000,-1250000; "
              "hollin/reeds 20 -52000001,-1250000; ");
    engine_kind()->close(l);
}

static void test_one_that_is_moved_has_another(void **state)
{
    (void)state;
    twi_ledger *l = engine_anew();
    put_one(l, told("kerb", 10, NORTH));
    put_one(l, told("kerb", 50, SOUTH));
    put_one(l, told("kerb", 60, SOUTH));
    put_one(l, told("kerb", 90, NORTH)); /* and back */
    put_one(l, told("kerb", 95, NULL));
    put_one(l, told("kerb", 99, NORTH));
    expect(l, "hollin/kerb 10 52100000,-1250000; hollin/kerb 50 -52000001,-1250000; "
              "hollin/kerb 90 52100000,-1250000; ");
    engine_kind()->close(l);
}

static void test_all_of_it_in_one_batch(void **state)
{
    (void)state;
    twi_ledger *l = engine_anew();
    put_one(l, told("kerb", 5, NORTH));
    twi_heard all[] = {told("kerb", 50, SOUTH), told("reeds", 55, NORTH),
                       told("kerb", 60, SOUTH), told("kerb", 10, NORTH),
                       told("kerb", 90, NORTH), told("kerb", 70, NULL)};
    engine_put(l, all, sizeof all / sizeof *all, WALL);
    expect(l, "hollin/kerb 5 52100000,-1250000; hollin/kerb 50 -52000001,-1250000; "
              "hollin/kerb 90 52100000,-1250000; hollin/reeds 55 52100000,-1250000; ");
    engine_kind()->close(l);
}

/* A board's word is no place on Earth, or has no time. */
static void test_what_is_no_place(void **state)
{
    (void)state;
    static const char *const NONE[] = {
        "\"latitude\":90.1,\"longitude\":0", "\"latitude\":0,\"longitude\":-180.1",
        "\"latitude\":\"52\",\"longitude\":0", "\"latitude\":52.1",
        "\"longitude\":1e300,\"latitude\":1e300"};
    twi_ledger *l = engine_anew();
    for (size_t i = 0; i < sizeof NONE / sizeof *NONE; i++)
        put_one(l, told("kerb", (int64_t)i, NONE[i]));
    twi_heard timeless = told("kerb", 9, NORTH);
    timeless.time_us = 0;
    put_one(l, timeless);
    expect(l, "");
    engine_kind()->close(l);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_place_is_kept_once),
        cmocka_unit_test(test_one_that_is_moved_has_another),
        cmocka_unit_test(test_all_of_it_in_one_batch),
        cmocka_unit_test(test_what_is_no_place),
    };
    return on_each_engine(tests, sizeof tests / sizeof *tests);
}
