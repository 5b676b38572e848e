/* Words that wait for their stations: told until they are answered, settings one after
 * another, the same on each engine; and what becomes of them on their way. */
#include "../support/engine.h"
#include "../../src/gather/signed.h"
#include "../../src/gather/words.h"

#include <jansson.h>
#include <stdlib.h>
#include <string.h>

#define S INT64_C(1000000)
#define WALL (INT64_C(1804969800) * S)
#define AGAIN (30 * S)

/* ---- what stations tell ------------------------------------------------------------ */

static void put(twi_ledger *l, twi_heard h, const char *station, const char *text,
                int64_t now_us)
{
    (void)snprintf(h.station, sizeof h.station, "%s", station);
    h.text = strdup(text);
    engine_put(l, &h, 1, now_us);
}

/* @param settings  What stands for those that it has; "": they cannot be changed. */
static void put_state(twi_ledger *l, const char *station, const char *state,
                      const char *settings, int64_t now_us)
{
    twi_heard h = {.kind = TWI_HEARD_STATION, .number = -1, .time_us = now_us};
    (void)snprintf(h.state, sizeof h.state, "%s", state);
    (void)snprintf(h.name, sizeof h.name, "%s", settings);
    put(l, h, station, "{}", now_us);
}

static void put_settings(twi_ledger *l, const char *station, const char *digest,
                         const char *text)
{
    twi_heard h = {.kind = TWI_HEARD_SETTINGS, .number = -1};
    (void)snprintf(h.name, sizeof h.name, "%s", digest);
    put(l, h, station, text, WALL);
}

static void put_answer(twi_ledger *l, const char *station, int64_t id, bool taken,
                       const char *text)
{
    twi_heard h = {.kind = TWI_HEARD_ANSWER, .number = id};
    (void)snprintf(h.state, sizeof h.state, "%s", taken ? "taken" : "refused");
    put(l, h, station, text, WALL + 5 * S);
}

/* ---- what is kept ------------------------------------------------------------------ */

static void take_number(void *ctx, const char *const *row)
{
    *(int64_t *)ctx = strtoll(row[0], NULL, 10);
}

static int64_t keep_for(twi_ledger *l, const char *stations, const char *what,
                        const char *text)
{
    int64_t kept = 0;
    tw_error err = {0};
    if (twi_words_keep(engine_kind(), l, stations, what, "ann", text, WALL, &kept,
                       &err) != TW_OK)
        fail_msg("%s", err.text);
    return kept;
}

/* @return its id. */
static int64_t keep(twi_ledger *l, const char *station, const char *what,
                    const char *text)
{
    char list[64];
    int64_t id = 0;
    (void)snprintf(list, sizeof list, "[\"%s\"]", station);
    assert_int_equal(keep_for(l, list, what, text), 1);
    assert_int_equal(engine_kind()->ask(l, "SELECT max(id) FROM word", NULL, 0,
                                        take_number, &id, NULL),
                     TW_OK);
    return id;
}

static int by_letters(const void *a, const void *b)
{
    return strcmp(*(const char *const *)a, *(const char *const *)b);
}

/* "hollin:settings hollin:say": what is due at a time; static. */
static const char *due_at(twi_ledger *l, bool settings, int64_t now_us)
{
    static char words[1024];
    twi_due due[TWI_WORDS_DUE];
    size_t found = 0;
    tw_error err = {0};
    words[0] = '\0';
    if (twi_words_due(engine_kind(), l, settings, now_us, AGAIN, due, &found, &err) !=
        TW_OK)
        fail_msg("%s", err.text);
    static char each[TWI_WORDS_DUE][192];
    const char *sorted[TWI_WORDS_DUE];
    for (size_t i = 0; i < found; i++) {
        (void)snprintf(each[i], sizeof each[i], "%s:%s:%.60s", due[i].station,
                       due[i].what, due[i].text);
        sorted[i] = each[i];
    }
    qsort(sorted, found, sizeof *sorted, by_letters);
    for (size_t i = 0; i < found && i < 5; i++) {
        const size_t n = strlen(words);
        (void)snprintf(words + n, sizeof words - n, "%s%s", n > 0 ? " " : "", sorted[i]);
    }
    twi_due_clear(due, found);
    return words;
}

