/* Many stations, a broker, gatherers and a data base, of which everything is killed at
 * random: what was told is there once, all of it, and nothing else. The stations are
 * simulated by what a station tells a broker with. TAWNY_SIGHTINGS says how many
 * sightings each has, TAWNY_SEEDS how many times it is done. */
#include "../support/postgres.h"
#include "../support/servers.h"
#include "../support/support.h"
#include "../../src/deliver/retell.h"
#include "../../src/gather/gather.h"
#include "../../src/net/broker.h"

#include <jansson.h>
#include <pthread.h>
#include <signal.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

enum { STATIONS = 20, GATHERERS = 2 };

static unsigned dice;

static unsigned roll(unsigned sides)
{
    dice = dice * 1103515245U + 12345U;
    return (dice >> 8) % sides;
}

static void rest_ms(int ms)
{
    const struct timespec t = {ms / 1000, ms % 1000 * 1000000L};
    (void)nanosleep(&t, NULL);
}

/* ---- stations ---------------------------------------------------------------------- */

typedef struct station {
    pthread_t thread;
    atomic_bool *stop;
    twi_destination_settings to;
    char name[16], url[64], orders[64], asks[64], series[17], will_topic[64];
    int sightings;
    atomic_int told; /* that the broker has */
    twi_retelling again;
    twi_broker *broker;
} station;

static const twi_broker_module *brokers;

static void hear(void *ctx, const char *topic, const void *payload, size_t bytes)
{
    station *s = ctx;
    if (strcmp(topic, s->asks) == 0)
        (void)twi_retell_take(&s->again, s->series, payload, bytes);
}

static bool publish(station *s, const char *what, const char *text, bool retain)
{
    char topic[96];
    twi_sending out;
    (void)snprintf(topic, sizeof topic, "lane/%s/%s", s->name, what);
    brokers->broker_publish(s->broker, topic, text, retain, &out);
    return out.verdict == TWI_DELIVERED;
}

static bool tell_sighting(station *s, int number)
{
    char text[512];
    (void)snprintf(
        text, sizeof text,
        "{\"type\":\"sighting\",\"number\":%d,\"camera\":\"kerb\",\"start\":"
        "\"2027-03-%02dT21:%02d:07.250Z\",\"end\":\"2027-03-%02dT21:%02d:19.250Z\","
        "\"peak\":1.3,\"name\":\"n%d\",\"count\":1,\"mark\":\"none\",\"station\":"
        "\"%s\",\"series\":\"%s\",\"phase\":\"end\"}",
        number, number / 60 % 28 + 1, number % 60, number / 60 % 28 + 1, number % 60,
        number, s->name, s->series);
    return publish(s, "kerb/sighting", text, false);
}

static bool tell_state(station *s)
{
    char text[256];
    (void)snprintf(text, sizeof text,
                   "{\"type\":\"station\",\"station\":\"%s\",\"state\":\"up\",\"series\":"
                   "\"%s\",\"last_number\":%d}",
                   s->name, s->series, atomic_load(&s->told));
    return publish(s, "state", text, true);
}

/* What it sees, what it is asked for, and how it fares every second, for as long as it
 * lasts. */
static void *live(void *ctx)
{
    station *s = ctx;
    twi_sending out;
    time_t last = 0;
    uint32_t number = 0;
    while (!atomic_load(s->stop)) {
        if (!brokers->broker_step(s->broker, 20, &out)) {
            rest_ms(100);
            continue;
        }
        if (atomic_load(&s->told) < s->sightings &&
            tell_sighting(s, atomic_load(&s->told) + 1))
            atomic_fetch_add(&s->told, 1);
        if (twi_retell_next(&s->again, &number) && number <= (uint32_t)s->sightings)
            (void)tell_sighting(s, (int)number);
        if (time(NULL) != last && tell_state(s))
            last = time(NULL);
    }
    brokers->broker_free(s->broker);
    return NULL;
}

