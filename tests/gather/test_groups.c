/* Groups of stations: which are of one, and which lines are none. */
#include <string.h>

#include "../support/support.h"

#include "../../src/gather/groups.h"

static const char LINE[] =
    " lane : hollin, kerb-*;hill:north\t; odd: a?b [x] back\\s *end;";

static void test_stations_are_found_by_their_names(void **state)
{
    (void)state;
    static const struct {
        const char *group, *station;
        bool has;
    } all[] = {
        {"lane", "hollin", true},    {"lane", "kerb-7", true}, {"lane", "kerb-", true},
        {"lane", "kerb", false},     {"lane", "north", false}, {"hill", "north", true},
        {"hill", "northern", false}, {"lan", "hollin", false}, {"lanes", "hollin", false},
        {"", "hollin", false},       {"odd", "a?b", true},     {"odd", "axb", false},
        {"odd", "[x]", true},        {"odd", "x", false},      {"odd", "back\\s", true},
        {"odd", "the end", true},    {"odd", "end", true},     {"odd", "ending", false},
        {"lane", "", false},         {"LANE", "hollin", false}};
    for (size_t i = 0; i < sizeof all / sizeof *all; i++)
        if (twi_groups_have(LINE, all[i].group, all[i].station) != all[i].has)
            fail_msg("%s of %s", all[i].station, all[i].group);
    assert_false(twi_groups_have("", "lane", "hollin"));
}

static void test_they_are_listed_in_their_order(void **state)
{
    (void)state;
    static const char *const names[] = {"lane", "hill", "odd"};
    char name[TWI_GROUP_NAME];
    for (size_t i = 0; i < 3; i++) {
        assert_true(twi_groups_at(LINE, i, name));
        assert_string_equal(name, names[i]);
    }
    assert_false(twi_groups_at(LINE, 3, name));
    assert_false(twi_groups_at(" ;; ", 0, name));
}

static void test_what_is_none_is_told(void **state)
{
    (void)state;
    tw_error err = {0};
    assert_int_equal(twi_groups_check(LINE, &err), TW_OK);
    assert_int_equal(twi_groups_check("", &err), TW_OK);
    assert_int_equal(twi_groups_check("lane: a; hollin mere", &err), TW_EINVAL);
    assert_has(err.text, "\"hollin mere\" is none");
    assert_int_equal(twi_groups_check(": a", &err), TW_EINVAL);
    char text[200];
    memset(text, 'x', sizeof text);
    (void)snprintf(text + 70, sizeof text - 70, ": a");
    assert_int_equal(twi_groups_check(text, &err), TW_EINVAL);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_stations_are_found_by_their_names),
        cmocka_unit_test(test_they_are_listed_in_their_order),
        cmocka_unit_test(test_what_is_none_is_told),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
