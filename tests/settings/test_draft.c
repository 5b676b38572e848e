/* Settings files as they would be. */
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "../support/support.h"
#include "../../src/settings/sections.h"
#include "tawny/settings.h"

static char *folder, *path;

static const char MAIN[] = "# Hollin Lane\n"
                           "[station]\n"
                           "name = hollin   # ours\n"
                           "\n"
                           "include = cameras.d/*.ini\n"
                           "\n"
                           "[camera mere]\n"
                           "source = sim:kerb # the pond\n"
                           "start_at=2 %\n";
static const char KERB[] = "[camera kerb]\r\n"
                           "source = sim:kerb\r\n"
                           "  travel = 5 %   # toads hop\r\n";

static int set_up(void **state)
{
    (void)state;
    folder = make_folder();
    path = join(folder, "station.ini");
    char *below = join(folder, "cameras.d"), *kerb = join(folder, "cameras.d/kerb.ini");
    assert_int_equal(mkdir(below, 0755), 0);
    write_text(path, MAIN);
    write_text(kerb, KERB);
    free(below);
    free(kerb);
    return 0;
}

static int drop(void **state)
{
    (void)state;
    free(path);
    remove_folder(folder);
    return 0;
}

static twi_draft *open_draft(void)
{
    twi_draft *d = NULL;
    tw_error err = {0};
    if (twi_draft_open(path, &d, &err) != TW_OK)
        fail_msg("%s", err.text);
    return d;
}

static tw_status change(twi_draft *d, const char *head, const char *name, const char *key,
                        const char *value)
{
    const twi_draft_change c = {head, name, key, value};
    tw_error err = {0};
    const tw_status st = twi_draft_change_one(d, &c, &err);
    assert_true(st == TW_OK || err.text[0]);
    return st;
}

static void check_file(const char *name, const char *want)
{
    char *whole = join(folder, name), *text = read_file(whole, NULL);
    assert_string_equal(text, want);
    free(text);
    free(whole);
}

/* Lines that differ, one after another. */
static void note_line(void *ctx, const char *file, unsigned line, const char *before,
                      const char *after)
{
    char *out = ctx;
    (void)sprintf(out + strlen(out), "%s:%u -%s +%s|", file, line,
                  before ? before : "none", after ? after : "none");
}

static void check_lines(const twi_draft *d, const char *want)
{
    char said[4096] = "";
    assert_int_equal(twi_draft_lines(d, note_line, said), TW_OK);
    assert_string_equal(said, want);
}

static void test_a_change_goes_where_it_stands(void **state)
{
    (void)state;
    twi_draft *d = open_draft();
    tw_error err = {0};
    assert_int_equal(change(d, "camera", "kerb", "travel", "8 %"), TW_OK);
    assert_int_equal(change(d, "camera", "kerb", "start_at", "1 %"), TW_OK);
    assert_int_equal(change(d, "camera", "mere", "start_at", "3 %"), TW_OK);
    assert_int_equal(change(d, "zone", "mere/reeds", "area", "0,0 10,0 10,10"), TW_OK);
    check_lines(d, "station.ini:9 -start_at=2 % +start_at= 3 %|"
                   "station.ini:10 -none +|station.ini:11 -none +[zone mere/reeds]|"
                   "station.ini:12 -none +area = 0,0 10,0 10,10|"
                   "cameras.d/kerb.ini:3 -  travel = 5 %   # toads hop\r +  travel = 8 "
                   "%   # toads hop\r|cameras.d/kerb.ini:4 -none +start_at = 1 %\r|");
    assert_int_equal(twi_draft_check(d, NULL, NULL, NULL), TW_OK);
    check_file("station.ini", MAIN); /* nothing yet */
    assert_int_equal(twi_draft_write(d, &err), TW_OK);
    check_file("cameras.d/kerb.ini",
               "[camera kerb]\r\nsource = sim:kerb\r\n"
               "  travel = 8 %   # toads hop\r\nstart_at = 1 %\r\n");
    check_file("station.ini.old", MAIN);
    check_file("cameras.d/kerb.ini.old", KERB);
    check_lines(d, ""); /* it is written */
    twi_draft_free(d);
}