static void start_station(station *s, int number, int port, int sightings,
                          atomic_bool *stop)
{
    tw_error err = {0};
    memset(s, 0, sizeof *s);
    s->stop = stop;
    s->sightings = sightings;
    (void)snprintf(s->name, sizeof s->name, "s%02d", number);
    (void)snprintf(s->series, sizeof s->series, "%016d", number);
    (void)snprintf(s->url, sizeof s->url, "mqtt://127.0.0.1:%d", port);
    (void)snprintf(s->asks, sizeof s->asks, "lane/%s/ask", s->name);
    (void)snprintf(s->will_topic, sizeof s->will_topic, "lane/%s/state", s->name);
    s->to = (twi_destination_settings){.name = "hub",
                                       .url = s->url,
                                       .user = "",
                                       .trust = "",
                                       .tls = TWI_TLS_NONE,
                                       .timeout_us = 3000000};
    const twi_broker_spec spec = {.to = &s->to,
                                  .secret = "",
                                  .client = s->name,
                                  .will_topic = s->will_topic,
                                  .will = "{\"state\":\"dead\"}",
                                  .asks = s->asks,
                                  .heard = hear,
                                  .ctx = s};
    if (brokers->broker_new(&spec, &s->broker, &err) != TW_OK)
        fail_msg("%s", err.text);
    assert_int_equal(pthread_create(&s->thread, NULL, live, s), 0);
}

/* ---- gatherers --------------------------------------------------------------------- */

static pid_t start_gatherer(const char *folder, const char *url, const char *place,
                            int number)
{
    char broker[128], ledger[512], session[64], log[512];
    (void)snprintf(broker, sizeof broker, "gather.gather=%s", url);
    (void)snprintf(ledger, sizeof ledger, "gather.ledger=%s", place);
    (void)snprintf(session, sizeof session, "gather.session=g%d", number);
    (void)snprintf(log, sizeof log, "%s/gather-%d.log", folder, number);
    const pid_t pid = fork();
    assert_true(pid >= 0);
    if (pid != 0)
        return pid;
    (void)prctl(PR_SET_PDEATHSIG, SIGKILL);
    if (!freopen(log, "ab", stdout) || !freopen(log, "ab", stderr) || chdir(folder) != 0)
        _exit(1);
    execl(TOOL, "tawny", "gather", "--set", broker, "--set", ledger, "--set", session,
          "--set", "gather.tls=none", (char *)NULL);
    _exit(127);
}

static void end_gatherer(pid_t pid, int how)
{
    (void)kill(pid, how);
    (void)waitpid(pid, NULL, 0);
}

/* ---- what is there ----------------------------------------------------------------- */

typedef struct counting {
    int of[STATIONS], wrong;
} counting;

static void count_one(void *ctx, const twi_ledger_sighting *s)
{
    counting *c = ctx;
    char name[16];
    const int which = atoi(s->station + 1);
    (void)snprintf(name, sizeof name, "n%lld", (long long)s->number);
    if (which < 0 || which >= STATIONS || strcmp(s->name, name) != 0 ||
        strcmp(s->camera, "kerb") != 0 || s->end_us - s->start_us != 12000000)
        c->wrong++;
    else
        c->of[which]++;
}

static bool all_there(const char *place, int sightings, counting *c)
{
    const twi_ledger_filter any = {0};
    tw_error err = {0};
    twi_ledger *l = NULL;
    memset(c, 0, sizeof *c);
    const twi_ledger_kind *kind = twi_ledger_find(place, &err);
    if (!kind || kind->open(place, &l, &err) != TW_OK)
        return false;
    const tw_status st = kind->sightings(l, &any, count_one, c, &err);
    kind->close(l);
    bool all = st == TW_OK;
    for (int i = 0; i < STATIONS && all; i++)
        all = c->of[i] == sightings;
    return all;
}

/* ---- the test ---------------------------------------------------------------------- */

typedef struct world {
    char *folder, *place, url[64];
    bool on_server;
    server hub;
    station stations[STATIONS];
    pid_t gatherers[GATHERERS];
    atomic_bool stop;
} world;

static void kill_something(world *w)
{
    const unsigned what = roll(w->on_server ? 6 : 5);
    const int which = (int)roll(GATHERERS);
    if (what < 4) {
        end_gatherer(w->gatherers[which], SIGKILL);
        rest_ms((int)roll(300));
        w->gatherers[which] = start_gatherer(w->folder, w->url, w->place, which);
    } else if (what == 4) {
        stop_server(&w->hub, SIGKILL);
        rest_ms((int)roll(300));
        start_again(&w->hub);
    } else {
        kill_postgres(w->folder);
        rest_ms((int)roll(300));
        restart_postgres(w->folder);
    }
}

