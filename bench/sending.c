/* What sending costs:
 *
 * 1. Sightings a second through the outbox to another folder, a still each, with 10,000
 *    of them queued; against the floor of copying the same files as safely, one after
 *    another. And what the queue takes of memory.
 * 2. What dead destinations cost a camera: frames that are read, and the processor's
 *    time, with three destinations that accept connections and say nothing, against the
 *    same without any.
 *
 * Prints one line each and the limit it is held to; exit 1 if one is missed. */
#include <arpa/inet.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

#include "seconds.h"
#include "../src/deliver/deliver.h"
#include "../src/station/catalogue_write.h"
#include "../src/station/outbox.h"
#include "tawny/tawny.h"

enum {
    QUEUED = 10000,
    STILL_BYTES = 20000,
    TIMED = 2000, /* of them that are waited for */
    RUN_S = 20,
    ROUNDS = 2,
    MEMORY_MB = 8
};

#define US INT64_C(1000000)
#define TIMES_FLOOR 5.0
#define DEAD_COST 1.05

static void die(const char *what, const tw_error *err)
{
    (void)fprintf(stderr, "bench: %s: %s\n", what, err->text);
    exit(2);
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

/* ---- through the outbox ----------------------------------------------------------- */

static void write_still(const char *path, const char *bytes)
{
    const int fd = open(path, O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
    if (fd < 0 || write(fd, bytes, STILL_BYTES) != STILL_BYTES)
        exit(2);
    (void)close(fd);
}

static void queue_all(const char *store)
{
    static const twi_route route = {"kerb", "still", "disk", "still"};
    char path[256], bytes[STILL_BYTES];
    tw_catalogue *c = NULL;
    tw_error err = {0};
    memset(bytes, 'x', sizeof bytes);
    (void)snprintf(path, sizeof path, "%s/catalogue.db", store);
    if (tw_catalogue_open(path, true, &c, &err) != TW_OK ||
        twi_catalogue_begin_run(c, US, "", &err) != TW_OK ||
        twi_outbox_route(c, &route, 1, NULL, &err) != TW_OK)
        die("queue", &err);
    for (uint32_t i = 1; i <= QUEUED; i++) {
        char name[64];
        int64_t id = 0;
        const tw_sighting s = {.number = i, .part = 1, .start_us = i * US};
        const twi_sighting_entry entry = {
            .camera = "kerb", .sighting = &s, .wall_offset_us = US};
        (void)snprintf(name, sizeof name, "%05u.jpg", (unsigned)i);
        (void)snprintf(path, sizeof path, "%s/%s", store, name);
        write_still(path, bytes);
        if (twi_catalogue_put(c, &entry, &id, &err) != TW_OK)
            die("queue", &err);
        const tw_capture_record r = {.sighting = id,
                                     .camera = "kerb",
                                     .kind = "still",
                                     .file = name,
                                     .bytes = STILL_BYTES,
                                     .start_us = i * US};
        if (twi_catalogue_add(c, &r, &err) != TW_OK)
            die("queue", &err);
    }
    tw_catalogue_close(c);
}

/* The same files, as safely, by nothing but this. @return seconds for one. */
static double copy_floor(const char *store, const char *to)
{
    char from_path[256], part[256], whole[256], bytes[STILL_BYTES];
    const double begun = seconds();
    const int folder = open(to, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    for (unsigned i = 1; i <= TIMED; i++) {
        (void)snprintf(from_path, sizeof from_path, "%s/%05u.jpg", store, i);
        (void)snprintf(whole, sizeof whole, "%s/floor-%05u.jpg", to, i);
        (void)snprintf(part, sizeof part, "%s.part", whole);
        const int from = open(from_path, O_RDONLY | O_CLOEXEC);
        const int fd = open(part, O_WRONLY | O_CREAT | O_CLOEXEC, 0644);
        if (from < 0 || fd < 0 || read(from, bytes, sizeof bytes) != STILL_BYTES ||
            write(fd, bytes, sizeof bytes) != STILL_BYTES || fsync(fd) != 0 ||
            rename(part, whole) != 0 || fsync(folder) != 0)
            exit(2);
        (void)close(from);
        (void)close(fd);
    }
    (void)close(folder);
    return (seconds() - begun) / TIMED;
}

static tw_settings *read_settings(const char *text)
{
    tw_settings *s = tw_settings_new();
    if (!s || tw_settings_read_text(s, "bench", text, strlen(text), NULL, NULL) != TW_OK)
        exit(2);
    return s;
}

static uint32_t waiting(tw_catalogue *c)
{
    twi_outbox_fill fill = {0};
    tw_error err = {0};
    if (twi_outbox_inspect(c, "disk", false, 0, &fill, &err) != TW_OK)
        die("look", &err);
    return fill.waiting;
}

static bool bench_outbox(const char *folder)
{
    char store[200], disk[200], path[256], text[512];
    twi_deliver *d = NULL;
    tw_catalogue *c = NULL;
    tw_error err = {0};
    (void)snprintf(store, sizeof store, "%s/store", folder);
    (void)snprintf(disk, sizeof disk, "%s/disk", folder);
    (void)mkdir(store, 0755);
    (void)mkdir(disk, 0755);
    queue_all(store);
    const double floor_s = copy_floor(store, disk);
    (void)snprintf(text, sizeof text,
                   "[camera kerb]\nsource = sim:kerb\nsend_to = disk\n"
                   "[destination disk]\nurl = file:%s\nwhat = still\n",
                   disk);
    tw_settings *settings = read_settings(text);
    (void)snprintf(path, sizeof path, "%s/catalogue.db", store);
    if (tw_catalogue_open(path, true, &c, &err) != TW_OK)
        die("catalogue", &err);
    const double before_mb = resident_mb(), begun = seconds();
    double most_mb = before_mb;
    if (twi_deliver_new(settings, store, tw_linux_clock(), NULL, NULL, &d, &err) != TW_OK)
        die("deliver", &err);
    while (waiting(c) > QUEUED - TIMED) {
        const double mb = resident_mb();
        most_mb = mb > most_mb ? mb : most_mb;
        (void)usleep(100000);
    }
    const double sent = QUEUED - waiting(c), each_s = (seconds() - begun) / sent;
    twi_deliver_free(d);
    tw_settings_free(settings);
    tw_catalogue_close(c);
    const bool good = each_s <= TIMES_FLOOR * floor_s && most_mb - before_mb <= MEMORY_MB;
    printf("outbox of %d: %.0f sightings a second to a folder, %.2f times as long as "
           "copying alone (at most %.0f); %.1f MB more memory (at most %d): %s\n",
           QUEUED, 1 / each_s, each_s / floor_s, TIMES_FLOOR, most_mb - before_mb,
           MEMORY_MB, good ? "ok" : "MISSED");
    return good;
}

/* ---- dead destinations ------------------------------------------------------------ */

/* A port at which connections are accepted by the kernel, and nobody ever answers. */
static int dead_port(void)
{
    struct sockaddr_in at = {.sin_family = AF_INET};
    socklen_t size = sizeof at;
    at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    const int s = socket(AF_INET, SOCK_STREAM, 0);
    if (bind(s, (struct sockaddr *)&at, sizeof at) != 0 || listen(s, 64) != 0 ||
        getsockname(s, (struct sockaddr *)&at, &size) != 0)
        exit(2);
    return ntohs(at.sin_port);
}

typedef struct counted {
    tw_station *station;
    twi_deliver *deliver;
    double begun;
    uint64_t frames, sightings;
} counted;

static void on_event(void *ctx, const tw_event *e)
{
    counted *n = ctx;
    n->frames += e->kind == TW_EVENT_READING;
    n->sightings += e->kind == TW_EVENT_BEGAN;
    twi_deliver_event(n->deliver, e);
    if (seconds() - n->begun > RUN_S)
        tw_station_stop(n->station);
}

static double cpu_seconds(void)
{
    struct rusage u;
    (void)getrusage(RUSAGE_SELF, &u);
    return (double)(u.ru_utime.tv_sec + u.ru_stime.tv_sec) +
           (double)(u.ru_utime.tv_usec + u.ru_stime.tv_usec) / 1e6;
}

/* @return seconds of the processor for a thousand frames. */
static double watch(const char *folder, bool dead, counted *n)
{
    static const tw_camera_make_fn makers[] = {tw_sim_camera_make, NULL};
    char text[1024], store[256];
    tw_error err = {0};
    tw_card card;
    const int port = dead ? dead_port() : 0;
    (void)snprintf(store, sizeof store, "%s/watch-%d", folder, dead);
    (void)snprintf(text, sizeof text,
                   "[cameras]\npost_event = 1 s\nlongest = 2 s\nsettle = 2 s\n"
                   "clip_video = copy\nstills = first\nloop = yes\n%s"
                   "[camera kerb]\nsource = sim:kerb\n[camera mere]\nsource = sim:mere\n",
                   dead ? "send_to = a, b, c\n" : "");
    if (dead) {
        const size_t used = strlen(text);
        (void)snprintf(text + used, sizeof text - used,
                       "[destination a]\nurl = https://127.0.0.1:%d/\n"
                       "[destination b]\nurl = mqtt://127.0.0.1:%d/\n"
                       "[destination c]\nurl = smtp://127.0.0.1:%d\nto = a@lane.example\n"
                       "from = b@lane.example\n",
                       port, port, port);
    }
    tw_settings *settings = read_settings(text);
    memset(n, 0, sizeof *n);
    if (tw_linux_card(store, &card, &err) != TW_OK)
        die("store", &err);
    const tw_platform platform = {
        .makers = makers, .clock = tw_linux_clock(), .card = &card};
    if (tw_station_new(&platform, settings, on_event, n, &n->station, &err) != TW_OK)
        die("station", &err);
    if (dead && twi_deliver_new(settings, store, platform.clock, NULL, NULL, &n->deliver,
                                &err) != TW_OK)
        die("deliver", &err);
    const double cpu = cpu_seconds();
    n->begun = seconds();
    (void)tw_station_run(n->station);
    const double spent = cpu_seconds() - cpu;
    tw_station_free(n->station);
    twi_deliver_free(n->deliver);
    card.ops->destroy(card.ctx);
    tw_settings_free(settings);
    return spent / (double)n->frames * 1e3;
}

static bool bench_dead(const char *folder)
{
    counted without, with;
    double alone = 1e9, beside = 1e9;
    for (int i = 0; i < ROUNDS; i++) { /* one after the other, the quietest counts */
        const double a = watch(folder, false, &without), b = watch(folder, true, &with);
        alone = a < alone ? a : alone;
        beside = b < beside ? b : beside;
    }
    const double frames = (double)with.frames / (double)without.frames;
    const bool good = beside <= DEAD_COST * alone && frames >= 0.99 && with.sightings > 0;
    printf(
        "three dead destinations: %llu frames in %d s, %.3f of as many as without; %.2f "
        "times their processor time (at most %.2f); %llu sightings, %llu without: %s\n",
        (unsigned long long)with.frames, RUN_S, frames, beside / alone, DEAD_COST,
        (unsigned long long)with.sightings, (unsigned long long)without.sightings,
        good ? "ok" : "MISSED");
    return good;
}

int main(void)
{
    char folder[] = "/var/tmp/tawny-bench-XXXXXX", line[64];
    if (!mkdtemp(folder))
        return 2;
    bool good = bench_outbox(folder);
    good &= bench_dead(folder);
    (void)snprintf(line, sizeof line, "rm -r %s", folder);
    (void)!system(line); /* NOLINT(cert-env33-c) */
    return good ? 0 : 1;
}
