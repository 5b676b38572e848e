/* Rehearsals as the workbench: why, truth, traces, plots and contact sheets. */
#include <jansson.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../support/support.h"

#define KERB "sim:kerb,size=240x136"

/* The truth of the scene, as a file; the name has commas, so it is quoted. */
static char *write_truth(const char *folder, bool shifted)
{
    const tw_sim_scene *scene = tw_sim_scene_find("kerb");
    char *path = join(folder, "truth.csv"), text[2048];
    size_t n = (size_t)snprintf(text, sizeof text, "file,start,end,what\r\n");
    for (size_t i = 0; i < scene->event_count; i++) {
        const tw_sim_event *e = &scene->events[i];
        n += (size_t)snprintf(
            text + n, sizeof text - n, "\"" KERB "\", %.2f,%.2f,%s\n",
            (double)e->start_us / 1e6 + (shifted && i == 0 ? -13 : 0),
            (double)(shifted && i == 0 ? e->start_us - 12000000 : e->end_us) / 1e6,
            e->what);
    }
    write_text(path, text);
    return path;
}

/* A picture file of a kind, not a handful of bytes. */
static void assert_picture(const char *path, const char *magic, size_t least)
{
    size_t bytes = 0;
    char *content = read_file(path, &bytes);
    assert_true(bytes >= least);
    assert_memory_equal(content, magic, strlen(magic));
    free(content);
}

static void test_each_sighting_says_why_it_began(void **state)
{
    (void)state;
    outcome o = run_program(NULL, TOOL, "rehearse", "--why", KERB, NULL);
    assert_int_equal(o.code, 0);
    assert_int_equal(count_lines(o.out, "of the watched area moved (start_at 0.05 %)"),
                     3);
    assert_has(o.out, "one blob of ");
    assert_has(o.out, "2 of 3 frames");
    free_outcome(&o);
}

static void test_a_moment_says_why_it_did_not(void **state)
{
    (void)state;
    outcome o = run_program(NULL, TOOL, "rehearse", "--as-live", "--why-not", "3",
                            "--why-not", "0:56", "--why-not", "1:00:00", KERB, NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out, "at 3.000 s: the place was still being learned");
    assert_has(o.out, "at 56.000 s: activity 0.00 %, under start_at 0.05 %: ");
    assert_has(o.out, "taken by the light guard"); /* a car passes */
    assert_has(o.err, "there is no frame at 3600.000 s, it is 150.0 s long");
    free_outcome(&o);
    o = run_program(NULL, TOOL, "rehearse", "--json", "--why-not", "56", KERB, NULL);
    assert_has(o.out, "{\"type\":\"moment\",\"t\":56.0,\"why\":\"activity");
    free_outcome(&o);
    o = run_program(NULL, TOOL, "rehearse", "--why-not", "soon", KERB, NULL);
    assert_int_equal(o.code, 2);
    assert_has(o.err, "--why-not soon: expected seconds, such as 72.5 or 1:12.5");
    free_outcome(&o);
}

static void test_truth_scores_the_sightings(void **state)
{
    (void)state;
    char *folder = make_folder(), *truth = write_truth(folder, false);
    outcome o = run_program(NULL, TOOL, "rehearse", "--truth", truth, KERB, NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out, "found 3 of 3 events (recall 100.0 %), 0 false of 3 sightings (0.0 "
                      "an hour), F1 1.000");
    assert_has(o.out, "start latency 0.");
    free_outcome(&o);
    free(truth);
    truth = write_truth(folder, true); /* the first event an hour too early */
    o = run_program(NULL, TOOL, "rehearse", "--truth", truth, KERB, NULL);
    assert_has(o.out, "  missed: toad, ");
    assert_has(o.out, "  false: sighting 1, ");
    assert_has(o.out, "found 2 of 3 events (recall 66.7 %), 1 false of 3 sightings");
    free_outcome(&o);
    o = run_program(NULL, TOOL, "rehearse", "--json", "--truth", truth, KERB, NULL);
    assert_has(o.out, "{\"type\":\"missed\",");
    assert_has(o.out, "{\"type\":\"false\",");
    assert_has(o.out, "{\"type\":\"score\",\"events\":3,\"found\":2,\"sightings\":3,"
                      "\"false\":1,");
    free_outcome(&o);
    free(truth);
    remove_folder(folder);
}

