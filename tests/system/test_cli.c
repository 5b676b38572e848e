/* The command-line tool, driven as its users drive it. */
#include <jansson.h>
#include <signal.h>
#include <spawn.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include "../support/support.h"

extern char **environ;

#define KERB "sim:kerb,size=240x136"

/* One folder with footage for all tests: made once. */
static char *shared;

static char *in_shared(const char *name)
{
    return join(shared, name);
}

static void transcode(const char *out, ...)
{
    char *pattern = in_shared("pictures/%05d.jpg"), *path = in_shared(out);
    char *argv[40] = {(char *)FFMPEG, (char *)"-v", (char *)"error", (char *)"-framerate",
                      (char *)"5",    (char *)"-i", pattern};
    int n = 7;
    va_list args;
    va_start(args, out);
    for (char *a = va_arg(args, char *); a; a = va_arg(args, char *))
        argv[n++] = a;
    va_end(args);
    argv[n++] = path;
    outcome o = run_arguments(NULL, argv);
    if (o.code != 0)
        fail_msg("%s: %s", out, o.err);
    free_outcome(&o);
    free(pattern);
    free(path);
}

/* 90 s of the scene: the first toad and the hedgehog, two passing cars. */
static int make_footage(void **state)
{
    (void)state;
    shared = make_folder();
    (void)setenv("XDG_RUNTIME_DIR", shared, 1); /* its stations meet no others */
    char *pictures = in_shared("pictures");
    assert_int_equal(mkdir(pictures, 0700), 0);
    assert_int_equal(write_pictures(pictures, KERB, 5, 450), 450);
    free(pictures);
    transcode("h264.mp4", "-c:v", "libx264", "-pix_fmt", "yuv420p", NULL);
    transcode("b-frames.mkv", "-c:v", "libx264", "-bf", "3", "-pix_fmt", "yuv420p", NULL);
    transcode("groups.mkv", "-c:v", "libx264", "-g", "15", "-bf", "2", "-x264opts",
              "open_gop=1", "-pix_fmt", "yuv420p", NULL);
    transcode("mjpeg.avi", "-c:v", "copy", NULL);
    transcode("short.avi", "-c:v", "copy", "-ss", "72", "-t", "6", NULL);
    transcode("mjpeg.mkv", "-c:v", "copy", NULL);
    transcode("mpeg4.avi", "-c:v", "mpeg4", "-q:v", "2", NULL);
    transcode("raw.avi", "-c:v", "rawvideo", "-pix_fmt", "bgr24", "-t", "50", NULL);
    transcode("huffyuv.avi", "-c:v", "huffyuv", "-t", "45", NULL);
    return 0;
}

static int remove_footage(void **state)
{
    (void)state;
    remove_folder(shared);
    return 0;
}

/* The n-th JSON object of a type in the lines of a text; borrowed from *holder. */
static json_t *object(const char *text, const char *type, size_t n, json_t **holder)
{
    json_t *all = json_array();
    json_t *found = NULL;
    for (const char *line = text; *line;) {
        const size_t length = strcspn(line, "\n");
        json_error_t error;
        json_t *o = json_loadb(line, length, JSON_REJECT_DUPLICATES, &error);
        if (!o)
            fail_msg("no JSON: %.*s", (int)length, line);
        (void)json_array_append_new(all, o);
        const char *is = json_string_value(json_object_get(o, "type"));
        assert_non_null(is);
        if (strcmp(is, type) == 0 && n-- == 0 && !found)
            found = o;
        line += length + (line[length] == '\n');
    }
    *holder = all;
    return found;
}

static double real(const json_t *o, const char *key)
{
    const json_t *v = json_object_get(o, key);
    if (!json_is_number(v))
        fail_msg("%s is no number", key);
    return json_number_value(v);
}

/* ---- usage ------------------------------------------------------------------------- */

static void test_help_of_every_command_shows_an_example(void **state)
{
    (void)state;
    static const char *const commands[] = {"demo",     "look", "check", "settings",
                                           "rehearse", "tune", "watch"};
    outcome o = run_program(NULL, TOOL, "--help", NULL);
    assert_int_equal(o.code, 0);
    for (size_t i = 0; i < sizeof commands / sizeof *commands; i++) {
        char line[32];
        (void)snprintf(line, sizeof line, "  %s ", commands[i]);
        assert_has(o.out, line);
        outcome one = run_program(NULL, TOOL, commands[i], "--help", NULL);
        assert_int_equal(one.code, 0);
        (void)snprintf(line, sizeof line, "tawny %s", commands[i]);
        assert_has(one.out, line);
        assert_has(one.out, "Example");
        free_outcome(&one);
    }
    free_outcome(&o);
}