/* What was not read when the draft was opened is not read: not even for a message. */
static void test_no_file_comes_in_that_was_not_there(void **state)
{
    (void)state;
    char *later = join(folder, "cameras.d/later.ini");
    problems p = {0};
    twi_draft *d = open_draft();
    assert_int_equal(change(d, "station", "", "include ", "cameras.d/later.ini"),
                     TW_EINVAL);
    assert_int_equal(change(d, "station", "", "Include", "cameras.d/later.ini"),
                     TW_EINVAL);
    assert_int_equal(change(d, "station ", "", "name", "x"), TW_EINVAL);
    assert_int_equal(change(d, "hook", " x", "run", "/bin/true"), TW_EINVAL);
    write_text(later, "the gate = 4711\n"); /* the pattern takes it in */
    assert_int_equal(twi_draft_check(d, collect_problem, &p, NULL), TW_ESYNTAX);
    assert_has(p.text, "cameras.d/later.ini: is none of the files that were there");
    assert_null(strstr(p.text, "4711"));
    assert_null(strstr(p.text, "gate"));
    twi_draft_free(d);
    free(later);
}

static void test_values_and_sections_go_and_are_renamed(void **state)
{
    (void)state;
    twi_draft *d = open_draft();
    assert_int_equal(change(d, "zone", "mere/reeds", "area", "0,0 10,0 10,10"), TW_OK);
    assert_int_equal(change(d, "zone", "mere/reeds", NULL, "mere/rushes"), TW_OK);
    assert_int_equal(change(d, "camera", "mere", "start_at", NULL), TW_OK);
    check_lines(d, "station.ini:9 -start_at=2 % +|station.ini:10 -none +[zone "
                   "mere/rushes]|station.ini:11 -none +area = 0,0 10,0 10,10|");
    assert_int_equal(change(d, "zone", "mere/rushes", NULL, NULL), TW_OK);
    assert_int_equal(change(d, "zone", "mere/rushes", NULL, NULL), TW_ENOENT);
    assert_int_equal(change(d, "camera", "mere", "start_at", NULL), TW_ENOENT);
    assert_int_equal(change(d, "camera", "nobody", NULL, "somebody"), TW_ENOENT);
    twi_draft_free(d);
}

static void test_what_would_be_read_as_more_is_refused(void **state)
{
    (void)state;
    twi_draft *d = open_draft();
    assert_int_equal(change(d, "camera", "kerb", "caption", "a\n[hook x]\nrun = rm"),
                     TW_EINVAL);
    assert_int_equal(change(d, "camera", "kerb", "caption", "a # b"), TW_EINVAL);
    assert_int_equal(change(d, "camera", "k]\n[hook x", "caption", "a"), TW_EINVAL);
    assert_int_equal(change(d, "camera x]", "", "caption", "a"), TW_EINVAL);
    assert_int_equal(change(d, "camera", "kerb", "a\nrun", "b"), TW_EINVAL);
    assert_int_equal(change(d, "camera", "kerb", "include", "/etc/*"), TW_EINVAL);
    assert_int_equal(change(d, "camera", "kerb", NULL, "a]"), TW_EINVAL);
    assert_int_equal(change(d, NULL, "kerb", "fps", "4"), TW_EINVAL);
    check_lines(d, "");
    twi_draft_free(d);
}

static void test_a_mistake_is_told_unless_it_was_there(void **state)
{
    (void)state;
    static const char broken[] = "[camera mere]\nsource = sim:kerb\nstart_at = high\n";
    problems p = {0};
    write_text(path, broken);
    twi_draft *d = open_draft();
    assert_int_equal(change(d, "camera", "mere", "travel", "6 %"), TW_OK);
    assert_int_equal(twi_draft_check(d, collect_problem, &p, NULL), TW_OK);
    assert_int_equal(p.count, 0);
    assert_int_equal(change(d, "camera", "mere", "travel", "far"), TW_OK);
    assert_int_equal(twi_draft_check(d, collect_problem, &p, NULL), TW_ESYNTAX);
    assert_has(p.text, "station.ini:4: travel = far");
    twi_draft_free(d);
    p = (problems){0};
    write_text(path, MAIN);
    d = open_draft();
    assert_int_equal(change(d, "camera", "mere", "stay_at", "9 %"), TW_OK);
    assert_int_equal(twi_draft_check(d, collect_problem, &p, NULL), TW_ESYNTAX);
    assert_has(p.text, "stay_at is over start_at");
    tw_settings *made = NULL;
    assert_int_equal(change(d, "camera", "mere", "start_at", "10 %"), TW_OK);
    assert_int_equal(twi_draft_check(d, NULL, NULL, &made), TW_OK);
    twi_camera_settings camera;
    assert_int_equal(twi_settings_camera(made, "mere", &camera), TW_OK);
    assert_int_equal(camera.stay_ppm, 90000);
    tw_settings_free(made);
    twi_draft_free(d);
}

