/* libFuzzer target: footage files, through all of a rehearsal: containers, codecs, the
 * detector, stills and clips. Whatever it is, it ends, and what is wrong has a line. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "tawny/tawny.h"
#include "../src/settings/sections.h"
#include "../src/station/footage.h"
#include "../src/station/rehearse.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes);

enum { FRAMES_MAX = 60 };

typedef struct trying {
    volatile int stop;
    int frames;
} trying;

static void on_event(void *ctx, const tw_event *e)
{
    trying *t = ctx;
    if (e->kind == TW_EVENT_READING && ++t->frames >= FRAMES_MAX)
        t->stop = 1;
    if (e->kind == TW_EVENT_PROBLEM && strlen(e->text) == 0)
        abort();
}

static void rehearse(const char *source)
{
    static const tw_camera_make_fn makers[] = {tw_linux_camera_make, NULL};
    const tw_sim_faults counting = {.forgets = true};
    tw_settings *settings = tw_settings_new();
    twi_camera_settings camera;
    twi_station_settings station;
    tw_rehearsal_result result;
    tw_error err = {0};
    tw_card card;
    trying t = {0, 0};
    if (!settings || tw_sim_card(&counting, &card) != TW_OK ||
        tw_settings_add_camera(settings, "kerb", source, NULL, NULL) != TW_OK ||
        tw_settings_set(settings, "kerb.settle=0 s", NULL, NULL) != TW_OK ||
        twi_settings_camera(settings, "kerb", &camera) != TW_OK)
        abort();
    twi_settings_station(settings, &station);
    const tw_platform platform = {
        .makers = makers, .clock = tw_linux_clock(), .card = &card};
    const tw_status st =
        twi_rehearse(&platform, &camera, &station, &t.stop, on_event, &t, &result, &err);
    if (st != TW_OK && st != TW_ESTOPPED && strlen(err.text) == 0)
        abort();
    card.ops->destroy(card.ctx);
    tw_settings_free(settings);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes)
{
    char path[64], source[80];
    (void)snprintf(path, sizeof path, "/tmp/tawny-fuzz-%d.mkv", (int)getpid());
    (void)snprintf(source, sizeof source, "file:%s", path);
    FILE *file = fopen(path, "wb");
    if (!twi_clips_possible(NULL)) /* without the module there is nothing to try */
        abort();
    if (!file || fwrite(data, 1, bytes, file) != bytes || fclose(file) != 0)
        abort();
    rehearse(source);
    (void)unlink(path);
    return 0;
}
