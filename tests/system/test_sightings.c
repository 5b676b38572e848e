/* tawny sightings on the store of a demo. */
#include <jansson.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../support/support.h"
#include "../../src/core/naming.h"

static char *folder; /* holds hollin-demo, made once */

static int make_store(void **state)
{
    (void)state;
    (void)setenv("TZ", "UTC", 1);
    folder = make_folder();
    outcome o = run_program(folder, TOOL, "demo", NULL);
    assert_int_equal(o.code, 0);
    free_outcome(&o);
    return 0;
}

static int remove_store(void **state)
{
    (void)state;
    remove_folder(folder);
    return 0;
}

static outcome ask(const char *option, const char *value)
{
    return run_program(folder, TOOL, "sightings", "--store", "hollin-demo", option, value,
                       NULL);
}

static void test_the_list(void **state)
{
    (void)state;
    outcome o = ask(NULL, NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out,
               "     1   2027-03-13 20:30:14  kerb     26.2 s    1.20 % #########.  "
               "1 still, 1 clip, ");
    assert_has(o.out,
               "     2   2027-03-13 20:31:10  kerb      8.6 s    1.41 % ##########");
    assert_has(o.out, "3 sightings, ");
    free_outcome(&o);
}

static void test_filters(void **state)
{
    (void)state;
    static const struct {
        const char *option, *value, *line;
    } cases[] = {
        {"--day", "2027-03-13", "3 sightings"}, {"--day", "2027-03-14", "0 sightings"},
        {"--camera", "kerb", "3 sightings"},    {"--camera", "mere", "0 sightings"},
        {"--least-mb", "0.5", "2 sightings"},   {"--newest", "1", "1 sighting, "},
        {"--starred", NULL, "0 sightings"}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        outcome o = ask(cases[i].option, cases[i].value);
        assert_int_equal(o.code, 0);
        assert_has(o.out, cases[i].line);
        free_outcome(&o);
    }
}

static void test_one_in_full(void **state)
{
    (void)state;
    outcome o = ask("2", NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out, "began: 0.98 % of the watched area moved");
    assert_has(o.out,
               "  clip            2027-03-13 20:31:05  hollin-demo/2027-03-13/kerb/kerb-"
               "20270313T203105.200+0000-002-clip.mp4 (");
    free_outcome(&o);
    o = ask("--json", "2");
    json_t *all = json_loads(o.out, 0, NULL);
    assert_non_null(all);
    assert_int_equal(json_integer_value(json_object_get(all, "number")), 2);
    assert_string_equal(json_string_value(json_object_get(all, "camera")), "kerb");
    assert_string_equal(json_string_value(json_object_get(all, "start")),
                        "2027-03-13T20:31:10.200Z");
    const json_t *captures = json_object_get(all, "captures");
    assert_int_equal(json_array_size(captures), 2);
    char *path = join(folder, "hollin-demo"),
         *file = join(path, json_string_value(
                                json_object_get(json_array_get(captures, 0), "file")));
    assert_int_equal(access(file, R_OK), 0);
    free(file);
    free(path);
    json_decref(all);
    free_outcome(&o);
}

static void test_csv(void **state)
{
    (void)state;
    outcome o = ask("--csv", NULL);
    assert_int_equal(o.code, 0);
    assert_int_equal(count_lines(o.out, ""), 4);
    assert_int_equal(strncmp(o.out, "number,camera,start,end,", 24), 0);
    assert_has(o.out, "\n1,kerb,2027-03-13T20:30:14.200Z,2027-03-13T20:30:40.400Z,1.19");
    free_outcome(&o);
}

static void test_mistakes(void **state)
{
    (void)state;
    static const struct {
        const char *option, *value;
        int code;
        const char *line;
    } cases[] = {
        {"--day", "yesterday", 2, "--day yesterday: expected a day such as 2027-03-13"},
        {"--day", "2027-02-30", 2, "expected a day such as"},
        {"--star", NULL, 2, "name the sightings"},
        {"--star", "two", 2, "two is no sighting"},
        {"--star", "77", 1, "there is no sighting 77"},
        {"77", NULL, 1, "there is no sighting 77"},
        {"--mark", "right", 2, "name the sightings"},
        {"--missed", "2027-03-13 20:31", 2, "say by which camera"},
        {"--not-missed", "7", 1, "there is no missed sighting 7"},
        {"--store", "nowhere", 1, "there is no catalogue in nowhere yet"}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        outcome o = ask(cases[i].option, cases[i].value);
        assert_int_equal(o.code, cases[i].code);
        assert_has(o.err, cases[i].line);
        assert_int_equal(count_lines(o.err, ""), 1);
        free_outcome(&o);
    }
    char *nowhere = join(folder, "nowhere"); /* looking makes nothing */
    assert_int_not_equal(access(nowhere, F_OK), 0);
    free(nowhere);
}

