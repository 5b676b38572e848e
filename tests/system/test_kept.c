/* Everything that can be kept, asked for at once, and what the tool makes of it: reels,
 * the export, the trace, and what happened. */
#include <csv.h>
#include <jansson.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../support/support.h"

static const char SETTINGS[] =
    "[station]\nname = kept-test\n"
    "[cameras]\nfps = 5\nclip_video = mjpeg\nlatitude = 52.100001\nlongitude = -1.25\n"
    "[camera kerb]\nsource = sim:kerb,size=240x136\npace = no\nstills = first\n"
    "timed_still = 10 s\ntimed_clip = 5 s every 1 min\ncontinuous = yes\nsegment = 1 "
    "min\n"
    "caption = %H:%M:%S {camera} {activity}\n";

/* One station has run for all of the tests. */
static char *folder, *watched;

static int run_station(void **state)
{
    (void)state;
    (void)setenv("TZ", "Europe/Berlin", 1);
    folder = make_folder();
    (void)setenv("XDG_RUNTIME_DIR", folder, 1); /* it meets no other station */
    char *path = join(folder, "station.ini");
    write_text(path, SETTINGS);
    free(path);
    outcome o = run_program(folder, TOOL, "watch", NULL);
    assert_int_equal(o.code, 0);
    watched = strdup(o.out);
    free_outcome(&o);
    return 0;
}

static int drop(void **state)
{
    (void)state;
    free(watched);
    remove_folder(folder);
    return 0;
}

static void test_each_kind_has_its_name(void **state)
{
    (void)state;
    static const struct {
        const char *ending;
        size_t count;
    } kinds[] = {{"-still.jpg", 3},         {"-clip.mp4", 3},
                 {"-segment.mp4", 3},       {"-timed-still.jpg", 14},
                 {"-timed-clip.mp4", 2},    {"-captioned-still.jpg", 3},
                 {"-captioned-clip.mp4", 3}};
    char *store = join(folder, "captures"), **files = list_files(store);
    for (size_t k = 0; k < sizeof kinds / sizeof *kinds; k++) {
        size_t count = 0;
        for (size_t i = 0; files[i]; i++) {
            const char *at = strstr(files[i], kinds[k].ending);
            count +=
                at && strcmp(at, kinds[k].ending) == 0 && at[-1] >= '0' && at[-1] <= '9';
        }
        if (count != kinds[k].count)
            fail_msg("%zu files %s instead of %zu", count, kinds[k].ending,
                     kinds[k].count);
    }
    /* local time with its offset from UTC */
    assert_has(files[0], "2027-03-13/kerb/kerb-20270313T21");
    assert_has(files[0], "+0100-");
    assert_has(watched, "captioned-clip stored: ");
    free_list(files);
    free(store);
}

/* Frames and length of a video, by another program. */
static void check_video(const char *name, const char *expected)
{
    outcome o = run_program(
        folder, FFPROBE, "-v", "error", "-count_packets", "-show_entries",
        "stream=codec_name,width,height,nb_read_packets", "-of", "csv=p=0", name, NULL);
    assert_int_equal(o.code, 0);
    if (!strstr(o.out, expected))
        fail_msg("%s is %s instead of %s", name, o.out, expected);
    free_outcome(&o);
}

static void test_a_time_lapse(void **state)
{
    (void)state;
    outcome o = run_program(folder, TOOL, "reel", "lapse.mp4", "--fps", "7", "--width",
                            "120", "--caption", "%H:%M {camera}", NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out, "lapse.mp4: made of 14 pictures");
    free_outcome(&o);
    check_video("lapse.mp4", "h264,120,68,14");
    o = run_program(folder, TOOL, "reel", "lapse.mp4", NULL); /* nothing is replaced */
    assert_int_equal(o.code, 1);
    assert_has(o.err, "lapse.mp4: File exists");
    free_outcome(&o);
    o = run_program(folder, TOOL, "reel", "none.mp4", "--day", "2027-03-14", NULL);
    assert_int_equal(o.code, 1);
    assert_has(o.err, "captures has no timed stills");
    free_outcome(&o);
}

static void test_clips_joined(void **state)
{
    (void)state;
    outcome o = run_program(folder, TOOL, "reel", "clips.mp4", "--clips", "--speed", "4",
                            "--caption", "%H:%M:%S no. {sighting}", NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out, "clips.mp4: made of 3 clips");
    free_outcome(&o);
    check_video("clips.mp4", "h264,240,136,");
    o = run_program(folder, FFPROBE, "-v", "error", "-show_entries", "format=duration",
                    "-of", "csv=p=0", "clips.mp4", NULL);
    const double length = atof(o.out); /* a quarter of the 101 s or so of all clips */
    assert_true(length > 24 && length < 27);
    free_outcome(&o);
}

