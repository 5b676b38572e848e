/* Brokers: states that are retained, sightings, orders, and what is known of a station
 * that dies. With a real broker. */
#include <jansson.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include "../../src/deliver/retell.h"
#include "../support/servers.h"
#include "../support/stored.h"
#include "tawny/port.h"
#include "tawny/settings.h"

/* All that was published, in lines of "topic payload", by a subscriber that runs beside.
 */
typedef struct listener {
    pid_t pid;
    char *path;
} listener;

/* With a login, its subscription outlives the connection. */
static listener listen_to(const char *folder, int port, const char *login)
{
    char number[16];
    listener l = {.path = join(folder, "heard")};
    (void)snprintf(number, sizeof number, "%d", port);
    l.pid = fork();
    assert_true(l.pid >= 0);
    if (l.pid == 0) {
        (void)prctl(PR_SET_PDEATHSIG, SIGKILL);
        if (!freopen(l.path, "wb", stdout))
            _exit(1);
        if (login)
            execlp("mosquitto_sub", "mosquitto_sub", "-h", "127.0.0.1", "-p", number,
                   "-t", "#", "-v", "-q", "1", "-c", "-i", "listener", "-u", "toad", "-P",
                   login, (char *)NULL);
        else
            execlp("mosquitto_sub", "mosquitto_sub", "-h", "127.0.0.1", "-p", number,
                   "-t", "#", "-v", "-q", "1", (char *)NULL);
        _exit(127);
    }
    return l;
}

static bool file_has(const char *path, const char *words)
{
    if (access(path, R_OK) != 0)
        return false;
    char *text = read_file(path, NULL);
    const bool found = strstr(text, words) != NULL;
    free(text);
    return found;
}

static bool heard(const listener *l, const char *words)
{
    return file_has(l->path, words);
}

static void end_listener(listener *l)
{
    (void)kill(l->pid, SIGKILL);
    (void)waitpid(l->pid, NULL, 0);
    free(l->path);
}

/* What a topic retains now, as a new subscriber gets it; "" nothing. To be freed. */
static char *retained(int port, const char *topic)
{
    char number[16];
    (void)snprintf(number, sizeof number, "%d", port);
    outcome o = run_program(NULL, "mosquitto_sub", "-h", "127.0.0.1", "-p", number, "-t",
                            topic, "-C", "1", "-W", "2", NULL);
    char *text = strdup(o.out);
    free_outcome(&o);
    return text;
}

static bool retains(int port, const char *topic, const char *words)
{
    char *text = retained(port, topic);
    const bool found = strstr(text, words) != NULL;
    free(text);
    return found;
}

static void publish(int port, const char *topic, const char *message)
{
    char number[16];
    (void)snprintf(number, sizeof number, "%d", port);
    outcome o = run_program(NULL, "mosquitto_pub", "-h", "127.0.0.1", "-p", number, "-t",
                            topic, "-m", message, "-q", "1", NULL);
    assert_int_equal(o.code, 0);
    free_outcome(&o);
}

static void give_order(int port, const char *order)
{
    publish(port, "lane/hollin/order", order);
}

/* ---- records ----------------------------------------------------------------------- */

static void test_sightings_are_told_once_the_broker_is_back(void **state)
{
    (void)state;
    char text[512];
    stored *s = make_stored();
    make_credentials(s->folder);
    server hub = start_broker_that_keeps(s->folder, true);
    listener l = listen_to(s->folder, hub.port, "frogspawn");
    (void)snprintf(text, sizeof text,
                   "[destination hub]\nurl = mqtt://toad@127.0.0.1:%d/lane\n"
                   "secret_file = %s/good.secret\ntimeout = 3 s\n",
                   hub.port, s->folder);
    deliver(s, "hub", text);
    WAIT_FOR(heard(&l, "lane/hollin/state {\"type\":\"station\",\"station\":\"hollin\","
                       "\"state\":\"starting\""));
    (void)sight(s, 100);
    WAIT_FOR(filled(s, "hub").waiting == 0);
    WAIT_FOR(heard(&l, "lane/hollin/kerb/sighting {\"type\":\"sighting\",\"number\":1,"
                       "\"camera\":\"kerb\""));
    assert_true(heard(&l, "\"file\":\"2027-03-13/kerb+001-clip.mp4\""));
    assert_true(heard(&l, "\"phase\":\"end\""));
    stop_server(&hub, SIGKILL);
    end_listener(&l);
    (void)sight(s, 100);
    WAIT_FOR(was_told(s, "trying again in"));
    assert_int_equal(filled(s, "hub").waiting, 1);
    start_again(&hub);
    WAIT_FOR(filled(s, "hub").waiting == 0); /* the broker has it */
    l = listen_to(s->folder, hub.port, "frogspawn");
    WAIT_FOR(heard(&l, "\"number\":2"));
    WAIT_FOR(was_told(s, "hub: works again"));
    deliver(s, NULL, NULL);
    WAIT_FOR(heard(&l, "\"state\":\"down\""));
    assert_false(heard(&l, "\"state\":\"dead\""));
    end_listener(&l);
    end_server(&hub);
    leave_stored(s);
}

