/* What the page costs a station:
 *
 * 1. Two cameras of 1280x720 at 10 frames a second, JPEG: their frames and the
 * processor's time of the station with a page that nobody looks at, against the same
 * station without one; and with twenty who look on, five of whom read nothing.
 * 2. A list of 200 sightings of a day with 5,000, against reading the same from the
 *    catalogue and nothing else.
 *
 * Prints one line each and the limit it is held to; exit 1 if one is missed. */
#include <arpa/inet.h>
#include <netinet/in.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

#include "seconds.h"
#include "../src/page/page.h"
#include "../src/station/catalogue_write.h"
#include "tawny/tawny.h"
#include "../src/settings/sections.h"
#include "../src/station/footage.h"

enum {
    RUN_S = 15,
    ROUNDS = 2,
    VIEWERS = 20,
    STALLED = 5,
    SIGHTINGS = 5000,
    LISTED = 200,
    ASKED = 50,
    MEMORY_MB = 16
};

#define US INT64_C(1000000)
#define IDLE_COST 1.05
#define LIST_COST 3.0

static void die(const char *what, const tw_error *err)
{
    (void)fprintf(stderr, "bench: %s: %s\n", what, err->text);
    exit(2);
}

static double cpu_seconds(void)
{
    struct rusage u;
    (void)getrusage(RUSAGE_SELF, &u);
    return (double)(u.ru_utime.tv_sec + u.ru_stime.tv_sec) +
           (double)(u.ru_utime.tv_usec + u.ru_stime.tv_usec) / 1e6;
}

static double resident_mb(void)
{
    long pages = 0, resident = 0;
    FILE *f = fopen("/proc/self/statm", "r");
    if (f && fscanf(f, "%ld %ld", &pages, &resident) != 2) /* NOLINT(cert-err34-c) */
        resident = 0;
    if (f)
        (void)fclose(f);
    return (double)resident * (double)sysconf(_SC_PAGESIZE) / 1e6;
}

static tw_settings *read_settings(const char *text)
{
    tw_settings *s = tw_settings_new();
    if (!s || tw_settings_read_text(s, "bench", text, strlen(text), NULL, NULL) != TW_OK)
        exit(2);
    return s;
}

/* ---- footage, so that drawing it costs nothing later ------------------------------- */

static void make_footage(const char *path)
{
    static const tw_camera_make_fn makers[] = {tw_sim_camera_make, NULL};
    const tw_platform platform = {.makers = makers, .clock = tw_linux_clock()};
    tw_settings *s = read_settings("[camera kerb]\nsource = sim:kerb,size=1280x720\n"
                                   "clip_video = mjpeg\npace = no\n");
    twi_camera_settings camera;
    tw_error err = {0};
    if (twi_settings_camera(s, "kerb", &camera) != TW_OK ||
        twi_footage_write(&platform, &camera, path, NULL, &err) != TW_OK)
        die("footage", &err);
    tw_settings_free(s);
}

/* ---- viewers: in a process of their own, so that their work is not counted --------- */

static int dial(int port)
{
    struct sockaddr_in at = {.sin_family = AF_INET, .sin_port = htons((uint16_t)port)};
    at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    const int s = socket(AF_INET, SOCK_STREAM, 0);
    if (s < 0 || connect(s, (struct sockaddr *)&at, sizeof at) != 0)
        exit(2);
    return s;
}

static int ask(int port, const char *path)
{
    char text[256];
    const int s = dial(port);
    const int n = snprintf(text, sizeof text,
                           "GET %s HTTP/1.1\r\nHost: 127.0.0.1:%d\r\n"
                           "Connection: close\r\n\r\n",
                           path, port);
    if (send(s, text, (size_t)n, MSG_NOSIGNAL) != n)
        exit(2);
    return s;
}

static void poll_on(int port)
{
    static char piece[65536];
    int all[VIEWERS];
    for (int i = 0; i < VIEWERS; i++)
        all[i] = ask(port, i % 2 ? "/live/kerb" : "/live/mere");
    for (;;)
        for (int i = STALLED; i < VIEWERS; i++)
            while (recv(all[i], piece, sizeof piece, MSG_DONTWAIT) > 0) {
            }
}

