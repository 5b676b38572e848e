/* A store with sightings that wait. */
#include "stored.h"
#include "../../src/core/naming.h"
#include "tawny/events.h"
#include "tawny/settings.h"

#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

#define S INT64_C(1000000)
#define WALL (INT64_C(1804969800) * S) /* 2027-03-13 20:30 UTC */

stored *make_stored(void)
{
    stored *s = calloc(1, sizeof *s);
    tw_error err = {0};
    assert_non_null(s);
    (void)pthread_mutex_init(&s->lock, NULL);
    s->folder = make_folder();
    s->store = join(s->folder, "store");
    (void)mkdir(s->store, 0755);
    char *day = join(s->store, "2027-03-13"), *path = join(s->store, TWI_CATALOGUE_FILE);
    (void)mkdir(day, 0755);
    if (tw_catalogue_open(path, true, &s->catalogue, &err) != TW_OK)
        fail_msg("%s", err.text);
    assert_int_equal(twi_catalogue_begin_run(s->catalogue, WALL, "", NULL), TW_OK);
    free(day);
    free(path);
    return s;
}

void leave_stored(stored *s)
{
    twi_deliver_free(s->deliver);
    tw_settings_free(s->settings);
    tw_catalogue_close(s->catalogue);
    free(s->store);
    remove_folder(s->folder);
    (void)pthread_mutex_destroy(&s->lock);
    free(s);
}

tw_settings *sending_settings(const char *send_to, const char *destinations)
{
    char text[8192];
    problems p = {0};
    tw_settings *settings = tw_settings_new();
    (void)snprintf(text, sizeof text,
                   "[station]\nname = hollin\n[camera kerb]\nsource = sim:kerb\n"
                   "send_to = %s\n%s",
                   send_to, destinations);
    (void)tw_settings_read_text(settings, "test", text, strlen(text), collect_problem,
                                &p);
    (void)tw_settings_check(settings, collect_problem, &p);
    if (p.count > 0)
        fail_msg("%s", p.text);
    return settings;
}

static void on_line(void *ctx, tw_status st, const char *line)
{
    stored *s = ctx;
    (void)st;
    (void)pthread_mutex_lock(&s->lock);
    const size_t n = strlen(s->told);
    (void)snprintf(s->told + n, sizeof s->told - n, "%s\n", line);
    (void)pthread_mutex_unlock(&s->lock);
}

void deliver(stored *s, const char *send_to, const char *destinations)
{
    tw_error err = {0};
    twi_deliver_free(s->deliver);
    s->deliver = NULL;
    if (!send_to)
        return;
    tw_settings_free(s->settings);
    s->settings = sending_settings(send_to, destinations);
    if (twi_deliver_new(s->settings, s->store, quick_clock(), on_line, s, &s->deliver,
                        &err) != TW_OK)
        fail_msg("%s", err.text);
}

/* ---- sightings --------------------------------------------------------------------- */

static int64_t note(stored *s, bool over)
{
    const tw_sighting g = {.number = s->number,
                           .part = 1,
                           .start_us = s->number * 60 * S,
                           .end_us = (s->number * 60 + 12) * S,
                           .peak_ppm = 4200,
                           .frames = 30};
    const twi_sighting_entry entry = {.camera = "kerb",
                                      .sighting = &g,
                                      .wall_offset_us = WALL,
                                      .why = "one blob of 0.4 % <at> the \"left\"",
                                      .over = over};
    int64_t id = 0;
    assert_int_equal(twi_catalogue_put(s->catalogue, &entry, &id, NULL), TW_OK);
    return id;
}

static void add(stored *s, int64_t id, const char *kind, const char *ending,
                const void *data, size_t bytes)
{
    char name[128];
    (void)snprintf(name, sizeof name, "2027-03-13/kerb+%03u-%s.%s", (unsigned)s->number,
                   kind, ending);
    char *path = join(s->store, name);
    write_bytes(path, data, bytes);
    free(path);
    const tw_capture_record r = {.sighting = id,
                                 .camera = "kerb",
                                 .kind = kind,
                                 .file = name,
                                 .bytes = bytes,
                                 .start_us = WALL + s->number * 60 * S};
    assert_int_equal(twi_catalogue_add(s->catalogue, &r, NULL), TW_OK);
}

int64_t begin_sighting(stored *s)
{
    s->number++;
    return note(s, false);
}

void add_still(stored *s, int64_t id)
{
    size_t bytes = 0;
    uint8_t *jpeg = plain_jpeg(320, 240, (uint8_t)(40 + s->number * 20 % 200), &bytes);
    add(s, id, "still", "jpg", jpeg, bytes);
    free(jpeg);
}

void end_sighting(stored *s, int64_t id)
{
    (void)id;
    (void)note(s, true);
    const tw_event event = {.kind = TW_EVENT_ENDED, .camera = "kerb"};
    twi_deliver_event(s->deliver, &event);
}

int64_t sight(stored *s, size_t clip_bytes)
{
    const int64_t id = begin_sighting(s);
    add_still(s, id);
    char *clip = malloc(clip_bytes + 1);
    for (size_t i = 0; i < clip_bytes; i++)
        clip[i] = (char)(i * 7 + s->number);
    if (clip_bytes > 0)
        add(s, id, "clip", "mp4", clip, clip_bytes);
    free(clip);
    end_sighting(s, id);
    return id;
}

twi_outbox_fill filled(stored *s, const char *destination)
{
    twi_outbox_fill fill;
    assert_int_equal(twi_outbox_inspect(s->catalogue, destination, false, 0, &fill, NULL),
                     TW_OK);
    return fill;
}

bool was_told(stored *s, const char *words)
{
    (void)pthread_mutex_lock(&s->lock);
    const bool found = strstr(s->told, words) != NULL;
    (void)pthread_mutex_unlock(&s->lock);
    return found;
}