static void test_a_plan_from_what_was_captured(void **state)
{
    (void)state;
    outcome o = run_program(folder, TOOL, "plan", "--store", "hollin-demo", NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out, " minutes of history: a first guess");
    assert_has(o.out, "kerb                     3     ");
    assert_has(o.out, "Sending all that sightings make takes ");
    assert_null(strstr(o.out, "busiest"));
    assert_has(o.out, "The card has ");
    assert_has(o.out, " days of captures before the oldest go.");
    free_outcome(&o);
    o = run_program(folder, TOOL, "plan", "--store", "hollin-demo", "--json", NULL);
    assert_int_equal(o.code, 0);
    char *end = strchr(o.out, '\n');
    assert_non_null(end);
    *end = '\0';
    const char *next = strchr(end + 1, '\n');
    assert_non_null(next);
    json_t *camera = json_loads(o.out, 0, NULL),
           *uplink = json_loads(end + 1, JSON_DISABLE_EOF_CHECK, NULL),
           *card = json_loads(next + 1, 0, NULL);
    /* all in less than an hour: how busy the busiest one is cannot be known */
    const double bits = json_real_value(json_object_get(uplink, "bits"));
    assert_true(bits > 0 &&
                bits == json_real_value(json_object_get(uplink, "peak_bits")));
    json_decref(uplink);
    /* 1.7 MB in two minutes or so, within 62 s of sightings */
    const double day = json_real_value(json_object_get(camera, "bytes_a_day"));
    assert_true(day > 1e6 * 86400 / 200 && day < 1.9e6 * 86400 / 60);
    const double hour =
        json_real_value(json_object_get(camera, "bytes_an_hour_of_sightings"));
    assert_true(hour > 1e6 * 3600 / 64 && hour < 1.9e6 * 3600 / 60);
    const double left = json_real_value(json_object_get(card, "days")) * day,
                 free_bytes =
                     (double)json_integer_value(json_object_get(card, "free_bytes"));
    assert_true(left < free_bytes && left > free_bytes - 257e6);
    json_decref(camera);
    json_decref(card);
    free_outcome(&o);
    o = run_program(folder, TOOL, "plan", "sim:kerb,size=240x136", "--set", "fps=5",
                    "--set", "clip_video=mjpeg", "--json", NULL);
    assert_int_equal(o.code, 0);
    camera = json_loads(o.out, JSON_DISABLE_EOF_CHECK, NULL);
    assert_int_equal(json_integer_value(json_object_get(camera, "sightings")), 3);
    /* What is copied takes as much of the card as it does of the wire, about: its hour
     * against the memory of 6 s of it. */
    const double recorded =
        json_real_value(json_object_get(camera, "bytes_an_hour_of_recording"));
    const double memory = json_real_value(json_object_get(camera, "pre_event_bytes"));
    assert_true(recorded > memory * 590 && recorded < memory * 640);
    /* without continuous = yes it is not part of the day: 101 of 150 s are kept */
    const double kept = json_real_value(json_object_get(camera, "bytes_a_day")) / 24;
    assert_true(kept > recorded * 0.6 && kept < recorded * 0.75);
    json_decref(camera);
    free_outcome(&o);
    /* Another card, and what keep_for makes of it. */
    char *settings = join(folder, "plan.ini");
    write_text(settings, "[camera kerb]\nsource = sim:kerb\nkeep_for = 2 h\n");
    o = run_program(folder, TOOL, "plan", "--store", "hollin-demo", "--card", "32GB",
                    "--settings", settings, NULL);
    free(settings);
    assert_has(o.out, "The card has 32.0 of 32.0 GB free");
    assert_has(o.out, "so that it never fills");
    free_outcome(&o);
    o = run_program(folder, TOOL, "plan", "--card", "lots", NULL);
    assert_int_equal(o.code, 2);
    assert_has(o.err, "expected a size such as 32GB");
    free_outcome(&o);
    o = run_program(folder, TOOL, "plan", "--store", "nowhere", NULL);
    assert_int_equal(o.code, 1);
    assert_has(o.err, "there is no catalogue in nowhere yet");
    free_outcome(&o);
}