static void check_usage(const char *line, ...)
{
    char *argv[10] = {(char *)TOOL};
    va_list args;
    va_start(args, line);
    for (int n = 1; n < 9; n++)
        if (!(argv[n] = va_arg(args, char *)))
            break;
    va_end(args);
    char *folder = make_folder(); /* without a station.ini */
    outcome o = run_arguments(folder, argv);
    assert_int_equal(o.code, 2);
    assert_has(o.err, line);
    assert_int_equal(count_lines(o.err, ""), 1); /* one clear line */
    free_outcome(&o);
    remove_folder(folder);
}

static void test_wrong_usage_exits_with_2_and_one_line(void **state)
{
    (void)state;
    check_usage("there is no command wach: see tawny --help", "wach", NULL);
    check_usage("Unknown option --frobnicate", "watch", "--frobnicate", NULL);
    check_usage("name the footage", "rehearse", NULL);
    check_usage("name one camera", "look", NULL);
    check_usage("there is no settings file: tawny init writes station.ini", "watch",
                NULL);
    check_usage("there is no settings file", "check", NULL);
    check_usage("nothere.ini: cannot read the settings", "watch", "-s", "nothere.ini",
                NULL);
    check_usage("--set: unknown setting start_ta: did you mean start_at?", "rehearse",
                "--set", "start_ta=1%", KERB, NULL);
    check_usage("extra is not expected", "watch", "-s", "a.ini", "extra", NULL);
}

static void test_version(void **state)
{
    (void)state;
    outcome o = run_program(NULL, TOOL, "--version", NULL);
    assert_string_equal(o.out, "tawny " TW_VERSION_TEXT "\n");
    free_outcome(&o);
}

/* ---- rehearse ---------------------------------------------------------------------- */

/* Both subjects are found in the footage, whatever carries it. */
static void check_found(const char *name, size_t subjects)
{
    static const double truth[][2] = {{14.0, 40.4}, {70.0, 79.0}};
    char *path = in_shared(name);
    json_t *holder = NULL;
    /* a folder of pictures has no rate of its own */
    outcome o =
        run_program(NULL, TOOL, "rehearse", "--json", "--set", "fps=5", path, NULL);
    assert_string_equal(o.err, "");
    assert_int_equal(o.code, 0);
    if (count_lines(o.out, "\"sighting\"") != subjects)
        fail_msg("%s:\n%s", name, o.out);
    for (size_t i = 0; i < subjects; i++) {
        const json_t *s = object(o.out, "sighting", i, &holder);
        assert_non_null(s);
        assert_true(real(s, "start") >= truth[i][0] &&
                    real(s, "start") < truth[i][0] + 0.8);
        assert_true(real(s, "end") < truth[i][1] + 1 && real(s, "end") > truth[i][1] - 2);
        json_decref(holder);
    }
    free_outcome(&o);
    free(path);
}

static void test_footage_of_all_kinds(void **state)
{
    (void)state;
    check_found("h264.mp4", 2);
    check_found("b-frames.mkv", 2);
    check_found("mjpeg.avi", 2);
    check_found("mjpeg.mkv", 2);
    check_found("mpeg4.avi", 2);
    check_found("pictures", 2);
    check_found("raw.avi", 1);
    check_found("huffyuv.avi", 1);
}

/* fps leaves frames out of faster footage, and what is left decodes without a fault. */
static void check_fewer(const char *name, const char *fps, size_t least, size_t most,
                        const char *told)
{
    char settings[256];
    char *path = in_shared(name);
    char *folder = make_folder(), *file = join(folder, "station.ini");
    outcome o = run_program(NULL, TOOL, "rehearse", "--trace", "--set", fps, path, NULL);
    assert_null(strstr(o.err, "damaged"));
    assert_int_equal(o.code, 0);
    const size_t lines = count_lines(o.out, ",");
    if (lines < least || lines > most)
        fail_msg("%s with %s: %zu frames are looked at", name, fps, lines);
    free_outcome(&o);
    (void)snprintf(settings, sizeof settings, "[camera kerb]\nsource = file:%s\n", path);
    write_text(file, settings);
    o = run_program(folder, TOOL, "check", "--set", fps, NULL);
    assert_has(o.out, told);
    assert_null(strstr(o.out, "does nothing"));
    free_outcome(&o);
    free(file);
    remove_folder(folder);
    free(path);
}

/* People try clips of some seconds first. What a station does not look at is said. */
static void test_a_clip_shorter_than_settling(void **state)
{
    (void)state;
    char *path = in_shared("short.avi");
    outcome o = run_program(NULL, TOOL, "rehearse", path, NULL);
    assert_has(o.out, "1 sighting in 6.0 s");
    assert_null(strstr(o.out, "looked at"));
    free_outcome(&o);
    o = run_program(NULL, TOOL, "rehearse", "--as-live", path, NULL);
    assert_has(o.out, "NOTHING of it was looked at: it lasts 6.0 s");
    assert_has(o.out, "0 sightings in 6.0 s");
    free_outcome(&o);
    o = run_program(NULL, TOOL, "rehearse", "--set", "settle=3s", path, NULL);
    assert_has(o.out, "its first 3 s were not looked at");
    free_outcome(&o);
    free(path);
}