static void check_truth(const char *content, const char *complaint)
{
    char *folder = make_folder(), *truth = join(folder, "t.csv");
    write_text(truth, content);
    outcome o = run_program(folder, TOOL, "rehearse", "--truth", "t.csv", KERB, NULL);
    assert_int_equal(o.code, 2);
    assert_has(o.err, complaint);
    assert_int_equal(count_lines(o.err, ""), 1);
    free_outcome(&o);
    free(truth);
    remove_folder(folder);
}

static void test_bad_truth_is_told_with_its_line(void **state)
{
    (void)state;
    check_truth("", "t.csv: the first line must be file,start,end,what");
    check_truth("name,from,to,what\n",
                "t.csv:1: the first line must be file,start,end,what");
    check_truth("file,start,end,what\na.mp4,1,2\n", "t.csv:2: a line has four fields");
    check_truth("file,start,end,what\na.mp4,one,2,x\n",
                "t.csv:2: start and end must be seconds, such as 12.5 or 1:02.5");
    check_truth("file,start,end,what\na.mp4,3,2,x\n",
                "t.csv:2: the end is before the start");
    check_truth("file,start,end,what\n,1,2,x\n", "t.csv:2: the file's name is missing");
    check_truth("file,start,end,what\na.mp4,1,2,x\n",
                KERB " is not in t.csv: add what happens in it, or, if nothing does, the "
                     "line " KERB ",,,nothing");
}

static void test_a_quiet_file_has_a_line_and_unclear_counts_for_nothing(void **state)
{
    (void)state;
    char *folder = make_folder(), *truth = join(folder, "t.csv");
    write_text(truth, "file,start,end,what\n\"" KERB "\",,,nothing\n");
    outcome o = run_program(folder, TOOL, "rehearse", "--truth", "t.csv", KERB, NULL);
    assert_has(o.out, "found 0 of 0 events (recall 100.0 %), 3 false of 3 sightings");
    free_outcome(&o);
    write_text(truth, "file,start,end,what\n\"" KERB "\",0,2:30,unclear\n");
    o = run_program(folder, TOOL, "rehearse", "--truth", "t.csv", KERB, NULL);
    assert_has(o.out, "0 false of 0 sightings");
    free_outcome(&o);
    free(truth);
    remove_folder(folder);
}

static void test_trace_is_csv_of_every_frame(void **state)
{
    (void)state;
    outcome o = run_program(NULL, TOOL, "rehearse", "--trace", KERB, NULL);
    assert_int_equal(o.code, 0);
    static const char begins[] =
        "file,t,activity,raw,light,sway,shake,colour,unlike,"
        "travel,size,ignored,blobs,subjects,state\r\n\"" KERB "\",0.000,";
    assert_int_equal(strncmp(o.out, begins, strlen(begins)), 0);
    assert_int_equal(count_lines(o.out, ""), 1501);
    assert_int_equal(count_lines(o.out, "\"" KERB "\","), 1500);
    assert_true(count_lines(o.out, ",sighting") > 300);
    assert_has(o.err, "3 sightings in 150.0 s"); /* not among the lines of the table */
    free_outcome(&o);
}

static void test_plots_and_sheets(void **state)
{
    (void)state;
    char *folder = make_folder(), *truth = write_truth(folder, false);
    char *png = join(folder, "it's 1.png"), *svg = join(folder, "p.svg"),
         *sheet = join(folder, "s.png"), *jpg = join(folder, "s.jpg");
    outcome o = run_program(NULL, TOOL, "rehearse", "--truth", truth, "--plot", png,
                            "--sheet", sheet, KERB, NULL);
    assert_int_equal(o.code, 0);
    assert_string_equal(o.err, "");
    assert_picture(png, "\x89PNG", 10000);
    assert_picture(sheet, "\x89PNG", 50000);
    free_outcome(&o);
    o = run_program(NULL, TOOL, "rehearse", "--plot", svg, "--sheet", jpg, KERB, NULL);
    assert_int_equal(o.code, 0);
    assert_picture(jpg, "\xFF\xD8\xFF", 10000);
    size_t bytes = 0;
    char *text = read_file(svg, &bytes);
    assert_has(text, "<svg");
    assert_has(text, "start_at 0.05 %");
    assert_has(text, "light guard");
    free(text);
    free_outcome(&o);
    o = run_program(NULL, TOOL, "rehearse", "--plot", "-", KERB, NULL);
    assert_has(o.out, "seconds");
    assert_has(o.out, "light guard");
    free_outcome(&o);
    free(png);
    free(svg);
    free(sheet);
    free(jpg);
    free(truth);
    remove_folder(folder);
}

/* A file that has the name the station gave it is drawn by the time on the wall; one with
 * another name by seconds. */
