/* tawny tune: proposals from truth, from sorted footage and from a walk. */
#include <jansson.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

#include "../support/support.h"
#include "tawny/draw.h"

#define KERB "sim:kerb,size=240x136"

/* Pictures of the first toad, and of the quiet before it. */
static char *footage;

enum { MARKED_W = 160, MARKED_H = 90, MARKED_FRAMES = 100, BOX = 12, WIDE = 18 };

static void draw_marked(uint8_t *px, unsigned *chance, int left, int top, int side)
{
    for (int y = 0; y < MARKED_H; y++)
        for (int x = 0; x < MARKED_W; x++) {
            *chance = *chance * 1664525U + 1013904223U;
            const bool box = x >= left && x < left + side && y >= top && y < top + side;
            px[y * MARKED_W + x] =
                (uint8_t)((box ? 150 : 60) + (x / 3 * 7 + y / 2 * 13) % 23 +
                          (int)(*chance >> 30));
        }
}

/* Pictures in which something crosses the middle, or something larger strays about in a
 * corner. */
static void write_marked(const char *name, bool crosses, unsigned chance)
{
    char *folder = join(footage, name);
    uint8_t *px = malloc((size_t)MARKED_W * MARKED_H);
    assert_non_null(px);
    assert_int_equal(mkdir(folder, 0700), 0);
    for (int i = 0; i < MARKED_FRAMES; i++) {
        const int at = i - 60;
        const int side = crosses ? BOX : WIDE;
        int left = -side, top = -side;
        if (at >= 0 && at < 20) {
            left =
                crosses ? at * MARKED_W / 20 : 8 + (at % 8 < 4 ? at % 4 : 4 - at % 4) * 4;
            top = crosses ? 46 : 8;
        }
        char file[32];
        uint8_t *jpeg = NULL;
        size_t bytes = 0;
        draw_marked(px, &chance, left, top, side);
        const tw_picture picture = {{px}, {MARKED_W}, MARKED_W, MARKED_H, TW_PIXELS_GREY};
        assert_int_equal(tw_picture_jpeg(&picture, 90, &jpeg, &bytes, NULL), TW_OK);
        (void)snprintf(file, sizeof file, "%04d.jpg", i);
        char *path = join(folder, file);
        write_bytes(path, jpeg, bytes);
        free(path);
        free(jpeg);
    }
    free(px);
    free(folder);
}

static int make_footage(void **state)
{
    (void)state;
    footage = make_folder();
    char *toad = join(footage, "toad"), *quiet = join(footage, "quiet"),
         *truth = join(footage, "truth.csv");
    assert_int_equal(mkdir(toad, 0700), 0);
    assert_int_equal(mkdir(quiet, 0700), 0);
    (void)write_pictures(toad, KERB, 5, 225);
    (void)write_pictures(quiet, KERB, 5, 65);
    write_text(truth, "file,start,end,what\ntoad,14,40.4,toad\nquiet,,,nothing\n");
    write_marked("crossing", true, 1);
    write_marked("straying", false, 2);
    free(toad);
    free(quiet);
    free(truth);
    return 0;
}

static int remove_footage(void **state)
{
    (void)state;
    remove_folder(footage);
    return 0;
}

static void test_truth_with_a_limit_that_is_too_high(void **state)
{
    (void)state;
    outcome o =
        run_program(footage, TOOL, "tune", "--truth", "truth.csv", "--set", "fps=5",
                    "--set", "start_at=12%", "--plot", "c.svg", "toad", "quiet", NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out,
               "Built-in settings: 2 pieces of footage, 58.0 s; 112 settings tried.");
    assert_has(o.out, "  now       found 0 of 1, 0 false");
    assert_has(o.out, "  proposed  found 1 of 1, 0 false");
    assert_has(o.out, "    start_at = 0.");
    assert_has(o.out, "# instead of 12 %");
    assert_has(o.out, "does as well here, and this lies in the middle");
    assert_has(o.out, "with 95 % certainty");
    assert_has(o.out, "More footage would say more.");
    free_outcome(&o);
    size_t bytes = 0;
    char *path = join(footage, "c.svg"), *curve = read_file(path, &bytes);
    assert_has(curve, "false sightings an hour");
    assert_has(curve, "proposed, start_at 0.");
    assert_has(curve, "now, start_at 12 %");
    free(curve);
    free(path);
}

