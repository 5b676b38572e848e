/* A camera of your own: a program that has pictures, here drawn ones, pushes them. */
#include <pthread.h>
#include <stdio.h>
#include <string.h>

#include "tawny/tawny.h"

enum { WIDTH = 320, HEIGHT = 240, FPS = 10, SECONDS = 30 };

/* A toad of 40 x 24 pixels crosses a grey bank from the 15th second on. */
static void draw(uint8_t *px, int frame)
{
    const int x = (frame - 15 * FPS) * 4;
    memset(px, 90, (size_t)WIDTH * HEIGHT);
    for (int y = 110; y < 134 && x >= 0 && x < WIDTH - 40; y++)
        memset(px + y * WIDTH + x, 30, 40);
}

static void *push_all(void *push)
{
    static uint8_t px[WIDTH * HEIGHT];
    tw_frame frame = {.picture = {.px = {px},
                                  .stride = {WIDTH},
                                  .width = WIDTH,
                                  .height = HEIGHT,
                                  .pixels = TW_PIXELS_GREY}};
    for (int i = 0; i < SECONDS * FPS; i++) {
        draw(px, i);
        frame.packet.t_us = (int64_t)i * 1000000 / FPS;
        (void)tw_push_frame(push, &frame, true);
    }
    tw_push_end(push);
    return NULL;
}

static void on_event(void *ctx, const tw_event *event)
{
    (void)ctx;
    if (event->kind == TW_EVENT_STORED)
        printf("%s: %s, %llu bytes\n", event->camera, event->file_kind,
               (unsigned long long)event->bytes);
    else if (event->text)
        printf("%s\n", event->text);
}

int main(void)
{
    static const char text[] = "[camera bank]\nsource = push:bank\nfps = auto\n";
    const tw_stream stream = {.codec = TW_CODEC_RAW, .fps_num = FPS, .fps_den = 1};
    tw_push *push = NULL;
    tw_station *station = NULL;
    tw_card card;
    tw_error err = {0};
    pthread_t thread;
    tw_settings *settings = tw_settings_new();
    if (!settings || tw_sim_card(NULL, &card) != TW_OK ||
        tw_settings_read_text(settings, "example", text, strlen(text), NULL, NULL) !=
            TW_OK ||
        tw_push_new("bank", &stream, TW_RECORDED, &push) != TW_OK)
        return 1;
    tw_push *const pushed[] = {push, NULL};
    const tw_platform platform = {
        .clock = tw_linux_clock(), .card = &card, .pushed = pushed};
    tw_status st = tw_station_new(&platform, settings, on_event, NULL, &station, &err);
    if (st == TW_OK && pthread_create(&thread, NULL, push_all, push) == 0) {
        st = tw_station_run(station);
        tw_push_end(push); /* lets it go, should it wait for a station that is over */
        (void)pthread_join(thread, NULL);
    }
    tw_station_free(station);
    tw_push_free(push);
    tw_settings_free(settings);
    card.ops->destroy(card.ctx);
    return st == TW_OK ? 0 : 1;
}
