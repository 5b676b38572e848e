/* What watching costs, as ratios against a floor that is measured in the same run:
 *
 * 1. CPU for 1080p MJPEG packets, against libjpeg-turbo's grey decoding of them at 1/8
 *    alone: of our brightness reader, and of a whole rehearsal with all guards on,
 * reading the file included.
 * 2. CPU for 1080p H.264 packets, against reading and decoding them alone without the
 *    loop filter.
 * 3. CPU for 1080p raw pictures, against one pass over their luma.
 * 4. CPU for a 720p webcam that sends YUYV, with five seconds of pre-event footage, while
 *    nothing comes: against one pass over its luma. Disarmed, armed, and armed with so
 *    little memory that each frame is encoded for it.
 * 5. Memory while a 1080p25 MJPEG camera is watched with 10 s of pre-event footage and
 *    nothing moves, against the bytes of its packets. (While something moves that may yet
 *    become a sighting, up to 3 s more are held.)
 *
 * Prints one line each and the limit it is held to; exit 1 if one is missed. */
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

#include <jpeglib.h>
#include <libavcodec/avcodec.h>

#include "../src/core/brightness.h"
#include "../src/media/codecs.h"
#include "tawny/tawny.h"
#include "../src/settings/sections.h"
#include "../src/station/rehearse.h"

/* A station runs for weeks, so most of the frames come after the first ten seconds, in
 * which a detector learns the place: CPU is measured at a rate that lets most do so. */
enum { FRAMES = 500, ROUNDS = 7, FPS = 25, CPU_FPS = 10 };

static const tw_camera_make_fn MAKERS[] = {tw_linux_camera_make, tw_sim_camera_make,
                                           NULL};

static double cpu_seconds(void)
{
    struct timespec t;
    (void)clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &t);
    return (double)t.tv_sec + (double)t.tv_nsec / 1e9;
}

static void die(const char *what, const tw_error *err)
{
    (void)fprintf(stderr, "bench: %s: %s\n", what, err->text);
    exit(2);
}

/* ---- making the footage ---------------------------------------------------------- */

static tw_status write_file(void *ctx, const void *data, size_t bytes, tw_error *err)
{
    if (fwrite(data, 1, bytes, ctx) == bytes)
        return TW_OK;
    return tw_fail(err, TW_EIO, "cannot write the footage");
}

/* A scene as a camera that is open. */
static tw_camera open_scene(const char *source, uint32_t fps, tw_stream *stream)
{
    tw_error err = {0};
    const tw_camera_request request = {
        .name = "bench", .source = source, .fps = fps, .clock = tw_linux_clock()};
    tw_camera camera;
    if (tw_camera_make(MAKERS, &request, &camera, &err) != TW_OK ||
        camera.ops->open(camera.ctx, stream, &err) != TW_OK)
        die("scene", &err);
    return camera;
}

/* The kerb scene at 1080p, as MJPEG or H.264 in MP4. */
static void make_footage(const char *path, bool encode, uint32_t fps)
{
    tw_error err = {0};
    const twi_codecs *codecs = twi_codecs_load(&err);
    tw_stream stream;
    twi_clip *clip = NULL;
    FILE *file = fopen(path, "wb");
    if (!codecs || !file)
        die("footage", &err);
    const tw_camera camera = open_scene("sim:kerb,size=1920x1080", fps, &stream);
    const twi_clip_spec spec = {.stream = &stream,
                                .encode = encode,
                                .quality = encode ? 75 : 60,
                                .sink = {write_file, file}};
    if (codecs->clip_open(&spec, &clip, &err) != TW_OK)
        die("footage", &err);
    for (int i = 0; i < FRAMES; i++) {
        tw_frame frame;
        if (camera.ops->next(camera.ctx, &frame, &err) != TW_OK ||
            twi_clip_copy(codecs, clip, &frame.packet, &err) != TW_OK)
            die("footage", &err);
    }
    if (codecs->clip_close(clip, &err) != TW_OK || fclose(file) != 0)
        die("footage", &err);
    camera.ops->destroy(camera.ctx);
}

/* ---- CPU ---------------------------------------------------------------------- */

