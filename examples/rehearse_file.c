/* A file, or any source, rehearsed: what a camera would have seen in it, and the captures
 * in a folder that is a store afterwards.
 *
 *     rehearse_file file:night.mp4 FOLDER */
#include <stdio.h>

#include "tawny/tawny.h"

static void on_event(void *ctx, const tw_event *event)
{
    (void)ctx;
    if (event->kind == TW_EVENT_ENDED)
        printf("sighting %u, from %.1f s to %.1f s: at most %.2f %% of the picture\n",
               (unsigned)event->sighting->number, (double)event->sighting->start_us / 1e6,
               (double)event->sighting->end_us / 1e6,
               (double)event->sighting->peak_ppm / 1e4);
    else if (event->kind == TW_EVENT_STORED)
        printf("  %s\n", event->file);
    else if (event->kind == TW_EVENT_PROBLEM)
        printf("%s\n", event->text);
}

int main(int argc, char **argv)
{
    static const tw_camera_make_fn makers[] = {tw_linux_camera_make, tw_sim_camera_make,
                                               NULL};
    tw_rehearsal_result result;
    tw_error err = {0};
    tw_card card;
    tw_settings *settings = tw_settings_new();
    if (argc != 3 || !settings ||
        tw_settings_add_camera(settings, "kerb", argv[1], NULL, NULL) != TW_OK) {
        printf("rehearse_file SOURCE FOLDER\n");
        return 1;
    }
    tw_status st = tw_linux_card(argv[2], &card, &err);
    if (st == TW_OK) {
        const tw_platform platform = {
            .makers = makers, .clock = tw_linux_clock(), .card = &card};
        st =
            tw_rehearse(&platform, settings, "kerb", NULL, on_event, NULL, &result, &err);
        card.ops->destroy(card.ctx);
    }
    if (st == TW_OK)
        printf("%llu frames, %u sightings\n", (unsigned long long)result.frames,
               (unsigned)result.sightings);
    else
        printf("%s\n", err.text);
    tw_settings_free(settings);
    return st == TW_OK ? 0 : 1;
}
