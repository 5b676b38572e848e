/* What keeping costs:
 *
 * 1. Pre-event footage: time and memory for each frame that is kept and dropped again,
 *    against copying its bytes once.
 * 2. The still: time from the frame that decides on a sighting to the still on the card,
 *    median and 99th of a hundred, against writing and syncing such a file.
 * 3. A second of a clip, by what clip_video does: CPU against the copy.
 *
 * Prints one line each and the limit it is held to, if any; exit 1 if one is missed. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

#include "../src/media/codecs.h"
#include "../src/station/recorder.h"
#include "tawny/tawny.h"
#include "../src/settings/sections.h"

enum { PACKET = 200000, KEPT = 2000, FPS = 25, SIGHTINGS = 100, CLIP_FRAMES = 100 };

static const tw_camera_make_fn MAKERS[] = {tw_sim_camera_make, NULL};

static double seconds(clockid_t id)
{
    struct timespec t;
    (void)clock_gettime(id, &t);
    return (double)t.tv_sec + (double)t.tv_nsec / 1e9;
}

static void die(const char *what, const tw_error *err)
{
    (void)fprintf(stderr, "bench: %s: %s\n", what, err ? err->text : strerror(errno));
    exit(2);
}

static int ascending(const void *a, const void *b)
{
    const double x = *(const double *)a, y = *(const double *)b;
    return (x > y) - (x < y);
}

/* ---- pre-event footage ----------------------------------------------------------- */

static bool give_nothing(void *ctx, twi_job *job, bool wait)
{
    (void)ctx;
    (void)wait;
    twi_buffer_unref(job->buffer);
    return true;
}

/* Seconds for KEPT frames of 1080p MJPEG, 10 s of which are held. */
static double sink(const uint8_t *data)
{
    const twi_camera_settings camera = {
        .name = "kerb", .pre_us = 10000000, .pre_bytes = 500000000, .confirm = {2, 3}};
    twi_channel channel = {.camera = &camera};
    const tw_stream stream = {.codec = TW_CODEC_MJPEG, .fps_num = FPS, .fps_den = 1};
    twi_recorder *recorder = NULL;
    tw_error err = {0};
    if (twi_recorder_new(&camera, &channel, &stream, (twi_jobs){give_nothing, NULL},
                         &recorder, &err) != TW_OK)
        die("recorder", &err);
    double before = 0;
    for (int i = -11 * FPS; i < KEPT; i++) { /* full before it counts */
        const int64_t t = (int64_t)(i + 11 * FPS) * 1000000 / FPS;
        const tw_packet packet = {data, PACKET, t, t, t, true};
        if (i == 0)
            before = seconds(CLOCK_PROCESS_CPUTIME_ID);
        if (twi_recorder_packet(recorder, &packet, twi_buffer_copy(data, PACKET), &err) !=
            TW_OK)
            die("recorder", &err);
    }
    const double took = seconds(CLOCK_PROCESS_CPUTIME_ID) - before;
    twi_recorder_free(recorder);
    return took;
}

/* The floor: as many copies, into as much memory, which is there already. */
static double copy(const uint8_t *data)
{
    enum { HELD = 11 * FPS };
    uint8_t *to = malloc((size_t)HELD * PACKET);
    if (!to)
        die("memory", NULL);
    memset(to, 1, (size_t)HELD * PACKET);
    const double before = seconds(CLOCK_PROCESS_CPUTIME_ID);
    for (int i = 0; i < KEPT; i++)
        memcpy(to + (size_t)(i % HELD) * PACKET, data, PACKET);
    const double took = seconds(CLOCK_PROCESS_CPUTIME_ID) - before;
    const volatile uint8_t *used = to;
    (void)used[PACKET];
    free(to);
    return took;
}