static void test_fewer_frames(void **state)
{
    (void)state;
    check_fewer("mjpeg.avi", "fps=2", 170, 190,
                "at 5 frames a second, of which 2 are kept (fps), a sighting");
    check_fewer(
        "groups.mkv", "fps=2", 150, 190,
        "at 5 frames a second, of which 2 are kept (fps): the first of each group");
    check_fewer("mjpeg.avi", "fps=30", 445, 455, "at 5 frames a second, a sighting");
    check_fewer("groups.mkv", "fps=auto", 445, 455, "at 5 frames a second, a sighting");
}

static void test_json_is_what_the_design_says(void **state)
{
    (void)state;
    json_t *holder = NULL;
    char *path = in_shared("mjpeg.avi");
    outcome o = run_program(NULL, TOOL, "rehearse", "--json", "--trace", path, NULL);
    assert_int_equal(o.code, 0);
    const json_t *s = object(o.out, "sighting", 0, &holder);
    static const char *const keys[] = {"type",       "camera",   "start", "end",
                                       "clip_start", "clip_end", "peak",  "frames"};
    assert_int_equal(json_object_size(s), sizeof keys / sizeof *keys);
    for (size_t i = 0; i < sizeof keys / sizeof *keys; i++)
        assert_non_null(json_object_get(s, keys[i]));
    assert_string_equal(json_string_value(json_object_get(s, "camera")), "mjpeg");
    assert_true(real(s, "clip_start") < real(s, "start"));
    assert_true(real(s, "clip_end") > real(s, "end"));
    assert_true(real(s, "peak") > 0.2 && real(s, "peak") < 5);
    json_decref(holder);
    assert_int_equal(count_lines(o.out, "\"type\":\"reading\""), 450);
    const json_t *r = object(o.out, "reading", 449, &holder);
    assert_true(real(r, "t") > 89.79 && real(r, "t") < 89.81);
    assert_true(json_is_number(json_object_get(r, "activity")));
    json_decref(holder);
    const json_t *sum = object(o.out, "summary", 0, &holder);
    assert_int_equal(json_integer_value(json_object_get(sum, "frames")), 450);
    assert_int_equal(json_integer_value(json_object_get(sum, "sightings")), 2);
    assert_true(real(sum, "seconds") > 89.9 && real(sum, "seconds") < 90.1);
    assert_true(real(sum, "cpu_seconds") > 0);
    json_decref(holder);
    free_outcome(&o);
    free(path);
}

/* All but the CPU time is the same, byte for byte. */
static void test_rehearsals_are_deterministic(void **state)
{
    (void)state;
    char *path = in_shared("h264.mp4");
    outcome a = run_program(NULL, TOOL, "rehearse", "--json", "--trace", path, NULL);
    outcome b = run_program(NULL, TOOL, "rehearse", "--json", "--trace", path, NULL);
    char *cut_a = strstr(a.out, "\"cpu_seconds\""),
         *cut_b = strstr(b.out, "\"cpu_seconds\"");
    assert_non_null(cut_a);
    *cut_a = *cut_b = '\0';
    assert_string_equal(a.out, b.out);
    free_outcome(&a);
    free_outcome(&b);
    free(path);
}

static void test_text_tells_the_same(void **state)
{
    (void)state;
    char *path = in_shared("mjpeg.mkv");
    outcome o = run_program(NULL, TOOL, "rehearse", path, path, NULL);
    assert_int_equal(o.code, 0);
    assert_int_equal(count_lines(o.out, "  sighting "), 4);
    assert_has(o.out, "4 sightings in 180.0 s of footage, 900 frames");
    assert_int_equal(count_lines(o.out, "mjpeg.mkv"), 2);
    assert_string_equal(o.err, ""); /* no progress bar: this is no terminal */
    free_outcome(&o);
    o = run_program(NULL, TOOL, "rehearse", "--trace", "--set", "fps=2", KERB, NULL);
    assert_int_equal(count_lines(o.out, "\"" KERB "\","), 300);
    free_outcome(&o);
    free(path);
}