/* Asks again for numbers of a series. */
static void ask_again(int port, const char *series, const char *numbers)
{
    char text[256];
    (void)snprintf(text, sizeof text, "{\"series\":\"%s\",\"numbers\":%s}", series,
                   numbers);
    publish(port, "lane/hollin/ask", text);
}

/* Whoever keeps the sightings of many finds by the state what is missing, and asks. What
 * is gone is said to be; another series is not answered; a running sighting comes by
 * itself. No orders are needed to be allowed for it. */
static void test_what_was_told_is_told_again(void **state)
{
    (void)state;
    char text[512], series[32] = "";
    stored *s = make_stored();
    make_credentials(s->folder);
    server hub = start_broker(s->folder, false, false);
    (void)snprintf(text, sizeof text,
                   "[destination hub]\nurl = mqtt://127.0.0.1:%d/lane\ntls = none\n",
                   hub.port);
    deliver(s, "hub", text);
    for (int i = 0; i < 3; i++)
        (void)sight(s, 0);
    const int64_t running = begin_sighting(s);
    assert_int_equal(running, 4);
    WAIT_FOR(filled(s, "hub").waiting == 0);
    deliver(s, NULL, NULL);
    deliver(s, "hub", text); /* its state anew */
    WAIT_FOR(retains(hub.port, "lane/hollin/state", "\"last_number\":3"));
    char *state_text = retained(hub.port, "lane/hollin/state");
    const char *at = strstr(state_text, "\"series\":\"");
    assert_non_null(at);
    (void)snprintf(series, sizeof series, "%.16s", at + 10);
    assert_int_equal(strspn(series, "0123456789abcdef"), 16);
    free(state_text);
    listener l = listen_to(s->folder, hub.port, NULL);
    ask_again(hub.port, "0123456789abcdef", "[[1,9]]");
    ask_again(hub.port, series, "[[2,2],[3,7]]");
    WAIT_FOR(
        heard(&l,
              "hollin/gone {\"type\":\"gone\",\"station\":\"hollin\",\"series\":\"") &&
        heard(&l, "\"number\":7}"));
    assert_true(heard(&l, "{\"type\":\"sighting\",\"number\":2,"));
    assert_true(heard(&l, "{\"type\":\"sighting\",\"number\":3,"));
    assert_false(heard(&l, "{\"type\":\"sighting\",\"number\":1,"));
    assert_false(heard(&l, "\"number\":4,"));
    assert_false(heard(&l, "\"number\":4}"));
    assert_true(heard(&l, series));
    ask_again(hub.port, series, "[[7,2]]");
    WAIT_FOR(was_told(s, "a question was not understood"));
    end_listener(&l);
    end_server(&hub);
    leave_stored(s);
}

/* ---- settings ---------------------------------------------------------------------- */

static void apply_not(void *ctx, tw_settings *made)
{
    ++*(int *)ctx;
    tw_settings_free(made);
}

static size_t times_heard(const listener *l, const char *words)
{
    size_t n = 0;
    char *text = read_file(l->path, NULL);
    for (const char *at = text; (at = strstr(at, words)); at++)
        n++;
    free(text);
    return n;
}

/* They are told once, and again to who asks, or once they are others; what comes is
 * answered. Who is not named gets neither. */
