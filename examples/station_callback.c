/* A station with one simulated camera. Settings are text, captures go to a card in
 * memory, and a callback gets its events. */
#include <stdio.h>
#include <string.h>

#include "tawny/tawny.h"

static const char SETTINGS[] = "[camera kerb]\n"
                               "source = sim:kerb,size=320x180\n"
                               "pace = no       # as fast as it can be drawn\n"
                               "pre_event = 2 s\n"
                               "post_event = 3 s\n";

typedef struct counts {
    unsigned sightings, clips, stills;
} counts;

static void on_event(void *ctx, const tw_event *event)
{
    counts *seen = ctx;
    if (event->kind == TW_EVENT_ENDED) {
        seen->sightings++;
        printf("%s: sighting %u lasted %.1f s\n", event->camera,
               (unsigned)event->sighting->number,
               (double)(event->sighting->end_us - event->sighting->start_us) / 1e6);
    } else if (event->kind == TW_EVENT_STORED) {
        seen->clips += strcmp(event->file_kind, "clip") == 0;
        seen->stills += strcmp(event->file_kind, "still") == 0;
    } else if (event->text) {
        printf("%s: %s\n", event->camera ? event->camera : "station", event->text);
    }
}

int main(void)
{
    static const tw_camera_make_fn makers[] = {tw_sim_camera_make, NULL};
    tw_error err = {0};
    counts seen = {0};
    tw_card card;
    tw_station *station = NULL;
    tw_settings *settings = tw_settings_new();
    if (!settings || tw_sim_card(NULL, &card) != TW_OK)
        return 1;
    int code = 1;
    if (tw_settings_read_text(settings, "example", SETTINGS, strlen(SETTINGS), NULL,
                              NULL) != TW_OK)
        goto done;
    const tw_platform platform = {
        .makers = makers, .clock = tw_linux_clock(), .card = &card};
    if (tw_station_new(&platform, settings, on_event, &seen, &station, &err) != TW_OK) {
        printf("%s\n", err.text);
        goto done;
    }
    if (tw_station_run(station) == TW_OK)
        code = 0;
    printf("%u sightings; %u clips and %u stills on the card\n", seen.sightings,
           seen.clips, seen.stills);
done:
    tw_station_free(station);
    tw_settings_free(settings);
    card.ops->destroy(card.ctx);
    return code;
}