static void test_settings_hold_for_a_rehearsal(void **state)
{
    (void)state;
    char *ini = in_shared("strict.ini"), *path = in_shared("mjpeg.mkv");
    write_text(ini, "[cameras]\nstart_at = 30 %\n[camera kerb]\nsource = sim:kerb\n"
                    "start_at = 0.25 %\nstay_at = 0.05 %\nlargest = 1.2 %\n");
    outcome o = run_program(NULL, TOOL, "rehearse", "-s", ini, path, NULL);
    assert_has(o.out, "0 sightings");
    free_outcome(&o);
    o = run_program(NULL, TOOL, "rehearse", "-s", ini, "--camera", "kerb", path, NULL);
    assert_has(o.out, "sighting 1"); /* the camera's own values */
    free_outcome(&o);
    o = run_program(NULL, TOOL, "rehearse", "-s", ini, "--set", "start_at=0.25%", path,
                    NULL);
    assert_has(o.out, "2 sightings");
    free_outcome(&o);
    o = run_program(NULL, TOOL, "rehearse", "-s", ini, "--camera", "mere", path, NULL);
    assert_int_equal(o.code, 2);
    assert_has(o.err, "the settings have no camera mere");
    free_outcome(&o);
    free(ini);
    free(path);
}

/* What ffprobe says of a file: codec, and how many frames it can read. */
static void check_clip(const char *path, const char *codec, int least)
{
    outcome o =
        run_program(NULL, FFPROBE, "-v", "error", "-count_frames", "-show_entries",
                    "stream=codec_name,nb_read_frames", "-of", "csv=p=0", path, NULL);
    char name[32] = "";
    int frames = 0;
    assert_string_equal(o.err, "");
    assert_int_equal(sscanf(o.out, "%31[^,],%d", name, &frames), 2);
    assert_string_equal(name, codec);
    assert_true(frames >= least);
    free_outcome(&o);
}

static void check_kept(const char *footage, const char *set, const char *codec)
{
    char *path = in_shared(footage), *keep = make_folder();
    outcome o =
        run_program(NULL, TOOL, "rehearse", "--keep", keep, "--set", set, path, NULL);
    assert_int_equal(o.code, 0);
    assert_string_equal(o.err, "");
    char **files = list_files(keep);
    assert_true(list_length(files) >= 2);
    assert_int_equal(count_ending(files, "-clip.mp4"), count_ending(files, "-still.jpg"));
    assert_int_equal(count_ending(files, ".part"), 0);
    for (size_t i = 0; files[i]; i++) {
        char *file = join(keep, files[i]);
        if (strstr(files[i], "clip"))
            check_clip(file, codec, 60);
        else
            check_clip(file, "mjpeg", 1);
        assert_has(o.out, files[i]);
        free(file);
    }
    free_list(files);
    free_outcome(&o);
    free(path);
    remove_folder(keep);
}

static void test_captures_of_a_rehearsal_play(void **state)
{
    (void)state;
    check_kept("mjpeg.avi", "clip_video=auto", "h264");
    check_kept("mjpeg.avi", "clip_video=mjpeg", "mjpeg");
    check_kept("raw.avi", "clip_video=mjpeg", "h264");
    check_kept("mjpeg.avi", "clip_video=h264", "h264");
    check_kept("h264.mp4", "clip_video=auto", "h264");
    check_kept("b-frames.mkv", "clip_video=copy", "h264");
    check_kept("mpeg4.avi", "clip_video=auto", "h264");
    check_kept("mpeg4.avi", "clip_video=copy", "mpeg4");
    check_kept("raw.avi", "clip_video=auto", "h264");
    check_kept("pictures", "clip_video=copy", "mjpeg");
}

static void test_a_file_cut_short_gives_what_is_in_it(void **state)
{
    (void)state;
    char *path = in_shared("mjpeg.avi"), *cut = in_shared("cut.avi");
    size_t bytes = 0;
    char *data = read_file(path, &bytes);
    write_bytes(cut, data, bytes / 2);
    outcome o = run_program(NULL, TOOL, "rehearse", "--json", cut, NULL);
    json_t *holder = NULL;
    assert_int_equal(o.code, 0);
    const json_t *sum = object(o.out, "summary", 0, &holder);
    assert_in_range(json_integer_value(json_object_get(sum, "frames")), 200, 230);
    json_decref(holder);
    free_outcome(&o);
    free(data);
    free(path);
    free(cut);
}

static void test_files_that_cannot_be_read(void **state)
{
    (void)state;
    char *empty = in_shared("empty.avi"), *text = in_shared("text.avi");
    write_text(empty, "");
    write_text(text, "a text, whatever its name says");
    static const char missing[] = "/none/at/all.avi";
    const char *const paths[] = {empty, text, missing};
    static const char *const lines[] = {"empty.avi: the file is empty", "text.avi: ",
                                        "/none/at/all.avi: No such file or directory"};
    for (size_t i = 0; i < 3; i++) {
        outcome o = run_program(NULL, TOOL, "rehearse", paths[i], NULL);
        assert_int_equal(o.code, 1);
        assert_has(o.err, lines[i]);
        assert_int_equal(count_lines(o.err, ""), 1);
        free_outcome(&o);
    }
    free(empty);
    free(text);
}