static void test_settings_are_told_and_answered(void **state)
{
    (void)state;
    char text[512];
    int applied = 0;
    stored *s = make_stored();
    make_credentials(s->folder);
    server hub = start_broker(s->folder, false, false);
    listener l = listen_to(s->folder, hub.port, NULL);
    pthread_mutex_t writing = PTHREAD_MUTEX_INITIALIZER;
    char *file = join(s->folder, "station.ini");
    write_text(file, "[station]\nname = hollin\n");
    const twi_afar afar = {file, &writing, apply_not, &applied};
    (void)snprintf(text, sizeof text,
                   "[destination hub]\nurl = mqtt://127.0.0.1:%d/lane\ntls = none\n"
                   "settings_from = 11qYAYKxCrfVS/7TyWQHOg7hcvPapiMlrwIaaPcHURo=\n",
                   hub.port);
    deliver(s, "hub", text);
    twi_deliver_afar(s->deliver, &afar);
    twi_deliver_settings(s->deliver, s->settings);
    WAIT_FOR(retains(hub.port, "lane/hollin/settings", "[destination hub]"));
    WAIT_FOR(retains(hub.port, "lane/hollin/state", "\"changeable\":true"));
    twi_deliver_settings(s->deliver, s->settings); /* the same */
    give_order(hub.port, "{\"do\":\"settings\",\"draft\":\"{\\\"id\\\":7}\"}");
    WAIT_FOR(heard(&l,
                   "hollin/answer {\"type\":\"answer\",\"station\":\"hollin\",\"id\":7,"
                   "\"taken\":false,\"text\":\"its settings_from is another key\""));
    assert_int_equal(times_heard(&l, "lane/hollin/settings {"), 1);
    give_order(hub.port, "{\"do\":\"say\",\"id\":8,\"series\":\"x\",\"number\":1}");
    WAIT_FOR(heard(&l, "\"id\":8,\"taken\":false,\"text\":\"orders = no\""));
    give_order(hub.port, "{\"do\":\"arm\",\"id\":9}");
    WAIT_FOR(was_told(s, "an order was not taken: orders = no"));
    WAIT_FOR(heard(&l, "\"id\":9,\"taken\":false,\"text\":\"orders = no\""));
    publish(hub.port, "lane/hollin/ask", "{\"settings\":true}");
    WAIT_FOR(times_heard(&l, "lane/hollin/settings {") == 2);
    tw_settings *other = sending_settings("hub", "[destination hub]\nurl = mqtt://x/y\n");
    twi_deliver_settings(s->deliver, other);
    WAIT_FOR(times_heard(&l, "lane/hollin/settings {") == 3);
    tw_settings_free(other);
    assert_int_equal(applied, 0);
    deliver(s, NULL, NULL);
    free(file);
    end_listener(&l);
    end_server(&hub);
    leave_stored(s);
}

/* What there is no room for is left out, and asked for again. */
static void test_a_question_has_an_end(void **state)
{
    (void)state;
    char text[1024] = "{\"series\":\"9f\",\"numbers\":[[1,2]";
    twi_retelling r = {.count = 0};
    uint32_t number = 0;
    size_t told = 0;
    for (int i = 1; i < 40; i++)
        (void)snprintf(text + strlen(text), sizeof text - strlen(text), ",[%d,%d]",
                       3 * i + 1, 3 * i + 2);
    (void)strcat(text, "]}");
    assert_int_equal(twi_retell_take(&r, "9f", text, strlen(text)), TW_OK);
    assert_int_equal(r.count, TWI_RETELL_RANGES);
    while (twi_retell_next(&r, &number))
        told++;
    assert_int_equal(told, 2 * TWI_RETELL_RANGES);
    assert_int_equal(number, 3 * (TWI_RETELL_RANGES - 1) + 2);
}

static void test_a_refused_login(void **state)
{
    (void)state;
    char text[512];
    stored *s = make_stored();
    make_credentials(s->folder);
    server hub = start_broker(s->folder, true, false);
    (void)snprintf(text, sizeof text,
                   "[destination hub]\nurl = mqtt://toad@127.0.0.1:%d/lane\n"
                   "secret_file = %s/bad.secret\n",
                   hub.port, s->folder);
    deliver(s, "hub", text);
    WAIT_FOR(was_told(s, "hub: it refuses the login"));
    WAIT_FOR(filled(s, "hub").stopped_us > 0);
    char *bad = join(s->folder, "bad.secret");
    write_text(bad, "frogspawn\n");
    free(bad);
    (void)sight(s, 0);
    WAIT_FOR(filled(s, "hub").sent == 1);
    end_server(&hub);
    leave_stored(s);
}