static bool all_told(const world *w, int sightings)
{
    for (int i = 0; i < STATIONS; i++)
        if (atomic_load(&w->stations[i].told) < sightings)
            return false;
    return true;
}

static void begin(world *w, bool on_server, int sightings)
{
    memset(w, 0, sizeof *w);
    w->on_server = on_server;
    w->folder = make_folder();
    make_credentials(w->folder);
    w->place = on_server ? start_postgres(w->folder) : join(w->folder, "all.db");
    w->hub = start_broker(w->folder, false, false);
    (void)snprintf(w->url, sizeof w->url, "mqtt://127.0.0.1:%d/lane", w->hub.port);
    for (int i = 0; i < GATHERERS; i++)
        w->gatherers[i] = start_gatherer(w->folder, w->url, w->place, i);
    for (int i = 0; i < STATIONS; i++)
        start_station(&w->stations[i], i, w->hub.port, sightings, &w->stop);
}

static void end(world *w)
{
    atomic_store(&w->stop, true);
    for (int i = 0; i < STATIONS; i++)
        (void)pthread_join(w->stations[i].thread, NULL);
    for (int i = 0; i < GATHERERS; i++)
        end_gatherer(w->gatherers[i], SIGTERM);
    end_server(&w->hub);
    if (w->on_server)
        stop_postgres(w->folder);
    free(w->place);
    remove_folder(w->folder);
}

static int number_from(const char *name, int otherwise)
{
    const char *text = getenv(name);
    return text ? atoi(text) : otherwise;
}

/* What was told before anybody listened, or was lost, is asked for: that takes a while.
 */
static void wait_for_all(const world *w, int sightings, counting *c)
{
    const time_t until = time(NULL) + 300;
    while (!all_there(w->place, sightings, c) && time(NULL) < until)
        rest_ms(500);
}

static void run(bool on_server, unsigned seed)
{
    const int sightings = number_from("TAWNY_SIGHTINGS", 30);
    world *w = calloc(1, sizeof *w);
    counting c;
    int kills = 0;
    dice = seed;
    begin(w, on_server, sightings);
    while (!all_told(w, sightings) || kills < 6) {
        rest_ms(200 + (int)roll(800));
        kill_something(w);
        kills++;
    }
    wait_for_all(w, sightings, &c);
    assert_int_equal(c.wrong, 0);
    for (int i = 0; i < STATIONS; i++)
        assert_int_equal(c.of[i], sightings);
    print_message("seed %u, %s: %d sightings of %d stations, %d kills\n", seed,
                  on_server ? "server" : "file", sightings * STATIONS, STATIONS, kills);
    end(w);
    free(w);
}

static void test_nothing_is_lost_or_doubled_in_a_file(void **state)
{
    (void)state;
    for (int seed = 1; seed <= number_from("TAWNY_SEEDS", 1); seed++)
        run(false, (unsigned)seed);
}

static void test_nothing_is_lost_or_doubled_on_a_server(void **state)
{
    (void)state;
    for (int seed = 1; seed <= number_from("TAWNY_SEEDS", 1); seed++)
        run(true, (unsigned)seed);
}

