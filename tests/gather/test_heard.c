/* What stations tell, read: also by those who lie. */
#include "../support/support.h"
#include "../../src/gather/heard.h"
#include "../../src/gather/ledger.h"

#include <stdlib.h>
#include <string.h>

static tw_status hear(const char *topic, const char *text, twi_heard *out)
{
    return twi_heard_read("lane", topic, text, strlen(text), out);
}

#define RECORD                                                                           \
    "{\"type\":\"sighting\",\"number\":4,\"camera\":\"kerb\",\"part\":1,"                \
    "\"start\":\"2027-03-13T21:04:07.250Z\",\"end\":\"2027-03-13T21:04:19.250Z\","       \
    "\"seconds\":12.0,\"peak\":1.3,\"mark\":\"right\",\"name\":\"Bufo "                  \
    "bufo\",\"count\":2,"                                                                \
    "\"station\":\"hollin\",\"series\":\"9f0c2a7be1d44c08\",\"phase\":\"end\"}"

static void test_a_record(void **state)
{
    (void)state;
    twi_heard h;
    assert_int_equal(hear("lane/hollin/kerb/sighting", RECORD, &h), TW_OK);
    assert_int_equal(h.kind, TWI_HEARD_SIGHTING);
    assert_string_equal(h.station, "hollin");
    assert_string_equal(h.camera, "kerb");
    assert_string_equal(h.series, "9f0c2a7be1d44c08");
    assert_string_equal(h.name, "Bufo bufo");
    assert_string_equal(h.mark, "right");
    assert_int_equal(h.number, 4);
    assert_int_equal(h.count, 2);
    assert_int_equal(h.phase, TWI_PHASE_OVER);
    assert_int_equal(h.peak_ppm, 13000);
    assert_true(h.start_us == INT64_C(1804971847250000));
    assert_true(h.end_us - h.start_us == 12000000);
    assert_has(h.text, "\"name\":\"Bufo bufo\"");
    twi_heard_clear(&h);
    assert_null(h.text);
}

/* It is kept as it came, and is one line whatever came. */
static void test_a_record_is_one_line(void **state)
{
    (void)state;
    static const char LINE[] = "{\"time\": 7, \"text\":\"a\\nb\"}",
                      LINES[] = "{\n\t\"time\": 7,\r\n\"text\":\"a\\nb\"\n}";
    twi_heard h;
    assert_int_equal(hear("lane/hollin/kerb/alarm", LINE, &h), TW_OK);
    assert_string_equal(h.text, LINE);
    twi_heard_clear(&h);
    assert_int_equal(hear("lane/hollin/kerb/alarm", LINES, &h), TW_OK);
    assert_string_equal(h.text, "{\"time\":7,\"text\":\"a\\nb\"}");
    twi_heard_clear(&h);
}

static void test_states_and_what_is_gone(void **state)
{
    (void)state;
    twi_heard h;
    assert_int_equal(hear("lane/hollin/state",
                          "{\"type\":\"station\",\"station\":\"hollin\",\"state\":\"up\","
                          "\"series\":\"9f\",\"last_number\":3,"
                          "\"time\":\"2027-03-13T21:04:00.000Z\"}",
                          &h),
                     TW_OK);
    assert_int_equal(h.kind, TWI_HEARD_STATION);
    assert_string_equal(h.camera, "");
    assert_string_equal(h.state, "up");
    assert_int_equal(h.number, 3);
    assert_true(h.time_us == INT64_C(1804971840000000));
    twi_heard_clear(&h);
    assert_int_equal(hear("lane/hollin/state", "{\"state\":\"dead\"}", &h), TW_OK);
    assert_int_equal(h.number, -1); /* a will says nothing of it */
    assert_int_equal(h.time_us, 0);
    twi_heard_clear(&h);
    assert_int_equal(hear("lane/hollin/kerb/state", "{\"state\":\"armed\"}", &h), TW_OK);
    assert_int_equal(h.kind, TWI_HEARD_CAMERA);
    assert_string_equal(h.camera, "kerb");
    twi_heard_clear(&h);
    assert_int_equal(hear("lane/hollin/gone",
                          "{\"type\":\"gone\",\"series\":\"9f\",\"number\":7}", &h),
                     TW_OK);
    assert_int_equal(h.kind, TWI_HEARD_GONE);
    assert_int_equal(h.phase, TWI_PHASE_GONE);
    twi_heard_clear(&h);
    assert_int_equal(hear("lane/hollin/kerb/alarm", "{\"text\":\"it is lost\"}", &h),
                     TW_OK);
    assert_int_equal(h.kind, TWI_HEARD_ALARM);
    twi_heard_clear(&h);
}

