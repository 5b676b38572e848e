/* Sections that hold at times: which wins, what may stand in them, and what is wrong with
 * some. */
#include <stdlib.h>
#include <string.h>

#include "../../src/settings/state.h"
#include "../support/support.h"

static const char FAMILY[] = "[cameras]\n"
                             "start_at = 1 %\n"
                             "post_event = 20 s\n"
                             "rest = 5 s\n"
                             "[cameras when dark]\n"
                             "post_event = 21 s\n"
                             "rest = 6 s\n"
                             "longest = 6 min\n"
                             "[profile close]\n"
                             "rest = 7 s\n"
                             "[camera tunnel]\n"
                             "source = sim:kerb\n"
                             "use = close\n"
                             "[camera kerb]\n"
                             "source = sim:kerb\n"
                             "latitude = 52\n"
                             "longitude = -1\n"
                             "longest = 7 min\n"
                             "[camera  kerb when   dark]\n"
                             "start_at = 2 %\n"
                             "[camera kerb when 22:00-05:00]\n"
                             "start_at = 3 %\n"
                             "still_quality = 50\n"
                             "[camera kerb when light]\n"
                             "sensitivity = 5\n"
                             "[camera kerbs]\n"
                             "source = sim:kerb\n";

static twi_camera_settings camera_of(tw_settings *s, const char *name)
{
    twi_camera_settings c;
    assert_int_equal(twi_settings_camera(s, name, &c), TW_OK);
    return c;
}

/* The bit of a condition. */
static unsigned bit(const twi_camera_settings *c, const char *text)
{
    for (size_t k = 0; c->conditions && k < c->conditions->count; k++)
        if (strcmp(c->conditions->of[k].text, text) == 0)
            return 1U << k;
    fail_msg("no condition %s", text);
    return 0;
}

static void test_what_holds_wins_over_what_always_does(void **state)
{
    (void)state;
    tw_settings *s = settings_of(FAMILY);
    const twi_camera_settings kerb = camera_of(s, "kerb");
    assert_true(kerb.start_ppm == 10000 && kerb.post_us == 20000000 &&
                kerb.still_quality == 90);
    assert_int_equal(kerb.conditions->count, 3); /* dark is one, of two sections */
    const unsigned dark = bit(&kerb, "dark"), hours = bit(&kerb, "22:00-05:00"),
                   light = bit(&kerb, "light");
    const twi_camera_settings *by = kerb.conditions->by;
    assert_true(by[0].start_ppm == 10000);
    assert_true(by[dark].start_ppm == 20000);
    assert_true(by[dark].post_us == 21000000 && by[dark].rest_us == 6000000);
    assert_true(by[dark].longest_us == INT64_C(420000000)); /* the camera's own wins */
    assert_true(by[hours].start_ppm == 30000 && by[hours].post_us == 20000000);
    assert_true(by[dark | hours].start_ppm == 30000); /* the later section wins */
    assert_true(by[dark | hours].post_us == 21000000);
    assert_true(by[dark | hours].still_quality == 50);
    assert_true(by[light].evidence_pct < kerb.evidence_pct); /* by its sensitivity */
    assert_true(by[dark].evidence_pct == kerb.evidence_pct);
    for (unsigned i = 0; i < 8; i++) {
        assert_ptr_equal(by[i].conditions, kerb.conditions);
        assert_string_equal(by[i].name, "kerb");
    }
    const twi_camera_settings tunnel = camera_of(s, "tunnel"),
                              kerbs = camera_of(s, "kerbs");
    assert_int_equal(tunnel.conditions->count, 1);
    assert_true(tunnel.conditions->by[1].rest_us == 7000000); /* profiles are more
                                                                 particular */
    assert_true(tunnel.conditions->by[1].post_us == 21000000);
    assert_int_equal(kerbs.conditions->count, 1); /* its name only begins like kerb's */
    assert_int_equal(tw_settings_set(s, "start_at=4 %", NULL, NULL), TW_OK);
    assert_true(camera_of(s, "kerb").conditions->by[dark].start_ppm == 40000);
    tw_settings_free(s);
}