static void test_a_store_that_cannot_be_written(void **state)
{
    (void)state;
    char *file = in_shared("a-file");
    write_text(file, "in the way");
    outcome o = run_program(NULL, TOOL, "rehearse", "--keep", file, KERB, NULL);
    assert_int_equal(o.code, 1);
    assert_has(o.err, "a-file");
    assert_int_equal(count_lines(o.err, ""), 1);
    free_outcome(&o);
    free(file);
}

/* ---- demo -------------------------------------------------------------------------- */

static void test_demo_finds_each_subject_and_invents_none(void **state)
{
    (void)state;
    char *folder = make_folder();
    outcome o = run_program(folder, TOOL, "demo", NULL);
    assert_int_equal(o.code, 0);
    assert_string_equal(o.err, "");
    assert_has(o.out, "Found 3 of 3 subjects, 0 invented. 6 captures");
    assert_has(o.out, "Try next:");
    assert_int_equal(count_lines(o.out, "found: sighting"), 3);
    assert_int_equal(count_lines(o.out, "rightly left alone"), 2);
    char **files = list_files(folder);
    assert_int_equal(list_length(files), 6);
    for (size_t i = 0; files[i]; i++) {
        assert_true(
            strncmp(files[i], "hollin-demo/2027-03-13/kerb/kerb-20270313T20", 44) == 0);
        if (!strstr(files[i], "clip"))
            continue;
        char *path = join(folder, files[i]);
        check_clip(path, "h264", 180);
        free(path);
    }
    free_list(files);
    free_outcome(&o);
    o = run_program(folder, TOOL, "demo", NULL); /* again: nothing is replaced */
    assert_int_equal(o.code, 0);
    files = list_files(folder);
    assert_int_equal(list_length(files), 12);
    free_list(files);
    free_outcome(&o);
    remove_folder(folder);
}

/* A small set of files with their truth, which a rehearsal takes as it is. */
static void test_demo_renders_all_scenes_with_their_truth(void **state)
{
    (void)state;
    char *folder = make_folder();
    outcome o = run_program(folder, TOOL, "demo", "--render", "scenes", "--size",
                            "128x72", "--fps", "4", "--seed", "3", NULL);
    assert_int_equal(o.code, 0);
    char *scenes = join(folder, "scenes"), *path = join(scenes, "truth.csv");
    char *truth = read_file(path, NULL), **files = list_files(scenes);
    size_t count = 0;
    for (const tw_sim_scene *s = NULL; (s = tw_sim_scene_at(count)) != NULL; count++) {
        char name[64];
        (void)snprintf(name, sizeof name, "%s.mp4", s->name);
        char *film = join(scenes, name);
        check_clip(film, "h264", (int)(s->length_us * 4 / 1000000));
        free(film);
        assert_int_equal(count_lines(o.out, name), 1);
        assert_int_equal(count_lines(truth, name),
                         s->event_count > 0 ? s->event_count : 1);
        for (size_t i = 0; i < s->event_count; i++)
            assert_has(truth, s->events[i].what);
    }
    assert_int_equal(list_length(files), count + 1);
    free_outcome(&o);
    o = run_program(scenes, TOOL, "rehearse", "--truth", "truth.csv", "kerb.mp4",
                    "kerb-lamp.mp4", NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out, " of 3 events (recall ");
    free_outcome(&o);
    o = run_program(folder, TOOL, "demo", "--render", "none", "--size", "1x1", NULL);
    assert_int_equal(o.code, 2);
    assert_has(o.err, "size=1x1 is not understood");
    free_outcome(&o);
    o = run_program(folder, TOOL, "demo", "--render", "none", "--fps", "0", NULL);
    assert_int_equal(o.code, 2);
    assert_has(o.err, "--fps: from 1 to 240");
    free_outcome(&o);
    free_list(files);
    free(truth);
    free(path);
    free(scenes);
    remove_folder(folder);
}

/* ---- look -------------------------------------------------------------------------- */