/* Without its catalogue, and with one that is damaged. */
static void test_a_lost_catalogue_is_made_again(void **state)
{
    (void)state;
    char *place = make_folder(), *store = join(place, "hollin-demo"),
         *path = join(store, TWI_CATALOGUE_FILE);
    outcome o = run_program(place, TOOL, "demo", NULL);
    free_outcome(&o);
    o = run_program(place, TOOL, "sightings", "--store", "hollin-demo", "--star", "2",
                    NULL);
    free_outcome(&o);
    o = run_program(place, TOOL, "sightings", "--store", "hollin-demo", "--delete", "1",
                    NULL);
    free_outcome(&o);
    outcome before =
        run_program(place, TOOL, "sightings", "--store", "hollin-demo", "--json", NULL);
    assert_has(before.out, "\"starred\":true");
    char *journal = join(store, TWI_JOURNAL_FILE), *lines = read_file(journal, NULL);
    char *torn = malloc(strlen(lines) + 64); /* a power cut, and a line of nobody */
    (void)sprintf(torn, "%snothing\n{\"id\":2,\"camera\":", lines);
    write_text(journal, torn);
    free(torn);
    free(lines);
    free(journal);
    for (int round = 0; round < 2; round++) {
        if (round == 0)
            assert_int_equal(unlink(path), 0);
        else
            write_text(path, "no data base, but long enough to be taken for one by its "
                             "size alone, if anybody looked at no more than that");
        o = run_program(place, TOOL, "sightings", "--store", "hollin-demo", "--rebuild",
                        NULL);
        assert_int_equal(o.code, 0);
        assert_has(o.out, "4 files were taken into the catalogue");
        assert_has(o.out, "2 sightings, ");
        assert_int_equal(count_lines(o.out, "1 still, 1 clip"), 2);
        free_outcome(&o);
        /* Stars, peaks and reasons are as they were, byte for byte. */
        o = run_program(place, TOOL, "sightings", "--store", "hollin-demo", "--json",
                        NULL);
        assert_string_equal(o.out, before.out);
        free_outcome(&o);
    }
    free_outcome(&before);
    write_text(path, "damaged again"); /* a run finds that out by itself */
    o = run_program(place, TOOL, "demo", NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.err, "the catalogue was damaged: it is catalogue.db.old-2 now");
    free_outcome(&o);
    free(path);
    free(store);
    remove_folder(place);
}

static outcome mark(const char *mark, const char *a, const char *b)
{
    return run_program(folder, TOOL, "sightings", "--store", "hollin-demo", "--mark",
                       mark, a, b, NULL);
}

static outcome miss(const char *at)
{
    return run_program(folder, TOOL, "sightings", "--store", "hollin-demo", "--camera",
                       "kerb", "--missed", at, NULL);
}

static void test_marks(void **state)
{
    (void)state;
    outcome o = mark("right", "1", "2");
    assert_int_equal(o.code, 0);
    assert_string_equal(o.out, "");
    free_outcome(&o);
    o = mark("nothing", "2", NULL);
    free_outcome(&o);
    o = mark("likely", "2", NULL);
    assert_int_equal(o.code, 2);
    assert_has(o.err, "--mark likely: expected right, nothing or none");
    free_outcome(&o);
    o = miss("2027-03-13 20:30");
    assert_int_equal(o.code, 0);
    assert_has(o.out, "missed 1: 2027-03-13 20:30:00 kerb");
    free_outcome(&o);
    o = miss("2027-03-13T20:35:07.5");
    assert_has(o.out, "missed 2: 2027-03-13 20:35:07 kerb");
    free_outcome(&o);
    static const char *const bad[] = {"20:35",
                                      "2027-02-30 20:35",
                                      "2027-03-13 24:00",
                                      "2027-03-13 20:35:",
                                      "2027-03-13 20:35 h",
                                      "2027-03-13_20:35",
                                      "2027-03-13 20:35:61"};
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++) {
        o = miss(bad[i]);
        assert_int_equal(o.code, 2);
        assert_has(o.err, "expected a local time such as");
        free_outcome(&o);
    }
    o = ask("--marked", NULL);
    assert_has(o.out, ", right\n");
    assert_has(o.out, ", nothing\n");
    assert_has(o.out, "missed 1: 2027-03-13 20:30:00 kerb\n");
    assert_has(o.out, "2 sightings, ");
    free_outcome(&o);
    o = ask("--starred", NULL); /* what was missed has no star */
    assert_null(strstr(o.out, "missed"));
    free_outcome(&o);
    o = ask("--csv", NULL);
    assert_has(o.out, ",why,mark,name,count,note,named_by\r\n");
    assert_has(o.out, ",right,,,,\r\n");
    assert_has(o.out, ",kerb,2027-03-13T20:35:07.500Z,,,,,,,,,missed,,,,\r\n");
    free_outcome(&o);
    o = ask("--json", NULL);
    assert_has(o.out, "\"mark\":\"right\"");
    assert_has(o.out, "\"mark\":\"none\"");
    assert_has(o.out, "{\"type\":\"missed\",\"number\":2,\"camera\":\"kerb\",\"at\":"
                      "\"2027-03-13T20:35:07.500Z\"}");
    free_outcome(&o);
    o = ask("--not-missed", "2");
    assert_int_equal(o.code, 0);
    free_outcome(&o);
    o = ask("--not-missed", "1");
    free_outcome(&o);
    o = mark("none", "1", "2");
    free_outcome(&o);
    o = ask("--marked", NULL);
    assert_string_equal(o.out, "0 sightings, 0 kB\n");
    free_outcome(&o);
}

