/* Changing a value in the text of a settings file. */
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"
#include "../../src/settings/sections.h"
#include "tawny/settings.h"

static const char FILE_TEXT[] = "# Hollin Lane\n"
                                "[station]\n"
                                "name = hollin\n"
                                "\n"
                                "[camera kerb] # at the lane\n"
                                "  source = sim:kerb\n"
                                "  start_at=1 %   # after the storm\n"
                                "\n"
                                "# the pond\n"
                                "[camera mere]\n"
                                "source = sim:kerb\n"
                                "start_at = 2 %";

static void check(const char *text, const char *head, const char *name, const char *key,
                  const char *value, const char *want)
{
    char *out = NULL;
    size_t bytes = 0;
    assert_int_equal(
        twi_settings_edit(text, strlen(text), head, name, key, value, &out, &bytes),
        TW_OK);
    assert_string_equal(out, want);
    assert_int_equal(bytes, strlen(want));
    free(out);
}

/* The text with one piece replaced by another. */
static char *with(const char *text, const char *piece, const char *instead)
{
    const char *at = strstr(text, piece);
    assert_non_null(at);
    char *made = malloc(strlen(text) + strlen(instead) + 1);
    (void)sprintf(made, "%.*s%s%s", (int)(at - text), text, instead, at + strlen(piece));
    return made;
}

static void test_a_value_changes_and_nothing_else(void **state)
{
    (void)state;
    char *want = with(FILE_TEXT, "start_at=1 %   #", "start_at= 0.5 %   #");
    check(FILE_TEXT, "camera", "kerb", "start_at", "0.5 %", want);
    free(want);
    want = with(FILE_TEXT, "start_at = 2 %", "start_at = 0.5 %"); /* the last line */
    check(FILE_TEXT, "camera", "mere", "start_at", "0.5 %", want);
    free(want);
    want = with(FILE_TEXT, "name = hollin", "name = lane");
    check(FILE_TEXT, "station", "", "name", "lane", want);
    free(want);
}

static void test_a_new_value_goes_behind_the_last_of_its_section(void **state)
{
    (void)state;
    char *want = with(FILE_TEXT, "storm\n", "storm\ntravel = 8 %\n");
    check(FILE_TEXT, "camera", "kerb", "travel", "8 %", want);
    free(want);
    want = with(FILE_TEXT, "start_at = 2 %", "start_at = 2 %\ntravel = 8 %\n");
    check(FILE_TEXT, "camera", "mere", "travel", "8 %", want);
    free(want);
}

static void test_a_missing_section_is_added(void **state)
{
    (void)state;
    check("[station]\n", "camera", "kerb", "travel", "8 %",
          "[station]\n\n[camera kerb]\ntravel = 8 %\n");
    check("", "station", "", "name", "x", "[station]\nname = x\n");
}

static void test_the_later_of_two_values_is_the_one_that_holds(void **state)
{
    (void)state;
    check("[camera a]\nfps = 5 fps\n[camera a]\nfps = 6 fps\n", "camera", "a", "fps",
          "7 fps", "[camera a]\nfps = 5 fps\n[camera a]\nfps = 7 fps\n");
}

static void test_line_ends_of_other_systems_stay(void **state)
{
    (void)state;
    check("[camera a]\r\nfps = 5 fps\r\n", "camera", "a", "fps", "7 fps",
          "[camera a]\r\nfps = 7 fps\r\n");
    check("[camera a]\r\nfps = 5 fps\r\n", "camera", "a", "loop", "yes",
          "[camera a]\r\nfps = 5 fps\r\nloop = yes\r\n");
}

/* What comes out is read as it was meant, whatever the spelling. */
static void test_what_is_written_is_read_back(void **state)
{
    (void)state;
    char *out = NULL;
    size_t bytes = 0;
    twi_camera_settings c;
    assert_int_equal(twi_settings_edit(FILE_TEXT, strlen(FILE_TEXT), "camera", "kerb",
                                       "start_at", "0.07 %", &out, &bytes),
                     TW_OK);
    tw_settings *s = tw_settings_new();
    assert_int_equal(tw_settings_read_text(s, "f", out, bytes, NULL, NULL), TW_OK);
    assert_int_equal(twi_settings_camera(s, "kerb", &c), TW_OK);
    assert_int_equal(c.start_ppm, 700);
    tw_settings_free(s);
    free(out);
    assert_int_equal(twi_settings_edit(NULL, 0, "a", "", "b", "c", &out, &bytes),
                     TW_EINVAL);
}

static void test_keys_and_sections_go(void **state)
{
    (void)state;
    char *want = with(FILE_TEXT, "  start_at=1 %   # after the storm\n", "");
    check(FILE_TEXT, "camera", "kerb", "start_at", NULL, want);
    free(want);
    want = with(FILE_TEXT, "[camera mere]", "[camera pond]");
    check(FILE_TEXT, "camera", "mere", NULL, "pond", want);
    free(want);
    char *out = NULL;
    size_t bytes = 0;
    assert_int_equal(twi_settings_edit(FILE_TEXT, strlen(FILE_TEXT), "camera", "mere",
                                       NULL, NULL, &out, &bytes),
                     TW_OK);
    assert_null(strstr(out, "mere"));
    assert_non_null(strstr(out, "[camera kerb]"));
    free(out);
}

static void test_what_is_not_there_is_said(void **state)
{
    (void)state;
    static const struct {
        const char *head, *name, *key, *value;
        tw_status want;
    } cases[] = {
        {"camera", "kerb", "stay_at", NULL, TW_ENOENT}, /* no such key */
        {"camera", "lane", "stay_at", NULL, TW_ENOENT}, /* no such section */
        {"camera", "lane", NULL, NULL, TW_ENOENT},
        {"camera", "lane", NULL, "pond", TW_ENOENT},
        {"camera", "kerb", "start at", "1 %", TW_EINVAL},
        {"camera", "ke]rb", "start_at", "1 %", TW_EINVAL},
        {"camera", "kerb", "start_at", "1 %\nfps = 1", TW_EINVAL},
        {"camera", "kerb", NULL, " pond", TW_EINVAL},
        {"", "kerb", "start_at", "1 %", TW_EINVAL},
    };
    char *out = NULL;
    size_t bytes = 0;
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++)
        assert_int_equal(twi_settings_edit(FILE_TEXT, strlen(FILE_TEXT), cases[i].head,
                                           cases[i].name, cases[i].key, cases[i].value,
                                           &out, &bytes),
                         cases[i].want);
    assert_null(out);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_value_changes_and_nothing_else),
        cmocka_unit_test(test_a_new_value_goes_behind_the_last_of_its_section),
        cmocka_unit_test(test_a_missing_section_is_added),
        cmocka_unit_test(test_the_later_of_two_values_is_the_one_that_holds),
        cmocka_unit_test(test_line_ends_of_other_systems_stay),
        cmocka_unit_test(test_what_is_written_is_read_back),
        cmocka_unit_test(test_keys_and_sections_go),
        cmocka_unit_test(test_what_is_not_there_is_said),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