static void test_a_plot_has_the_time_on_the_wall(void **state)
{
    (void)state;
    char *folder = make_folder(), *svg = join(folder, "p.svg");
    char *kerb = join(folder, "2027-03-13/kerb/"
                              "kerb-20270313T235940.500+0100-001-clip.mkv"),
         *renamed = join(folder, "2027-03-13/kerb/kerb-20270313T235940-toad.mkv");
    const char *files[] = {kerb, renamed};
    outcome o = run_program(folder, "/bin/mkdir", "-p", "2027-03-13/kerb", NULL);
    free_outcome(&o);
    for (int i = 0; i < 2; i++) {
        o = run_program(folder, FFMPEG, "-v", "error", "-f", "lavfi", "-i",
                        "color=c=gray:s=160x96:r=5:d=40", files[i], NULL);
        assert_int_equal(o.code, 0);
        free_outcome(&o);
        o = run_program(folder, TOOL, "rehearse", "--plot", svg, files[i], NULL);
        assert_int_equal(o.code, 0);
        assert_string_equal(o.err, "");
        char *text = read_file(svg, NULL);
        assert_int_equal(strstr(text, ">2027-03-13, local time<") != NULL, i == 0);
        assert_int_equal(strstr(text, ">23:59:45<") != NULL, i == 0);
        assert_int_equal(strstr(text, ">00:00:00<") != NULL, i == 0);
        assert_int_equal(strstr(text, ">seconds<") != NULL, i == 1);
        free(text);
        free_outcome(&o);
    }
    free(kerb);
    free(renamed);
    free(svg);
    remove_folder(folder);
}

static void test_several_files_have_plots_of_their_own(void **state)
{
    (void)state;
    char *folder = make_folder(), *pictures[2] = {join(folder, "a"), join(folder, "b")};
    for (int i = 0; i < 2; i++) {
        outcome made = run_program(NULL, "/bin/mkdir", pictures[i], NULL);
        free_outcome(&made);
        (void)write_pictures(pictures[i], KERB, 5, 60);
    }
    outcome o = run_program(folder, TOOL, "rehearse", "--plot", "p.svg", "--sheet",
                            "s.png", pictures[0], pictures[1], NULL);
    assert_int_equal(o.code, 0);
    assert_int_equal(count_lines(o.out, "no contact sheet: there was no sighting"), 2);
    for (int i = 0; i < 2; i++) {
        char *plot = join(folder, i == 0 ? "p-a.svg" : "p-b.svg");
        assert_int_equal(access(plot, R_OK), 0);
        free(plot);
        free(pictures[i]);
    }
    free_outcome(&o);
    remove_folder(folder);
}

static void test_names_that_cannot_be_drawn_to(void **state)
{
    (void)state;
    outcome o = run_program(NULL, TOOL, "rehearse", "--plot", "p.gif", KERB, NULL);
    assert_int_equal(o.code, 2);
    assert_has(o.err, "--plot p.gif: the name must end in .png or .svg, or be -");
    free_outcome(&o);
    o = run_program(NULL, TOOL, "rehearse", "--sheet", "s.svg", KERB, NULL);
    assert_int_equal(o.code, 2);
    assert_has(o.err, "--sheet s.svg: the name must end in .png or .jpg");
    free_outcome(&o);
    o = run_program(NULL, TOOL, "rehearse", "--sheet", "/proc/none/s.png", KERB, NULL);
    assert_int_equal(o.code, 1);
    assert_has(o.err, "/proc/none/s.png");
    free_outcome(&o);
}

/* Without the program that draws, what it would have drawn is there. */
static void test_without_gnuplot_the_data_is_kept(void **state)
{
    (void)state;
    char *folder = make_folder(), *data = join(folder, "p.png.dat");
    size_t bytes = 0;
    outcome o = run_program(folder, "/usr/bin/env", "PATH=/nowhere", TOOL, "rehearse",
                            "--plot", "p.png", KERB, NULL);
    assert_int_equal(o.code, 1);
    assert_has(o.err, "install gnuplot-nox (the data is in p.png.dat");
    char *content = read_file(data, &bytes);
    assert_int_equal(count_lines(content, ""), 1500);
    free(content);
    free_outcome(&o);
    free(data);
    remove_folder(folder);
}

