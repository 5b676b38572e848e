/* What captions say. */
#include <string.h>

#include "../support/support.h"

static const twi_caption_fields FIELDS = {
    {2027, 3, 13, 21, 30, 15, 204567, 6, 72, 3600}, "kerb", "hollin", 7, 12549};

static void check(const char *pattern, const char *expected)
{
    char out[TWI_CAPTION_MAX];
    assert_int_equal(twi_caption_expand(pattern, &FIELDS, out, sizeof out, NULL), TW_OK);
    assert_string_equal(out, expected);
}

static void test_fields_and_times(void **state)
{
    (void)state;
    check("%Y-%m-%d %H:%M:%S.{ms} %z", "2027-03-13 21:30:15.204 +0100");
    check("{station}/{camera} no. {sighting}: {activity}", "hollin/kerb no. 7: 1.25 %");
    check("%D%n100 %%", "03/13/27\n100 %"); /* nothing is mended, as in names */
    check("Kr\xC3\xB6te: ?*|", "Kr\xC3\xB6te: ?*|");
    check("", "");
}

static void test_without_a_sighting(void **state)
{
    (void)state;
    char out[TWI_CAPTION_MAX];
    twi_caption_fields f = FIELDS;
    f.sighting = 0;
    f.activity_ppm = 1000000;
    assert_int_equal(
        twi_caption_expand("[{sighting}] {activity}", &f, out, sizeof out, NULL), TW_OK);
    assert_string_equal(out, "[] 100.00 %");
}

static void test_what_is_wrong_is_shown(void **state)
{
    (void)state;
    char out[TWI_CAPTION_MAX];
    const char *at = NULL, *pattern = "%H {kind}";
    assert_int_equal(twi_caption_expand(pattern, &FIELDS, out, sizeof out, &at),
                     TW_ESYNTAX);
    assert_ptr_equal(at, pattern + 3);
    assert_int_equal(twi_caption_expand("%Q", &FIELDS, out, sizeof out, &at), TW_ESYNTAX);
    assert_int_equal(twi_caption_expand("{camera", &FIELDS, out, sizeof out, &at),
                     TW_ESYNTAX);
    assert_int_equal(twi_caption_expand("{camera}", &FIELDS, out, 4, &at), TW_ESIZE);
    assert_int_equal(twi_caption_expand("{camera}", &FIELDS, out, 5, &at), TW_OK);
    assert_int_equal(twi_caption_expand(NULL, &FIELDS, out, 5, NULL), TW_EINVAL);
    assert_int_equal(twi_caption_expand("a", NULL, out, 5, NULL), TW_EINVAL);
    assert_int_equal(twi_caption_expand("a", &FIELDS, NULL, 5, NULL), TW_EINVAL);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_fields_and_times),
        cmocka_unit_test(test_without_a_sighting),
        cmocka_unit_test(test_what_is_wrong_is_shown),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