/* Grey at 1/8 by libjpeg-turbo, into memory that is there already. */
static void decode_by_library(struct jpeg_decompress_struct *d, const tw_packet *packet,
                              uint8_t *out)
{
    jpeg_mem_src(d, packet->data, (unsigned long)packet->size);
    (void)jpeg_read_header(d, TRUE);
    d->out_color_space = JCS_GRAYSCALE;
    d->scale_num = 1;
    d->scale_denom = 8;
    (void)jpeg_start_decompress(d);
    while (d->output_scanline < d->output_height) {
        JSAMPROW row = out + (size_t)d->output_scanline * d->output_width;
        (void)jpeg_read_scanlines(d, &row, 1);
    }
    (void)jpeg_finish_decompress(d);
}

typedef struct decoding {
    double library, ours; /* CPU seconds */
} decoding;

/* Each packet by both, one after the other, so that both meet the same machine. */
static decoding decode_alone(const char *path)
{
    tw_error err = {0};
    twi_footage *footage = NULL;
    tw_stream stream;
    tw_packet packet;
    int64_t wall = 0;
    decoding spent = {0, 0};
    struct jpeg_decompress_struct library;
    struct jpeg_error_mgr errors;
    const size_t need = (1920 / 8) * (1080 / 8);
    uint8_t *out = malloc(need);
    twi_brightness *reader = NULL;
    void *memory = malloc(twi_brightness_bytes());
    library.err = jpeg_std_error(&errors);
    jpeg_create_decompress(&library);
    const twi_codecs *codecs = twi_codecs_load(&err);
    if (!out || !codecs ||
        twi_brightness_init(memory, twi_brightness_bytes(), &reader) != TW_OK ||
        codecs->footage_open(path, &footage, &stream, &wall, &err) != TW_OK)
        die("decode", &err);
    while (codecs->footage_next(footage, &packet, &err) == TW_OK) {
        twi_brightness_picture picture;
        const double before = cpu_seconds();
        decode_by_library(&library, &packet, out);
        const double between = cpu_seconds();
        if (twi_brightness_read(reader, packet.data, packet.size, 8, out, need,
                                &picture) != TW_OK)
            die("decode", &err);
        spent.ours += cpu_seconds() - between;
        spent.library += between - before;
    }
    codecs->footage_close(footage);
    jpeg_destroy_decompress(&library);
    free(memory);
    free(out);
    return spent;
}

/* H.264 by libavcodec, one thread, no loop filter, pictures thrown away. Reading a packet
 * from the file counts, as it does in the rehearsal: what is asked for begins with the
 * packet. */
static double decode_unfiltered(const char *path)
{
    tw_error err = {0};
    twi_footage *footage = NULL;
    tw_stream stream;
    tw_packet packet;
    int64_t wall = 0;
    const twi_codecs *codecs = twi_codecs_load(&err);
    if (!codecs || codecs->footage_open(path, &footage, &stream, &wall, &err) != TW_OK)
        die("H.264", &err);
    AVCodecContext *decoder =
        avcodec_alloc_context3(avcodec_find_decoder(AV_CODEC_ID_H264));
    AVFrame *frame = av_frame_alloc();
    AVPacket *copy = av_packet_alloc();
    decoder->extradata = av_mallocz(stream.extra_size + AV_INPUT_BUFFER_PADDING_SIZE);
    memcpy(decoder->extradata, stream.extra, stream.extra_size);
    decoder->extradata_size = (int)stream.extra_size;
    decoder->thread_count = 1;
    decoder->skip_loop_filter = AVDISCARD_ALL;
    if (avcodec_open2(decoder, NULL, NULL) != 0)
        die("H.264", &err);
    int count = 0;
    const double before = cpu_seconds();
    while (codecs->footage_next(footage, &packet, &err) == TW_OK) {
        (void)av_new_packet(copy, (int)packet.size);
        memcpy(copy->data, packet.data, packet.size);
        (void)avcodec_send_packet(decoder, copy);
        av_packet_unref(copy);
        count += avcodec_receive_frame(decoder, frame) == 0;
    }
    const double spent = cpu_seconds() - before;
    if (count < FRAMES - 16)
        die("H.264: frames missing", &err);
    av_packet_free(&copy);
    av_frame_free(&frame);
    avcodec_free_context(&decoder);
    codecs->footage_close(footage);
    return spent;
}