static void test_what_is_nothing_to_keep(void **state)
{
    (void)state;
    twi_heard h;
    static const char *const topics[] = {
        "other/hollin/state", "lane",          "lane/",           "lane/hollin",
        "lane/hollin/order",  "lane//state",   "lane/hollin/ask", "lanex/hollin/state",
        "lane/a/b/c/state",   "lane/hollin/x/"};
    for (size_t i = 0; i < sizeof topics / sizeof *topics; i++)
        assert_int_equal(hear(topics[i], "{\"state\":\"up\"}", &h), TW_ENOENT);
    assert_int_equal(hear("lane/hollin/kerb/sighting", "{\"type\":\"began\"}", &h),
                     TW_ENOENT);
    assert_int_equal(hear("lane/hollin/kerb/sighting",
                          "{\"type\":\"sighting\",\"phase\":\"update\"}", &h),
                     TW_ENOENT);
}

/* A board can lie about itself alone, and its lies stay lines in a table. */
static void test_lies(void **state)
{
    (void)state;
    twi_heard h;
    static const char *const lies[] = {
        "",
        "{",
        "[]",
        "\"up\"",
        "{\"state\":7}",
        "{}",
        "{\"state\":\"up\",\"state\":\"up\"}",
        "{\"station\":\"mere\",\"state\":\"up\"}",
        "{\"station\":\"hollinx\",\"state\":\"up\"}",
        "{\"state\":\"\xFF\"}",
        "{\"state\":\"a\\u0000b\"}",
        "{\"state\":\"0123456789012345678901234567890123456789\"}"};
    for (size_t i = 0; i < sizeof lies / sizeof *lies; i++)
        assert_int_equal(hear("lane/hollin/state", lies[i], &h), TW_ESYNTAX);
    static const char *const numbers[] = {"-1",    "0",           "1.5",
                                          "\"4\"", "99999999999", "null"};
    for (size_t i = 0; i < sizeof numbers / sizeof *numbers; i++) {
        char text[256];
        (void)snprintf(text, sizeof text,
                       "{\"type\":\"sighting\",\"phase\":\"end\",\"series\":\"9f\","
                       "\"start\":\"2027-03-13T21:04:07.250Z\",\"number\":%s}",
                       numbers[i]);
        assert_int_equal(hear("lane/hollin/kerb/sighting", text, &h), TW_ESYNTAX);
    }
    static const char *const series[] = {"", "a/b", "../x", "<i>", "a b", "\\u00e9"};
    for (size_t i = 0; i < sizeof series / sizeof *series; i++) {
        char text[256];
        (void)snprintf(text, sizeof text,
                       "{\"type\":\"sighting\",\"phase\":\"end\",\"series\":\"%s\","
                       "\"start\":\"2027-03-13T21:04:07.250Z\",\"number\":1}",
                       series[i]);
        assert_int_equal(hear("lane/hollin/kerb/sighting", text, &h), TW_ESYNTAX);
    }
    static const char *const times[] = {
        "2027-13-13T21:04:07.250Z",      "2027-03-13",
        "2027-03-13T21:04:07.250Z more", "0000-00-00",
        "1960-03-13T21:04:07.250Z",      "2027-03-13T25:04:07.250Z",
        "+027-03-13T21:04:07.250Z",      "2027-03-13T21:04:07.25Z",
        "2027-03-13T 1:04:07.250Z"};
    for (size_t i = 0; i < sizeof times / sizeof *times; i++) {
        char text[256];
        (void)snprintf(text, sizeof text,
                       "{\"type\":\"sighting\",\"phase\":\"end\",\"series\":\"9f\","
                       "\"start\":\"%s\",\"number\":4}",
                       times[i]);
        assert_int_equal(hear("lane/hollin/kerb/sighting", text, &h), TW_ESYNTAX);
    }
    char *large = calloc(1, TWI_HEARD_BYTES_MAX + 8);
    memset(large, ' ', TWI_HEARD_BYTES_MAX + 4);
    assert_int_equal(hear("lane/hollin/state", large, &h), TW_ESIZE);
    free(large);
    /* what means something in a topic was "_" there */
    assert_int_equal(
        hear("lane/north_1/state", "{\"station\":\"north/1\",\"state\":\"up\"}", &h),
        TW_OK);
    twi_heard_clear(&h);
}

