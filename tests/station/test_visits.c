/* When accounts of the page have looked. */
#include <stdlib.h>

#include "../../src/station/visits.h"
#include "../support/support.h"

#define MINUTE (INT64_C(60) * 1000000)
#define NOON (INT64_C(1804969800) * 1000000)

static tw_catalogue *open_catalogue(const char *path)
{
    tw_catalogue *c = NULL;
    assert_int_equal(tw_catalogue_open(path, true, &c, NULL), TW_OK);
    return c;
}

static int64_t visit(tw_catalogue *c, const char *who, int64_t at_us)
{
    int64_t since_us = -1;
    assert_int_equal(twi_catalogue_visit(c, who, at_us, &since_us, NULL), TW_OK);
    return since_us;
}

static void test_a_visit_lasts_while_looks_are_near(void **state)
{
    (void)state;
    char *folder = make_folder(), *path = join(folder, "catalogue.db");
    tw_catalogue *c = open_catalogue(path);
    assert_int_equal(visit(c, "ann", NOON), 0); /* the first */
    assert_int_equal(visit(c, "ann", NOON + 20 * MINUTE), 0);
    assert_int_equal(visit(c, "ann", NOON + 45 * MINUTE), 0);
    assert_int_equal(visit(c, "ann", NOON + 76 * MINUTE), NOON + 45 * MINUTE);
    assert_int_equal(visit(c, "ann", NOON + 80 * MINUTE), NOON + 45 * MINUTE);
    assert_int_equal(visit(c, "", NOON + 80 * MINUTE), 0); /* each by itself */
    assert_int_equal(visit(c, "ann", NOON + 200 * MINUTE), NOON + 80 * MINUTE);
    tw_catalogue_close(c);
    c = open_catalogue(path); /* it is kept */
    assert_int_equal(visit(c, "ann", NOON + 201 * MINUTE), NOON + 80 * MINUTE);
    tw_catalogue_close(c);
    free(path);
    remove_folder(folder);
}

static void test_a_clock_that_is_set_back_hides_nothing(void **state)
{
    (void)state;
    char *folder = make_folder(), *path = join(folder, "catalogue.db");
    tw_catalogue *c = open_catalogue(path);
    assert_int_equal(visit(c, "ann", NOON), 0);
    assert_int_equal(visit(c, "ann", NOON - 600 * MINUTE), NOON - 600 * MINUTE);
    tw_catalogue_close(c);
    free(path);
    remove_folder(folder);
}

static void test_what_is_no_visit(void **state)
{
    (void)state;
    int64_t since_us = 0;
    tw_error err = {0};
    assert_int_equal(twi_catalogue_visit(NULL, "ann", NOON, &since_us, &err), TW_EINVAL);
    assert_true(err.text[0] != '\0');
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_visit_lasts_while_looks_are_near),
        cmocka_unit_test(test_a_clock_that_is_set_back_hides_nothing),
        cmocka_unit_test(test_what_is_no_visit)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