static double rehearse(const char *path, const tw_camera_make_fn *makers)
{
    tw_error err = {0};
    char source[4096];
    twi_camera_settings camera;
    tw_rehearsal_result result;
    const tw_platform platform = {.makers = makers, .clock = tw_linux_clock()};
    tw_settings *settings = tw_settings_new();
    (void)snprintf(source, sizeof source, "file:%s", path);
    if (!settings ||
        tw_settings_add_camera(settings, "bench", source, NULL, NULL) != TW_OK ||
        twi_settings_camera(settings, "bench", &camera) != TW_OK)
        die("settings", &err);
    const double before = cpu_seconds();
    if (twi_rehearse(&platform, &camera, NULL, NULL, NULL, NULL, &result, &err) != TW_OK)
        die("rehearse", &err);
    const double spent = cpu_seconds() - before;
    tw_settings_free(settings);
    return spent;
}

/* CPU seconds of something in each round, and of its floor right beside it. */
typedef struct rounds {
    double spent[ROUNDS], floor[ROUNDS];
} rounds;

static double least(const double *of)
{
    double value = of[0];
    for (int i = 1; i < ROUNDS; i++)
        value = of[i] < value ? of[i] : value;
    return value;
}

/* One line: the quickest round over the floor's quickest, which the rest of the machine
 * has disturbed least, and whether that holds its limit. */
static int judge(const char *what, const rounds *r, double limit)
{
    const double ratio = least(r->spent) / least(r->floor);
    double low = r->spent[0] / r->floor[0], high = low;
    for (int i = 1; i < ROUNDS; i++) {
        const double one = r->spent[i] / r->floor[i];
        low = one < low ? one : low;
        high = one > high ? one : high;
    }
    printf("%-38s %5.2f s for 1,000 frames, %.2f (rounds %.2f to %.2f)", what,
           least(r->spent) * 1000 / FRAMES, ratio, low, high);
    if (limit > 0)
        printf(", at most %.2f: %s", limit, ratio <= limit ? "ok" : "MISSED");
    printf("\n");
    return limit > 0 && ratio > limit ? 1 : 0;
}

static int bench_cpu(const char *path)
{
    rounds reader, whole;
    for (int i = 0; i < ROUNDS; i++) { /* in turns, so that all meet the same machine */
        const decoding alone = decode_alone(path);
        whole.spent[i] = rehearse(path, MAKERS);
        reader.spent[i] = alone.ours;
        whole.floor[i] = reader.floor[i] = alone.library;
    }
    printf("1080p MJPEG, against libjpeg-turbo grey at 1/8 (%.2f ms a frame):\n",
           least(reader.floor) * 1e3 / FRAMES);
    const int code = judge("  brightness reader", &reader, 0.60);
    return judge("  whole rehearsal, packet to reading", &whole, 0.75) | code;
}

static int bench_h264(const char *path)
{
    rounds whole;
    for (int i = 0; i < ROUNDS; i++) {
        whole.floor[i] = decode_unfiltered(path);
        whole.spent[i] = rehearse(path, MAKERS);
    }
    printf("1080p H.264, against reading and decoding without loop filter (%.2f ms a "
           "frame):\n",
           least(whole.floor) * 1e3 / FRAMES);
    return judge("  whole rehearsal, packet to reading", &whole, 1.05);
}

/* ---- raw pictures ---------------------------------------------------------------- */

enum { PICTURES_MAX = 20 };

/* Pictures that are drawn before anything is measured, and shown again and again. */
typedef struct pictures {
    tw_stream stream;
    uint32_t stride; /* bytes of a row */
    int count, next;
    uint8_t *px[PICTURES_MAX];
} pictures;

static pictures *shown; /* by the camera below: makers have no context */

static tw_status open_raw(void *ctx, tw_stream *stream, tw_error *err)
{
    (void)ctx;
    (void)err;
    shown->next = 0;
    *stream = shown->stream;
    return TW_OK;
}

