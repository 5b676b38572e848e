/* The lines that say why, and why not. */
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"
#include "../../src/settings/sections.h"
#include "../../src/station/why.h"

static void test_why_a_sighting_began(void **state)
{
    (void)state;
    char text[256];
    tw_sighting s = {.cause = {.activity_ppm = 21000,
                               .start_ppm = 500,
                               .hits = 2,
                               .of = 3,
                               .blobs = 1,
                               .size_ppm = 18000,
                               .x_ppm = 100000,
                               .y_ppm = 500000}};
    assert_string_equal(twi_why_began(&s, text, sizeof text),
                        "2.10 % of the watched area moved (start_at 0.05 %), one blob of "
                        "1.80 % at the left, 2 of 3 frames");
    s.cause.blobs = 4;
    s.cause.x_ppm = s.cause.y_ppm = 900000;
    assert_has(twi_why_began(&s, text, sizeof text),
               "4 blobs, the largest of 1.80 % at the lower right");
    s.cause.blobs = 0; /* of a fixed limit, without blobs */
    assert_string_equal(twi_why_began(&s, text, sizeof text),
                        "2.10 % of the watched area moved (start_at 0.05 %), 2 of 3 "
                        "frames");
    assert_string_equal(twi_why_began(&s, text, 10), "2.10 % of"); /* cut, not overrun */
    assert_string_equal(twi_why_began(&s, text, 1), "");
}

static twi_camera_settings camera(void)
{
    return (twi_camera_settings){
        .start_ppm = 5000, .armed = true, .confirm = {2, 3}, .settle_us = 8000000};
}

static void test_why_a_moment_did_not(void **state)
{
    (void)state;
    char text[512];
    const twi_camera_settings c = camera();
    tw_reading r = {.activity_ppm = 2000,
                    .raw_ppm = 9000,
                    .travel_ppm = 4000,
                    .size_ppm = 1000,
                    .light_ppm = 7000,
                    .sway_ppm = 300,
                    .shake_ppm = 200,
                    .ignored_ppm = 100};
    assert_string_equal(
        twi_why_not(&r, TW_ARMED, &c, text, sizeof text),
        "activity 0.20 %, under start_at 0.50 %: 0.40 % has not travelled like a "
        "subject, 0.10 % too small or too large, 0.20 % in single cells that made no "
        "blob, 0.70 % taken by the light guard, 0.03 % taken by the sway guard, 0.02 % "
        "taken by the shake guard, 0.01 % of the picture moved in ignored zones");
    r = (tw_reading){
        .raw_ppm = 4000, .travel_ppm = 4000, .colour_ppm = 3000, .unlike_ppm = 500};
    assert_string_equal(twi_why_not(&r, TW_ARMED, &c, text, sizeof text),
                        "activity 0.00 %, under start_at 0.50 %: 0.30 % moved by its "
                        "colour alone, 0.05 % moved only as it is unlike what is near, "
                        "0.40 % has not travelled like a subject");
    r = (tw_reading){.t_us = 1};
    assert_string_equal(twi_why_not(&r, TW_ARMED, &c, text, sizeof text),
                        "activity 0.00 %, under start_at 0.50 %: nothing else moved");
    r.activity_ppm = r.raw_ppm = 6000;
    assert_has(twi_why_not(&r, TW_ARMED, &c, text, sizeof text),
               "at or over start_at 0.50 %, but not yet in 2 of 3 frames");
}

static void test_what_bars_a_sighting_is_said_first(void **state)
{
    (void)state;
    char text[512];
    twi_camera_settings c = camera();
    tw_reading r = {.activity_ppm = 6000, .raw_ppm = 6000};
    assert_has(twi_why_not(&r, TW_SETTLING, &c, text, sizeof text),
               "the place was still being learned (settle 8.0 s); activity 0.60 %");
    assert_has(twi_why_not(&r, TW_SIGHTING, &c, text, sizeof text),
               "a sighting was running already; ");
    assert_has(twi_why_not(&r, TW_RESTING, &c, text, sizeof text), "it was the rest");
    r.whole_picture = true;
    assert_has(twi_why_not(&r, TW_ARMED, &c, text, sizeof text),
               "most of the picture turned at once");
    c.armed = false;
    assert_has(twi_why_not(&r, TW_IDLE, &c, text, sizeof text),
               "the camera was disarmed (armed = no); ");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_why_a_sighting_began),
        cmocka_unit_test(test_why_a_moment_did_not),
        cmocka_unit_test(test_what_bars_a_sighting_is_said_first),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