static void test_encrypted(void **state)
{
    (void)state;
    char text[512];
    twi_send_outcome out;
    char *folder = make_folder();
    make_credentials(folder);
    server hub = start_broker(folder, false, true);
    for (int trusted = 0; trusted < 2; trusted++) {
        (void)snprintf(text, sizeof text,
                       "[destination hub]\nurl = mqtts://localhost:%d/lane\n%s%s%s",
                       hub.port, trusted ? "trust = " : "", trusted ? folder : "",
                       trusted ? "/cert.pem\n" : "");
        tw_settings *settings = sending_settings("hub", text);
        assert_int_equal(
            twi_deliver_try(settings, "hub", tw_linux_clock(), NULL, NULL, &out, NULL),
            TW_OK);
        assert_int_equal(out.fault, trusted ? TWI_FAULT_NONE : TWI_FAULT_CERTIFICATE);
        tw_settings_free(settings);
    }
    end_server(&hub);
    remove_folder(folder);
}

/* ---- with a station ---------------------------------------------------------------- */

/* A real station that a broker may order about; in a process of its own. */
static pid_t start_station(const char *folder, int port)
{
    char text[1024];
    (void)snprintf(text, sizeof text,
                   "[station]\nname = hollin\nstore = store\n[camera kerb]\n"
                   "source = sim:kerb\nsend_to = hub\n[camera mere]\nsource = sim:mere\n"
                   "[destination hub]\nurl = mqtt://127.0.0.1:%d/lane\norders = yes\n",
                   port);
    char *path = join(folder, "station.ini");
    write_text(path, text);
    free(path);
    const pid_t pid = fork();
    assert_true(pid >= 0);
    if (pid > 0)
        return pid;
    (void)prctl(PR_SET_PDEATHSIG, SIGKILL);
    if (chdir(folder) != 0 || !freopen("watch.log", "wb", stdout))
        _exit(1);
    (void)setenv("XDG_RUNTIME_DIR", folder, 1);
    execl(TOOL, TOOL, "watch", (char *)NULL);
    _exit(127);
}

/* Of each sighting: its files, at times that are right, and then its end. */
static void check_news(const char *path)
{
    char *text = read_file(path, NULL), *last = NULL;
    assert_null(strstr(text, "1970-01-01"));
    for (char *line = strtok(text, "\n"); line; line = strtok(NULL, "\n")) {
        if (!strstr(line, "kerb/sighting {"))
            continue;
        if (last && strstr(last, "\"phase\":\"end\"") &&
            strstr(line, "\"type\":\"stored\""))
            fail_msg("a capture behind the end: %s", line);
        last = line;
    }
    free(text);
}

