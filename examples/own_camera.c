/* A camera of your own: a program that has pictures, here drawn ones, pushes them. */
#include <pthread.h>
#include <stdio.h>
#include <string.h>

#include "tawny/tawny.h"

enum { WIDTH = 320, HEIGHT = 240, FPS = 10, SECONDS = 30 };

static const char SETTINGS[] = "[camera bank]\nsource = push:bank\nfps = auto\n";

typedef struct feeder {
    tw_push *push;
    tw_station *station;
    uint8_t px[WIDTH * HEIGHT];
} feeder;

/* A toad of 40 x 24 pixels crosses a grey bank from the 15th second on. */
static void draw(uint8_t *px, int frame)
{
    const int x = (frame - 15 * FPS) * 4;
    for (int i = 0; i < WIDTH * HEIGHT; i++)
        px[i] = (uint8_t)(90 + i % WIDTH / 8);
    for (int y = 110; y < 134 && x >= 0 && x < WIDTH - 40; y++)
        memset(px + y * WIDTH + x, 30, 40);
}

static void wait_a_moment(void)
{
    const tw_clock clock = tw_linux_clock();
    clock.ops->sleep_until(clock.ctx, clock.ops->now_us(clock.ctx) + 1000);
}

static void *push_all(void *ctx)
{
    feeder *f = ctx;
    for (int i = 0; i < SECONDS * FPS; i++) {
        const tw_frame frame = {.packet = {.t_us = (int64_t)i * 1000000 / FPS},
                                .picture = {.px = {f->px},
                                            .stride = {WIDTH},
                                            .width = WIDTH,
                                            .height = HEIGHT,
                                            .pixels = TW_PIXELS_GREY}};
        draw(f->px, i);
        while (tw_push_frame(f->push, &frame) == TW_EAGAIN)
            wait_a_moment(); /* a real camera would leave it out */
    }
    while (tw_push_waiting(f->push) > 0)
        wait_a_moment();
    tw_station_stop(f->station);
    return NULL;
}

static void on_event(void *ctx, const tw_event *event)
{
    (void)ctx;
    if (event->kind == TW_EVENT_STORED)
        printf("%s: %s, %llu bytes\n", event->camera, event->file_kind,
               (unsigned long long)event->bytes);
    else if (event->kind == TW_EVENT_PROBLEM)
        printf("%s\n", event->text);
}

int main(void)
{
    static feeder f;
    const tw_stream stream = {
        .codec = TW_CODEC_RAW, .pixels = TW_PIXELS_GREY, .fps_num = FPS, .fps_den = 1};
    tw_error err = {0};
    tw_card card;
    pthread_t thread;
    int code = 1;
    tw_settings *settings = tw_settings_new();
    if (!settings || tw_sim_card(NULL, &card) != TW_OK)
        return 1;
    if (tw_settings_read_text(settings, "example", SETTINGS, strlen(SETTINGS), NULL,
                              NULL) != TW_OK ||
        tw_push_new("bank", &stream, &f.push) != TW_OK)
        goto done;
    tw_push *const pushed[] = {f.push, NULL};
    const tw_board board = {.clock = tw_linux_clock(), .card = &card, .pushed = pushed};
    if (tw_station_new(&board, settings, on_event, NULL, &f.station, &err) != TW_OK)
        printf("%s\n", err.text);
    else if (pthread_create(&thread, NULL, push_all, &f) == 0) {
        code = tw_station_run(f.station) == TW_OK ? 0 : 1;
        (void)pthread_join(thread, NULL);
    }
done:
    tw_station_free(f.station);
    tw_push_free(f.push);
    tw_settings_free(settings);
    card.ops->destroy(card.ctx);
    return code;
}