static tw_status next_raw(void *ctx, tw_frame *frame, tw_error *err)
{
    const tw_stream *s = &shown->stream;
    (void)ctx;
    (void)err;
    if (shown->next == FRAMES)
        return TW_EEND;
    const int at = shown->next % (2 * shown->count); /* there and back: nothing jumps */
    const uint8_t *px = shown->px[at < shown->count ? at : 2 * shown->count - 1 - at];
    const int64_t t_us = (int64_t)shown->next++ * 1000000 / CPU_FPS;
    *frame = (tw_frame){.packet = {.t_us = t_us},
                        .picture = {.px = {px},
                                    .stride = {shown->stride},
                                    .width = s->width,
                                    .height = s->height,
                                    .pixels = s->pixels}};
    return TW_OK;
}

static void close_raw(void *ctx)
{
    (void)ctx;
}

static tw_status make_raw(const tw_camera_request *request, tw_camera *out, tw_error *err)
{
    static const tw_camera_ops ops = {sizeof ops, "raw",     TW_RECORDED, open_raw,
                                      next_raw,   close_raw, close_raw,   NULL};
    (void)request;
    (void)err;
    *out = (tw_camera){&ops, NULL};
    return TW_OK;
}

/* What a raw picture has beside its brightness, in YUYV: hardly any colour. */
static void add_colour(const uint8_t *grey, size_t count, uint8_t *yuyv)
{
    for (size_t k = 0; k < count; k++) {
        yuyv[2 * k] = grey[k];
        yuyv[2 * k + 1] = (uint8_t)(k & 1 ? 131 : 124);
    }
}

/* @param fps  Of the scene: how much of it the pictures show. */
static void draw_pictures(pictures *p, const char *source, uint32_t fps, int count,
                          tw_pixels pixels)
{
    tw_error err = {0};
    tw_frame frame;
    const tw_camera camera = open_scene(source, fps, &p->stream);
    const uint32_t pixel = pixels == TW_PIXELS_YUYV ? 2 : 1;
    const size_t size = (size_t)p->stream.width * p->stream.height;
    p->count = count;
    p->stride = pixel * p->stream.width;
    p->stream.pixels = pixels;
    p->stream.fps_num = CPU_FPS;
    for (int i = 0; i < count; i++) {
        p->px[i] = malloc(size * pixel);
        if (!p->px[i] || camera.ops->next(camera.ctx, &frame, &err) != TW_OK)
            die("raw", &err);
        if (pixel == 2)
            add_colour(frame.picture.px[0], size, p->px[i]);
        else
            memcpy(p->px[i], frame.picture.px[0], size);
    }
    camera.ops->destroy(camera.ctx);
    shown = p;
}

static void free_pictures(pictures *p)
{
    for (int i = 0; i < p->count; i++)
        free(p->px[i]);
}

static volatile uint32_t luma_sum; /* so that it is not left out */

/* CPU seconds of adding up so many bytes as the pictures have pixels, once for each
 * frame. */
static double one_pass(const pictures *p)
{
    const size_t size = (size_t)p->stream.width * p->stream.height;
    const double before = cpu_seconds();
    for (int f = 0; f < FRAMES; f++) {
        const uint8_t *px = p->px[f % p->count];
        uint32_t sum = 0;
        for (size_t i = 0; i < size; i++)
            sum += px[i];
        luma_sum += sum;
    }
    return cpu_seconds() - before;
}

static int bench_raw(void)
{
    static const tw_camera_make_fn raw[] = {make_raw, NULL};
    static pictures p;
    rounds whole;
    draw_pictures(&p, "sim:kerb,size=1920x1080,raw=yes", CPU_FPS, PICTURES_MAX,
                  TW_PIXELS_GREY);
    for (int i = 0; i < ROUNDS; i++) {
        whole.floor[i] = one_pass(&p);
        whole.spent[i] = rehearse("", raw);
    }
    printf("1080p raw, against one pass over its luma (%.2f ms a frame):\n",
           least(whole.floor) * 1e3 / FRAMES);
    free_pictures(&p);
    return judge("  whole rehearsal, picture to reading", &whole, 0);
}

