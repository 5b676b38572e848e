/* What tuning says of its proposal: a reason in the direction of the change. */
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "../../src/cli/tune.h"
#include "../support/support.h"
#include "../../src/settings/sections.h"

/* What is printed of a search that goes from now to then, by a variant; the caller's. */
static char *print(tune_variant variant, twi_score now, twi_score then)
{
    tune_variant variants[] = {{.travel_pct = 100, .margin_pct = 100}, variant};
    twi_camera_settings camera = {
        .start_ppm = 500, .stay_ppm = 400, .travel_ppm = 40000, .noise_margin_pct = 100};
    const twi_trial trials[] = {{.variant = 0, .start_ppm = 500, .score = now},
                                {.variant = 1, .start_ppm = 500, .score = then}};
    char path[] = "/tmp/tawny-tune-XXXXXX";
    const int file = mkstemp(path), before = dup(1);
    tune_search s = {
        .camera = &camera,
        .title = "Camera kerb",
        .variants = variants,
        .trials = g_array_new(FALSE, FALSE, sizeof(twi_trial)),
        .worth = 3,
        .length_us = INT64_C(3600000000),
        .files = 2,
        .choice = {.chosen = 1, .low_ppm = 400, .high_ppm = 600, .better = true},
        .now = &trials[0],
        .chosen = &trials[1]};
    g_array_append_vals(s.trials, trials, 2);
    (void)fflush(stdout);
    assert_true(file >= 0 && before >= 0 && dup2(file, 1) == 1);
    tune_print(&s);
    (void)fflush(stdout);
    assert_int_equal(dup2(before, 1), 1);
    (void)close(before);
    (void)close(file);
    (void)g_array_free(s.trials, TRUE);
    char *text = read_file(path, NULL);
    (void)unlink(path);
    return text;
}

static void check(tune_variant variant, twi_score now, twi_score then, const char *line,
                  const char *reason)
{
    char *text = print(variant, now, then);
    assert_has(text, line);
    assert_has(text, reason);
    free(text);
}

static void test_reasons_go_with_the_change(void **state)
{
    (void)state;
    const twi_score missed = {.events = 10, .found = 7},
                    found = {.events = 10, .found = 10},
                    noisy = {.events = 10, .found = 10, .is_false = 6};
    check((tune_variant){.travel_pct = 100, .margin_pct = 50}, missed, found,
          "noise_margin = 50 %",
          "noise_margin: less, as what was missed hardly stands out");
    check((tune_variant){.travel_pct = 100, .margin_pct = 220}, noisy, found,
          "noise_margin = 220 %",
          "noise_margin: more, as what was false stands out from the noise less");
    /* by another change as well: with more margin no more is found */
    check((tune_variant){.travel_pct = 50, .margin_pct = 220}, missed, found,
          "noise_margin = 220 %",
          "noise_margin: more, as what was right stands out far enough");
    check((tune_variant){.travel_pct = 50, .margin_pct = 100}, missed, found,
          "travel = 2 %", "travel: less, as what was missed did not go far enough");
    check((tune_variant){.travel_pct = 200, .margin_pct = 100}, noisy, found,
          "travel = 8 %", "travel: more, as what was false went less far");
    check((tune_variant){.travel_pct = 200, .margin_pct = 50}, missed, found,
          "travel = 8 %", "travel: more, as what was right went far enough");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_reasons_go_with_the_change),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
