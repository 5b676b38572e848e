// A camera of your own, in C++: pictures that are pushed, and a sighting that is told.
#include <chrono>
#include <cstdio>
#include <cstring>
#include <string>
#include <thread>
#include <vector>

#include <tawny/tawny.h>

static const int WIDTH = 320, HEIGHT = 240, FPS = 10, SECONDS = 30;

static void on_event(void *, const tw_event *event)
{
    if (event->kind == TW_EVENT_ENDED)
        std::printf("sighting %u lasted %.1f s\n", unsigned(event->sighting->number),
                    double(event->sighting->end_us - event->sighting->start_us) / 1e6);
}

// A toad crosses a grey bank from the 15th second on.
static void push_all(tw_push *push, tw_station *station)
{
    std::vector<uint8_t> px(WIDTH * HEIGHT);
    for (int i = 0; i < SECONDS * FPS; i++) {
        px.assign(px.size(), 90);
        const int x = (i - 15 * FPS) * 4;
        for (int y = 110; y < 134 && x >= 0 && x < WIDTH - 40; y++)
            std::memset(&px[size_t(y * WIDTH + x)], 30, 40);
        tw_frame frame = {};
        frame.packet.t_us = int64_t(i) * 1000000 / FPS;
        frame.picture.px[0] = px.data();
        frame.picture.stride[0] = frame.picture.width = WIDTH;
        frame.picture.height = HEIGHT;
        frame.picture.pixels = TW_PIXELS_GREY;
        while (tw_push_frame(push, &frame) == TW_EAGAIN)
            std::this_thread::sleep_for(std::chrono::milliseconds(1));
    }
    while (tw_push_waiting(push) > 0)
        std::this_thread::sleep_for(std::chrono::milliseconds(1));
    tw_station_stop(station);
}

int main()
{
    const std::string text = "[camera bank]\nsource = push:bank\nfps = auto\n";
    tw_stream stream = {};
    stream.codec = TW_CODEC_RAW;
    stream.fps_num = FPS;
    tw_push *push = nullptr;
    tw_card card = {};
    tw_station *station = nullptr;
    tw_error err = {};
    tw_settings *settings = tw_settings_new();
    if (!settings || tw_sim_card(nullptr, &card) != TW_OK ||
        tw_push_new("bank", &stream, &push) != TW_OK)
        return 1;
    tw_push *const pushed[] = {push, nullptr};
    tw_board board = {};
    board.clock = tw_linux_clock();
    board.card = &card;
    board.pushed = pushed;
    int code = 1;
    if (tw_settings_read_text(settings, "example", text.data(), text.size(), nullptr,
                              nullptr) == TW_OK &&
        tw_station_new(&board, settings, on_event, nullptr, &station, &err) == TW_OK) {
        std::thread pushing(push_all, push, station);
        code = tw_station_run(station) == TW_OK ? 0 : 1;
        pushing.join();
    } else {
        std::printf("%s\n", err.text);
    }
    tw_station_free(station);
    tw_push_free(push);
    tw_settings_free(settings);
    card.ops->destroy(card.ctx);
    return code;
}