/* ---- a raw webcam, kept ----------------------------------------------------------- */

static double watch_cam(const char *lines)
{
    static const tw_camera_make_fn makers[] = {make_raw, NULL};
    tw_error err = {0};
    char text[256];
    twi_camera_settings camera;
    twi_station_settings station;
    tw_rehearsal_result result;
    tw_card card;
    tw_settings *settings = tw_settings_new();
    (void)snprintf(text, sizeof text, "[camera bench]\nsource = cam\n%s", lines);
    if (!settings ||
        tw_settings_read_text(settings, "bench", text, strlen(text), NULL, NULL) !=
            TW_OK ||
        twi_settings_camera(settings, "bench", &camera) != TW_OK ||
        tw_sim_card(NULL, &card) != TW_OK)
        die("webcam", &err);
    twi_settings_station(settings, &station);
    const tw_platform platform = {
        .makers = makers, .clock = tw_linux_clock(), .card = &card};
    const double before = cpu_seconds();
    if (twi_rehearse(&platform, &camera, &station, NULL, NULL, NULL, &result, &err) !=
        TW_OK)
        die("webcam", &err);
    const double spent = cpu_seconds() - before;
    if (result.frames == 0 || result.sightings > 0)
        die("webcam: something came", &err);
    card.ops->destroy(card.ctx);
    tw_settings_free(settings);
    return spent;
}

static int bench_webcam(void)
{
    static const struct {
        const char *what, *lines;
        double limit;
    } parts[] = {
        {"  disarmed, nothing kept", "armed = no\npre_event_disarmed = no\n", 1.5},
        {"  disarmed", "armed = no\n", 8},
        {"  armed", "", 18},
        {"  armed, memory for JPEG only", "pre_event_memory = 16 MB\n", 0}};
    rounds r[sizeof parts / sizeof *parts];
    static pictures p;
    int code = 0;
    draw_pictures(&p, "sim:kerb,size=1280x720,raw=yes", 2, 8, TW_PIXELS_YUYV);
    for (int i = 0; i < ROUNDS; i++) {
        const double floor = one_pass(&p);
        for (size_t k = 0; k < sizeof parts / sizeof *parts; k++) {
            r[k].floor[i] = floor;
            r[k].spent[i] = watch_cam(parts[k].lines);
        }
    }
    printf("720p YUYV with captures, nothing comes, against one pass over its luma "
           "(%.2f ms a frame):\n",
           least(r[0].floor) * 1e3 / FRAMES);
    for (size_t k = 0; k < sizeof parts / sizeof *parts; k++)
        code |= judge(parts[k].what, &r[k], parts[k].limit);
    free_pictures(&p);
    return code;
}

/* ---- memory ------------------------------------------------------------------- */

typedef struct memory {
    long most_kb;
    int readings;
    tw_station *station;
} memory;

static long resident_kb(void)
{
    long pages = 0, resident = 0;
    FILE *file = fopen("/proc/self/statm", "r");
    if (file && fscanf(file, "%ld %ld", &pages, &resident) != 2)
        resident = 0;
    if (file)
        (void)fclose(file);
    return resident * (sysconf(_SC_PAGESIZE) / 1024);
}

static void watch_memory(void *ctx, const tw_event *event)
{
    memory *m = ctx;
    if (event->kind == TW_EVENT_PROBLEM)
        (void)fprintf(stderr, "bench: %s\n", event->text);
    if (event->kind != TW_EVENT_READING || ++m->readings % FPS != 0)
        return;
    const long now = resident_kb();
    m->most_kb = now > m->most_kb ? now : m->most_kb;
    if (m->readings >= 15 * FPS) /* the ring has gone round, and nothing has moved yet */
        tw_station_stop(m->station);
}

/* What ten seconds of pre-event footage keep: a sighting may be dated back. */
#define KEPT_S (10 + TW_DATED_BACK_US / 1e6 + 0.2)
#define BESIDE_MB 14.0