/* Words as a shell has them. */
static outcome asked(const char *words)
{
    char line[512];
    (void)snprintf(line, sizeof line, "'" TOOL "' sightings --store hollin-demo %s",
                   words);
    return run_program(folder, "/bin/sh", "-c", line, NULL);
}

/* Who was seen: said, found again, counted by the hour, and handed on. */
static void test_names(void **state)
{
    (void)state;
    outcome o = asked("--name 'Bufo bufo' --count 2 --note 'a pair, <small>' 1");
    assert_int_equal(o.code, 0);
    free_outcome(&o);
    o = asked("--name 'Vulpes vulpes' 2");
    free_outcome(&o);
    o = asked("1");
    assert_has(o.out, ", 2 Bufo bufo\n");
    assert_has(o.out, "  note: a pair, <small>\n");
    free_outcome(&o);
    o = asked("--name BUFO"); /* the list of those */
    assert_has(o.out, "1 sighting, ");
    free_outcome(&o);
    o = asked("--csv --name bufo");
    assert_has(o.out, ",Bufo bufo,2,\"a pair, <small>\",human\r\n");
    free_outcome(&o);
    o = asked("--note alone 1"); /* the rest stays */
    free_outcome(&o);
    o = asked("--json 1");
    assert_has(o.out,
               "\"name\":\"Bufo bufo\",\"count\":2,\"note\":\"alone\",\"named_by\":"
               "\"human\"");
    free_outcome(&o);
    o = asked("--pattern -");
    assert_has(o.out, "Vulpes vulpes");
    assert_has(o.out, "Sightings by the hour");
    free_outcome(&o);
    o = asked("--pattern names.jpg");
    assert_int_equal(o.code, 2);
    free_outcome(&o);
    o = asked("--name '' 1 2"); /* taken back, the note stays */
    free_outcome(&o);
    o = asked("--name vulpes");
    assert_has(o.out, "0 sightings, ");
    free_outcome(&o);
    o = asked("--pattern -");
    assert_int_equal(o.code, 1);
    assert_has(o.err, "none of these sightings has a name");
    free_outcome(&o);
    static const struct {
        const char *option, *value, *line;
    } wrong[] = {{"--count", "3", "are for sightings that are named by their numbers"},
                 {"--hours", "dusk-dawn", "--hours dusk-dawn: expected hours"},
                 {"--hours", "25:00-26:00", "expected hours such as 22:00-05:00"},
                 {"--larger", "much", "--larger much: expected a share"},
                 {"--smaller", "0", "--smaller 0: expected a share"},
                 {"--marked-as", "none", "expected right or nothing"}};
    for (size_t i = 0; i < sizeof wrong / sizeof *wrong; i++) {
        o = ask(wrong[i].option, wrong[i].value);
        assert_int_equal(o.code, 2);
        assert_has(o.err, wrong[i].line);
        free_outcome(&o);
    }
}