static void test_a_camera_without_any_has_none(void **state)
{
    (void)state;
    tw_settings *s = settings_of("[camera kerb]\nsource = sim:kerb\n");
    assert_null(camera_of(s, "kerb").conditions);
    tw_settings_free(s);
}

/* Zones by their sensitivity have the camera's limits, which may be others by night. */
static void test_zones_go_with_it(void **state)
{
    (void)state;
    tw_settings *s = settings_of(
        "[camera kerb]\nsource = sim:kerb\nstart_at = 1 %\n"
        "[camera kerb when dark]\nstart_at = 2 %\n"
        "[zone kerb/road]\nkind = own\nsensitivity = 2\narea = 0,0 50,0 50,50\n");
    const twi_camera_settings kerb = camera_of(s, "kerb");
    assert_int_equal(kerb.zone_count, 1);
    assert_true(kerb.zones[0].start_ppm == 10000);
    assert_int_equal(kerb.conditions->by[1].zone_count, 1);
    assert_true(kerb.conditions->by[1].zones[0].start_ppm == 20000);
    tw_settings_free(s);
}

static void test_words_of_what_holds(void **state)
{
    (void)state;
    char text[64], little[8];
    tw_settings *s = settings_of(FAMILY);
    const twi_camera_settings kerb = camera_of(s, "kerb");
    twi_conditions_word(kerb.conditions, 0, text, sizeof text);
    assert_string_equal(text, "");
    twi_conditions_word(kerb.conditions, bit(&kerb, "dark") | bit(&kerb, "22:00-05:00"),
                        text, sizeof text);
    assert_string_equal(text, "dark; 22:00-05:00");
    twi_conditions_word(kerb.conditions, 7, little, sizeof little);
    assert_string_equal(little, "dark; 2");
    twi_conditions_word(NULL, 7, text, sizeof text);
    assert_string_equal(text, "");
    tw_settings_free(s);
}

typedef struct row {
    const char *key;
    char value[64], origin[64];
    int seen, set;
} row;

static void find(void *ctx, const tw_setting *setting)
{
    row *r = ctx;
    r->seen++;
    r->set += strcmp(setting->origin, TWI_NOT_SET) != 0;
    if (strcmp(setting->key, r->key) != 0)
        return;
    (void)snprintf(r->value, sizeof r->value, "%s", setting->value);
    (void)snprintf(r->origin, sizeof r->origin, "%s", setting->origin);
}

static void test_sections_are_shown(void **state)
{
    (void)state;
    tw_settings *s = settings_of(FAMILY);
    assert_string_equal(twi_settings_condition_section(s, NULL, 0), "when dark");
    assert_null(twi_settings_condition_section(s, NULL, 1));
    assert_string_equal(twi_settings_condition_section(s, "kerb", 0), "kerb when dark");
    assert_string_equal(twi_settings_condition_section(s, "kerb", 2), "kerb when light");
    assert_null(twi_settings_condition_section(s, "kerb", 3));
    assert_null(twi_settings_condition_section(s, "kerbs", 0));
    row r = {.key = "start_at"};
    assert_int_equal(twi_settings_walk_condition(s, "kerb when dark", find, &r), TW_OK);
    assert_string_equal(r.value, "2 %");
    assert_has(r.origin, ":20");
    assert_int_equal(r.set, 1);
    r = (row){.key = "source"};
    assert_int_equal(twi_settings_walk_condition(s, "when dark", find, &r), TW_OK);
    assert_int_equal(r.set, 3);
    assert_string_equal(r.origin, ""); /* it cannot stand there */
    r = (row){.key = "rest"};
    assert_int_equal(twi_settings_walk_condition(s, "kerb when 01:00-02:00", find, &r),
                     TW_OK); /* which could be */
    assert_int_equal(r.set, 0);
    assert_string_equal(r.origin, TWI_NOT_SET);
    assert_int_equal(twi_settings_walk_condition(s, "gate when dark", find, &r),
                     TW_ENOENT);
    assert_int_equal(twi_settings_walk_condition(s, "kerb when dim", find, &r),
                     TW_ENOENT);
    assert_int_equal(twi_settings_walk_condition(s, "kerb", find, &r), TW_ENOENT);
    assert_int_equal(twi_settings_walk_condition(NULL, "when dark", find, &r), TW_EINVAL);
    tw_settings_free(s);
}