static void word_kept(void *ctx, const twi_kept_word *w)
{
    const size_t n = strlen(ctx);
    (void)snprintf((char *)ctx + n, 1024 - n, "%s%s:%s:%s:%s:%s%s", n > 0 ? " " : "",
                   w->station, w->who, w->text, w->state, w->answer,
                   w->answered_us > 0 ? "!" : "");
}

static const char *list(twi_ledger *l, const char *stations)
{
    static char words[1024];
    words[0] = '\0';
    assert_int_equal(twi_words_list(engine_kind(), l, stations, TWI_WORD_SETTINGS, 10,
                                    word_kept, words, NULL),
                     TW_OK);
    return words;
}

static void add_name(void *ctx, const char *station)
{
    const size_t n = strlen(ctx);
    (void)snprintf((char *)ctx + n, 256 - n, "%s ", station);
}

static const char *unknown_at(twi_ledger *l, int64_t now_us)
{
    static char words[256];
    words[0] = '\0';
    assert_int_equal(
        twi_words_unknown(engine_kind(), l, now_us, 20 * S, add_name, words, NULL),
        TW_OK);
    return words;
}

static void add_settings(void *ctx, const char *station, const char *text)
{
    const size_t n = strlen(ctx);
    (void)snprintf((char *)ctx + n, 256 - n, "%s=%s ", station, text);
}

static void add_waiting(void *ctx, const char *station, int64_t waiting)
{
    const size_t n = strlen(ctx);
    (void)snprintf((char *)ctx + n, 256 - n, "%s=%d ", station, (int)waiting);
}

/* ---- tests ------------------------------------------------------------------------- */

static void test_they_are_told_until_they_are_answered(void **state)
{
    (void)state;
    twi_ledger *l = engine_anew();
    put_state(l, "hollin", "up", "", WALL);
    const int64_t id = keep(l, "hollin", TWI_WORD_SETTINGS, "[1]");
    assert_true(id >= WALL);
    assert_string_equal(due_at(l, true, WALL + S), "hollin:settings:[1]");
    assert_string_equal(due_at(l, true, WALL + 2 * S), "");  /* it was told */
    assert_string_equal(due_at(l, true, WALL + 90 * S), ""); /* nothing came since */
    put_state(l, "hollin", "up", "", WALL + 60 * S);
    assert_string_equal(due_at(l, true, WALL + 90 * S), "hollin:settings:[1]");
    put_answer(l, "mere", id, true, "{}"); /* it is not its to answer */
    put_answer(l, "hollin", id + 1, true, "{}");
    put_state(l, "hollin", "up", "", WALL + 120 * S);
    assert_string_equal(due_at(l, true, WALL + 150 * S), "hollin:settings:[1]");
    put_answer(l, "hollin", id, false, "{\"text\":\"no\"}");
    put_answer(l, "hollin", id, true, "{\"text\":\"yes\"}"); /* the first counts */
    put_state(l, "hollin", "up", "", WALL + 200 * S);
    assert_string_equal(due_at(l, true, WALL + 300 * S), "");
    assert_string_equal(list(l, NULL), "hollin:ann:[1]:refused:{\"text\":\"no\"}!");
    engine_kind()->close(l);
}

static void test_a_station_that_is_away_gets_them_when_it_is_back(void **state)
{
    (void)state;
    twi_ledger *l = engine_anew();
    put_state(l, "hollin", "dead", "", WALL);
    put_state(l, "mere", "down", "", WALL);
    (void)keep(l, "hollin", TWI_WORD_SAY, "{}");
    (void)keep(l, "mere", TWI_WORD_SETTINGS, "[]");
    assert_string_equal(due_at(l, true, WALL + S), "");
    put_state(l, "hollin", "up", "", WALL + 2 * S);
    assert_string_equal(due_at(l, true, WALL + 3 * S), "hollin:say:{}");
    put_state(l, "mere", "up", "", WALL + 4 * S);
    assert_string_equal(due_at(l, false, WALL + 5 * S), ""); /* there is no key */
    assert_string_equal(due_at(l, true, WALL + 5 * S), "mere:settings:[]");
    engine_kind()->close(l);
}