static void test_all_in_one_and_back(void **state)
{
    (void)state;
    size_t bytes = 0;
    tw_error err = {0};
    tw_settings *before = NULL, *after = NULL;
    twi_draft *d = open_draft();
    char *whole = twi_draft_whole(d, &bytes);
    assert_has(whole, "# include = cameras.d/*.ini\n");
    assert_has(whole, "\n# from cameras.d/kerb.ini\n[camera kerb]\r\n");
    assert_int_equal(twi_draft_check(d, NULL, NULL, &before), TW_OK);
    assert_int_equal(twi_draft_replace(d, whole, bytes, &err), TW_OK);
    assert_int_equal(twi_draft_check(d, NULL, NULL, &after), TW_OK);
    assert_int_equal(twi_settings_difference(before, after, "kerb"), TW_APPLIED_NOT);
    assert_int_equal(twi_settings_difference(before, after, "mere"), TW_APPLIED_NOT);
    assert_int_equal(twi_settings_difference(before, after, NULL), TW_APPLIED_NOT);
    assert_int_equal(twi_draft_replace(d, MAIN, strlen(MAIN), &err), TW_ESYNTAX);
    assert_has(err.text, "it includes other files");
    tw_settings_free(before);
    tw_settings_free(after);
    free(whole);
    twi_draft_free(d);
}

static void test_links_and_rights_stay(void **state)
{
    (void)state;
    struct stat s;
    tw_error err = {0};
    char *real = join(folder, "real.ini");
    assert_int_equal(rename(path, real), 0);
    assert_int_equal(symlink("real.ini", path), 0);
    assert_int_equal(chmod(real, 0640), 0);
    twi_draft *d = open_draft();
    assert_int_equal(change(d, "station", "", "name", "lane"), TW_OK);
    assert_int_equal(twi_draft_write(d, &err), TW_OK);
    assert_int_equal(lstat(path, &s), 0);
    assert_true(S_ISLNK(s.st_mode));
    assert_int_equal(stat(real, &s), 0);
    assert_int_equal(s.st_mode & 0777, 0640);
    check_file("real.ini.old", MAIN);
    twi_draft_free(d);
    free(real);
}

static void test_what_cannot_be_read_or_written(void **state)
{
    (void)state;
    twi_draft *d = NULL;
    tw_error err = {0};
    assert_int_equal(twi_draft_open("/nowhere/station.ini", &d, &err), TW_ENOENT);
    assert_has(err.text, "/nowhere/station.ini");
    assert_int_equal(twi_draft_open(NULL, &d, &err), TW_EINVAL);
    d = open_draft();
    assert_int_equal(change(d, "station", "", "name", "lane"), TW_OK);
    assert_int_equal(unlink(path), 0);
    assert_int_equal(twi_draft_write(d, &err), TW_ENOENT);
    assert_has(err.text, "station.ini");
    twi_draft_free(d);
    twi_draft_free(NULL);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(test_a_change_goes_where_it_stands, set_up, drop),
        cmocka_unit_test_setup_teardown(test_no_file_comes_in_that_was_not_there, set_up,
                                        drop),
        cmocka_unit_test_setup_teardown(test_values_and_sections_go_and_are_renamed,
                                        set_up, drop),
        cmocka_unit_test_setup_teardown(test_what_would_be_read_as_more_is_refused,
                                        set_up, drop),
        cmocka_unit_test_setup_teardown(test_a_mistake_is_told_unless_it_was_there,
                                        set_up, drop),
        cmocka_unit_test_setup_teardown(test_all_in_one_and_back, set_up, drop),
        cmocka_unit_test_setup_teardown(test_links_and_rights_stay, set_up, drop),
        cmocka_unit_test_setup_teardown(test_what_cannot_be_read_or_written, set_up,
                                        drop)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
