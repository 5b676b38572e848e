/* Settings from afar: they change a station's file only if whoever has its key sends
 * them, to it, once, and nothing that is changed in the file alone. */
#include <jansson.h>
#include <pthread.h>
#include <stdlib.h>
#include <string.h>

#include "../../src/deliver/afar.h"
#include "../../src/settings/sections.h"
#include "../support/stored.h"

#define CHANGE(head, name, key, value)                                                   \
    "{\"head\":\"" head "\",\"name\":\"" name "\",\"key\":\"" key "\",\"value\":" value  \
    "}"
#define REST(value) CHANGE("cameras", "", "rest", value)

static const char FILE_TEXT[] =
    "[station]\nname = north   # ours\nstore = captures\n"
    "[cameras]\nrest = 2 s\n[camera kerb]\nsource = sim:kerb\n"
    "[destination broker]\nurl = mqtt://127.0.0.1/lane\nuser = north\nsecret_file = "
    "/etc/x\n"
    "headers = Authorization: Bearer deadbeef\n[hook horn]\non = began\nrun = horn\n";

/* A station's file, and who may change it. */
typedef struct board {
    stored *at;
    char *file;
    char secret[TWI_KEY_TEXT], key[TWI_KEY_TEXT];
    pthread_mutex_t writing;
    twi_afar afar;
    twi_afar_way way;
    int applied;
    char rest[64]; /* of what was applied */
} board;

static void see_rest(void *ctx, const tw_setting *s)
{
    board *b = ctx;
    if (strcmp(s->key, "rest") == 0)
        (void)snprintf(b->rest, sizeof b->rest, "%s", s->value);
}

static void apply(void *ctx, tw_settings *made)
{
    board *b = ctx;
    b->applied++;
    (void)tw_settings_walk(made, "kerb", see_rest, b);
    tw_settings_free(made);
}

static board *anew(void)
{
    board *b = calloc(1, sizeof *b);
    b->at = make_stored();
    b->file = join(b->at->folder, "station.ini");
    write_text(b->file, FILE_TEXT);
    (void)pthread_mutex_init(&b->writing, NULL);
    b->afar = (twi_afar){b->file, &b->writing, apply, b};
    const twi_broker_module *brokers = twi_broker_load(NULL);
    assert_non_null(brokers);
    assert_true(brokers->make_key(b->secret) && brokers->open_key(b->secret, b->key));
    b->way = (twi_afar_way){brokers, b->key, "north", b->at->catalogue};
    return b;
}

static void end(board *b)
{
    (void)pthread_mutex_destroy(&b->writing);
    leave_stored(b->at);
    free(b->file);
    free(b);
}

/* An order with a draft, signed; to be freed. */
static char *order(board *b, int64_t id, const char *station, const char *changes)
{
    char draft[2048], signature[TWI_SIGNATURE_TEXT];
    (void)snprintf(draft, sizeof draft,
                   "{\"id\":%lld,\"station\":\"%s\",\"changes\":[%s]}", (long long)id,
                   station, changes);
    assert_true(b->way.brokers->sign(b->secret, draft, signature));
    json_t *o =
        json_pack("{ss ss ss}", "do", "settings", "draft", draft, "signature", signature);
    char *text = json_dumps(o, JSON_COMPACT);
    json_decref(o);
    return text;
}

static twi_draft_word take(board *b, const char *text)
{
    twi_draft_word word;
    tw_error err = {0};
    const tw_status st =
        twi_afar_take(&b->afar, &b->way, text, strlen(text), &word, &err);
    if (st != TW_OK)
        fail_msg("%d %s", st, err.text);
    return word;
}

static twi_draft_word send(board *b, int64_t id, const char *station, const char *changes)
{
    char *text = order(b, id, station, changes);
    const twi_draft_word word = take(b, text);
    free(text);
    return word;
}