static void test_sorted_footage_as_json(void **state)
{
    (void)state;
    outcome o = run_program(footage, TOOL, "tune", "--json", "--set", "fps=5", "--set",
                            "start_at=4%", "--nothing-in", "quiet", "--something-in",
                            "toad", NULL);
    assert_int_equal(o.code, 0);
    assert_int_equal(count_lines(o.out, "{\"type\":\"trial\",\"start_at\":"), 112);
    assert_has(o.out, "{\"type\":\"now\",\"start_at\":4.0,");
    const char *last = strstr(o.out, "{\"type\":\"proposed\"");
    assert_non_null(last);
    json_t *proposed = json_loads(last, JSON_DISABLE_EOF_CHECK, NULL);
    assert_int_equal(json_integer_value(json_object_get(proposed, "found")), 1);
    assert_true(
        json_is_string(json_object_get(json_object_get(proposed, "set"), "start_at")));
    json_decref(proposed);
    free_outcome(&o);
}

static const char STATION[] = "# ours\n"
                              "[camera kerb]\n"
                              "source = " KERB "\n"
                              "start_at = 4 %   # too high\n";

static void test_a_walk_and_its_proposal_written_back(void **state)
{
    (void)state;
    char *folder = make_folder(), *ini = join(folder, "station.ini"),
         *old = join(folder, "station.ini.old");
    size_t bytes = 0;
    write_text(ini, STATION);
    outcome o =
        run_program(folder, TOOL, "tune", "--camera", "kerb", "--walk", "25", NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.err, "Keep out of the picture for 13 s.");
    assert_has(o.err, "Now walk through the picture, within 25 s.");
    assert_has(o.out, "Camera kerb: 1 piece of footage, 38.1 s; 16 settings tried.");
    assert_has(o.out, "found 1 of 1, 0 false");
    char *text = read_file(ini, &bytes);
    assert_string_equal(text, STATION); /* nothing is changed unasked */
    free(text);
    free_outcome(&o);
    o = run_program(folder, TOOL, "tune", "--camera", "kerb", "--walk", "25", "--write",
                    NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out, "Written to station.ini; as it was before it is in "
                      "station.ini.old.");
    text = read_file(ini, &bytes);
    assert_has(text, "# ours\n[camera kerb]\nsource = " KERB "\nstart_at = 0.");
    assert_has(text, " %   # too high\n");
    free(text);
    text = read_file(old, &bytes);
    assert_string_equal(text, STATION);
    free(text);
    free_outcome(&o);
    o = run_program(folder, TOOL, "check", NULL);
    assert_int_equal(o.code, 0);
    free_outcome(&o);
    free(old);
    free(ini);
    remove_folder(folder);
}

static void test_a_walk_that_saw_nobody(void **state)
{
    (void)state;
    char *folder = make_folder(), *ini = join(folder, "station.ini");
    write_text(ini, "[camera kerb]\nsource = " KERB "\nlargest = 0.02 %\n");
    outcome o =
        run_program(folder, TOOL, "tune", "--camera", "kerb", "--walk", "20", NULL);
    assert_int_equal(o.code, 1);
    assert_has(o.err, "I did not see you: nothing moved like a subject in those 20 s");
    assert_has(o.err, "smallest and largest");
    assert_null(strstr(o.out, "start_at"));
    free_outcome(&o);
    free(ini);
    remove_folder(folder);
}

static void test_good_settings_are_left_alone(void **state)
{
    (void)state;
    char *folder = make_folder(), *ini = join(folder, "station.ini");
    size_t bytes = 0;
    const char *text = "[camera kerb]\nsource = " KERB "\n";
    write_text(ini, text);
    outcome o = run_program(folder, TOOL, "tune", "--camera", "kerb", "--walk", "25",
                            "--write", NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out, "Nothing to change: start_at from 0.02 % to ");
    char *after = read_file(ini, &bytes);
    assert_string_equal(after, text);
    free(after);
    free_outcome(&o);
    free(ini);
    remove_folder(folder);
}

static void check_usage(const char *line, const char *a, const char *b, const char *c)
{
    outcome o = run_program(footage, TOOL, "tune", a, b, c, NULL);
    assert_int_equal(o.code, 2);
    assert_has(o.err, line);
    assert_int_equal(count_lines(o.err, ""), 1);
    free_outcome(&o);
}

