/* What settings cost, from what a catalogue knows. */
#include <string.h>

#include "../../src/station/plan.h"
#include "../support/support.h"
#include "tawny/settings.h"

#define S INT64_C(1000000)
#define WALL (INT64_C(1804968000) * S) /* a full hour */

static void add(tw_catalogue *c, const char *camera, const char *kind, uint64_t bytes,
                int64_t start_s)
{
    char file[64];
    static int number;
    (void)snprintf(file, sizeof file, "%d.jpg", ++number);
    const tw_capture_record r = {.camera = camera,
                                 .kind = kind,
                                 .file = file,
                                 .bytes = bytes,
                                 .start_us = WALL + start_s * S,
                                 .order_us = WALL + start_s * S};
    assert_int_equal(twi_catalogue_add(c, &r, NULL), TW_OK);
}

static twi_plan read_plan(tw_catalogue *c)
{
    static const char text[] = "[camera kerb]\nsource = sim:kerb\n";
    tw_settings *settings = tw_settings_new();
    twi_plan plan = {0};
    assert_int_equal(
        tw_settings_read_text(settings, "station.ini", text, strlen(text), NULL, NULL),
        TW_OK);
    assert_int_equal(twi_plan_read(c, settings, &plan, NULL), TW_OK);
    tw_settings_free(settings);
    return plan;
}

/* Ten hours with one that is busy: 0.9 MB an hour, and 9 MB in the sixth. */
static void test_the_busiest_hour(void **state)
{
    (void)state;
    tw_catalogue *c = NULL;
    assert_int_equal(tw_catalogue_open(NULL, true, &c, NULL), TW_OK);
    for (int hour = 0; hour <= 10; hour++)
        for (int i = 0; i < 2; i++)
            add(c, i ? "mere" : "kerb", "still", hour == 6 ? 4500000 : 450000,
                hour * 3600 + i * 600);
    add(c, "kerb", "segment", 90000000, 3 * 3600); /* is not sent */
    twi_plan plan = read_plan(c);
    assert_int_equal(plan.count, 2);
    const twi_plan_rates rates = twi_plan_rates_of(&plan.cameras[0]);
    assert_true(rates.uplink > 1960 && rates.uplink < 1975); /* 9 MB in 10 h 10 min */
    assert_true(rates.uplink_peak == 10000);                 /* 4.5 MB in one */
    assert_int_equal(plan.cameras[0].peak.busiest_hour, WALL / S / 3600 + 6);
    assert_true(twi_plan_peak_bits(&plan.peak, plan.last_us - plan.first_us, 4000) ==
                20000);
    twi_plan_free(&plan);
    tw_catalogue_close(c);
}

/* Of less than an hour, the mean is all there is. */
static void test_less_than_an_hour(void **state)
{
    (void)state;
    tw_catalogue *c = NULL;
    assert_int_equal(tw_catalogue_open(NULL, true, &c, NULL), TW_OK);
    add(c, "kerb", "clip", 3000000, 60);
    add(c, "kerb", "clip", 3000000, 660);
    twi_plan plan = read_plan(c);
    const twi_plan_rates rates = twi_plan_rates_of(&plan.cameras[0]);
    assert_true(rates.uplink == 80000); /* 6 MB in ten minutes */
    assert_true(rates.uplink_peak == rates.uplink);
    twi_plan_free(&plan);
    tw_catalogue_close(c);
}

/* Of a later version there may be captures of kinds that this one does not know. */
static void test_a_kind_that_is_not_known_hides_no_other(void **state)
{
    (void)state;
    tw_catalogue *c = NULL;
    assert_int_equal(tw_catalogue_open(NULL, true, &c, NULL), TW_OK);
    for (int hour = 0; hour < 4; hour++)
        add(c, "kerb", hour % 2 == 0 ? "still" : "hologram", 1000, hour * 3600);
    twi_plan plan = read_plan(c);
    assert_int_equal(plan.count, 1);
    assert_true(plan.cameras[0].bytes[TWI_KIND_STILL] == 2000);
    twi_plan_free(&plan);
    tw_catalogue_close(c);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_the_busiest_hour),
        cmocka_unit_test(test_less_than_an_hour),
        cmocka_unit_test(test_a_kind_that_is_not_known_hides_no_other),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