static bool bench_pre_event(void)
{
    enum { ROUNDS = 7 };
    const double limit = 2.5;
    double ratio[ROUNDS], ns[ROUNDS];
    uint8_t *data = malloc(PACKET);
    if (!data)
        die("memory", NULL);
    memset(data, 7, PACKET);
    for (int i = 0; i < ROUNDS; i++) {
        const double floor = copy(data), ours = sink(data);
        ratio[i] = ours / floor;
        ns[i] = ours * 1e9 / KEPT;
    }
    free(data);
    qsort(ratio, ROUNDS, sizeof *ratio, ascending);
    qsort(ns, ROUNDS, sizeof *ns, ascending);
    const double r = ratio[ROUNDS / 2];
    (void)printf(
        "pre-event, a frame of %d kB: %.0f ns, %zu bytes beside its own; %.2f of "
        "copying it once (%.2f to %.2f), limit %.2f%s\n",
        PACKET / 1000, ns[ROUNDS / 2],
        sizeof(twi_buffer) + TWI_BUFFER_PADDING + tw_ring_bytes(3) - tw_ring_bytes(2), r,
        ratio[0], ratio[ROUNDS - 1], limit, r <= limit ? "" : "  MISSED");
    return r <= limit;
}

/* ---- the still ------------------------------------------------------------------- */

typedef struct latency {
    tw_station *station;
    double began, took[SIGHTINGS];
    int count;
    uint64_t bytes;
} latency;

static void on_event(void *ctx, const tw_event *e)
{
    latency *l = ctx;
    if (e->kind == TW_EVENT_BEGAN)
        l->began = seconds(CLOCK_MONOTONIC);
    if (e->kind != TW_EVENT_STORED || l->count == SIGHTINGS)
        return;
    l->took[l->count++] = seconds(CLOCK_MONOTONIC) - l->began;
    l->bytes = e->bytes;
    if (l->count == SIGHTINGS)
        tw_station_stop(l->station);
}

static void write_stills(const char *folder, latency *l)
{
    static const char text[] = "[camera kerb]\nsource = sim:kerb,size=640x360\nfps = 5\n"
                               "pace = no\nloop = yes\nclips = no\nstills = first\n";
    tw_settings *settings = tw_settings_new();
    tw_card card;
    tw_error err = {0};
    if (tw_settings_read_text(settings, "bench", text, sizeof text - 1, NULL, NULL) !=
            TW_OK ||
        tw_linux_card(folder, &card, &err) != TW_OK)
        die("station", &err);
    const tw_platform platform = {
        .makers = MAKERS, .clock = tw_linux_clock(), .card = &card};
    if (tw_station_new(&platform, settings, on_event, l, &l->station, &err) != TW_OK ||
        tw_station_run(l->station) != TW_OK)
        die("station", &err);
    tw_station_free(l->station);
    card.ops->destroy(card.ctx);
    tw_settings_free(settings);
}

/* The floor: such a file written, synced and named. @return the median. */
static double write_plain(const char *folder, size_t bytes)
{
    char part[512], name[512];
    uint8_t *data = calloc(1, bytes);
    double took[SIGHTINGS] = {0};
    for (int i = 0; data && i < SIGHTINGS; i++) {
        (void)snprintf(part, sizeof part, "%s/plain%d.part", folder, i);
        (void)snprintf(name, sizeof name, "%s/plain%d", folder, i);
        const double before = seconds(CLOCK_MONOTONIC);
        const int fd = open(part, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0666);
        if (fd < 0 || write(fd, data, bytes) != (ssize_t)bytes || fdatasync(fd) != 0 ||
            close(fd) != 0 || rename(part, name) != 0)
            die("plain file", NULL);
        took[i] = seconds(CLOCK_MONOTONIC) - before;
    }
    free(data);
    qsort(took, SIGHTINGS, sizeof *took, ascending);
    return took[SIGHTINGS / 2];
}

static void bench_still(const char *folder)
{
    latency l = {.count = 0};
    write_stills(folder, &l);
    qsort(l.took, SIGHTINGS, sizeof *l.took, ascending);
    const double floor = write_plain(folder, (size_t)l.bytes);
    (void)printf(
        "still, from the deciding frame to the card: median %.2f ms, 99th of 100 "
        "%.2f ms; median %.1f of writing and syncing %.0f kB\n",
        l.took[SIGHTINGS / 2] * 1e3, l.took[SIGHTINGS - 1] * 1e3,
        l.took[SIGHTINGS / 2] / floor, (double)l.bytes / 1e3);
}