static pid_t start_viewers(int port)
{
    const pid_t child = fork();
    if (child == 0) {
        const struct timespec a_little = {0, 20000000};
        (void)nanosleep(&a_little, NULL);
        poll_on(port);
    }
    return child;
}

/* ---- a station --------------------------------------------------------------------- */

typedef enum looked_at { WITHOUT, ALONE, WATCHED } looked_at;

typedef struct counted {
    tw_station *station;
    twi_page *page;
    double begun, cpu, most_mb;
    uint64_t frames;
} counted;

static void on_event(void *ctx, const tw_event *e)
{
    counted *n = ctx;
    n->frames += e->kind == TW_EVENT_READING;
    if (n->frames % 50 == 0) {
        const double mb = resident_mb();
        n->most_mb = mb > n->most_mb ? mb : n->most_mb;
    }
    if (seconds() - n->begun > RUN_S)
        tw_station_stop(n->station);
}

static void run(const char *folder, looked_at how, counted *n)
{
    static const tw_camera_make_fn makers[] = {tw_linux_camera_make, NULL};
    char text[1024], store[256];
    tw_error err = {0};
    tw_card card;
    (void)snprintf(store, sizeof store, "%s/store-%d", folder, (int)how);
    (void)snprintf(text, sizeof text,
                   "[station]\nlisten = 127.0.0.1:0\naccounts_file = %s/none\n"
                   "[cameras]\nsource = file:%s/kerb.mp4\nloop = yes\npace = yes\n"
                   "clips = no\nstills = none\n[camera kerb]\n[camera mere]\n",
                   folder, folder);
    tw_settings *settings = read_settings(text);
    memset(n, 0, sizeof *n);
    if (tw_linux_card(store, &card, &err) != TW_OK)
        die("store", &err);
    const tw_platform platform = {
        .makers = makers, .clock = tw_linux_clock(), .card = &card};
    if (tw_station_new(&platform, settings, on_event, n, &n->station, &err) != TW_OK)
        die("station", &err);
    const twi_page_host host = {.store = store, .clock = platform.clock};
    if (how != WITHOUT && twi_page_new(settings, &host, &n->page, &err) != TW_OK)
        die("page", &err);
    if (twi_page_station(n->page, n->station) != TW_OK)
        die("page", &err);
    const pid_t viewers = how == WATCHED ? start_viewers(twi_page_port(n->page)) : 0;
    const double cpu = cpu_seconds();
    n->begun = seconds();
    (void)tw_station_run(n->station);
    n->cpu = cpu_seconds() - cpu;
    if (viewers > 0) {
        (void)kill(viewers, SIGKILL);
        (void)waitpid(viewers, NULL, 0);
    }
    (void)twi_page_station(n->page, NULL);
    tw_station_free(n->station);
    twi_page_free(n->page);
    card.ops->destroy(card.ctx);
    tw_settings_free(settings);
}

static bool bench_looking(const char *folder)
{
    counted without, alone, watched;
    double floor_s = 1e9, idle_s = 1e9;
    for (int i = 0; i < ROUNDS; i++) { /* one after the other, the quietest counts */
        run(folder, WITHOUT, &without);
        run(folder, ALONE, &alone);
        floor_s = without.cpu < floor_s ? without.cpu : floor_s;
        idle_s = alone.cpu < idle_s ? alone.cpu : idle_s;
    }
    run(folder, WATCHED, &watched);
    const double frames = (double)watched.frames / (double)without.frames;
    const double more_mb = watched.most_mb - alone.most_mb;
    const bool good =
        idle_s <= IDLE_COST * floor_s && frames >= 0.99 && more_mb <= MEMORY_MB;
    printf(
        "page: nobody looks: %.2f times the processor time without one (at most %.2f); "
        "%d look on, %d of them stalled: %.3f of as many frames (at least 0.99), %.2f "
        "times the processor time, %.1f MB more (at most %d): %s\n",
        idle_s / floor_s, IDLE_COST, VIEWERS, STALLED, frames, watched.cpu / floor_s,
        more_mb, MEMORY_MB, good ? "ok" : "MISSED");
    return good;
}

/* ---- a day with thousands ---------------------------------------------------------- */