static void test_wrong_usage_is_one_line(void **state)
{
    (void)state;
    check_usage("name the footage, or say --walk SECONDS", NULL, NULL, NULL);
    check_usage("say what happens in the footage: --truth CSV", "toad", NULL, NULL);
    check_usage("--walk: name the camera with --camera NAME", "--walk", "20", NULL);
    check_usage("--walk: from 3 to 600 seconds", "--walk", "2", "toad");
    check_usage("--write changes the settings file: name the camera", "--write", "toad",
                NULL);
    check_usage("--worth: from 1 to 1000", "--worth", "0", "toad");
    check_usage("--store, --day and --draw go with --marked", "--store=x", "toad", NULL);
    check_usage("--marked takes what is in the store", "--marked", "toad", NULL);
    check_usage("--marked: name the camera", "--marked", NULL, NULL);
    check_usage("there is no settings file", "--camera", "kerb", "--walk=20");
    outcome o = run_program(footage, TOOL, "tune", "--walk", "20", "quiet", NULL);
    assert_int_equal(o.code, 1);
    assert_has(o.err, "quiet ended after 6.5 s, before the walk could begin");
    free_outcome(&o);
}

/* ---- from marks ----------------------------------------------------------------------
 */

static void keep_marked(const char *name)
{
    outcome o = run_program(footage, TOOL, "rehearse", "--camera", "lane", "--as-live",
                            "--keep", "store", name, NULL);
    assert_int_equal(o.code, 0);
    assert_int_equal(count_lines(o.out, "  sighting "), 1);
    free_outcome(&o);
}

static void mark(const char *as, const char *a, const char *b, const char *c)
{
    outcome o = run_program(footage, TOOL, "sightings", "--mark", as, a, b, c, NULL);
    assert_int_equal(o.code, 0);
    free_outcome(&o);
}

static outcome learn(const char *a, const char *b)
{
    return run_program(footage, TOOL, "tune", "--camera", "lane", "--marked", a, b, NULL);
}

/* What was nothing lay together in a corner: a zone. */
static void test_a_zone_is_learnt_from_marks(void **state)
{
    (void)state;
    static const char SETTINGS[] = "[station]\nstore = store\n[camera lane]\n"
                                   "source = file:crossing\nfps = 5\ntravel = 0 %\n";
    char *ini = join(footage, "station.ini"), *picture = join(footage, "zone.png");
    write_text(ini, SETTINGS);
    for (int i = 0; i < 3; i++)
        keep_marked("crossing");
    outcome o = learn(NULL, NULL);
    assert_int_equal(o.code, 1);
    assert_has(o.err, "no sighting of lane is marked yet");
    free_outcome(&o);
    keep_marked("straying");
    keep_marked("straying");
    mark("right", "1", "2", "3");
    mark("nothing", "4", NULL, NULL);
    o = learn("--write", NULL);
    assert_int_equal(o.code, 1);
    assert_has(o.err, "too few marks with footage to learn from: 3 right, 1 nothing");
    free_outcome(&o);
    mark("nothing", "5", NULL, NULL);
    o = learn("--write", "--draw=zone.png");
    assert_int_equal(o.code, 0);
    assert_has(o.out, "  now       3 of 3 that were right are seen, 2 of 2 that were "
                      "nothing");
    assert_has(o.out, "  proposed  3 of 3 that were right are seen, 0 of 2 that were "
                      "nothing");
    assert_has(o.out, "    [zone lane/learnt]\n    kind = ignored\n    area = ");
    assert_has(o.out, "nothing, gone with it: 4 5");
    assert_has(o.out, "none of 3 that were right is lost");
    assert_null(strstr(o.out, "LOST"));
    free_outcome(&o);
    size_t bytes = 0;
    char *text = read_file(ini, &bytes);
    assert_has(text, "[zone lane/learnt]\nkind = ignored\narea = ");
    free(text);
    text = read_file(picture, &bytes);
    assert_true(bytes > 1000 && memcmp(text + 1, "PNG", 3) == 0);
    free(text);
    free(ini);
    free(picture);
}

static outcome ask_why_not(const char *camera, const char *at)
{
    return run_program(footage, TOOL, "rehearse", "--camera", camera, "--why-not", at,
                       NULL);
}