/* ---- clips ----------------------------------------------------------------------- */

static tw_status count_bytes(void *ctx, const void *data, size_t bytes, tw_error *err)
{
    (void)data;
    (void)err;
    *(uint64_t *)ctx += bytes;
    return TW_OK;
}

typedef struct packets {
    tw_stream stream;
    twi_buffer *buffer[CLIP_FRAMES];
    tw_packet packet[CLIP_FRAMES];
} packets;

/* CPU for a clip of all packets. @return seconds for each second of it, at 10 frames. */
static double write_clip(const packets *p, bool encode, uint64_t *bytes)
{
    const twi_codecs *codecs = twi_codecs_load(NULL);
    twi_clip *clip = NULL;
    tw_error err = {0};
    *bytes = 0;
    const twi_clip_spec spec = {.stream = &p->stream,
                                .encode = encode,
                                .quality = 60,
                                .sink = {count_bytes, bytes}};
    const double before = seconds(CLOCK_PROCESS_CPUTIME_ID);
    if (codecs->clip_open(&spec, &clip, &err) != TW_OK)
        die("clip", &err);
    for (int i = 0; i < CLIP_FRAMES; i++)
        if (codecs->clip_packet(clip, &p->packet[i], p->buffer[i], &err) != TW_OK)
            die("clip", &err);
    if (codecs->clip_close(clip, &err) != TW_OK)
        die("clip", &err);
    return (seconds(CLOCK_PROCESS_CPUTIME_ID) - before) * 10 / CLIP_FRAMES;
}

static void bench_clips(void)
{
    packets *p = calloc(1, sizeof *p);
    tw_camera camera = {0};
    tw_frame frame;
    tw_error err = {0};
    const tw_camera_request request = {.name = "kerb",
                                       .source = "sim:kerb,size=1920x1080",
                                       .fps = 10,
                                       .clock = tw_linux_clock()};
    if (!p || tw_camera_make(MAKERS, &request, &camera, &err) != TW_OK ||
        camera.ops->open(camera.ctx, &p->stream, &err) != TW_OK)
        die("scene", &err);
    for (int i = 0; i < CLIP_FRAMES; i++) {
        if (camera.ops->next(camera.ctx, &frame, &err) != TW_OK)
            die("scene", &err);
        p->packet[i] = frame.packet;
        p->buffer[i] = twi_buffer_copy(frame.packet.data, frame.packet.size);
    }
    uint64_t copied = 0, encoded = 0;
    (void)write_clip(p, false, &copied); /* loads what is loaded once */
    const double copying = write_clip(p, false, &copied);
    const double encoding = write_clip(p, true, &encoded);
    (void)printf("a second of a clip, 1080p10 MJPEG: mjpeg or copy %.2f ms of CPU and "
                 "%.2f MB; h264 or auto %.0f ms (%.0f times) and %.2f MB\n",
                 copying * 1e3, (double)copied / 1e7, encoding * 1e3, encoding / copying,
                 (double)encoded / 1e7);
    for (int i = 0; i < CLIP_FRAMES; i++)
        twi_buffer_unref(p->buffer[i]);
    camera.ops->destroy(camera.ctx);
    free(p);
}

int main(void)
{
    char folder[] = "/tmp/tawny-bench-XXXXXX", command[64];
    if (!mkdtemp(folder))
        die("folder", NULL);
    const bool good = bench_pre_event();
    bench_still(folder);
    bench_clips();
    (void)snprintf(command, sizeof command, "rm -rf %s", folder);
    if (system(command) != 0) /* NOLINT(cert-env33-c): a name that mkdtemp made */
        die("folder", NULL);
    return good ? 0 : 1;
}