static void check_refused(const twi_draft_word *word, const char *why)
{
    if (word->taken || strstr(word->text, why) == NULL)
        fail_msg("taken %d: %s", word->taken, word->text);
}

static bool is_in_file(const board *b, const char *part)
{
    char *text = read_file(b->file, NULL);
    const bool is = strstr(text, part) != NULL;
    free(text);
    return is;
}

/* ---- tests ------------------------------------------------------------------------- */

static void test_who_has_the_key_changes_settings(void **state)
{
    (void)state;
    board *b = anew();
    const twi_draft_word word = send(b, 7, "north", REST("\"9 s\""));
    assert_true(word.taken);
    assert_int_equal(word.id, 7);
    assert_string_equal(word.text, "changed in 1 line");
    assert_int_equal(b->applied, 1);
    assert_string_equal(b->rest, "9 s");
    assert_true(is_in_file(b, "rest = 9 s"));
    assert_true(is_in_file(b, "name = north   # ours"));
    const twi_draft_word later =
        send(b, 8, "north", CHANGE("station", "", "listen", "\"127.0.0.1:0\""));
    assert_true(later.taken);
    assert_string_equal(later.text,
                        "changed in 1 line; some of it holds from the next start on");
    end(b);
}

static void test_nobody_else_does(void **state)
{
    (void)state;
    board *b = anew(), *other = anew();
    twi_draft_word word = send(b, 7, "south", REST("\"9 s\""));
    check_refused(&word, "another station");
    char *text = order(other, 8, "north", REST("\"9 s\""));
    word = take(b, text);
    check_refused(&word, "another key");
    assert_int_equal(word.id, 8);
    free(text);
    text = order(b, 9, "north", REST("\"9 s\""));
    char *nine = strstr(text, "9 s");
    *nine = '8'; /* on its way */
    word = take(b, text);
    check_refused(&word, "another key");
    free(text);
    b->way.key = "";
    word = send(b, 10, "north", REST("\"9 s\""));
    check_refused(&word, "takes settings of nobody");
    b->way.key = b->key;
    b->afar.file = NULL;
    word = send(b, 11, "north", REST("\"9 s\""));
    check_refused(&word, "without a settings file");
    assert_int_equal(b->applied, 0);
    assert_true(is_in_file(b, "rest = 2 s"));
    end(b);
    end(other);
}

/* Whoever listens at the broker may send it once more. */
static void test_each_is_taken_once_and_in_order(void **state)
{
    (void)state;
    board *b = anew();
    char *first = order(b, 7, "north", REST("\"9 s\"")),
         *second = order(b, 8, "north", REST("\"4 s\""));
    assert_true(take(b, first).taken);
    assert_true(take(b, second).taken);
    twi_draft_word word = take(b, second); /* its answer was lost */
    assert_true(word.taken);
    assert_string_equal(word.text, "changed in 1 line");
    word = take(b, first);
    check_refused(&word, "older than what the station had last");
    assert_int_equal(b->applied, 2);
    assert_true(is_in_file(b, "rest = 4 s"));
    word = send(b, 9, "north", REST("\"soon\""));
    check_refused(&word, "rest = soon");
    word = send(b, 9, "north", REST("\"5 s\"")); /* the same, it says */
    check_refused(&word, "rest = soon");
    free(first);
    free(second);
    end(b);
}