static void test_settings_and_answers(void **state)
{
    (void)state;
    twi_heard h;
    static const char *const wrong[][2] = {
        {"lane/hollin/settings", "{\"settings\":\"aa\"}"},
        {"lane/hollin/settings", "{\"text\":\"\"}"},
        {"lane/hollin/settings", "{\"text\":7,\"settings\":\"aa\"}"},
        {"lane/hollin/settings", "{\"text\":\"\",\"settings\":\"\"}"},
        {"lane/hollin/settings",
         "{\"text\":\"\",\"settings\":\"aa\",\"station\":\"mere\"}"},
        {"lane/hollin/answer", "{\"id\":7}"},
        {"lane/hollin/answer", "{\"id\":\"7\",\"taken\":true}"},
        {"lane/hollin/answer", "{\"id\":-7,\"taken\":true}"},
        {"lane/hollin/answer", "{\"id\":7,\"taken\":1}"}};
    assert_int_equal(hear("lane/hollin/state",
                          "{\"state\":\"up\",\"settings\":\"5bb6\",\"changeable\":true}",
                          &h),
                     TW_OK);
    assert_string_equal(h.name, "5bb6");
    twi_heard_clear(&h);
    assert_int_equal(
        hear("lane/hollin/state", "{\"state\":\"up\",\"settings\":\"5bb6\"}", &h), TW_OK);
    assert_string_equal(h.name, ""); /* they are shown to nobody */
    twi_heard_clear(&h);
    assert_int_equal(hear("lane/hollin/settings",
                          "{\"settings\":\"5bb6\",\"text\":\"[station]\"}", &h),
                     TW_OK);
    assert_int_equal(h.kind, TWI_HEARD_SETTINGS);
    assert_string_equal(h.name, "5bb6");
    twi_heard_clear(&h);
    assert_int_equal(hear("lane/hollin/answer",
                          "{\"id\":1804969800000000,\"taken\":false,\"text\":\"no\"}",
                          &h),
                     TW_OK);
    assert_int_equal(h.kind, TWI_HEARD_ANSWER);
    assert_true(h.number == INT64_C(1804969800000000));
    assert_string_equal(h.state, "refused");
    twi_heard_clear(&h);
    for (size_t i = 0; i < sizeof wrong / sizeof *wrong; i++)
        if (hear(wrong[i][0], wrong[i][1], &h) != TW_ESYNTAX)
            fail_msg("%s", wrong[i][1]);
    assert_int_equal(hear("lane/hollin/kerb/answer", "{\"id\":7,\"taken\":true}", &h),
                     TW_ENOENT);
}

static void test_topics_of_stations(void **state)
{
    (void)state;
    char topic[64];
    assert_true(twi_heard_topic("lane", "hollin", "ask", topic, sizeof topic));
    assert_string_equal(topic, "lane/hollin/ask");
    assert_false(twi_heard_topic("lane", "hollin/mere", "ask", topic, sizeof topic));
    assert_false(twi_heard_topic("lane", "#", "ask", topic, sizeof topic));
    assert_false(twi_heard_topic("lane", "hollin", "ask", topic, 8));
}

/* Silence is an alarm by what is usual: of a board on the mains after minutes, of one
 * that wakes once a day after a day and a half. */
static void test_what_is_usual(void **state)
{
    (void)state;
    const int64_t minute = INT64_C(60000000), day = 1440 * minute;
    int64_t usual = 0;
    for (int i = 0; i < 50; i++)
        usual = twi_usual_next(usual, minute);
    assert_true(usual == minute);
    assert_false(twi_usual_is_silent(usual, 85 * minute / 60));
    assert_true(twi_usual_is_silent(usual, 95 * minute / 60));
    for (int i = 0; i < 20; i++) /* it goes over to once a day */
        usual = twi_usual_next(usual, day);
    assert_true(usual == day);
    assert_false(twi_usual_is_silent(usual, day + day / 3));
    assert_true(twi_usual_is_silent(usual, day + day * 2 / 3));
    usual = twi_usual_next(minute, 30 * day); /* one long silence is not usual */
    assert_true(usual == 2 * minute);
    usual = day;
    for (int i = 0; i < 400; i++)
        usual = twi_usual_next(usual, minute);
    assert_true(usual < 2 * minute);
    assert_false(twi_usual_is_silent(0, minute)); /* heard once */
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_record),
        cmocka_unit_test(test_a_record_is_one_line),
        cmocka_unit_test(test_states_and_what_is_gone),
        cmocka_unit_test(test_what_is_nothing_to_keep),
        cmocka_unit_test(test_lies),
        cmocka_unit_test(test_settings_and_answers),
        cmocka_unit_test(test_topics_of_stations),
        cmocka_unit_test(test_what_is_usual),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
