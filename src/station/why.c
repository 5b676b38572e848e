/* Why a sighting began, and why a moment did not make one: one line each. */
#include <inttypes.h>
#include <stdarg.h>
#include <stdio.h>
#include <string.h>

#include "tawny/station.h"
#include "../settings/sections.h"
#include "why.h"

/* A line that is put together; what does not fit is cut. */
typedef struct line {
    char *text;
    size_t capacity, used;
} line;

static void add(line *l, const char *format, ...) TW_PRINTF(2, 3);

static void add(line *l, const char *format, ...)
{
    va_list args;
    va_start(args, format);
    const int more = vsnprintf(l->text + l->used, l->capacity - l->used, format, args);
    va_end(args);
    const size_t room = l->capacity - l->used - 1;
    l->used += more < 0 ? 0 : (size_t)more < room ? (size_t)more : room;
}

static double percent(uint32_t ppm)
{
    return ppm / 1e4;
}

const char *twi_place_words(int32_t x_ppm, int32_t y_ppm)
{
    static const char *const names[3][3] = {
        {"at the upper left", "at the top", "at the upper right"},
        {"at the left", "in the middle", "at the right"},
        {"at the lower left", "at the bottom", "at the lower right"}};
    const int column = x_ppm < 333333 ? 0 : x_ppm < 666667 ? 1 : 2;
    const int row = y_ppm < 333333 ? 0 : y_ppm < 666667 ? 1 : 2;
    return names[row][column];
}

const char *twi_why_began(const tw_sighting *sighting, char *out, size_t capacity)
{
    if (sighting->cause.of == 0) {
        (void)snprintf(out, capacity, "%s",
                       sighting->cause.by == TW_CAUSE_SENSOR
                           ? "the motion sensor saw something"
                       : sighting->cause.by == TW_CAUSE_SOUND ? "it was louder than usual"
                                                              : "it was asked for");
        return out;
    }
    const tw_cause *c = &sighting->cause;
    line l = {out, capacity, 0};
    add(&l, "%.2f %% of %s moved (start_at %.2f %%)", percent(c->activity_ppm),
        c->area == 0 ? "the watched area" : "a zone with its own limits",
        percent(c->start_ppm));
    if (c->blobs == 1)
        add(&l, ", one blob of %.2f %% %s", percent(c->size_ppm),
            twi_place_words(c->x_ppm, c->y_ppm));
    else if (c->blobs > 1)
        add(&l, ", %u blobs, the largest of %.2f %% %s", c->blobs, percent(c->size_ppm),
            twi_place_words(c->x_ppm, c->y_ppm));
    add(&l, ", %u of %u frames", c->hits, c->of);
    return out;
}

/* What kept a frame from counting whatever moved in it. */
static bool add_state(line *l, const tw_reading *r, tw_watch_state state,
                      const twi_camera_settings *camera)
{
    if (state == TW_IDLE && !camera->armed)
        add(l, "the camera was disarmed (armed = no); ");
    else if (state == TW_IDLE)
        add(l, "the camera was not armed (hours, arm_delay, or from outside); ");
    else if (state == TW_SETTLING || state == TW_IDLE)
        add(l, "the place was still being learned (settle %.1f s); ",
            (double)camera->settle_us / 1e6);
    else if (state == TW_RESTING)
        add(l, "it was the rest after a sighting (rest %.1f s); ",
            (double)camera->rest_us / 1e6);
    else if (state == TW_SIGHTING)
        add(l, "a sighting was running already; ");
    else if (r->whole_picture)
        add(l, "most of the picture turned at once, so nothing is said for a second; ");
    else
        return false;
    return true;
}

static void add_part(line *l, const char **between, uint32_t ppm, const char *words)
{
    if (ppm == 0)
        return;
    add(l, "%s%.2f %% %s", *between, percent(ppm), words);
    *between = ", ";
}

/* Where the rest of what moved went, and what the guards explained before. */
static void add_takings(line *l, const tw_reading *r)
{
    const uint32_t named = r->activity_ppm + r->travel_ppm + r->size_ppm;
    const uint32_t alone = r->raw_ppm > named ? r->raw_ppm - named : 0;
    const char *between = ": ";
    add_part(l, &between, r->colour_ppm, "moved by its colour alone");
    add_part(l, &between, r->unlike_ppm, "moved only as it is unlike what is near");
    add_part(l, &between, r->travel_ppm, "has not travelled like a subject");
    add_part(l, &between, r->size_ppm, "too small or too large");
    add_part(l, &between, alone, "in single cells that made no blob");
    add_part(l, &between, r->light_ppm, "taken by the light guard");
    add_part(l, &between, r->sway_ppm, "taken by the sway guard");
    add_part(l, &between, r->shake_ppm, "taken by the shake guard");
    add_part(l, &between, r->ignored_ppm, "of the picture moved in ignored zones");
    if (strcmp(between, ": ") == 0)
        add(l, ": nothing else moved");
}

const char *twi_why_not(const tw_reading *reading, tw_watch_state state,
                        const twi_camera_settings *camera, char *out, size_t capacity)
{
    line l = {out, capacity, 0};
    out[0] = '\0';
    const bool barred = add_state(&l, reading, state, camera);
    const bool over = reading->activity_ppm >= camera->start_ppm;
    add(&l, "activity %.2f %%, %s start_at %.2f %%", percent(reading->activity_ppm),
        over ? "at or over" : "under", percent((uint32_t)camera->start_ppm));
    if (over && !barred)
        add(&l, ", but not yet in %u of %u frames", camera->confirm.k, camera->confirm.n);
    add_takings(&l, reading);
    return out;
}

const char *twi_span_words(int64_t us, char out[24])
{
    const double s = (double)us / 1e6;
    if (s < 120)
        (void)snprintf(out, 24, "%.0f s", s);
    else
        (void)snprintf(out, 24, s < 7200 ? "%.0f min" : "%.0f h",
                       s / (s < 7200 ? 60 : 3600));
    return out;
}