static void test_every_kind_of_mistake_has_its_line(void **state)
{
    (void)state;
    static const char *const wrong[][2] = {
        {"[camera kerb when]\n", "test:3: [camera kerb when]: write [camera NAME]"},
        {"[camera when dark]\n",
         "test:3: [camera when dark]: write [camera NAME when dark], or [cameras when "
         "dark]"},
        {"[cameras kerb when dark]\n", "or [cameras when dark]"},
        {"[camera k/erb when dark]\n", "write [camera NAME when dark]"},
        {"[camera kerb when dim]\n",
         "test:3: [camera kerb when dim]: expected when dark, when light, or hours such "
         "as when 22:00-05:00"},
        {"[camera kerb when always]\n", "expected when dark"},
        {"[camera kerb when 25:00-26:00]\n", "expected when dark"},
        {"[camera nobody when dark]\n",
         "test:3: [camera nobody when dark]: there is no camera nobody"},
        {"[camera kerb when dark]\nsource = sim:mere\n",
         "test:4: source is the same at all times: it belongs in a [camera NAME]"},
        {"[camera kerb when dark]\nsend_to = mail\n", "send_to is the same at all times"},
        {"[camera kerb when dark]\nkeep_for = 3 d\n",
         "keep_for is the same at all times"},
        {"[camera kerb when dark]\ndark_by = sun\n", "dark_by is the same at all times"},
        {"[camera kerb when dark]\nuse = night\n", "use belongs in a [camera NAME]"},
        {"[cameras when dark]\nstart_at = much\n", "test:4: start_at = much: expected"},
        {"[camera kerb when dark]\nstay_at = 3 %\n",
         "test:4: camera kerb: stay_at is over start_at"},
        {"[camera kerb when dusk-dawn]\n",
         "test:1: camera kerb: when dusk-dawn needs its latitude and longitude"},
        {"[camera kerb when 1:00-2:00]\n[camera kerb when 2:00-3:00]\n[camera kerb when "
         "3:00-4:00]\n[cameras when dark]\n[cameras when light]\n[camera kerb when "
         "5:00-6:00]\n",
         "camera kerb has more than 5 sections that hold at times"},
        {"[cameras]\ndark_by = sun\n",
         "test:4: camera kerb: dark_by = sun: it needs latitude and longitude"},
        {"[cameras]\ndark_by = pin\n", "dark_by = pin: write dark_pin = CHIP/NUMBER"},
        {"[cameras]\ndark_by = colour\ncolour = no\n", "it needs colour = yes"},
    };
    for (size_t i = 0; i < sizeof wrong / sizeof *wrong; i++) {
        char text[1024];
        problems p = {0};
        tw_settings *s = tw_settings_new();
        (void)snprintf(text, sizeof text, "[camera kerb]\nsource = sim:kerb\n%s",
                       wrong[i][0]);
        (void)tw_settings_read_text(s, "test", text, strlen(text), collect_problem, &p);
        (void)tw_settings_check(s, collect_problem, &p);
        if (p.count == 0)
            fail_msg("%s is taken for right", wrong[i][0]);
        assert_has(p.text, wrong[i][1]);
        tw_settings_free(s);
    }
}

/* What is wrong in the dark is wrong with the camera, and with no other. */
static void test_a_wrong_section_concerns_its_camera(void **state)
{
    (void)state;
    static const char text[] = "[camera kerb]\nsource = sim:kerb\n"
                               "[camera kerb when dark]\nstart_at = much\n"
                               "[camera mere]\nsource = sim:mere\n";
    tw_settings *s = tw_settings_new();
    (void)tw_settings_read_text(s, "test", text, sizeof text - 1, NULL, NULL);
    assert_false(twi_settings_sound(s, "kerb"));
    assert_true(twi_settings_sound(s, "mere"));
    tw_settings_free(s);
}