/* The second may build on the first; what is said of sightings does not wait for it. */
static void test_settings_go_one_after_another(void **state)
{
    (void)state;
    char waiting[256] = "";
    twi_ledger *l = engine_anew();
    put_state(l, "hollin", "up", "", WALL);
    put_state(l, "mere", "up", "", WALL);
    const int64_t first = keep(l, "hollin", TWI_WORD_SETTINGS, "[1]"),
                  second = keep(l, "hollin", TWI_WORD_SETTINGS, "[2]");
    assert_true(second > first); /* at the same time */
    (void)keep(l, "mere", TWI_WORD_SETTINGS, "[3]");
    (void)keep(l, "hollin", TWI_WORD_SAY, "{}");
    assert_string_equal(due_at(l, true, WALL + S),
                        "hollin:say:{} hollin:settings:[1] mere:settings:[3]");
    assert_string_equal(due_at(l, true, WALL + 2 * S), "");
    assert_int_equal(twi_words_waiting(engine_kind(), l, add_waiting, waiting, NULL),
                     TW_OK);
    assert_non_null(strstr(waiting, "hollin=3 "));
    assert_non_null(strstr(waiting, "mere=1 "));
    put_answer(l, "hollin", first, true, "{}");
    assert_string_equal(due_at(l, true, WALL + 3 * S), "hollin:settings:[2]");
    assert_string_equal(list(l, "[\"mere\"]"), "mere:ann:[3]:waits:");
    assert_string_equal(list(l, "[]"), "");
    engine_kind()->close(l);
}

static void test_what_cannot_be_kept_is_left_out(void **state)
{
    (void)state;
    int64_t kept = 0;
    tw_error err = {0};
    twi_ledger *l = engine_anew();
    char *large = calloc(1, TWI_WORD_MOST_BYTES + 2);
    memset(large, 'x', TWI_WORD_MOST_BYTES + 1);
    put_state(l, "hollin", "up", "", WALL);
    put_state(l, "mere", "up", "", WALL);
    assert_int_equal(keep_for(l, "[\"else\"]", TWI_WORD_SAY, "{}"), 0);
    assert_int_equal(keep_for(l, "[]", TWI_WORD_SAY, "{}"), 0);
    assert_int_equal(keep_for(l, "[\"hollin\",\"else\",\"mere\"]", TWI_WORD_SAY, "{}"),
                     2);
    assert_int_equal(twi_words_keep(engine_kind(), l, "[\"hollin\"]", TWI_WORD_SAY, "",
                                    large, WALL, &kept, &err),
                     TW_ESIZE);
    for (int i = 0; i < 999; i++)
        (void)keep(l, "hollin", TWI_WORD_SAY, "{}");
    assert_int_equal(keep_for(l, "[\"hollin\",\"mere\"]", TWI_WORD_SAY, "{}"), 1);
    free(large);
    engine_kind()->close(l);
}

/* All at once for many, and told in rounds. */
static void test_one_for_each_of_many(void **state)
{
    (void)state;
    enum { MANY = 600 };
    twi_ledger *l = engine_anew();
    char list[MANY * 9 + 8] = "[", name[16];
    for (int i = 0; i < MANY; i++) {
        (void)snprintf(name, sizeof name, "s%03d", i);
        put_state(l, name, "up", "", WALL);
        (void)snprintf(list + strlen(list), sizeof list - strlen(list), "%s\"%s\"",
                       i > 0 ? "," : "", name);
    }
    (void)strcat(list, "]");
    assert_int_equal(keep_for(l, list, TWI_WORD_ORDER, "{}"), MANY);
    assert_int_equal(keep_for(l, list, TWI_WORD_ORDER, "{2}"), MANY);
    size_t all = 0, found = 0;
    for (int i = 0; i < 4; i++) {
        twi_due due[TWI_WORDS_DUE];
        assert_int_equal(
            twi_words_due(engine_kind(), l, false, WALL + S, AGAIN, due, &found, NULL),
            TW_OK);
        for (size_t k = 0; k < found; k++)
            assert_string_equal(due[k].text, "{}"); /* the first before the second */
        twi_due_clear(due, found);
        all += found;
    }
    assert_int_equal(all, MANY);
    assert_int_equal(found, 0);
    engine_kind()->close(l);
}

