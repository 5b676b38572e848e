/* Programs that are started on events: what they get, how they end, and that nothing
 * waits for them. */
#include <pthread.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "../../src/deliver/hooks_state.h"
#include "../support/support.h"
#include "../../src/settings/sections.h"
#include "tawny/events.h"
#include "tawny/settings.h"

/* What has been told; by several threads. */
typedef struct told {
    pthread_mutex_t lock;
    char text[16384];
    size_t lines, bad;
} told;

static void on_line(void *ctx, tw_status st, const char *line)
{
    told *t = ctx;
    (void)pthread_mutex_lock(&t->lock);
    const size_t used = strlen(t->text);
    (void)snprintf(t->text + used, sizeof t->text - used, "%s\n", line);
    t->lines++;
    t->bad += st != TW_OK;
    (void)pthread_mutex_unlock(&t->lock);
}

static twi_hooks *make(const char *lines, told *t)
{
    char text[2048];
    tw_error err = {0};
    twi_hooks *hooks = NULL;
    (void)snprintf(text, sizeof text,
                   "[station]\nname = hollin\n[camera kerb]\nsource = sim:kerb\n"
                   "[camera mere]\nsource = sim:mere\n%s",
                   lines);
    memset(t, 0, sizeof *t);
    (void)pthread_mutex_init(&t->lock, NULL);
    tw_settings *s = settings_of(text);
    if (twi_hooks_new(s, "/srv/captures", NULL, tw_linux_clock(), on_line, t, &hooks,
                      &err) != TW_OK)
        fail_msg("%s", err.text);
    tw_settings_free(s); /* they need not outlive this */
    return hooks;
}

static tw_event stored(const char *camera, const char *kind, const tw_sighting *sighting)
{
    return (tw_event){.kind = TW_EVENT_STORED,
                      .camera = camera,
                      .wall_us = INT64_C(1804969814200000),
                      .sighting = sighting,
                      .file = "2027-03-13/kerb one.mp4",
                      .file_kind = kind,
                      .bytes = 7};
}

static void test_what_a_program_gets(void **state)
{
    (void)state;
    static const tw_sighting sighting = {.number = 12};
    char *folder = make_folder(), *path = join(folder, "got"), lines[1024];
    told t;
    (void)snprintf(lines, sizeof lines,
                   "[hook ring]\non = clip\nrun = /bin/sh -c \"printf '%%s|' \\\"$@\\\" "
                   "> %s; env | grep TAWNY_ | sort >> %s; cat >> %s; echo heard\" sh "
                   "{event} {camera} \"{file} of {sighting}\" {other}\n",
                   path, path, path);
    twi_hooks *hooks = make(lines, &t);
    const tw_event event = stored("kerb", "clip", &sighting);
    twi_hooks_event(hooks, &event);
    twi_hooks_free(hooks); /* waits for it */
    char *got = read_file(path, NULL);
    assert_string_equal(
        got, "clip|kerb|/srv/captures/2027-03-13/kerb one.mp4 of 12|{other}|"
             "TAWNY_CAMERA=kerb\nTAWNY_EVENT=clip\n"
             "TAWNY_FILE=/srv/captures/2027-03-13/kerb one.mp4\nTAWNY_KIND=clip\n"
             "TAWNY_SIGHTING=12\nTAWNY_STATION=hollin\n"
             "TAWNY_TIME=2027-03-13T20:30:14.200Z\n"
             "{\"type\":\"stored\",\"station\":\"hollin\",\"camera\":\"kerb\","
             "\"time\":\"2027-03-13T20:30:14.200Z\",\"sighting\":12,\"part\":0,"
             "\"kind\":\"clip\",\"file\":\"2027-03-13/kerb one.mp4\",\"bytes\":7,"
             "\"event\":\"clip\","
             "\"path\":\"/srv/captures/2027-03-13/kerb one.mp4\"}");
    assert_has(t.text, "hook ring: done in ");
    assert_has(t.text, ": heard\n");
    assert_int_equal(t.bad, 0);
    free(got);
    free(path);
    remove_folder(folder);
}

/* Names are never a piece of a shell's line. */
static void test_no_shell_is_in_between(void **state)
{
    (void)state;
    char *folder = make_folder(), lines[512];
    told t;
    (void)snprintf(lines, sizeof lines,
                   "[hook ring]\non = lost\nrun = /usr/bin/printf %%s\\n {text}\n");
    twi_hooks *hooks = make(lines, &t);
    const tw_event event = {.kind = TW_EVENT_LOST,
                            .camera = "kerb",
                            .text = "$(touch /tmp/none) `id`; \"quoted\" > x"};
    twi_hooks_event(hooks, &event);
    twi_hooks_free(hooks);
    assert_has(t.text, "$(touch /tmp/none) `id`; \"quoted\" > x");
    remove_folder(folder);
}