/* What the tool lists of it, and what it says where it cannot begin. */
static void test_the_tool(void **state)
{
    (void)state;
    world *w = calloc(1, sizeof *w);
    counting c;
    char ledger[512], line[64];
    begin(w, false, 2);
    wait_for_all(w, 2, &c);
    end_gatherer(w->gatherers[1], SIGTERM);
    (void)snprintf(ledger, sizeof ledger, "gather.ledger=%s", w->place);
    outcome o =
        run_program(w->folder, TOOL, "gather", "--stations", "--set", ledger, NULL);
    assert_int_equal(o.code, 0);
    assert_has(o.out, "s00                  up  ");
    assert_has(o.out, " 2 sightings");
    assert_has(o.out, "20 stations\n");
    free_outcome(&o);
    o = run_program(w->folder, TOOL, "gather", "--stations", "--json", "--set", ledger,
                    NULL);
    assert_int_equal(count_lines(o.out, "{\"type\":\"station\",\"station\":\"s"),
                     STATIONS);
    assert_int_equal(count_lines(o.out, "\"sightings\":2"), STATIONS);
    free_outcome(&o);
    o = run_program(w->folder, TOOL, "gather", "--sightings", "--station", "s03", "--set",
                    ledger, NULL);
    assert_int_equal(count_lines(o.out, "  s03 "), 2);
    assert_int_equal(count_lines(o.out, ""), 2);
    free_outcome(&o);
    o = run_program(w->folder, TOOL, "gather", "--sightings", "--json", "--set", ledger,
                    NULL);
    assert_int_equal(count_lines(o.out, "{\"type\":\"sighting\""), 2 * STATIONS);
    free_outcome(&o);
    o = run_program(w->folder, TOOL, "gather", NULL);
    assert_int_equal(o.code, 2);
    assert_has(o.err, "where do stations tell it? write gather = mqtt://HOST/TOPIC");
    free_outcome(&o);
    static const char *const secret[] = {"gather.ledger=postgresql://a:b@host/name",
                                         "gather.ledger=postgresql://host/n?password=b"};
    for (size_t i = 0; i < 2; i++) {
        o = run_program(w->folder, TOOL, "gather", "--stations", "--set", secret[i],
                        NULL);
        assert_int_equal(o.code, 2);
        assert_has(o.err, "a password does not belong there: write it into ~/.pgpass");
        free_outcome(&o);
    }
    o = run_program(w->folder, TOOL, "gather", "--access", "--set",
                    "gather.gather=mqtt://localhost/lane", NULL);
    assert_has(o.out, "pattern write lane/%u/#\npattern read lane/%u/order\n");
    free_outcome(&o);
    (void)snprintf(line, sizeof line, "gather.gather=mqtt://127.0.0.1:%d", w->hub.port);
    o = run_program(w->folder, TOOL, "gather", "--set", line, "--set",
                    "gather.secret_file=/none", NULL);
    assert_int_equal(o.code, 1);
    assert_has(o.err, "/none: No such file");
    free_outcome(&o);
    w->gatherers[1] = start_gatherer(w->folder, w->url, w->place, 1);
    end(w);
    free(w);
}

/* ---- the listener alone ------------------------------------------------------------ */

static void count_heard(void *ctx, const char *topic, const void *payload, size_t bytes)
{
    (void)topic;
    (void)payload;
    (void)bytes;
    ++*(int *)ctx;
}

static void read_for(twi_listener *l, int ms)
{
    twi_sending out;
    for (int i = 0; i < ms / 50; i++)
        if (!brokers->listener_read(l, 50, &out))
            rest_ms(50);
}

/* What was handed on is at the broker still, until it is acknowledged. */
static void test_what_is_not_acknowledged_comes_again(void **state)
{
    (void)state;
    char *folder = make_folder(), url[64];
    int heard = 0;
    atomic_bool stop = false;
    station s;
    twi_listener *l = NULL;
    twi_sending out;
    make_credentials(folder);
    server hub = start_broker(folder, false, false);
    (void)snprintf(url, sizeof url, "mqtt://127.0.0.1:%d", hub.port);
    const twi_destination_settings to = {
        .url = url, .user = "", .trust = "", .tls = TWI_TLS_NONE, .timeout_us = 3000000};
    const twi_listener_spec spec = {.to = &to,
                                    .secret = "",
                                    .client = "one",
                                    .group = "tawny",
                                    .topics = {"lane/+/+/sighting"},
                                    .most = 100,
                                    .heard = count_heard,
                                    .ctx = &heard};
    assert_int_equal(brokers->listener_new(&spec, &l, NULL), TW_OK);
    assert_true(brokers->listener_read(l, 50, &out));
    start_station(&s, 0, hub.port, 5, &stop);
    WAIT_FOR(atomic_load(&s.told) == 5);
    for (int i = 0; i < 100 && heard < 5; i++)
        read_for(l, 50);
    assert_int_equal(heard, 5);
    brokers->listener_drop(l);
    read_for(l, 1000);
    assert_true(heard >= 10); /* all of it again, some of it perhaps more often */
    assert_true(brokers->listener_acknowledge(l));
    read_for(l, 500); /* until the broker has read that */
    heard = 0;
    brokers->listener_drop(l);
    read_for(l, 1000);
    assert_int_equal(heard, 0);
    brokers->listener_free(l);
    atomic_store(&stop, true);
    (void)pthread_join(s.thread, NULL);
    end_server(&hub);
    remove_folder(folder);
}