static void test_what_differs_holds_at_once(void **state)
{
    (void)state;
    static const char base[] = "[camera kerb]\nsource = sim:kerb\n"
                               "[camera mere]\nsource = sim:mere\n";
    static const char *const with[] = {
        "[camera kerb when dark]\nstart_at = 2 %\n",
        "[camera kerb when dark]\nstart_at = 3 %\n",
        "[camera kerb when light]\nstart_at = 2 %\n",
    };
    tw_settings *plain = settings_of(base);
    for (size_t i = 0; i < sizeof with / sizeof *with; i++) {
        char text[512];
        (void)snprintf(text, sizeof text, "%s%s", base, with[i]);
        tw_settings *one = settings_of(text);
        (void)snprintf(text, sizeof text, "%s%s", base, with[(i + 1) % 3]);
        tw_settings *other = settings_of(text), *same = tw_settings_copy(one);
        assert_int_equal(twi_settings_difference(plain, one, "kerb"), TW_APPLIED_LIVE);
        assert_int_equal(twi_settings_difference(one, plain, "kerb"), TW_APPLIED_LIVE);
        assert_int_equal(twi_settings_difference(one, other, "kerb"), TW_APPLIED_LIVE);
        assert_int_equal(twi_settings_difference(one, same, "kerb"), TW_APPLIED_NOT);
        assert_int_equal(twi_settings_difference(one, other, "mere"), TW_APPLIED_NOT);
        tw_settings_free(same);
        tw_settings_free(other);
        tw_settings_free(one);
    }
    tw_settings_free(plain);
}

/* Texts are changed in the section that is meant, however its name is spaced. */
static void test_they_are_edited(void **state)
{
    (void)state;
    static const char text[] = "[camera kerb]\nsource = sim:kerb\n\n"
                               "[camera kerb  when  dark]\nstart_at = 2 %  # toads\n";
    char *out = NULL;
    size_t bytes = 0;
    assert_int_equal(twi_settings_edit(text, sizeof text - 1, "camera", "kerb when dark",
                                       "start_at", "4 %", &out, &bytes),
                     TW_OK);
    assert_has(out, "[camera kerb  when  dark]\nstart_at = 4 %  # toads\n");
    free(out);
    assert_int_equal(twi_settings_edit(text, sizeof text - 1, "cameras", "when light",
                                       "rest", "4 s", &out, &bytes),
                     TW_OK);
    assert_has(out, "\n[cameras when light]\nrest = 4 s\n");
    free(out);
    assert_int_equal(twi_settings_edit(text, sizeof text - 1, "camera", "kerb when dark",
                                       NULL, NULL, &out, &bytes),
                     TW_OK);
    assert_null(strstr(out, "dark"));
    assert_has(out, "source = sim:kerb");
    free(out);
}

/* What the guide shows, taken as one file, has no mistakes. */
static void test_the_guide(void **state)
{
    (void)state;
    char *guide = read_file(SOURCE_DIR "/docs/day-and-night.md", NULL);
    char text[4096] = "";
    size_t blocks = 0;
    for (char *line = guide; line; line = strchr(line, '\n')) {
        line += *line == '\n';
        const size_t n = strcspn(line, "\n");
        if (strncmp(line, "    ", 4) != 0)
            continue;
        blocks += line[4] == '[';
        (void)snprintf(text + strlen(text), sizeof text - strlen(text), "%.*s\n",
                       (int)n - 4, line + 4);
    }
    tw_settings *s = settings_of(text);
    assert_int_equal(blocks, 6);
    assert_int_equal(camera_of(s, "kerb").conditions->count, 3);
    tw_settings_free(s);
    free(guide);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_what_holds_wins_over_what_always_does),
        cmocka_unit_test(test_a_camera_without_any_has_none),
        cmocka_unit_test(test_zones_go_with_it),
        cmocka_unit_test(test_words_of_what_holds),
        cmocka_unit_test(test_sections_are_shown),
        cmocka_unit_test(test_every_kind_of_mistake_has_its_line),
        cmocka_unit_test(test_a_wrong_section_concerns_its_camera),
        cmocka_unit_test(test_what_differs_holds_at_once),
        cmocka_unit_test(test_they_are_edited),
        cmocka_unit_test(test_the_guide),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
