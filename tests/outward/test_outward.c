/* What goes outward from a station, begun with one call, and following its settings. */
#include <pthread.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "../support/site.h"
#include "tawny/port.h"
#include "tawny/settings.h"

/* A station with all that goes outward from it. */
typedef struct running {
    char *folder, *store, *file;
    tw_settings *settings;
    tw_card card;
    tw_station *station;
    tw_outward *outward;
    pthread_t thread;
    pthread_mutex_t lock;
    char told[16384]; /* "hook: ..., page: ..." */
    char failed[1024];
} running;

static void on_told(void *ctx, const char *what, tw_status st, const char *line)
{
    running *r = ctx;
    (void)st;
    (void)pthread_mutex_lock(&r->lock);
    const size_t used = strlen(r->told);
    (void)snprintf(r->told + used, sizeof r->told - used, "%s: %s\n", what, line);
    (void)pthread_mutex_unlock(&r->lock);
}

static void on_failed(void *ctx, const char *line)
{
    running *r = ctx;
    (void)pthread_mutex_lock(&r->lock);
    const size_t used = strlen(r->failed);
    (void)snprintf(r->failed + used, sizeof r->failed - used, "%s\n", line);
    (void)pthread_mutex_unlock(&r->lock);
}

static void *run_station(void *ctx)
{
    assert_int_equal(tw_station_run(((running *)ctx)->station), TW_OK);
    return NULL;
}

#define CAMERA                                                                           \
    "[camera kerb]\nsource = sim:kerb,size=160x90\nfps = 20\nloop = yes\npace = yes\n"   \
    "clips = no\nstills = first\npost_event = 1 s\n"

/* @param more  Sections. @param set  Said over them, NULL: nothing. */
static running *start(const char *more, const char *set)
{
    running *r = calloc(1, sizeof *r);
    char text[2048];
    tw_error err = {0};
    assert_non_null(r);
    (void)pthread_mutex_init(&r->lock, NULL);
    r->folder = make_folder();
    r->store = join(r->folder, "captures");
    r->file = join(r->folder, "station.ini");
    (void)snprintf(text, sizeof text, "%s%s", CAMERA, more);
    write_text(r->file, text);
    r->settings = settings_of(text);
    if (set)
        assert_int_equal(tw_settings_set(r->settings, set, NULL, NULL), TW_OK);
    assert_int_equal(tw_linux_card(r->store, &r->card, &err), TW_OK);
    const tw_platform platform = {
        .makers = TEST_MAKERS, .clock = tw_linux_clock(), .card = &r->card};
    if (tw_station_new(&platform, r->settings, NULL, NULL, &r->station, &err) != TW_OK)
        fail_msg("%s", err.text);
    const tw_outward_host host = {.store = r->store,
                                  .card = &r->card,
                                  .settings_file = r->file,
                                  .clock = platform.clock,
                                  .callback = on_told,
                                  .failed = on_failed,
                                  .ctx = r};
    if (tw_outward_begin(r->station, r->settings, &host, &r->outward, &err) != TW_OK)
        fail_msg("%s", err.text);
    assert_int_equal(pthread_create(&r->thread, NULL, run_station, r), 0);
    return r;
}

static void stop(running *r)
{
    tw_station_stop(r->station);
    (void)pthread_join(r->thread, NULL);
    tw_outward_end(r->outward);
    tw_station_free(r->station);
    r->card.ops->destroy(r->card.ctx);
    tw_settings_free(r->settings);
    (void)pthread_mutex_destroy(&r->lock);
    remove_folder(r->folder);
    free(r->store);
    free(r->file);
    free(r);
}

/* Wait until it has been told; within two minutes. */
static void wait_for(running *r, const char *words)
{
    bool found = false;
    for (int i = 0; i < 12000 && !found; i++) {
        (void)pthread_mutex_lock(&r->lock);
        found = strstr(r->told, words) != NULL;
        (void)pthread_mutex_unlock(&r->lock);
        (void)usleep(10000);
    }
    if (!found)
        fail_msg("\"%s\" was not told, but: %s%s", words, r->told, r->failed);
}

static void forget(running *r)
{
    (void)pthread_mutex_lock(&r->lock);
    r->told[0] = '\0';
    (void)pthread_mutex_unlock(&r->lock);
}

static void apply(running *r, const char *more)
{
    char text[2048];
    (void)snprintf(text, sizeof text, "%s%s", CAMERA, more);
    assert_int_equal(tw_station_apply(r->station, settings_of(text)), TW_OK);
}

#define HOOK(words)                                                                      \
    "[hook note]\non = began\nrun = /bin/sh -c \"echo " words "; exit 3\"\n"

static void test_hooks_and_destinations_follow_the_settings(void **state)
{
    (void)state;
    running *r = start(HOOK("one"), NULL);
    wait_for(r, "hook: hook note: exit code 3: one");
    apply(r, HOOK("two"));
    wait_for(r, "hook: hook note: exit code 3: two");
    forget(r);
    wait_for(r, "exit code 3: two");
    assert_null(strstr(r->told, "one"));
    char *shed = join(r->folder, "shed"), more[512];
    assert_int_equal(mkdir(shed, 0700), 0);
    (void)snprintf(more, sizeof more,
                   "send_to = shed\n[destination shed]\nurl = file:%s\n", shed);
    apply(r, more);
    wait_for(r, "destination: shed: ");
    assert_string_equal(r->failed, "");
    free(shed);
    stop(r);
}

static void test_what_cannot_begin_is_told_and_the_rest_goes_on(void **state)
{
    (void)state;
    running *r = start("[station]\nlisten = 203.0.113.1:1\n" HOOK("one"), NULL);
    wait_for(r, "exit code 3: one");
    assert_has(r->failed, "page not started: create an account first");
    stop(r);
    assert_int_equal(tw_outward_begin(NULL, NULL, NULL, NULL, NULL), TW_EINVAL);
    tw_outward_end(NULL);
}

/* @return the port of its page. */
static int port_of(running *r)
{
    wait_for(r, "page: ");
    const char *at = strstr(r->told, "127.0.0.1:");
    assert_non_null(at);
    return (int)strtol(at + strlen("127.0.0.1:"), NULL, 10);
}

/* What the page writes holds at once, with what was set on the command line on top. */
static void test_what_the_page_writes_holds(void **state)
{
    (void)state;
    running *r = start("[station]\nlisten = 127.0.0.1:0\n", "kerb.rest=7 s");
    site w = {.port = port_of(r)};
    (void)snprintf(w.host, sizeof w.host, "127.0.0.1:%d", w.port);
    check(200, post(&w, "/api/settings", "X-Tawny-Change: local\r\n",
                    "{\"write\":true,\"changes\":[{\"head\":\"camera\",\"name\":\"kerb\","
                    "\"key\":\"post_event\",\"value\":\"2 s\"}]}"));
    char *text = read_file(r->file, NULL);
    assert_has(text, "post_event = 2 s");
    assert_null(strstr(text, "rest"));
    free(text);
    bool held = false;
    for (int i = 0; i < 6000 && !held; i++, (void)usleep(10000)) {
        const char *answer = get(&w, "/api/settings?head=camera&name=kerb", "");
        held = strstr(answer, "\"2 s\"") != NULL;
        assert_has(answer, "\"7 s\"");
    }
    assert_true(held);
    stop(r);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_hooks_and_destinations_follow_the_settings),
        cmocka_unit_test(test_what_cannot_begin_is_told_and_the_rest_goes_on),
        cmocka_unit_test(test_what_the_page_writes_holds),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