/* What the README promises, on ports of its own. */
/* ---- telling ----------------------------------------------------------------------- */

static void tell_nobody(void *ctx, tw_status st, const char *line)
{
    (void)ctx;
    (void)st;
    (void)line;
}

static void silent_nobody(void *ctx, const char *who, int64_t since_us)
{
    (void)ctx;
    (void)who;
    (void)since_us;
}

static void *gather_on(void *ctx)
{
    assert_int_equal(twi_gather(ctx, NULL), TW_OK);
    return NULL;
}

/* Whatever comes meanwhile: what came is not acknowledged for a moment, in which nothing
 * can be told. */
static void test_orders_are_told_while_much_comes(void **state)
{
    enum { ORDERS = 40 };
    (void)state;
    char *folder = make_folder(), *ledger = join(folder, "all.db"), url[64], feed[256],
         number[16];
    pthread_t thread;
    atomic_bool stop = false;
    make_credentials(folder);
    server hub = start_broker(folder, false, false);
    (void)snprintf(url, sizeof url, "mqtt://127.0.0.1:%d/lane", hub.port);
    (void)snprintf(number, sizeof number, "%d", hub.port);
    (void)snprintf(feed, sizeof feed,
                   "while sleep 0.004; do echo '{\"state\":\"up\"}'; done | exec "
                   "mosquitto_pub -p %d -q 1 -l -t lane/hollin/state",
                   hub.port);
    const twi_destination_settings to = {
        .url = url, .user = "", .trust = "", .tls = TWI_TLS_NONE, .timeout_us = 3000000};
    const twi_gathering of = {.broker = &to,
                              .secret = "",
                              .session = "one",
                              .ledger = ledger,
                              .clock = tw_linux_clock(),
                              .words = twi_to_tell_new(),
                              .stop = &stop,
                              .tell = tell_nobody,
                              .silent = silent_nobody};
    const pid_t told = fork(), come = told > 0 ? fork() : -1;
    if (told == 0) {
        execlp("mosquitto_sub", "mosquitto_sub", "-p", number, "-q", "1", "-C", "40",
               "-W", "30", "-t", "lane/hollin/order", (char *)NULL);
        _exit(127);
    }
    if (come == 0) {
        (void)setpgid(0, 0);
        (void)prctl(PR_SET_PDEATHSIG, SIGKILL);
        execl("/bin/sh", "sh", "-c", feed, (char *)NULL);
        _exit(127);
    }
    assert_true(told > 0 && come > 0);
    assert_int_equal(pthread_create(&thread, NULL, gather_on, (void *)(uintptr_t)&of), 0);
    rest_ms(1500);
    for (int i = 0; i < ORDERS; i++) {
        assert_true(twi_to_tell_put(of.words, "hollin", "order", "{\"do\":\"arm\"}"));
        rest_ms(40);
    }
    int how = -1;
    (void)waitpid(told, &how, 0);
    (void)kill(-come, SIGKILL);
    (void)waitpid(come, NULL, 0);
    atomic_store(&stop, true);
    (void)pthread_join(thread, NULL);
    twi_to_tell_free(of.words);
    end_server(&hub);
    free(ledger);
    remove_folder(folder);
    assert_true(WIFEXITED(how));
    assert_int_equal(WEXITSTATUS(how), 0); /* all of them came */
}

typedef struct states {
    int all, dead, other;
} states;

static void count_state(void *ctx, const char *topic, const void *payload, size_t bytes)
{
    states *heard = ctx;
    if (strstr(topic, "/state") == NULL)
        heard->other++;
    else if (bytes == 4 && memcmp(payload, "dead", 4) == 0)
        heard->dead++;
    else
        heard->all++;
}