/* A mask that leaves the right half, as a text PGM of four pixels. */
static void test_a_mask_shuts_out_what_is_black(void **state)
{
    (void)state;
    char *folder = make_folder(), *mask = join(folder, "m.pgm");
    write_text(mask, "P2\n4 1\n255\n0 0 255 255\n");
    outcome o = run_program(folder, TOOL, "rehearse", "--json", "--set", "mask=m.pgm",
                            KERB, NULL);
    assert_int_equal(o.code, 0);
    /* the first toad comes from the left and is seen half-way */
    const double start = atof(strstr(o.out, "\"start\":") + 8);
    assert_true(start > 24 && start < 29);
    free_outcome(&o);
    write_text(mask, "P2\n1 1\n255\n0\n");
    o = run_program(folder, TOOL, "rehearse", "--set", "mask=m.pgm", KERB, NULL);
    assert_int_equal(o.code, 2);
    assert_has(o.err, "its zones and mask leave nothing to watch");
    free_outcome(&o);
    o = run_program(folder, TOOL, "rehearse", "--set", "mask=none.png", KERB, NULL);
    assert_int_equal(o.code, 1);
    assert_has(o.err, "mask none.png cannot be read: ");
    free_outcome(&o);
    o = run_program(folder, TOOL, "rehearse", "--set", "mask=m.jpg", KERB, NULL);
    assert_has(o.err, "mask m.jpg: give a PNG or PGM picture");
    free_outcome(&o);
    free(mask);
    remove_folder(folder);
}

static void test_frames_between_checks_are_recorded_all_the_same(void **state)
{
    (void)state;
    char *folder = make_folder(), *kept = join(folder, "kept");
    outcome o = run_program(folder, TOOL, "rehearse", "--keep", "kept", "--set",
                            "check_every=0.25 s", "--set", "stills=none", KERB, NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out, "3 sightings in 150.0 s of footage, 750 frames");
    char **files = list_files(kept);
    assert_int_equal(list_length(files), 3);
    char *clip = join(kept, files[0]);
    outcome p =
        run_program(NULL, FFPROBE, "-v", "error", "-count_packets", "-show_entries",
                    "stream=nb_read_packets", "-of", "csv=p=0", clip, NULL);
    assert_true(atoi(p.out) > 350); /* 39 s at 10 a second, not at 5 */
    free_outcome(&p);
    free(clip);
    free_list(files);
    free_outcome(&o);
    free(kept);
    remove_folder(folder);
}

static void test_a_zone_is_watched_by_its_own_limits(void **state)
{
    (void)state;
    char *folder = make_folder(), *ini = join(folder, "station.ini");
    write_text(ini, "[camera kerb]\nsource = " KERB "\n[zone kerb/road]\nkind = own\n"
                    "area = 0,62 100,62 100,100 0,100\nstart_at = 20 %\n");
    outcome o = run_program(folder, TOOL, "rehearse", "--settings", "station.ini",
                            "--camera", "kerb", KERB, NULL);
    assert_int_equal(o.code, 0); /* the hedgehog on the road is not enough any more */
    assert_int_equal(count_lines(o.out, "  sighting "), 2);
    free_outcome(&o);
    write_text(ini, "[camera kerb]\nsource = " KERB "\n[zone kerb/road]\nkind = own\n"
                    "area = 0,62 100,62 100,100 0,100\n");
    o = run_program(folder, TOOL, "rehearse", "--settings", "station.ini", "--camera",
                    "kerb", KERB, NULL);
    assert_int_equal(o.code, 2);
    assert_has(o.err, "station.ini:3: zone kerb/road is watched by its own limits: write "
                      "its start_at");
    free_outcome(&o);
    free(ini);
    remove_folder(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_each_sighting_says_why_it_began),
        cmocka_unit_test(test_a_moment_says_why_it_did_not),
        cmocka_unit_test(test_truth_scores_the_sightings),
        cmocka_unit_test(test_bad_truth_is_told_with_its_line),
        cmocka_unit_test(test_a_quiet_file_has_a_line_and_unclear_counts_for_nothing),
        cmocka_unit_test(test_trace_is_csv_of_every_frame),
        cmocka_unit_test(test_plots_and_sheets),
        cmocka_unit_test(test_a_plot_has_the_time_on_the_wall),
        cmocka_unit_test(test_several_files_have_plots_of_their_own),
        cmocka_unit_test(test_names_that_cannot_be_drawn_to),
        cmocka_unit_test(test_without_gnuplot_the_data_is_kept),
        cmocka_unit_test(test_a_mask_shuts_out_what_is_black),
        cmocka_unit_test(test_frames_between_checks_are_recorded_all_the_same),
        cmocka_unit_test(test_a_zone_is_watched_by_its_own_limits),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
