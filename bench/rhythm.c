/* A gatherer that was off: what 10,000 stations told a real broker meanwhile, in the
 * evening, when ten times as much is seen as on the mean, is taken into PostgreSQL; and
 * how long that takes against how long it was off. Then 1 % of the stations, which were
 * without a network for three days, are back with all that they saw. Each sees 100
 * sightings a day, and tells its state and its camera's once a minute. TAWNY_MINUTES says
 * how long the gatherer was off. Exit 1 if it catches up less than 20 times as fast. */
#include <mosquitto.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#include "seconds.h"
#include "../src/core/civil.h"
#include "../src/gather/ledger.h"
#include "../tests/support/postgres.h"
#include "../tests/support/servers.h"

enum {
    STATIONS = 10000,
    EVENING = 6944,        /* sightings a minute: ten times the mean of 100 a day */
    BACK = STATIONS / 100, /* that were away */
    AWAY = 300,            /* sightings of each meanwhile */
    CATCHES_UP = 20,
    LONGEST_S = 900
};

#define S INT64_C(1000000)
#define WALL (INT64_C(1804969800) * S)

static void die(const char *why)
{
    (void)fprintf(stderr, "bench: %s\n", why);
    exit(2);
}

static int minutes(void)
{
    const char *text = getenv("TAWNY_MINUTES");
    return text ? atoi(text) : 10;
}

/* ---- what is told ------------------------------------------------------------------ */

/* A broker that keeps all of it, and a connection that tells for all stations. */
typedef struct load {
    struct mosquitto *to;
    size_t under_way, told;
} load;

static void on_told(struct mosquitto *to, void *ctx, int id)
{
    load *l = ctx;
    (void)to;
    (void)id;
    l->under_way--;
}

static void tell(load *l, const char *topic, const char *text, bool retain)
{
    while (l->under_way >= 500)
        if (mosquitto_loop(l->to, 100, 1) != MOSQ_ERR_SUCCESS)
            die("the broker has gone");
    if (mosquitto_publish(l->to, NULL, topic, (int)strlen(text), text, 1, retain) !=
        MOSQ_ERR_SUCCESS)
        die("nothing can be told");
    l->under_way++;
    l->told++;
    (void)mosquitto_loop(l->to, 0, 1);
}

static void tell_state(load *l, int station, int minute, int last)
{
    char topic[64], text[512], time[TWI_UTC_MAX];
    twi_utc(WALL + minute * 60 * S, time);
    (void)snprintf(topic, sizeof topic, "lane/s%05d/state", station);
    (void)snprintf(
        text, sizeof text,
        "{\"type\":\"station\",\"station\":\"s%05d\",\"state\":\"up\",\"store\":{"
        "\"card\":true,\"free_bytes\":%d,\"total_bytes\":16000000000},\"version\":"
        "\"0.1.0\",\"time\":\"%s\",\"series\":\"9f0c2a7be1d44c08\",\"last_number\":"
        "%d}",
        station, 1000000000 - minute, time, last);
    tell(l, topic, text, true);
    (void)snprintf(topic, sizeof topic, "lane/s%05d/kerb/state", station);
    (void)snprintf(
        text, sizeof text,
        "{\"type\":\"camera\",\"station\":\"s%05d\",\"camera\":\"kerb\",\"state\":"
        "\"armed\",\"activity\":0.0,\"fps\":10.0,\"sightings\":%d,\"time\":\"%s\","
        "\"latitude\":52.1,\"longitude\":-1.25}",
        station, last, time);
    tell(l, topic, text, true);
}

static void tell_sighting(load *l, int station, int number, int minute)
{
    char topic[64], text[1024], start[TWI_UTC_MAX];
    twi_utc(WALL + minute * 60 * S, start);
    (void)snprintf(topic, sizeof topic, "lane/s%05d/kerb/sighting", station);
    (void)snprintf(
        text, sizeof text,
        "{\"type\":\"sighting\",\"number\":%d,\"camera\":\"kerb\",\"start\":\"%s\","
        "\"end\":\"%s\",\"seconds\":12.0,\"peak\":1.3,\"frames\":104,\"why\":\"1.20 "
        "%% of the watched area moved (start_at 0.05 %%), one blob of 1.20 %% at "
        "the left, 2 of 3 frames\",\"starred\":false,\"stills\":1,\"clips\":1,"
        "\"mark\":\"none\",\"station\":\"s%05d\",\"captures\":[{\"kind\":\"still\","
        "\"file\":\"2027-03-13/kerb/kerb-%d-still.jpg\",\"start\":\"%s\",\"bytes\":"
        "48210}],\"phase\":\"end\",\"series\":\"9f0c2a7be1d44c08\"}",
        number, start, start, station, number, start);
    tell(l, topic, text, false);
}

/* The broker has all of it. */
static void settle(load *l)
{
    while (l->under_way > 0)
        if (mosquitto_loop(l->to, 100, 1) != MOSQ_ERR_SUCCESS)
            die("the broker has gone");
}

/* @return how many sightings were told. */
static int tell_all(load *l)
{
    int told = 0;
    for (int m = 0; m < minutes(); m++) {
        for (int i = 0; i < EVENING; i++, told++)
            tell_sighting(l, told % STATIONS, told / STATIONS + 1, m);
        for (int i = 0; i < STATIONS; i++)
            tell_state(l, i, m, told / STATIONS + (i < told % STATIONS));
    }
    settle(l);
    return told;
}

