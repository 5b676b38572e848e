/* Finding and opening a store. */
#include "store.h"
#include "../core/naming.h"
#include "../settings/sections.h"
#include "tawny/settings.h"

#include <stdio.h>
#include <string.h>

enum { DAY_S = 86400 };

int store_find(const cli_common *common, char **store)
{
    tw_settings *settings = NULL;
    twi_station_settings station;
    if (*store)
        return CLI_DONE;
    if (cli_load_readable(common, &settings) != TW_OK)
        return CLI_USAGE;
    twi_settings_station(settings, &station);
    *store = g_strdup(station.store);
    tw_settings_free(settings);
    return CLI_DONE;
}

int store_open(const char *store, tw_catalogue **out)
{
    tw_error err = {0};
    g_autofree char *path = g_build_filename(store, TWI_CATALOGUE_FILE, NULL);
    const tw_status st = tw_catalogue_open(path, false, out, &err);
    if (st == TW_ENOENT)
        return cli_say(CLI_FAILED,
                       "there is no catalogue in %s yet: name the store with "
                       "--store DIR, or let the station run",
                       store);
    return st == TW_OK ? CLI_DONE : cli_say(CLI_FAILED, "%s", err.text);
}

typedef struct stopped_list {
    tw_catalogue *catalogue;
    store_stopped_fn visit;
    void *ctx;
} stopped_list;

static void see_destination(void *ctx, const char *name, int64_t since_us,
                            const char *why)
{
    const stopped_list *l = ctx;
    twi_outbox_fill f;
    (void)since_us;
    (void)why;
    if (twi_outbox_inspect(l->catalogue, name, false, 0, &f, NULL) == TW_OK)
        l->visit(l->ctx, name, &f);
}

void store_stopped(const char *store, store_stopped_fn visit, void *ctx)
{
    stopped_list l = {.visit = visit, .ctx = ctx};
    g_autofree char *path = g_build_filename(store, TWI_CATALOGUE_FILE, NULL);
    if (tw_catalogue_open(path, false, &l.catalogue, NULL) == TW_OK)
        (void)twi_outbox_stopped(l.catalogue, see_destination, &l, NULL);
    tw_catalogue_close(l.catalogue);
}

/* @param about  A moment on the wall, where the clock is, as if that were UTC. */
static int64_t utc_of(const tw_clock *clock, int64_t about)
{
    return about - (int64_t)clock->ops->offset_s(clock->ctx, about) * G_USEC_PER_SEC;
}

int store_time(const tw_clock *clock, const char *option, const char *text,
               int64_t *at_us)
{
    int year = 0, month = 0, day = 0, hour = 0, minute = 0, end = 0, whole = 0;
    double second = 0;
    char between = ' ';
    const int n = sscanf(text, "%4d-%2d-%2d%c%2d:%2d%n:%lf%n", &year, &month, &day,
                         &between, &hour, &minute, &end, &second, &whole);
    if ((n != 6 && n != 7) || text[n == 7 ? whole : end] != '\0' || year < 1970 ||
        !g_date_valid_dmy((GDateDay)day, (GDateMonth)month, (GDateYear)year) ||
        (between != ' ' && between != 'T') || hour < 0 || hour > 23 || minute < 0 ||
        minute > 59 || !(second >= 0 && second < 60))
        return cli_say(CLI_USAGE,
                       "%s %s: expected a local time such as \"2027-03-13 21:40\" or "
                       "2027-03-13T21:40:05",
                       option, text);
    const twi_civil t = {.year = year,
                         .month = (uint8_t)month,
                         .day = (uint8_t)day,
                         .hour = (uint8_t)hour,
                         .minute = (uint8_t)minute,
                         .second = (uint8_t)second,
                         .microsecond = (uint32_t)((second - (uint8_t)second) * 1e6)};
    *at_us = utc_of(clock, twi_civil_join(&t));
    return CLI_DONE;
}

int store_day(const tw_clock *clock, const char *text, int64_t *from_us,
              int64_t *until_us)
{
    twi_civil t = {0};
    int year = 0, month = 0, day = 0, end = 0;
    *from_us = *until_us = 0;
    if (!text)
        return CLI_DONE;
    if (sscanf(text, "%d-%d-%d%n", &year, &month, &day, &end) != 3 || text[end] != '\0' ||
        year < 1970 || year > 9999 ||
        !g_date_valid_dmy((GDateDay)day, (GDateMonth)month, (GDateYear)year))
        return cli_say(CLI_USAGE, "--day %s: expected a day such as 2027-03-13", text);
    t.year = year;
    t.month = (uint8_t)month;
    t.day = (uint8_t)day;
    for (int i = 0; i < 2; i++) {
        const int64_t about = twi_civil_join(&t) + (int64_t)i * DAY_S * G_USEC_PER_SEC;
        *(i ? until_us : from_us) = utc_of(clock, about);
    }
    return CLI_DONE;
}

/* ---- recordings -------------------------------------------------------------------- */

typedef struct recording {
    const char *camera;
    int64_t at_us, start_us;
    char *file;
} recording;

static bool take_recording(void *ctx, const tw_capture_record *c)
{
    recording *r = ctx;
    if (strcmp(c->camera, r->camera) != 0 || c->start_us > r->at_us ||
        (r->file && c->start_us < r->start_us) ||
        (strcmp(c->kind, "segment") != 0 && strcmp(c->kind, "timed-clip") != 0 &&
         strcmp(c->kind, "clip") != 0))
        return true;
    g_free(r->file);
    r->file = g_strdup(c->file);
    r->start_us = c->start_us;
    return true;
}

tw_status store_recording(tw_catalogue *catalogue, const char *camera, int64_t at_us,
                          char **file, int64_t *start_us, tw_error *err)
{
    recording r = {.camera = camera, .at_us = at_us};
    const tw_status st = tw_catalogue_captures(catalogue, 0, take_recording, &r, err);
    *file = r.file;
    *start_us = r.start_us;
    return st;
}

void store_fit(twi_camera_settings *c)
{
    c->rotate = 0;
    c->mirror = false;
    if (c->clip_video != TWI_VIDEO_COPY && c->clip_video != TWI_VIDEO_MJPEG)
        c->crop = (twi_crop){0};
    c->fps = 0;
}