static void test_look_writes_a_picture(void **state)
{
    (void)state;
    char *folder = make_folder();
    outcome o = run_program(folder, TOOL, "look", "sim:kerb", NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out, "kerb.jpg: ");
    assert_has(o.out, ", sharpness ");
    char *path = join(folder, "kerb.jpg");
    check_clip(path, "mjpeg", 1);
    free(path);
    free_outcome(&o);
    o = run_program(folder, TOOL, "look", "--overlay", "--after", "30", "-o", "seen.png",
                    "--set", "fps=5", KERB, NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out, "1 blob");
    path = join(folder, "seen.png");
    check_clip(path, "png", 1);
    free(path);
    free_outcome(&o);
    path = in_shared("h264.mp4");
    char source[512];
    (void)snprintf(source, sizeof source, "file:%s", path);
    o = run_program(folder, TOOL, "look", "--after", "5", source, NULL);
    assert_int_equal(o.code, 0);
    free(path);
    path = join(folder, "h264.jpg");
    check_clip(path, "mjpeg", 1);
    free(path);
    free_outcome(&o);
    o = run_program(folder, TOOL, "look", "-o", "/none/x.jpg", KERB, NULL);
    assert_int_equal(o.code, 1);
    assert_has(o.err, "/none/x.jpg");
    free_outcome(&o);
    remove_folder(folder);
}

/* ---- settings and check ------------------------------------------------------------ */

static void test_settings_are_written_into_the_file(void **state)
{
    (void)state;
    char *folder = make_folder(), *path = join(folder, "station.ini");
    write_text(path, "[station]\nname = hollin # ours\ninclude = more.ini\n"
                     "[camera kerb]\nsource = sim:kerb\n");
    char *more = join(folder, "more.ini");
    write_text(more, "[cameras]\nfps = 4\n");
    outcome o = run_program(folder, TOOL, "settings", "--write", "kerb.start_at=0.5%",
                            "-w", "station.name = lane", "-w", "fps=5", NULL);
    assert_int_equal(o.code, 0);
    assert_string_equal(o.out, "- station.ini:2: name = hollin # ours\n"
                               "+ station.ini:2: name = lane # ours\n"
                               "+ station.ini:6: start_at = 0.5%\n"
                               "- more.ini:2: fps = 4\n"
                               "+ more.ini:2: fps = 5\n");
    free_outcome(&o);
    static const char *const bad[][2] = {
        {"kerb.start_at=high", "station.ini:6: start_at = high"},
        {"kerb.start_at", "write CAMERA.KEY=VALUE"},
        {"kerb.caption=a # b", "would be read as a comment"}};
    for (size_t i = 0; i < 3; i++) {
        o = run_program(folder, TOOL, "settings", "--write", bad[i][0], NULL);
        assert_int_equal(o.code, 1);
        assert_has(o.err, bad[i][1]);
        assert_has(o.err, "nothing was written");
        free_outcome(&o);
    }
    o = run_program(folder, TOOL, "settings", "--whole", NULL);
    assert_int_equal(o.code, 0);
    assert_string_equal(o.out, "[station]\nname = lane # ours\n# include = more.ini\n"
                               "[camera kerb]\nsource = sim:kerb\nstart_at = 0.5%\n"
                               "\n# from more.ini\n[cameras]\nfps = 5\n");
    free_outcome(&o);
    o = run_program(folder, TOOL, "settings", "-s", "none.ini", "--whole", NULL);
    assert_int_equal(o.code, 2);
    assert_has(o.err, "none.ini");
    free_outcome(&o);
    free(more);
    free(path);
    remove_folder(folder);
}

static const char STATION[] = "[station]\n"
                              "name = hollin\n"
                              "[cameras]\n"
                              "rest = 3 s\n"
                              "[camera kerb]\n"
                              "source = sim:kerb,size=240x136\n"
                              "fps = 5\n"
                              "pace = no\n";

static void test_settings_show_values_and_origins(void **state)
{
    (void)state;
    char *folder = make_folder(), *ini = join(folder, "station.ini");
    write_text(ini, STATION);
    outcome o = run_program(folder, TOOL, "settings", "--set", "kerb.start_at=2%", NULL);
    assert_int_equal(o.code, 0);
    assert_int_equal(count_lines(o.out, "= hollin                   # station.ini:2"), 1);
    assert_int_equal(count_lines(o.out, "= 3 s                      # station.ini:4"), 1);
    assert_int_equal(count_lines(o.out, "= 2 %                      # --set"), 1);
    assert_int_equal(
        count_lines(o.out, "pre_event         = 5 s                      # built-in"), 1);
    /* what is printed can be read again */
    char *again = join(folder, "again.ini");
    write_text(again, o.out);
    free_outcome(&o);
    o = run_program(folder, TOOL, "settings", "-s", "again.ini", "--changed", NULL);
    assert_int_equal(o.code, 0);
    assert_string_equal(o.err, "");
    free_outcome(&o);
    o = run_program(folder, TOOL, "settings", "--json", "kerb", NULL);
    json_t *holder = NULL;
    const json_t *first = object(o.out, "setting", 0, &holder);
    assert_string_equal(json_string_value(json_object_get(first, "camera")), "kerb");
    assert_non_null(json_object_get(first, "origin"));
    json_decref(holder);
    free_outcome(&o);
    o = run_program(folder, TOOL, "settings", "mere", NULL);
    assert_int_equal(o.code, 2);
    free_outcome(&o);
    free(again);
    free(ini);
    remove_folder(folder);
}