static void test_what_is_long_answered_is_forgotten(void **state)
{
    (void)state;
    const int64_t day = 86400 * S;
    twi_ledger *l = engine_anew();
    put_state(l, "hollin", "up", "", WALL);
    const int64_t first = keep(l, "hollin", TWI_WORD_SETTINGS, "[1]");
    (void)keep(l, "hollin", TWI_WORD_SETTINGS, "[2]");
    put_answer(l, "hollin", first, true, "{}");
    assert_int_equal(twi_words_forget(engine_kind(), l, WALL + 89 * day, NULL), TW_OK);
    assert_string_equal(list(l, NULL), "hollin:ann:[2]:waits: hollin:ann:[1]:taken:{}!");
    assert_int_equal(twi_words_forget(engine_kind(), l, WALL + 91 * day, NULL), TW_OK);
    assert_string_equal(list(l, NULL), "hollin:ann:[2]:waits:");
    assert_int_equal(twi_words_forget(engine_kind(), l, WALL + 366 * day, NULL), TW_OK);
    assert_string_equal(list(l, NULL), "");
    engine_kind()->close(l);
}

static void test_settings_that_are_not_known_are_asked_for(void **state)
{
    (void)state;
    char told[256] = "";
    twi_ledger *l = engine_anew();
    put_state(l, "hollin", "up", "aa", WALL);
    put_state(l, "mere", "up", "", WALL); /* they cannot be changed: nobody asks */
    put_state(l, "north", "dead", "cc", WALL);
    assert_string_equal(unknown_at(l, WALL + S), "hollin ");
    assert_string_equal(unknown_at(l, WALL + 2 * S), "");
    assert_string_equal(unknown_at(l, WALL + 30 * S), "hollin ");
    put_settings(l, "hollin", "aa", "one");
    put_settings(l, "mere", "bb", "kept for itself");
    assert_string_equal(unknown_at(l, WALL + 90 * S), "");
    assert_int_equal(twi_words_settings(engine_kind(), l,
                                        "[\"hollin\", \"mere\", \"north\"]", add_settings,
                                        told, NULL),
                     TW_OK);
    assert_string_equal(told, "hollin=one ");
    put_state(l, "hollin", "up", "bb", WALL + 100 * S); /* they are others now */
    assert_string_equal(unknown_at(l, WALL + 200 * S), "hollin ");
    put_state(l, "hollin", "dead", "", WALL + 300 * S); /* which are known all the same */
    told[0] = '\0';
    assert_int_equal(
        twi_words_settings(engine_kind(), l, "[\"hollin\"]", add_settings, told, NULL),
        TW_OK);
    assert_string_equal(told, "hollin=one ");
    put_state(l, "hollin", "up", "", WALL + 400 * S); /* they are shown to nobody now */
    told[0] = '\0';
    assert_int_equal(
        twi_words_settings(engine_kind(), l, "[\"hollin\"]", add_settings, told, NULL),
        TW_OK);
    assert_string_equal(told, "");
    engine_kind()->close(l);
}

/* ---- on their way ------------------------------------------------------------------ */

