// A camera of your own, in C++: pictures that are pushed, and a sighting that is told.
#include <cstdio>
#include <cstring>
#include <memory>
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
static void push_all(tw_push *push)
{
    std::vector<uint8_t> px(WIDTH * HEIGHT);
    tw_frame frame = {};
    frame.picture = {{px.data()}, {WIDTH}, WIDTH, HEIGHT, TW_PIXELS_GREY};
    for (int i = 0; i < SECONDS * FPS; i++) {
        const int x = (i - 15 * FPS) * 4;
        px.assign(px.size(), 90);
        for (int y = 110; y < 134 && x >= 0 && x < WIDTH - 40; y++)
            std::memset(&px[size_t(y * WIDTH + x)], 30, 40);
        frame.packet.t_us = int64_t(i) * 1000000 / FPS;
        tw_push_frame(push, &frame, true);
    }
    tw_push_end(push);
}

template <class T> using owned = std::unique_ptr<T, void (*)(T *)>;

int main()
{
    const std::string text = "[camera bank]\nsource = push:bank\nfps = auto\n";
    tw_stream stream = {};
    stream.codec = TW_CODEC_RAW;
    stream.fps_num = FPS;
    tw_push *push = nullptr;
    tw_station *station = nullptr;
    tw_card card = {};
    tw_error err = {};
    owned<tw_settings> settings(tw_settings_new(), tw_settings_free);
    if (!settings || tw_sim_card(nullptr, &card) != TW_OK ||
        tw_settings_read_text(settings.get(), "example", text.data(), text.size(),
                              nullptr, nullptr) != TW_OK ||
        tw_push_new("bank", &stream, TW_RECORDED, &push) != TW_OK)
        return 1;
    tw_push *const pushed[] = {push, nullptr};
    tw_platform platform = {};
    platform.clock = tw_linux_clock();
    platform.card = &card;
    platform.pushed = pushed;
    tw_status st =
        tw_station_new(&platform, settings.get(), on_event, nullptr, &station, &err);
    if (st == TW_OK) {
        std::thread pushing(push_all, push);
        st = tw_station_run(station);
        tw_push_end(push); // lets it go, should it wait for a station that is over
        pushing.join();
    }
    tw_station_free(station);
    tw_push_free(push);
    card.ops->destroy(card.ctx);
    return st == TW_OK ? 0 : 1;
}
