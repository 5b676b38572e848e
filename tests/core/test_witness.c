/* Second witnesses of a cell: a limit of their own, which what is usual raises. */
#include <string.h>

#include "../../src/core/detector_state.h"
#include "../support/support.h"

enum { LEAST = 131072, CALM = -65536 }; /* 2.0 and -1.0 */

typedef struct heard {
    tw_detector detector;
    twi_cell cell;
    twi_witness witness;
} heard;

/* A detector that keeps the level of each frame for the next, a tenth of a second on. */
static heard *begin(void)
{
    static heard h;
    memset(&h, 0, sizeof h);
    h.detector.step_us = 100000;
    h.detector.sampling = true;
    h.detector.pace.up = 1000;
    h.detector.pace.down = 20;
    return &h;
}

static int32_t hear(heard *h, int32_t level)
{
    h->detector.newest = !h->detector.newest;
    h->detector.past = h->detector.newest;
    return twi_witness_hear(&h->detector, &h->cell, &h->witness, level, LEAST, CALM);
}

static void test_what_does_not_last_does_not_count(void **state)
{
    (void)state;
    heard *h = begin();
    (void)hear(h, 0);
    assert_int_equal(hear(h, 300000), 0 - LEAST);
    assert_int_equal(hear(h, 320000), 300000 - LEAST);
    assert_int_equal(hear(h, 0), 0 - LEAST);
}

static void test_usual_levels_raise_the_limit(void **state)
{
    (void)state;
    heard *h = begin();
    for (int i = 0; i < 1000; i++)
        (void)hear(h, 300000);
    assert_in_range(h->witness.q98, 298000, 301000);
    assert_in_range(h->witness.q50, 298000, 301000);
    assert_true(hear(h, 300000) < 0);
    assert_true(hear(h, 400000) < 0); /* lasts not yet */
    assert_true(hear(h, 400000) > 50000);
}

static void test_a_subject_teaches_less(void **state)
{
    (void)state;
    heard *h = begin();
    for (int i = 0; i < 32; i++)
        (void)hear(h, 300000);
    const int32_t plain = h->witness.q98;
    h = begin();
    h->cell.owned = h->cell.counted = true;
    for (int i = 0; i < 32; i++)
        (void)hear(h, 300000);
    assert_true(plain > 30000);
    assert_in_range(h->witness.q98, plain / 16 - 100, plain / 16 + 100);
}

static void test_calmer_than_calm_makes_no_difference(void **state)
{
    (void)state;
    heard *h = begin();
    h->detector.pace.up = h->detector.pace.down = 1000;
    for (int i = 0; i < 200; i++)
        (void)hear(h, -500000);
    assert_int_equal(h->witness.q98, CALM);
    assert_int_equal(h->witness.q50, CALM);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_what_does_not_last_does_not_count),
        cmocka_unit_test(test_usual_levels_raise_the_limit),
        cmocka_unit_test(test_a_subject_teaches_less),
        cmocka_unit_test(test_calmer_than_calm_makes_no_difference),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