static void test_which_events_start_which(void **state)
{
    (void)state;
    static const tw_sighting sighting = {.number = 1};
    told t;
    twi_hooks *hooks =
        make("[hook all]\non = began, still, clip, ended, lost, back, low\n"
             "run = /bin/echo all {event} {camera}\n"
             "[hook some]\non = began, lost\ncameras = mere\n"
             "run = /bin/echo some {event} {camera}\n",
             &t);
    const tw_event events[] = {
        {.kind = TW_EVENT_BEGAN, .camera = "kerb", .sighting = &sighting},
        {.kind = TW_EVENT_BEGAN, .camera = "mere", .sighting = &sighting},
        {.kind = TW_EVENT_ENDED, .camera = "mere", .sighting = &sighting},
        {.kind = TW_EVENT_LOST, .camera = "mere", .text = "gone"},
        {.kind = TW_EVENT_BACK, .camera = "kerb", .text = "again"},
        {.kind = TW_EVENT_FREED, .text = "room"},
        {.kind = TW_EVENT_FREED, .text = "room"}, /* once an hour */
        {.kind = TW_EVENT_OPENED, .camera = "kerb"},
        stored("kerb", "still", &sighting),
        stored("kerb", "clip", &sighting),
        stored("kerb", "segment", NULL),
        stored("kerb", "timed-still", NULL)};
    for (size_t i = 0; i < sizeof events / sizeof *events; i++)
        twi_hooks_event(hooks, &events[i]);
    twi_hooks_free(hooks);
    static const char *const lines[] = {": all began kerb\n",  ": all began mere\n",
                                        ": some began mere\n", ": all ended mere\n",
                                        ": all lost mere\n",   ": some lost mere\n",
                                        ": all back kerb\n",   ": all low\n",
                                        ": all still kerb\n",  ": all clip kerb\n"};
    assert_int_equal(t.lines, sizeof lines / sizeof *lines);
    for (size_t i = 0; i < sizeof lines / sizeof *lines; i++)
        assert_has(t.text, i == 7 ? ": all low " : lines[i]);
    twi_hooks_event(NULL, &events[0]); /* fine */
}