/* Bytes of so much of the footage's packets. */
static double kept_mb(const char *path)
{
    tw_error err = {0};
    twi_footage *footage = NULL;
    tw_stream stream;
    tw_packet packet;
    int64_t wall = 0;
    uint64_t bytes = 0, count = 0;
    const twi_codecs *codecs = twi_codecs_load(&err);
    if (!codecs || codecs->footage_open(path, &footage, &stream, &wall, &err) != TW_OK)
        die("memory", &err);
    for (; codecs->footage_next(footage, &packet, &err) == TW_OK; count++)
        bytes += packet.size;
    codecs->footage_close(footage);
    return (double)bytes / (double)count * KEPT_S * FPS / 1e6;
}

/* Watches the footage in a process of its own, which has loaded nothing yet. */
static int bench_memory(const char *store, const char *path)
{
    char text[4096];
    (void)snprintf(text, sizeof text,
                   "[camera bench]\nsource = file:%s\nloop = yes\npace = no\n"
                   "pre_event = 10 s\nsettle = 1 h\n", /* watched, not recorded */
                   path);
    tw_error err = {0};
    memory m = {0};
    tw_card card;
    tw_settings *settings = tw_settings_new();
    if (!settings ||
        tw_settings_read_text(settings, "bench", text, strlen(text), NULL, NULL) !=
            TW_OK ||
        tw_linux_card(store, &card, &err) != TW_OK)
        die("memory", &err);
    const tw_platform platform = {
        .makers = MAKERS, .clock = tw_linux_clock(), .card = &card};
    if (tw_station_new(&platform, settings, watch_memory, &m, &m.station, &err) != TW_OK)
        die("memory", &err);
    (void)tw_station_run(m.station);
    tw_station_free(m.station);
    tw_settings_free(settings);
    card.ops->destroy(card.ctx);
    const double all = (double)m.most_kb * 1024 / 1e6, packets = kept_mb(path);
    printf(
        "resident, 1080p25 MJPEG file, 10 s pre-event  %.1f MB over the %.1f MB of its "
        "packets, at most %.0f MB: %s\n",
        all - packets, packets, BESIDE_MB, all - packets <= BESIDE_MB ? "ok" : "MISSED");
    return all - packets <= BESIDE_MB ? 0 : 1;
}

/* Run a part in a process of its own. @return its exit code. */
static int apart(int (*part)(const char *, const char *), const char *a, const char *b)
{
    int status = 0;
    (void)fflush(stdout);
    const pid_t child = fork();
    if (child == 0)
        exit(part(a, b));
    (void)waitpid(child, &status, 0);
    return WIFEXITED(status) ? WEXITSTATUS(status) : 2;
}

static const struct {
    const char *name;
    bool encode;
    uint32_t fps;
} FILES[] = {{"watched.mp4", false, FPS},
             {"jpeg.mp4", false, CPU_FPS},
             {"h264.mp4", true, CPU_FPS}};

static int make(const char *folder, const char *unused)
{
    (void)unused;
    for (size_t i = 0; i < sizeof FILES / sizeof *FILES; i++) {
        char path[128];
        (void)snprintf(path, sizeof path, "%s/%s", folder, FILES[i].name);
        make_footage(path, FILES[i].encode, FILES[i].fps);
    }
    return 0;
}

int main(void)
{
    char folder[] = "/tmp/tawny-bench-XXXXXX", store[] = "/tmp/tawny-bench-store-XXXXXX";
    char path[3][128], line[128];
    if (!mkdtemp(folder) || !mkdtemp(store))
        return 2;
    for (size_t i = 0; i < 3; i++)
        (void)snprintf(path[i], sizeof path[i], "%s/%s", folder, FILES[i].name);
    int code = apart(make, folder, NULL);
    if (code == 0)
        code = apart(bench_memory, store, path[0]);
    const int cpu =
        bench_cpu(path[1]) | bench_h264(path[2]) | bench_raw() | bench_webcam();
    for (size_t i = 0; i < 3; i++)
        (void)unlink(path[i]);
    (void)rmdir(folder);
    (void)snprintf(line, sizeof line, "rm -rf '%s'", store);
    (void)system(line);
    return code != 0 ? code : cpu;
}