static tw_catalogue *make_day(const char *store)
{
    char path[256];
    tw_catalogue *c = NULL;
    tw_card card;
    tw_error err = {0};
    (void)snprintf(path, sizeof path, "%s/catalogue.db", store);
    if (tw_linux_card(store, &card, &err) != TW_OK)
        die("store", &err);
    card.ops->destroy(card.ctx);
    (void)snprintf(path, sizeof path, "mkdir -p %s", store);
    if (system(path) != 0) /* NOLINT(cert-env33-c) */
        exit(2);
    (void)snprintf(path, sizeof path, "%s/catalogue.db", store);
    if (tw_catalogue_open(path, true, &c, &err) != TW_OK ||
        twi_catalogue_begin_run(c, US, "", &err) != TW_OK)
        die("day", &err);
    for (uint32_t i = 1; i <= SIGHTINGS; i++) {
        int64_t id = 0;
        const tw_sighting s = {.number = i,
                               .part = 1,
                               .start_us = i * 17 * US,
                               .end_us = (i * 17 + 9) * US,
                               .peak_ppm = 9000};
        const twi_sighting_entry entry = {.camera = "kerb",
                                          .sighting = &s,
                                          .wall_offset_us = US,
                                          .why = "something moved",
                                          .over = true};
        if (twi_catalogue_put(c, &entry, &id, &err) != TW_OK)
            die("day", &err);
    }
    return c;
}

static bool count_one(void *ctx, const tw_sighting_record *r)
{
    (void)r;
    (*(unsigned *)ctx)++;
    return true;
}

static double read_alone(tw_catalogue *c, const tw_sighting_filter *filter)
{
    const double begun = seconds();
    unsigned count = 0;
    for (int i = 0; i < ASKED; i++)
        (void)tw_catalogue_sightings(c, filter, count_one, &count, NULL);
    return count == ASKED * LISTED ? (seconds() - begun) / ASKED : 0;
}

static double ask_for(int port, const char *path)
{
    static char piece[65536];
    const double begun = seconds();
    for (int i = 0; i < ASKED; i++) {
        const int s = ask(port, path);
        while (recv(s, piece, sizeof piece, 0) > 0) {
        }
        (void)close(s);
    }
    return (seconds() - begun) / ASKED;
}

static bool bench_list(const char *folder)
{
    char store[200], text[512], path[128];
    twi_page *page = NULL;
    tw_error err = {0};
    (void)snprintf(store, sizeof store, "%s/day", folder);
    tw_catalogue *c = make_day(store);
    (void)snprintf(text, sizeof text,
                   "[station]\nlisten = 127.0.0.1:0\naccounts_file = %s/none\n"
                   "[camera kerb]\nsource = sim:kerb\n",
                   folder);
    tw_settings *settings = read_settings(text);
    const twi_page_host host = {.store = store, .clock = tw_linux_clock()};
    if (twi_page_new(settings, &host, &page, &err) != TW_OK)
        die("page", &err);
    const tw_sighting_filter filter = {
        .from_us = 1000 * US, .until_us = 70000 * US, .most = LISTED};
    (void)snprintf(path, sizeof path,
                   "/api/sightings?from=1000000&until=70000000&most=%d", LISTED);
    const double alone_s = read_alone(c, &filter),
                 asked_s = ask_for(twi_page_port(page), path);
    const bool good = alone_s > 0 && asked_s <= LIST_COST * alone_s;
    printf("page: %d sightings of a day with %d: %.1f ms, %.2f times as long as reading "
           "them alone (at most %.0f): %s\n",
           LISTED, SIGHTINGS, asked_s * 1e3, asked_s / alone_s, LIST_COST,
           good ? "ok" : "MISSED");
    twi_page_free(page);
    tw_settings_free(settings);
    tw_catalogue_close(c);
    return good;
}

int main(void)
{
    char folder[] = "/var/tmp/tawny-bench-XXXXXX", line[300];
    if (!mkdtemp(folder))
        return 2;
    (void)snprintf(line, sizeof line, "%s/kerb.mp4", folder);
    make_footage(line);
    bool good = bench_list(folder);
    good &= bench_looking(folder);
    (void)snprintf(line, sizeof line, "rm -r %s", folder);
    (void)!system(line); /* NOLINT(cert-env33-c) */
    return good ? 0 : 1;
}