static void test_how_they_end(void **state)
{
    (void)state;
    static const struct {
        const char *run, *line;
    } cases[] = {
        {"/bin/sh -c \"echo first; echo; echo no such bell >&2; exit 3\"",
         "hook ring: exit code 3: no such bell"},
        {"/bin/false", "hook ring: exit code 1\n"},
        {"/bin/sh -c \"kill -9 $$\"", "hook ring: exit code 137"},
        {"/none/at/all", "hook ring: /none/at/all: No such file or directory"},
        {"/etc/passwd", "hook ring: /etc/passwd: Permission denied"},
        {"/bin/sh -c \"exec 0<&- 1>&- 2>&-; exit 0\"", "hook ring: done in"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char lines[256];
        told t;
        (void)snprintf(lines, sizeof lines, "[hook ring]\non = lost\nrun = %s\n",
                       cases[i].run);
        twi_hooks *hooks = make(lines, &t);
        const tw_event event = {.kind = TW_EVENT_LOST, .camera = "kerb", .text = "x"};
        twi_hooks_event(hooks, &event);
        twi_hooks_free(hooks);
        assert_has(t.text, cases[i].line);
        assert_int_equal(t.bad, i < 5);
    }
}

static double seconds(void)
{
    struct timespec t;
    (void)clock_gettime(CLOCK_MONOTONIC, &t);
    return (double)t.tv_sec + (double)t.tv_nsec / 1e9;
}

/* One that does not end, and what it has started, are ended. */
static void test_time_is_up(void **state)
{
    (void)state;
    told t;
    twi_hooks *hooks =
        make("[hook ring]\non = lost\ntimeout = 1 s\n"
             "run = /bin/sh -c \"trap '' TERM; echo waiting; sleep 3600 & sleep 3600\"\n",
             &t);
    const tw_event event = {.kind = TW_EVENT_LOST, .camera = "kerb", .text = "x"};
    const double from = seconds();
    twi_hooks_event(hooks, &event);
    twi_hooks_free(hooks);
    assert_true(seconds() - from < 60);
    assert_has(t.text, "hook ring: ended after ");
    assert_has(t.text, "its timeout: waiting");
}

/* A station that stops waits for no hour. */
static void test_the_end_of_the_station(void **state)
{
    (void)state;
    told t;
    twi_hooks *hooks =
        make("[hook ring]\non = lost\ntimeout = 1 h\nrun = /bin/sleep 3600\n", &t);
    const tw_event event = {.kind = TW_EVENT_LOST, .camera = "kerb", .text = "x"};
    const double from = seconds();
    for (int i = 0; i < TWI_HOOKS_AT_ONCE + 3; i++)
        twi_hooks_event(hooks, &event);
    twi_hooks_free(hooks);
    assert_true(seconds() - from < 60);
    assert_int_equal(count_lines(t.text, "hook ring: ended after "), TWI_HOOKS_AT_ONCE);
    assert_int_equal(count_lines(t.text, "an event is left out: the station stops"), 3);
}

/* Many events: what is too much is dropped and told once, and whoever tells never waits.
 */
static void test_nobody_waits_for_them(void **state)
{
    (void)state;
    told t;
    twi_hooks *hooks =
        make("[hook ring]\non = lost\nrun = /bin/sleep 0.05\ntimeout = 10 s\n", &t);
    const tw_event event = {.kind = TW_EVENT_LOST, .camera = "kerb", .text = "x"};
    for (int i = 0; i < 1000; i++)
        twi_hooks_event(hooks, &event);
    twi_hooks_free(hooks);
    /* A busy machine may not get through those that wait before the end, which is
     * reported each. */
    assert_int_equal(
        count_lines(t.text, "hook ring: events come faster than its program ends"), 1);
    assert_in_range(t.lines, TWI_HOOKS_WAITING + 1,
                    TWI_HOOKS_WAITING + TWI_HOOKS_AT_ONCE + 40);
}

static void test_settings_of_hooks(void **state)
{
    (void)state;
    static const struct {
        const char *lines, *line;
    } cases[] = {
        {"[hook a]\non = began\n", "hook a has no program: write run ="},
        {"[hook a]\nrun = x\n", "hook a is started on nothing: write on = began"},
        {"[hook a]\non = sometimes\nrun = x\n",
         "on = sometimes: expected none, or some of"},
        {"[hook a]\non = began\nrun = x\ncameras = pond\n", "there is no camera pond"},
        {"[hook a b]\non = began\n", "write [hook NAME]"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char text[256];
        problems p = {0};
        tw_settings *s = tw_settings_new();
        (void)snprintf(text, sizeof text, "[camera kerb]\nsource = sim:kerb\n%s",
                       cases[i].lines);
        (void)tw_settings_read_text(s, "test", text, strlen(text), collect_problem, &p);
        (void)tw_settings_check(s, collect_problem, &p);
        assert_has(p.text, cases[i].line);
        assert_null(twi_settings_hook_name(s, 0));  /* it is not used, and ... */
        assert_true(twi_settings_sound(s, "kerb")); /* ... concerns no camera */
        tw_settings_free(s);
    }
    tw_settings *s = settings_of("[camera kerb]\nsource = sim:kerb\n"
                                 "[hook a]\non = began\nrun = /none/at/all x\n"
                                 "[hook b]\non = began\nrun = sh\n");
    problems p = {0};
    assert_int_equal(twi_hooks_try(s, collect_problem, &p), TW_ENOENT);
    assert_int_equal(p.count, 1);
    assert_has(p.text, "hook a: /none/at/all is not there, or may not be run");
    tw_settings_free(s);
    twi_hooks *hooks = NULL;
    tw_error err = {0};
    s = settings_of(
        "[camera kerb]\nsource = sim:kerb\n[hook a]\non = began\nrun = x \"y\n");
    assert_int_equal(
        twi_hooks_new(s, NULL, NULL, tw_linux_clock(), NULL, NULL, &hooks, &err),
        TW_ESYNTAX);
    assert_has(err.text, "hook a: run = x \"y: expected a program");
    tw_settings_free(s);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_what_a_program_gets),
        cmocka_unit_test(test_no_shell_is_in_between),
        cmocka_unit_test(test_which_events_start_which),
        cmocka_unit_test(test_how_they_end),
        cmocka_unit_test(test_time_is_up),
        cmocka_unit_test(test_the_end_of_the_station),
        cmocka_unit_test(test_nobody_waits_for_them),
        cmocka_unit_test(test_settings_of_hooks),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