static void test_reels_that_cannot_be_made(void **state)
{
    (void)state;
    outcome o = run_program(folder, TOOL, "reel", NULL);
    assert_int_equal(o.code, 2);
    assert_has(o.err, "name the video that is to be made");
    free_outcome(&o);
    o = run_program(folder, TOOL, "reel", "a.mp4", "--clips", "--stills", NULL);
    assert_int_equal(o.code, 2);
    free_outcome(&o);
    o = run_program(folder, TOOL, "reel", "a.mp4", "--fps", "0", "station.ini", NULL);
    assert_int_equal(o.code, 2);
    assert_has(o.err, "1 to 60 are possible");
    free_outcome(&o);
    o = run_program(folder, TOOL, "reel", "a.mp4", "station.ini", NULL);
    assert_int_equal(o.code, 1);
    assert_has(o.err, "station.ini");
    free_outcome(&o);
    o = run_program(folder, TOOL, "reel", "a.mp4", "--caption", "{kind}", NULL);
    assert_int_equal(o.code, 2);
    assert_has(o.err, "caption: \"{kind}\" is no conversion or field");
    free_outcome(&o);
    char *left = join(folder, "a.mp4");
    assert_int_not_equal(access(left, F_OK), 0); /* nothing half-made stays */
    free(left);
}

/* ---- the export ---------------------------------------------------------------------
 */

enum { ROWS_MAX = 64, FIELDS_MAX = 32 };

typedef struct table {
    char *field[ROWS_MAX][FIELDS_MAX];
    size_t rows, columns, at;
} table;

static void take_field(void *text, size_t bytes, void *ctx)
{
    table *t = ctx;
    assert_true(t->rows < ROWS_MAX && t->at < FIELDS_MAX);
    t->field[t->rows][t->at++] = strndup(text ? text : "", bytes);
}

static void take_row(int c, void *ctx)
{
    table *t = ctx;
    (void)c;
    if (t->rows == 0)
        t->columns = t->at;
    assert_int_equal(t->at, t->columns); /* each row has them all */
    t->rows++;
    t->at = 0;
}

static table *read_table(const char *name)
{
    table *t = calloc(1, sizeof *t);
    struct csv_parser parser;
    char *out = join(folder, "out"), *path = join(out, name);
    size_t bytes = 0;
    char *data = read_file(path, &bytes);
    assert_non_null(t);
    assert_int_equal(csv_init(&parser, CSV_STRICT), 0);
    assert_int_equal(csv_parse(&parser, data, bytes, take_field, take_row, t), bytes);
    (void)csv_fini(&parser, take_field, take_row, t);
    csv_free(&parser);
    free(data);
    free(path);
    free(out);
    return t;
}

static void free_table(table *t)
{
    for (size_t r = 0; r < t->rows; r++)
        for (size_t f = 0; f < t->columns; f++)
            free(t->field[r][f]);
    free(t);
}

static void check_media(void)
{
    table *t = read_table("media.csv");
    assert_int_equal(t->rows - 1, 3 + 3 + 14 + 2); /* no segments, no captioned copies */
    for (size_t r = 1; r < t->rows; r++) {
        char *out = join(folder, "out"), *path = join(out, t->field[r][4]);
        assert_int_equal(access(path, R_OK), 0); /* it is in the package */
        for (size_t other = 1; other < r; other++)
            assert_string_not_equal(t->field[r][0], t->field[other][0]);
        free(path);
        free(out);
    }
    free_table(t);
}

static void check_datapackage(void)
{
    static const char *const required[] = {"resources",    "profile",  "created",
                                           "contributors", "project",  "spatial",
                                           "temporal",     "taxonomic"};
    char *out = join(folder, "out"), *path = join(out, "datapackage.json");
    json_t *o = json_load_file(path, 0, NULL);
    for (size_t i = 0; i < sizeof required / sizeof *required; i++)
        if (!json_object_get(o, required[i]))
            fail_msg("datapackage.json has no %s", required[i]);
    assert_int_equal(json_array_size(json_object_get(o, "resources")), 3);
    const json_t *project = json_object_get(o, "project");
    assert_string_equal(json_string_value(json_object_get(project, "samplingDesign")),
                        "opportunistic");
    const json_t *time = json_object_get(o, "temporal");
    assert_string_equal(json_string_value(json_object_get(time, "start")), "2027-03-13");
    json_decref(o);
    free(path);
    free(out);
}