static void test_what_is_the_files_alone_stays(void **state)
{
    (void)state;
    static const char *const wrong[] = {
        CHANGE("hook", "horn", "run", "\"rm -r /\""),
        CHANGE("hook", "horn", "run", "null"),
        CHANGE("destination", "broker", "settings_from", "\"mine\""),
        CHANGE("destination", "broker", "url", "\"mqtt://192.0.2.1/lane\""),
        CHANGE("destination", "mine", "url", "\"file:/etc/cron.d\""),
        CHANGE("station", "", "store", "\"/tmp\""),
        CHANGE("station", "", "include", "\"/etc/x\""),
        CHANGE("camera", "kerb", "source", "\"file:/etc/shadow\""),
        "{\"head\":\"camera\",\"name\":\"kerb\"}",
        "7"};
    board *b = anew();
    for (size_t i = 0; i < sizeof wrong / sizeof *wrong; i++) {
        char changes[512];
        (void)snprintf(changes, sizeof changes, REST("\"9 s\"") ",%s", wrong[i]);
        const twi_draft_word word = send(b, 7 + (int64_t)i, "north", changes);
        if (word.taken || !word.text[0])
            fail_msg("%s: %s", wrong[i], word.text);
    }
    char *text = read_file(b->file, NULL);
    assert_string_equal(text, FILE_TEXT);
    assert_int_equal(b->applied, 0);
    free(text);
    end(b);
}

/* Whoever holds the file may wait for the thread that takes settings. */
static void test_a_file_that_is_held_is_not_waited_for(void **state)
{
    (void)state;
    board *b = anew();
    twi_draft_word word;
    tw_error err = {0};
    char *text = order(b, 7, "north", REST("\"9 s\""));
    (void)pthread_mutex_lock(&b->writing);
    assert_int_equal(twi_afar_take(&b->afar, &b->way, text, strlen(text), &word, &err),
                     TW_EAGAIN);
    (void)pthread_mutex_unlock(&b->writing);
    assert_has(err.text, "being changed by somebody else");
    assert_int_equal(b->applied, 0);
    assert_true(take(b, text).taken); /* it comes again */
    free(text);
    end(b);
}

static void test_what_is_no_order_of_this_kind(void **state)
{
    (void)state;
    static const char *const others[] = {"{\"do\":\"arm\"}", "{}",       "[]",
                                         "\"settings\"",     "settings", ""};
    static const char *const broken[] = {
        "{\"do\":\"settings\"}", "{\"do\":\"settings\",\"draft\":7}",
        "{\"do\":\"settings\",\"draft\":\"{}\"}",
        "{\"do\":\"settings\",\"draft\":\"{\\\"id\\\":-1}\"}"};
    board *b = anew();
    twi_draft_word word;
    for (size_t i = 0; i < sizeof others / sizeof *others; i++)
        assert_int_equal(
            twi_afar_take(&b->afar, &b->way, others[i], strlen(others[i]), &word, NULL),
            TW_ENOTSUP);
    for (size_t i = 0; i < sizeof broken / sizeof *broken; i++)
        assert_int_equal(
            twi_afar_take(&b->afar, &b->way, broken[i], strlen(broken[i]), &word, NULL),
            TW_ESYNTAX);
    static const char UNSIGNED[] = "{\"do\":\"settings\",\"draft\":\"{\\\"id\\\":7,"
                                   "\\\"station\\\":\\\"north\\\"}\"}";
    word = take(b, UNSIGNED);
    check_refused(&word, "another key");
    end(b);
}

static void test_what_others_may_see(void **state)
{
    (void)state;
    board *b = anew();
    tw_settings *s = tw_settings_new();
    (void)tw_settings_read(s, b->file, NULL, NULL);
    char *text = twi_afar_text(s);
    assert_string_equal(text, "[station]\nname = north\n[cameras]\nrest = 2 s\n[camera "
                              "kerb]\nsource = sim:kerb\n[destination broker]\nurl = "
                              "mqtt://127.0.0.1/lane\nuser = north\nheaders = ***\n");
    free(text);
    tw_settings_free(s);
    end(b);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_who_has_the_key_changes_settings),
        cmocka_unit_test(test_nobody_else_does),
        cmocka_unit_test(test_each_is_taken_once_and_in_order),
        cmocka_unit_test(test_what_is_the_files_alone_stays),
        cmocka_unit_test(test_a_file_that_is_held_is_not_waited_for),
        cmocka_unit_test(test_what_is_no_order_of_this_kind),
        cmocka_unit_test(test_what_others_may_see),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