static void test_a_station_and_its_orders(void **state)
{
    (void)state;
    char number[16];
    char *folder = make_folder();
    (void)chmod(folder, 0755);
    make_credentials(folder);
    server hub = start_broker(folder, false, false);
    listener l = listen_to(folder, hub.port, NULL);
    pid_t station = start_station(folder, hub.port);
    WAIT_FOR(retains(hub.port, "lane/hollin/state", "\"state\":\"up\""));
    WAIT_FOR(retains(hub.port, "lane/hollin/kerb/state", "\"state\":\"armed\"") ||
             retains(hub.port, "lane/hollin/kerb/state", "\"state\":\"settling\""));
    give_order(hub.port, "{\"do\": \"disarm\", \"camera\": \"mere\", \"for_s\": 600}");
    WAIT_FOR(retains(hub.port, "lane/hollin/mere/state", "\"state\":\"disarmed\""));
    give_order(hub.port, "{\"do\": \"trigger\", \"camera\": \"kerb\"}");
    WAIT_FOR(heard(&l, "lane/hollin/kerb/sighting {\"type\":\"began\""));
    give_order(hub.port, "{\"do\": \"snap\", \"camera\": \"mere\"}");
    char *log = join(folder, "watch.log");
    WAIT_FOR(file_has(log, "an order was taken: snap mere"));
    give_order(hub.port, "{\"do\": \"erase\"}");
    WAIT_FOR(file_has(log, "an order was not taken: not understood"));
    (void)snprintf(number, sizeof number, "%d", hub.port);
    outcome o =
        run_program(NULL, EXAMPLES "/topics", "127.0.0.1", number, "lane", "2", NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out,
               "lane/hollin/mere/state {\"type\":\"camera\",\"station\":\"hollin\"");
    assert_has(o.out, "lane/hollin/state {\"type\":\"station\",\"station\":\"hollin\"");
    free_outcome(&o);
    (void)kill(station, SIGKILL); /* its will is done */
    (void)waitpid(station, NULL, 0);
    WAIT_FOR(retains(hub.port, "lane/hollin/state", "\"state\":\"dead\""));
    /* What it said last of a camera does not hold forever. */
    assert_true(retains(hub.port, "lane/hollin/kerb/state", "\"holds_until\":\"20"));
    station = start_station(folder, hub.port); /* again, to end well */
    WAIT_FOR(retains(hub.port, "lane/hollin/kerb/state", "\"state\":\"settling\"") ||
             retains(hub.port, "lane/hollin/kerb/state", "\"state\":\"armed\""));
    give_order(hub.port, "{\"do\": \"trigger\", \"camera\": \"kerb\"}");
    WAIT_FOR(retains(hub.port, "lane/hollin/kerb/state", "\"state\":\"sighting\""));
    (void)kill(station, SIGTERM);
    (void)waitpid(station, NULL, 0);
    WAIT_FOR(retains(hub.port, "lane/hollin/kerb/state", "\"state\":\"down\""));
    check_news(l.path);
    free(log);
    end_listener(&l);
    end_server(&hub);
    remove_folder(folder);
}

/* ---- orders ------------------------------------------------------------------------ */

static void test_what_is_no_order(void **state)
{
    (void)state;
    static const char *const bad[] = {"",
                                      "{}",
                                      "[1]",
                                      "{\"do\": 1}",
                                      "{\"do\": \"arm\", \"camera\": 7}",
                                      "{\"do\": \"arm\", \"for_s\": -1}",
                                      "{\"do\": \"arm\", \"for_s\": 1e30}",
                                      "{\"do\": \"arm\", \"do\": \"disarm\"}",
                                      "{\"do\": \"as-set\"",
                                      "\xFF\x00"};
    tw_error err = {0};
    tw_card card;
    tw_station *station = NULL;
    char *folder = make_folder();
    tw_settings *settings = sending_settings("", "");
    assert_int_equal(tw_linux_card(folder, &card, &err), TW_OK);
    const tw_platform platform = {
        .makers = TEST_MAKERS, .clock = tw_linux_clock(), .card = &card};
    assert_int_equal(tw_station_new(&platform, settings, NULL, NULL, &station, &err),
                     TW_OK);
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++) {
        assert_int_equal(twi_deliver_order(station, bad[i], strlen(bad[i]), NULL, &err),
                         TW_ESYNTAX);
        assert_has(err.text, "not understood: write {\"do\"");
    }
    static const char none[] = "{\"do\": \"arm\", \"camera\": \"no\\u001b[31mne\"}",
                      good[] = "{\"do\": \"arm\", \"camera\": \"kerb\", \"for_s\": 9}";
    assert_int_equal(twi_deliver_order(station, none, strlen(none), NULL, &err),
                     TW_ENOENT);
    assert_has(err.text, "there is no camera no [31mne");
    assert_int_equal(twi_deliver_order(station, good, strlen(good), NULL, &err), TW_OK);
    tw_station_free(station);
    card.ops->destroy(card.ctx);
    tw_settings_free(settings);
    remove_folder(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_sightings_are_told_once_the_broker_is_back),
        cmocka_unit_test(test_what_was_told_is_told_again),
        cmocka_unit_test(test_settings_are_told_and_answered),
        cmocka_unit_test(test_a_question_has_an_end),
        cmocka_unit_test(test_a_refused_login),
        cmocka_unit_test(test_encrypted),
        cmocka_unit_test(test_a_station_and_its_orders),
        cmocka_unit_test(test_what_is_no_order),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