/* A moment on the wall, of what the store has; where that is gone, of the trace. */
static void check_why_not(const char *at)
{
    outcome o = ask_why_not("lane", at);
    assert_int_equal(o.code, 0);
    assert_has(o.out, " %, under start_at 20.00 %");
    free_outcome(&o);
    o = ask_why_not("lane", "2001-01-01 12:00");
    assert_int_equal(o.code, 1);
    assert_has(o.err, "at 2001-01-01 12:00 nothing was looked at by lane");
    free_outcome(&o);
    o = ask_why_not("lane", "12:00");
    assert_int_equal(o.code, 2);
    assert_has(o.err, "--why-not 12:00: expected a local time");
    free_outcome(&o);
    o = ask_why_not("mere", at); /* another camera's footage is not its own */
    assert_int_equal(o.code, 1);
    free_outcome(&o);
    char *store = join(footage, "missed"), *gone = join(footage, "gone"),
         *ini = join(footage, "gone.ini");
    tw_catalogue *c = NULL;
    assert_int_equal(mkdir(gone, 0700), 0);
    char *from = join(store, "catalogue.db"), *to = join(gone, "catalogue.db");
    size_t bytes = 0;
    char *whole = read_file(from, &bytes);
    write_bytes(to, whole, bytes);
    write_text(ini, "[station]\nstore = gone\n[camera lane]\nsource = file:crossing\n");
    assert_int_equal(tw_catalogue_open(to, true, &c, NULL), TW_OK);
    assert_int_equal(twi_catalogue_seen(c, NULL, NULL), TW_OK);
    assert_int_equal(twi_catalogue_forget_unseen(c, NULL, NULL), TW_OK);
    tw_catalogue_close(c);
    o = run_program(footage, TOOL, "rehearse", "--settings", "gone.ini", "--camera",
                    "lane", "--why-not", at, NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out, "no footage is stored; by the trace ");
    free_outcome(&o);
    free(whole);
    free(from);
    free(to);
    free(store);
    free(gone);
    free(ini);
}

/* Something that no sighting was of, in a segment: a limit comes down. */
static void test_what_was_missed_is_found(void **state)
{
    (void)state;
    char *ini = join(footage, "station.ini");
    write_text(ini, "[station]\nstore = missed\n[camera lane]\nsource = file:crossing\n"
                    "fps = 5\nstart_at = 20 %\nsegment = 10 s\n");
    outcome o = run_program(footage, TOOL, "rehearse", "--camera", "lane", "--as-live",
                            "--set", "continuous=yes", "--set", "start_at=0.05 %",
                            "--keep", "missed", "crossing", "crossing", "crossing", NULL);
    assert_int_equal(o.code, 0);
    free_outcome(&o);
    mark("right", "1", "2", "3");
    char at[20] = ""; /* pictures have the times of their files */
    o = run_program(footage, TOOL, "sightings", "--json", "1", NULL);
    const char *start = strstr(o.out, "\"start\":\"");
    assert_non_null(start);
    (void)snprintf(at, sizeof at, "%s", start + strlen("\"start\":\""));
    free_outcome(&o);
    for (int i = 0; i < 2; i++) {
        o = run_program(footage, TOOL, "sightings", "--camera", "lane", "--missed", at,
                        NULL);
        assert_int_equal(o.code, 0);
        free_outcome(&o);
    }
    check_why_not(at);
    o = learn("--json", NULL);
    assert_int_equal(o.code, 0);
    assert_int_equal(
        count_lines(o.out, "\"mark\":\"right\",\"now\":false,\"proposed\":true}"), 3);
    assert_int_equal(
        count_lines(o.out, "\"mark\":\"missed\",\"now\":false,\"proposed\":true}"), 2);
    free_outcome(&o);
    o = learn(NULL, NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out, "  now       0 of 3 that were right are seen, 0 of 0 that were "
                      "nothing, 0 of 2 that were missed");
    assert_has(o.out, "  proposed  3 of 3 that were right are seen, 0 of 0 that were "
                      "nothing, 2 of 2 that were missed");
    assert_has(o.out, "missed, seen with it: 1 2");
    assert_has(o.out, "right, seen again with it: 1 2 3");
    assert_has(o.out, "By the trace of ");
    free_outcome(&o);
    free(ini);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_truth_with_a_limit_that_is_too_high),
        cmocka_unit_test(test_sorted_footage_as_json),
        cmocka_unit_test(test_a_walk_and_its_proposal_written_back),
        cmocka_unit_test(test_a_walk_that_saw_nobody),
        cmocka_unit_test(test_good_settings_are_left_alone),
        cmocka_unit_test(test_wrong_usage_is_one_line),
        cmocka_unit_test(test_a_zone_is_learnt_from_marks),
        cmocka_unit_test(test_what_was_missed_is_found),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, make_footage, remove_footage);
}
