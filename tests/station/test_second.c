/* A second stream for detection: what moves there has the first one kept. */
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../../src/media/jpeg.h"
#include "../support/support.h"
#include "../../src/core/naming.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

enum {
    W = 160,
    H = 120,
    FRAMES = 260,
    MOVES_FROM = 130, /* a square crosses the small picture meanwhile */
    MOVES_TO = 190,
    STEP_US = 100000,
    REAL_US = 3000 /* that a frame really takes */
};

/* ---- the small stream -------------------------------------------------------------- */

typedef struct small_camera {
    int frame;
    uint8_t *jpeg;
} small_camera;

static tw_status open_small(void *ctx, tw_stream *stream, tw_error *err)
{
    (void)ctx;
    (void)err;
    *stream = (tw_stream){.codec = TW_CODEC_MJPEG, .codec_name = "mjpeg", .fps_den = 1};
    return TW_OK;
}

static uint8_t *draw(int frame, size_t *bytes)
{
    static uint32_t chance = 7;
    uint8_t *px = malloc((size_t)W * H), *jpeg = NULL;
    assert_non_null(px);
    for (int i = 0; i < W * H; i++) {
        chance = chance * 1664525U + 1013904223U;
        px[i] = (uint8_t)(90 + i % W / 4 + (int)(chance >> 30));
    }
    const int x = (frame - MOVES_FROM) * 2;
    for (int y = 50; y < 70 && frame >= MOVES_FROM && frame < MOVES_TO; y++)
        memset(px + (ptrdiff_t)y * W + x, 230, 20);
    const tw_picture picture = {{px, NULL, NULL}, {W, 0, 0}, W, H, TW_PIXELS_GREY};
    assert_int_equal(twi_jpeg_encode(&picture, 90, &jpeg, bytes, NULL), TW_OK);
    free(px);
    return jpeg;
}

static void set_times(tw_frame *frame, int number)
{
    const tw_clock clock = tw_linux_clock();
    clock.ops->sleep_until(clock.ctx, clock.ops->now_us(clock.ctx) + REAL_US);
    frame->packet.t_us = frame->packet.dts_us = (int64_t)number * STEP_US;
    frame->packet.wall_us = clock.ops->wall_us(clock.ctx);
}

static tw_status next_small(void *ctx, tw_frame *frame, tw_error *err)
{
    small_camera *c = ctx;
    (void)err;
    memset(frame, 0, sizeof *frame);
    free(c->jpeg);
    c->jpeg = draw(c->frame, &frame->packet.size);
    frame->packet.data = c->jpeg;
    frame->packet.key = true;
    set_times(frame, c->frame++);
    return TW_OK;
}

static void close_small(void *ctx)
{
    (void)ctx;
}

static void destroy_small(void *ctx)
{
    small_camera *c = ctx;
    free(c->jpeg);
    free(c);
}

/* ---- the big stream: a file, as a live camera ---------------------------------------
 */

typedef struct big_camera {
    tw_camera file;
    int frame;
} big_camera;

static tw_status open_big(void *ctx, tw_stream *stream, tw_error *err)
{
    big_camera *c = ctx;
    return c->file.ops->open(c->file.ctx, stream, err);
}

static tw_status next_big(void *ctx, tw_frame *frame, tw_error *err)
{
    big_camera *c = ctx;
    const tw_status st = c->file.ops->next(c->file.ctx, frame, err);
    if (st == TW_OK)
        set_times(frame, c->frame++);
    return st;
}

static void close_big(void *ctx)
{
    big_camera *c = ctx;
    c->file.ops->close(c->file.ctx);
}

static void destroy_big(void *ctx)
{
    big_camera *c = ctx;
    c->file.ops->destroy(c->file.ctx);
    free(c);
}

static tw_status make_either(const tw_camera_request *request, tw_camera *out,
                             tw_error *err)
{
    static const tw_camera_ops small = {sizeof small,  "small",    TW_LIVE,
                                        open_small,    next_small, close_small,
                                        destroy_small, NULL};
    static const tw_camera_ops big = {sizeof big, "big",     TW_LIVE,     open_big,
                                      next_big,   close_big, destroy_big, NULL};
    if (strcmp(request->source, "small:") == 0) {
        *out = (tw_camera){&small, calloc(1, sizeof(small_camera))};
        return TW_OK;
    }
    tw_camera_request file = *request;
    file.pace = false;
    big_camera *c = calloc(1, sizeof *c);
    assert_non_null(c);
    *out = (tw_camera){&big, c};
    return tw_camera_make(TEST_MAKERS, &file, &c->file, err);
}