static void test_the_export_follows_the_standard(void **state)
{
    (void)state;
    outcome o = run_program(folder, TOOL, "sightings", "--mark", "nothing", "2", NULL);
    assert_int_equal(o.code, 0);
    free_outcome(&o);
    o = run_program(folder, TOOL, "sightings", "--camtrap", "out", NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out, "3 sightings of 1 camera exported to out");
    free_outcome(&o);
    table *t = read_table("deployments.csv");
    assert_int_equal(t->rows, 2);
    assert_string_equal(t->field[1][3], "52.100001");
    assert_string_equal(t->field[1][4], "-1.250000");
    free_table(t);
    check_media();
    t = read_table("observations.csv");
    assert_int_equal(t->rows, 4);
    assert_string_equal(t->field[1][7], "unclassified");
    assert_string_equal(t->field[2][7], "blank"); /* it was marked as nothing */
    assert_string_equal(t->field[2][22], "human");
    assert_string_equal(t->field[3][22], "");
    free_table(t);
    check_datapackage();
}

static void test_an_export_needs_a_place(void **state)
{
    (void)state;
    char *lines = strdup(SETTINGS), *at = strstr(lines, "latitude = 52.100001\n");
    memmove(at, at + 21, strlen(at + 21) + 1);
    char *path = join(folder, "nowhere.ini");
    write_text(path, lines);
    outcome o = run_program(folder, TOOL, "sightings", "--settings", "nowhere.ini",
                            "--camtrap", "out2", NULL);
    assert_int_equal(o.code, 1);
    assert_has(o.err, "it is not known where camera kerb stands");
    free_outcome(&o);
    free(path);
    free(lines);
}

/* ---- over time ----------------------------------------------------------------------
 */

static void test_the_trace_is_kept(void **state)
{
    (void)state;
    outcome o = run_program(folder, TOOL, "sightings", "--trace", "--camera", "kerb",
                            "--day", "2027-03-13", NULL);
    assert_int_equal(o.code, 0);
    size_t lines = 0;
    double most = 0;
    for (const char *at = o.out; (at = strchr(at, '\n')) != NULL && at[1]; lines++) {
        at++;
        const char *comma = strchr(at, ',');
        assert_non_null(comma);
        most = atof(comma + 1) > most ? atof(comma + 1) : most;
    }
    assert_int_equal(lines, 150); /* one for each second of the scene */
    assert_true(most > 0.4 && most < 5);
    free_outcome(&o);
    o = run_program(folder, TOOL, "sightings", "--trace", NULL);
    assert_int_equal(o.code, 2);
    assert_has(o.err, "--camera NAME");
    free_outcome(&o);
}

static void test_what_happened_is_kept(void **state)
{
    (void)state;
    outcome o = run_program(folder, TOOL, "sightings", "--happened", "--json", NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out, "\"camera\":\"kerb\",\"what\":\"opened\"");
    assert_has(o.out, "\"camera\":\"kerb\",\"what\":\"closed\"");
    free_outcome(&o);
}

/* ---- frames from other programs ---------------------------------------------------- */

/* What a shell's line gives, run where the clips lie. */
static void check_pipe(const char *writer, const char *frames)
{
    char line[1024];
    (void)snprintf(line, sizeof line,
                   "%s 2>/dev/null | %s rehearse --json --set fps=5 stdin:", writer,
                   TOOL);
    outcome o = run_program(folder, "/bin/sh", "-c", line, NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out, frames);
    free_outcome(&o);
}

static void test_frames_on_standard_input(void **state)
{
    (void)state;
    check_pipe(FFMPEG " -v error -i $(ls captures/*/kerb/*000-segment.mp4 | head -1) "
                      "-c copy -f image2pipe -",
               "\"frames\":300,\"seconds\":60.0");
    check_pipe(FFMPEG " -v error -i $(ls captures/*/kerb/*000-segment.mp4 | head -1) "
                      "-t 10 -f yuv4mpegpipe -pix_fmt yuv420p -",
               "\"frames\":50,\"seconds\":10.0");
    outcome o = run_program(folder, "/bin/sh", "-c",
                            "echo toads | " TOOL " rehearse stdin:", NULL);
    assert_int_equal(o.code, 1);
    assert_has(o.err, "standard input: 6 bytes are no picture");
    free_outcome(&o);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_each_kind_has_its_name),
        cmocka_unit_test(test_a_time_lapse),
        cmocka_unit_test(test_clips_joined),
        cmocka_unit_test(test_reels_that_cannot_be_made),
        cmocka_unit_test(test_the_export_follows_the_standard),
        cmocka_unit_test(test_an_export_needs_a_place),
        cmocka_unit_test(test_the_trace_is_kept),
        cmocka_unit_test(test_what_happened_is_kept),
        cmocka_unit_test(test_frames_on_standard_input),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, run_station, drop);
}
