/* What tuning says of its proposal: a reason in the direction of the change. */
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "../../src/cli/prime.h"
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

/* What ends a sighting is never above what begins it, or no limit that low could be
 * tried.
 */
static void test_limits_that_are_tried(void **state)
{
    (void)state;
    const twi_camera_settings camera = {
        .start_ppm = 500, .stay_ppm = 400, .confirm = {2, 3}};
    assert_int_equal(tune_limits(&camera, 1000).start_ppm, 1000);
    assert_int_equal(tune_limits(&camera, 1000).stay_ppm, 400);
    assert_int_equal(tune_limits(&camera, 200).start_ppm, 200);
    assert_int_equal(tune_limits(&camera, 200).stay_ppm, 200);
    assert_true(tune_limits(&camera, 200).armed); /* also where the camera is not */
}

/* ---- a beginning that is shown first -------------------------------------------------
 */

enum { FPS = 10, BEGINNING = 2 * FPS, ROUNDS = 6 };

static tw_status make_primed(const char *source, tw_camera *camera)
{
    const tw_camera_request request = {
        .name = "kerb", .source = source, .fps = FPS, .clock = tw_linux_clock()};
    return cli_prime_make(&request, camera, NULL);
}

static void test_a_quiet_beginning_is_shown_first(void **state)
{
    (void)state;
    char *source = cli_prime_source("sim:kerb,size=64x64", 2000000);
    GBytes *first[BEGINNING];
    tw_camera camera;
    tw_stream stream;
    tw_frame f;
    int64_t before_us = 0;
    assert_int_equal(cli_prime_lead(2000000), 12000000);
    assert_int_equal(cli_prime_lead(2500000), 12500000);
    assert_int_equal(make_primed("sim:kerb", &camera), TW_ENOTSUP);
    assert_int_equal(make_primed("prime:0:sim:kerb", &camera), TW_EINVAL);
    assert_int_not_equal(make_primed("prime:5:nothing", &camera), TW_OK);
    assert_int_equal(make_primed(source, &camera), TW_OK);
    assert_int_equal(camera.ops->open(camera.ctx, &stream, NULL), TW_OK);
    for (int i = 0; i < (ROUNDS + 2) * BEGINNING; i++) {
        assert_int_equal(camera.ops->next(camera.ctx, &f, NULL), TW_OK);
        GBytes *bytes = g_bytes_new(f.packet.data, f.packet.size);
        if (i > 0)
            assert_int_equal(f.packet.t_us - before_us, 1000000 / FPS);
        assert_int_equal(f.packet.dts_us, f.packet.t_us);
        before_us = f.packet.t_us;
        if (i < BEGINNING)
            first[i] = g_bytes_ref(bytes);
        else /* six rounds and its own, then what comes after */
            assert_int_equal(g_bytes_equal(bytes, first[i % BEGINNING]),
                             i < (ROUNDS + 1) * BEGINNING);
        g_bytes_unref(bytes);
    }
    for (int i = 0; i < BEGINNING; i++)
        g_bytes_unref(first[i]);
    camera.ops->destroy(camera.ctx);
    g_free(source);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_reasons_go_with_the_change),
        cmocka_unit_test(test_limits_that_are_tried),
        cmocka_unit_test(test_a_quiet_beginning_is_shown_first),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