static void test_a_file_with_every_kind_of_mistake(void **state)
{
    (void)state;
    char *folder = make_folder(), *ini = join(folder, "station.ini");
    write_text(
        ini,
        "fps = 3\n[camra kerb]\nfps = 3\n[camera kerb]\nstart_at = 5 px\nfps = 0\n"
        "start_ta = 1 %\nstore = /x\nfps = 5\nfps = 6\nwords\n[camera]\n[zone kerb]\n");
    outcome o = run_program(folder, TOOL, "check", NULL);
    assert_int_equal(o.code, 2);
    static const char *const lines[] = {
        "station.ini:1: ",  "station.ini:2: ", "station.ini:5: ",  "station.ini:6: ",
        "station.ini:7: ",  "station.ini:8: ", "station.ini:10: ", "station.ini:11: ",
        "station.ini:12: ", "station.ini:13: "};
    for (size_t i = 0; i < sizeof lines / sizeof *lines; i++)
        assert_int_equal(count_lines(o.err, lines[i]), 1);
    assert_int_equal(count_lines(o.err, ""), sizeof lines / sizeof *lines);
    assert_string_equal(o.out, "");
    free_outcome(&o);
    free(ini);
    remove_folder(folder);
}

static void test_check_says_what_would_happen(void **state)
{
    (void)state;
    char *folder = make_folder(), *ini = join(folder, "station.ini");
    write_text(ini, STATION);
    outcome o = run_program(folder, TOOL, "check", NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out, "ok      settings station.ini: no mistakes found");
    assert_has(o.out, "ok      camera kerb: mjpeg 240 x 136 at 5 frames a second");
    assert_has(o.out, "ok      store captures: can be written");
    free_outcome(&o);
    write_text(ini,
               "[station]\nstore = station.ini\n[camera a]\nsource = file:/none.mp4\n");
    o = run_program(folder, TOOL, "check", NULL);
    assert_int_equal(o.code, 1);
    assert_has(o.out, "FAILED  camera a: /none.mp4: No such file");
    assert_has(o.out, "FAILED  store station.ini: ");
    free_outcome(&o);
    free(ini);
    remove_folder(folder);
}

/* ---- watch ------------------------------------------------------------------------- */

static void test_watch_to_the_end_of_its_footage(void **state)
{
    (void)state;
    char *folder = make_folder(), *ini = join(folder, "station.ini");
    write_text(ini, STATION);
    outcome o = run_program(folder, TOOL, "watch", NULL);
    assert_int_equal(o.code, 0);
    assert_string_equal(o.err, "");
    assert_int_equal(count_lines(o.out, "of the watched area moved"), 3);
    assert_int_equal(count_lines(o.out, "stored: "), 6);
    assert_int_equal(count_lines(o.out, "kerb  closed"), 1);
    free_outcome(&o);
    o = run_program(folder, TOOL, "watch", "--json", NULL);
    json_t *holder = NULL;
    const json_t *stored = object(o.out, "stored", 0, &holder);
    assert_non_null(json_object_get(stored, "file"));
    assert_true(json_integer_value(json_object_get(stored, "bytes")) > 1000);
    json_decref(holder);
    free_outcome(&o);
    char *captures = join(folder, "captures"), **files = list_files(captures);
    assert_int_equal(list_length(files), 12);
    assert_int_equal(count_ending(files, ".part"), 0);
    free_list(files);
    free(captures);
    free(ini);
    remove_folder(folder);
}

/* Start a watch that never ends by itself, wait until the file that it prints to has some
 * words in it, send it a signal, and see how it ends. */