static void say_at(int port, const char *topic, const char *text, bool retain)
{
    char number[16];
    (void)snprintf(number, sizeof number, "%d", port);
    outcome o = run_program(NULL, "mosquitto_pub", "-p", number, "-q", "1", "-t", topic,
                            "-m", text, retain ? "-r" : NULL, NULL);
    assert_int_equal(o.code, 0);
    free_outcome(&o);
}

/* What a station tells again by itself is not kept for a gatherer that is away, where it
 * would fill the broker's queue; how it was left is handed on all the same, once. */
static void test_states_are_not_kept_but_known(void **state)
{
    (void)state;
    char *folder = make_folder(), url[64];
    states heard = {0};
    twi_listener *l = NULL;
    make_credentials(folder);
    server hub = start_broker(folder, false, false);
    (void)snprintf(url, sizeof url, "mqtt://127.0.0.1:%d", hub.port);
    const twi_destination_settings to = {
        .url = url, .user = "", .trust = "", .tls = TWI_TLS_NONE, .timeout_us = 3000000};
    const twi_listener_spec spec = {.to = &to,
                                    .secret = "",
                                    .client = "one",
                                    .group = "tawny",
                                    .topics = {"lane/+/+/sighting"},
                                    .passing = {"lane/+/state"},
                                    .most = 100,
                                    .heard = count_state,
                                    .ctx = &heard};
    assert_int_equal(brokers->listener_new(&spec, &l, NULL), TW_OK);
    read_for(l, 300);
    brokers->listener_free(l); /* while it is asked what is retained */
    for (int i = 0; i < 5; i++)
        say_at(hub.port, "lane/hollin/state", "up", true);
    say_at(hub.port, "lane/hollin/state", "dead", true);
    say_at(hub.port, "lane/hollin/kerb/sighting", "one", false);
    assert_int_equal(brokers->listener_new(&spec, &l, NULL), TW_OK);
    for (int i = 0; i < 100 && heard.dead + heard.other < 2; i++) {
        read_for(l, 50);
        (void)brokers->listener_acknowledge(l);
    }
    assert_int_equal(heard.all, 0);    /* what was before is nobody's business any more */
    assert_in_range(heard.dead, 1, 2); /* this broker may give it to the share, too */
    assert_int_equal(heard.other, 1);
    for (int i = 0; i < 40; i++) { /* from now on it comes once */
        read_for(l, 50);
        (void)brokers->listener_acknowledge(l);
    }
    say_at(hub.port, "lane/hollin/state", "up", true);
    for (int i = 0; i < 10; i++) {
        read_for(l, 50);
        (void)brokers->listener_acknowledge(l);
    }
    assert_int_equal(heard.all, 1);
    brokers->listener_free(l);
    end_server(&hub);
    remove_folder(folder);
}

static void test_the_demo(void **state)
{
    (void)state;
    char command[512];
    (void)snprintf(command, sizeof command, "TAWNY=%s PORT=%d %s/scripts/demo-many 70",
                   TOOL, free_port(), SOURCE_DIR);
    outcome o = run_program(NULL, "/bin/sh", "-c", command, NULL);
    assert_int_equal(o.code, 0);
    assert_string_equal(o.err, "");
    assert_int_equal(count_lines(o.out, " up  "), 3);
    assert_has(o.out, "3 stations\n");
    for (size_t i = 0; i < 3; i++) {
        static const char *const seen[] = {"  north            kerb            1 ",
                                           "  tunnel           tunnel          1 ",
                                           "  mere             mere            1 "};
        assert_int_equal(count_lines(o.out, seen[i]), 1);
    }
    free_outcome(&o);
}

static int load(void **state)
{
    tw_error err = {0};
    (void)state;
    brokers = twi_broker_load(&err);
    return brokers ? 0 : -1;
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_nothing_is_lost_or_doubled_in_a_file),
        cmocka_unit_test(test_nothing_is_lost_or_doubled_on_a_server),
        cmocka_unit_test(test_the_tool),
        cmocka_unit_test(test_the_demo),
        cmocka_unit_test(test_what_is_not_acknowledged_comes_again),
        cmocka_unit_test(test_states_are_not_kept_but_known),
        cmocka_unit_test(test_orders_are_told_while_much_comes),
    };
    return cmocka_run_group_tests(tests, load, NULL);
}