/* Those that were away: what they saw, on top of what is known of them.
 * @return how many sightings that is. */
static int tell_back(load *l, int known)
{
    for (int i = 0; i < BACK * AWAY; i++)
        tell_sighting(l, i % BACK, known / STATIONS + 2 + i / BACK, minutes());
    settle(l);
    return BACK * AWAY;
}

/* ---- who hears it ------------------------------------------------------------------ */

static pid_t start(const char *folder, char *const argv[])
{
    const pid_t pid = fork();
    if (pid != 0)
        return pid;
    char *log = join(folder, "log");
    if (!freopen(log, "ab", stdout) || !freopen(log, "ab", stderr) || chdir(folder) != 0)
        _exit(126);
    execvp(argv[0], argv);
    _exit(127);
}

static void end(pid_t pid)
{
    (void)kill(pid, SIGTERM);
    (void)waitpid(pid, NULL, 0);
}

static pid_t start_hub(const char *folder, int port)
{
    char conf[256], *file = join(folder, "hub.conf");
    (void)snprintf(conf, sizeof conf,
                   "listener %d 127.0.0.1\nallow_anonymous true\nmax_queued_messages "
                   "0\nmax_inflight_messages 0\n",
                   port);
    write_text(file, conf);
    free(file);
    (void)setenv("PATH", "/usr/sbin:/usr/bin:/bin", 1);
    const pid_t pid = start(
        folder, (char *[]){(char *)"mosquitto", (char *)"-c", (char *)"hub.conf", NULL});
    (void)sleep(1);
    return pid;
}

static pid_t start_gatherer(const char *folder)
{
    const pid_t pid =
        start(folder, (char *[]){(char *)TOOL, (char *)"gather", (char *)"--settings",
                                 (char *)"gather.ini", NULL});
    (void)sleep(2);
    return pid;
}

static void take_number(void *ctx, const char *const *row)
{
    *(long *)ctx = atol(row[0]);
}

/* @return seconds until so many sightings are there. */
static double wait_for(const twi_ledger_kind *kind, twi_ledger *l, long told)
{
    const double before = seconds();
    long there = 0;
    while (there < told && seconds() - before < LONGEST_S) {
        (void)usleep(200000);
        if (kind->ask(l, "SELECT count(*) FROM sighting", NULL, 0, take_number, &there,
                      NULL) != TW_OK)
            die("the ledger has gone");
    }
    if (there != told)
        die("not all of it came");
    return seconds() - before;
}

static long kept_kb(pid_t pid)
{
    char path[64], line[256];
    long kb = 0;
    (void)snprintf(path, sizeof path, "/proc/%d/status", (int)pid);
    FILE *f = fopen(path, "r");
    while (f && fgets(line, sizeof line, f))
        (void)sscanf(line, "VmHWM: %ld", &kb);
    if (f)
        (void)fclose(f);
    return kb;
}

int main(void)
{
    char text[1024], *folder = make_folder(), *place = start_postgres(folder);
    const int port = free_port();
    load l = {0};
    tw_error err = {0};
    twi_ledger *ledger = NULL;
    char *file = join(folder, "gather.ini");
    (void)snprintf(text, sizeof text,
                   "[gather]\ngather = mqtt://127.0.0.1:%d/lane\ntls = none\nlisten = "
                   "none\nledger = %s\n",
                   port, place);
    write_text(file, text);
    const pid_t hub = start_hub(folder, port);
    end(start_gatherer(folder)); /* its session is there now */
    (void)mosquitto_lib_init();
    l.to = mosquitto_new("load", true, &l);
    mosquitto_publish_callback_set(l.to, on_told);
    (void)mosquitto_max_inflight_messages_set(l.to, 0);
    if (mosquitto_connect(l.to, "127.0.0.1", port, 3600) != MOSQ_ERR_SUCCESS)
        die("there is no broker");
    const double before = seconds();
    const int told = tell_all(&l);
    (void)printf(
        "%d minutes of the evening of %d stations: %zu messages, %d sightings; told "
        "in %.0f s\n",
        minutes(), STATIONS, l.told, told, seconds() - before);
    (void)fflush(stdout);
    const twi_ledger_kind *kind = twi_ledger_find(place, &err);
    if (!kind || kind->open(place, &ledger, &err) != TW_OK)
        die(err.text);
    const pid_t gatherer = start_gatherer(folder);
    const double took = 2 + wait_for(kind, ledger, told);
    const double times = minutes() * 60 / took;
    (void)printf("caught up in %.1f s: %.0f times as fast as it came; %ld MB kept\n",
                 took, times, kept_kb(gatherer) / 1024);
    const double from = seconds();
    const int back = tell_back(&l, told);
    (void)wait_for(kind, ledger, told + back);
    (void)printf("%d stations are back with %d sightings: in %.1f s\n", BACK, back,
                 seconds() - from);
    kind->close(ledger);
    end(gatherer);
    end(hub);
    stop_postgres(folder);
    remove_folder(folder);
    return times >= CATCHES_UP ? 0 : 1;
}