static void test_settings_are_signed_for_one_station(void **state)
{
    (void)state;
    char secret[TWI_KEY_TEXT], other[TWI_KEY_TEXT], key[TWI_KEY_TEXT];
    const twi_broker_module *b = twi_broker_load(NULL);
    assert_non_null(b);
    assert_true(b->make_key(secret) && b->make_key(other) && b->open_key(secret, key));
    assert_string_not_equal(secret, other);
    twi_due due = {.id = 7, .station = "hollin", .what = TWI_WORD_SETTINGS};
    due.text = strdup("[{\"head\":\"station\"}]");
    char *order = twi_signed_order(b, secret, &due);
    json_t *o = json_loads(order, 0, NULL);
    const char *draft = json_string_value(json_object_get(o, "draft")),
               *signature = json_string_value(json_object_get(o, "signature"));
    assert_string_equal(json_string_value(json_object_get(o, "do")), "settings");
    assert_string_equal(
        draft, "{\"id\":7,\"station\":\"hollin\",\"changes\":[{\"head\":\"station\"}]}");
    assert_true(b->verify(key, draft, signature));
    assert_false(b->verify(key, "{}", signature));
    assert_true(b->open_key(other, key));
    assert_false(b->verify(key, draft, signature));
    assert_false(b->verify("", draft, signature));
    assert_false(b->verify("no key", draft, signature));
    assert_false(b->verify(key, draft, ""));
    assert_null(twi_signed_order(b, "", &due));
    assert_null(twi_signed_order(b, "no key", &due));
    json_decref(o);
    free(order);
    free(due.text);
    due.text = strdup("{\"do\":\"say\"}");
    assert_null(twi_signed_order(b, secret, &due)); /* it is no list of changes */
    (void)snprintf(due.what, sizeof due.what, "%s", TWI_WORD_SAY);
    order = twi_signed_order(b, "", &due);
    assert_string_equal(order, "{\"do\":\"say\",\"id\":7}");
    free(order);
    free(due.text);
}

/* RFC 8032, section 7.1: the first and the second test. */
static void test_the_signatures_are_the_standards(void **state)
{
    (void)state;
    char key[TWI_KEY_TEXT], made[TWI_SIGNATURE_TEXT];
    const twi_broker_module *b = twi_broker_load(NULL);
    assert_true(b->open_key("nWGxne/9WmC6hEr0kuwsxERJxWl7MmkZcDusAxyuf2A=", key));
    assert_string_equal(key, "11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo=");
    assert_true(b->sign("nWGxne/9WmC6hEr0kuwsxERJxWl7MmkZcDusAxyuf2A=", "", made));
    assert_string_equal(made, "5VZDAMNgrHKQhuLMgG6CioSHfx645dl02HPgZSJJAVVfuIIVkKM7rMYeOX"
                              "Ac+bRr0lv18FlbviRlUUFDjnoQCw==");
    assert_true(b->open_key("TM0Imyj/ltqdtsNG7BFOD1uKMZ81q6Yk2oz27U+4pvs=", key));
    assert_string_equal(key, "PUAXw+hDiVqStwqnTRt+vJyYLM8uxJaMwM1V8Sr0Zgw=");
    assert_true(b->sign("TM0Imyj/ltqdtsNG7BFOD1uKMZ81q6Yk2oz27U+4pvs=", "r", made));
    assert_string_equal(made,
                        "kqAJqfDUyrhyDoILX2QlQKKye1QWUD+Ps3YiI+vbadoIWsHkPhWZbkWPNhP"
                        "Q8R2MOHsurrQwKu6wDSkWErsMAA==");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_they_are_told_until_they_are_answered),
        cmocka_unit_test(test_a_station_that_is_away_gets_them_when_it_is_back),
        cmocka_unit_test(test_settings_go_one_after_another),
        cmocka_unit_test(test_what_cannot_be_kept_is_left_out),
        cmocka_unit_test(test_one_for_each_of_many),
        cmocka_unit_test(test_what_is_long_answered_is_forgotten),
        cmocka_unit_test(test_settings_that_are_not_known_are_asked_for),
    };
    const struct CMUnitTest alone[] = {
        cmocka_unit_test(test_settings_are_signed_for_one_station),
        cmocka_unit_test(test_the_signatures_are_the_standards),
    };
    return on_each_engine(tests, sizeof tests / sizeof *tests) +
           cmocka_run_group_tests(alone, NULL, NULL);
}