static void stop_with(int number)
{
    char *folder = make_folder(), *ini = join(folder, "station.ini"),
         *out = join(folder, "out.txt");
    char text[512];
    (void)snprintf(text, sizeof text,
                   "%sloop = yes\n[camera tunnel]\nsource = %s,seed=3\n", STATION, KERB);
    write_text(ini, text);
    char *argv[] = {(char *)TOOL, (char *)"watch", NULL};
    posix_spawn_file_actions_t actions;
    (void)posix_spawn_file_actions_init(&actions);
    (void)posix_spawn_file_actions_addopen(&actions, 1, out, 0x241 /* create, write */,
                                           0600);
    (void)posix_spawn_file_actions_addchdir_np(&actions, folder);
    pid_t pid = 0;
    int status = 0;
    assert_int_equal(posix_spawnp(&pid, argv[0], &actions, NULL, argv, environ), 0);
    (void)posix_spawn_file_actions_destroy(&actions);
    for (int i = 0; i < 1200; i++) { /* at most two minutes, also with sanitizers */
        (void)usleep(100000);
        char *so_far = access(out, R_OK) == 0 ? read_file(out, NULL) : strdup("");
        const bool began = strstr(so_far, "sighting 2 begins") != NULL;
        free(so_far);
        if (began)
            break;
    }
    assert_int_equal(kill(pid, number), 0);
    assert_int_equal(waitpid(pid, &status, 0), pid);
    assert_true(WIFEXITED(status));
    assert_int_equal(WEXITSTATUS(status), 0);
    char *said = read_file(out, NULL);
    assert_has(said, "sighting 2 begins");
    assert_int_equal(count_lines(said, "closed"), 2);
    assert_int_equal(count_lines(said, "begins"), count_lines(said, "ends after"));
    char *captures = join(folder, "captures"), **files = list_files(captures);
    assert_int_equal(count_ending(files, ".part"), 0);
    assert_int_equal(count_ending(files, "clip.mp4"), count_lines(said, "begins"));
    for (size_t i = 0; files[i]; i++) {
        char *path = join(captures, files[i]);
        if (strstr(files[i], "clip"))
            check_clip(path, "h264", 1);
        free(path);
    }
    free_list(files);
    free(captures);
    free(said);
    free(out);
    free(ini);
    remove_folder(folder);
}

static void test_ctrl_c_closes_everything_cleanly(void **state)
{
    (void)state;
    stop_with(SIGINT);
}

static void test_sigterm_does_the_same(void **state)
{
    (void)state;
    stop_with(SIGTERM);
}

static void test_watch_a_looping_file_in_its_own_time(void **state)
{
    (void)state;
    char *folder = make_folder(), *ini = join(folder, "station.ini"), text[512];
    char *footage = in_shared("mjpeg.avi");
    (void)snprintf(text, sizeof text, "[camera yard]\nsource = file:%s\nloop = yes\n",
                   footage);
    write_text(ini, text);
    outcome o = run_program(folder, "timeout", "-s", "INT", "2", TOOL, "watch", NULL);
    assert_has(o.out, "yard  watching 240 x 136 mjpeg at 5 frames a second");
    assert_has(o.out, "yard  closed");
    assert_int_equal(count_lines(o.out, "begins"), 0); /* the toad comes after 14 s */
    free_outcome(&o);
    free(footage);
    free(ini);
    remove_folder(folder);
}

static void test_watch_with_a_store_that_cannot_be_written(void **state)
{
    (void)state;
    char *folder = make_folder(), *ini = join(folder, "station.ini");
    write_text(ini, "[station]\nstore = /proc/none\n[camera kerb]\nsource = sim:kerb\n");
    outcome o = run_program(folder, TOOL, "watch", NULL);
    assert_int_equal(o.code, 1);
    assert_has(o.err, "cannot make the folder /proc/none");
    assert_int_equal(count_lines(o.err, ""), 1);
    free_outcome(&o);
    free(ini);
    remove_folder(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_help_of_every_command_shows_an_example),
        cmocka_unit_test(test_wrong_usage_exits_with_2_and_one_line),
        cmocka_unit_test(test_version),
        cmocka_unit_test(test_footage_of_all_kinds),
        cmocka_unit_test(test_a_clip_shorter_than_settling),
        cmocka_unit_test(test_fewer_frames),
        cmocka_unit_test(test_json_is_what_the_design_says),
        cmocka_unit_test(test_rehearsals_are_deterministic),
        cmocka_unit_test(test_text_tells_the_same),
        cmocka_unit_test(test_settings_hold_for_a_rehearsal),
        cmocka_unit_test(test_captures_of_a_rehearsal_play),
        cmocka_unit_test(test_a_file_cut_short_gives_what_is_in_it),
        cmocka_unit_test(test_files_that_cannot_be_read),
        cmocka_unit_test(test_a_store_that_cannot_be_written),
        cmocka_unit_test(test_demo_finds_each_subject_and_invents_none),
        cmocka_unit_test(test_demo_renders_all_scenes_with_their_truth),
        cmocka_unit_test(test_look_writes_a_picture),
        cmocka_unit_test(test_settings_are_written_into_the_file),
        cmocka_unit_test(test_settings_show_values_and_origins),
        cmocka_unit_test(test_a_file_with_every_kind_of_mistake),
        cmocka_unit_test(test_check_says_what_would_happen),
        cmocka_unit_test(test_watch_to_the_end_of_its_footage),
        cmocka_unit_test(test_ctrl_c_closes_everything_cleanly),
        cmocka_unit_test(test_sigterm_does_the_same),
        cmocka_unit_test(test_watch_a_looping_file_in_its_own_time),
        cmocka_unit_test(test_watch_with_a_store_that_cannot_be_written),
    };
    return cmocka_run_group_tests(tests, make_footage, remove_footage);
}