/* By the hour at which they began, by size, by what they were marked as. */
static void test_search(void **state)
{
    (void)state;
    outcome o = asked("--hours 20:00-21:00"); /* the demo's play in that hour */
    assert_has(o.out, "3 sightings, ");
    free_outcome(&o);
    o = asked("--hours 03:00-04:00");
    assert_has(o.out, "0 sightings, ");
    free_outcome(&o);
    o = asked("--hours 20:00-21:00 -n 1");
    assert_has(o.out, "1 sighting, ");
    free_outcome(&o);
    o = asked("--larger '99 %'");
    assert_has(o.out, "0 sightings, ");
    free_outcome(&o);
    o = asked("--smaller 99");
    assert_has(o.out, "3 sightings, ");
    free_outcome(&o);
    o = mark("nothing", "1", NULL);
    free_outcome(&o);
    o = asked("--marked-as nothing");
    assert_has(o.out, "1 sighting, ");
    free_outcome(&o);
    o = asked("--marked-as right");
    assert_has(o.out, "0 sightings, ");
    free_outcome(&o);
    o = mark("none", "1", NULL);
    free_outcome(&o);
}

static void check_asked(const char *words, int code, const char *said)
{
    outcome o = asked(words);
    assert_int_equal(o.code, code);
    assert_has(code == 0 ? o.out : o.err, said);
    free_outcome(&o);
}

/* By what finds them; on a copy. */
static void test_several_at_once(void **state)
{
    (void)state;
    free(run_shell(folder, "cp -r hollin-demo kept"));
    check_asked("--found --day 2027-03-13 --larger '1.3 %' --star", 0, "1 sighting\n");
    check_asked("--starred", 0, "1 sighting, ");
    check_asked("--found --name 'Bufo bufo' --camera kerb", 0, "3 sightings\n");
    check_asked("--name bufo", 0, "3 sightings, ");
    check_asked("--found --name bufo --mark right", 0,
                "3 sightings\n"); /* it finds here */
    check_asked("--marked-as right", 0, "3 sightings, ");
    check_asked("--found --name nobody --mark nothing", 0, "0 sightings\n");
    check_asked("--found", 2, "--found stands for the numbers");
    check_asked("--found --star 1", 2, "--found stands for the numbers");
    check_asked("--zip all.zip --newest 2", 0, "4 captures, ");
    free(run_shell(folder,
                   "unzip -tq all.zip && unzip -Z1 all.zip | grep -q '002-clip.mp4'"));
    check_asked("--zip - 1 > one.zip && unzip -Z1 one.zip", 0, "001-still.jpg");
    check_asked("--zip no/such/place.zip 1", 1, "place.zip");
    check_asked("--zip none.zip --day 2027-03-14", 1, "nothing was captured");
    check_asked("--found --delete </dev/null", 0, "2 sightings\n"); /* but for the star */
    check_asked("", 0, "1 sighting, ");
    check_asked("--happened", 0, "2 sightings deleted, by ");
    check_asked("--found --delete --starred </dev/null", 0, "1 sighting\n");
    check_asked("", 0, "0 sightings, ");
    free(run_shell(folder, "rm -r hollin-demo && mv kept hollin-demo"));
}

/* Last, as it changes the store. */
static void test_stars_and_deletion(void **state)
{
    (void)state;
    outcome o = ask("--star", "3");
    assert_int_equal(o.code, 0);
    free_outcome(&o);
    o = ask("--starred", NULL);
    assert_has(o.out, "     3 * 2027-03-13 20:31:46");
    assert_has(o.out, "1 sighting, ");
    free_outcome(&o);
    o = ask("--unstar", "3");
    free_outcome(&o);
    o = ask("--delete", "1");
    assert_int_equal(o.code, 0);
    free_outcome(&o);
    o = ask(NULL, NULL);
    assert_has(o.out, "2 sightings, ");
    assert_null(strstr(o.out, " * "));
    free_outcome(&o);
    char *store = join(folder, "hollin-demo"), **files = list_files(store);
    assert_int_equal(list_length(files), 4);
    free_list(files);
    free(store);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_the_list),
        cmocka_unit_test(test_filters),
        cmocka_unit_test(test_one_in_full),
        cmocka_unit_test(test_csv),
        cmocka_unit_test(test_a_plan_from_what_was_captured),
        cmocka_unit_test(test_mistakes),
        cmocka_unit_test(test_marks),
        cmocka_unit_test(test_names),
        cmocka_unit_test(test_search),
        cmocka_unit_test(test_several_at_once),
        cmocka_unit_test(test_a_lost_catalogue_is_made_again),
        cmocka_unit_test(test_stars_and_deletion),
    };
    return cmocka_run_group_tests(tests, make_store, remove_store);
}