/* ---- the station ------------------------------------------------------------------- */

typedef struct watching {
    tw_station *station;
    size_t began, frames;
    char files[2][256]; /* a clip, a still */
    problems problems;
} watching;

static void on_event(void *ctx, const tw_event *e)
{
    watching *w = ctx;
    w->began += e->kind == TW_EVENT_BEGAN;
    if (e->kind == TW_EVENT_STORED)
        (void)snprintf(w->files[strcmp(e->file_kind, "still") == 0], 256, "%s", e->file);
    if (is_fault(e) || e->kind == TW_EVENT_LOST)
        collect_problem(&w->problems, e->text);
    if (e->kind == TW_EVENT_READING && ++w->frames >= FRAMES)
        tw_station_stop(w->station);
}

static void run(const char *folder, const char *file, const char *more, watching *w)
{
    static const tw_camera_make_fn makers[] = {make_either, NULL};
    char text[1024];
    tw_error err = {0};
    tw_card card;
    tw_settings *settings = tw_settings_new();
    (void)snprintf(text, sizeof text,
                   "[camera mere]\nsource = file:%s/%s\npost_event = 2 s\n"
                   "pre_event = 2 s\nclip_video = copy\nloop = yes\n%s",
                   folder, file, more);
    assert_int_equal(
        tw_settings_read_text(settings, "test", text, strlen(text), NULL, NULL), TW_OK);
    char *mark = join(folder, TWI_STORE_MARK); /* the footage lies in the store */
    write_text(mark, "");
    free(mark);
    assert_int_equal(tw_linux_card(folder, &card, &err), TW_OK);
    const tw_platform platform = {
        .makers = makers, .clock = tw_linux_clock(), .card = &card};
    memset(w, 0, sizeof *w);
    if (tw_station_new(&platform, settings, on_event, w, &w->station, &err) != TW_OK)
        fail_msg("%s", err.text);
    assert_int_equal(tw_station_run(w->station), TW_OK);
    tw_station_free(w->station);
    card.ops->destroy(card.ctx);
    tw_settings_free(settings);
}

static void make_file(const char *folder, const char *codec, const char *name)
{
    outcome o = run_program(folder, FFMPEG, "-v", "error", "-f", "lavfi", "-i",
                            "color=gray:size=320x240:rate=10:duration=30", "-c:v", codec,
                            "-g", "10", "-bf", "0", "-pix_fmt", "yuvj420p", name, NULL);
    assert_int_equal(o.code, 0);
    free_outcome(&o);
}

/* Its size, as it is said by others. */
static void check_size(const char *folder, const char *name)
{
    outcome o = run_program(folder, FFPROBE, "-v", "error", "-show_entries",
                            "stream=width,height", "-of", "csv=p=0", name, NULL);
    assert_string_equal(o.out, "320,240\n");
    free_outcome(&o);
}

static void check_kept(const char *codec)
{
    char *folder = make_folder();
    watching w;
    make_file(folder, codec, "main.mp4");
    run(folder, "main.mp4", "detect_source = small:\n", &w);
    assert_string_equal(w.problems.text, "");
    assert_int_equal(w.began, 1);
    check_size(folder, w.files[0]);
    check_size(folder, w.files[1]);
    remove_folder(folder);
}

static void test_what_moves_in_the_small_one_has_the_big_one_kept(void **state)
{
    (void)state;
    check_kept("mjpeg");
    check_kept("libx264"); /* whose stills are decoded when they are wanted */
}

static void test_without_it_nothing_moves(void **state)
{
    (void)state;
    char *folder = make_folder();
    watching w;
    make_file(folder, "mjpeg", "main.mp4");
    run(folder, "main.mp4", "", &w);
    assert_string_equal(w.problems.text, "");
    assert_int_equal(w.began, 0);
    remove_folder(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_what_moves_in_the_small_one_has_the_big_one_kept),
        cmocka_unit_test(test_without_it_nothing_moves),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
