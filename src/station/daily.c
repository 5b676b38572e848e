/* The word of the day, and its film. */
#include "daily.h"

#include <stdio.h>
#include <string.h>

#include "../core/civil.h"
#include "catalogue_write.h"
#include "daily_reel.h"
#include "outbox.h"
#include "plan.h"
#include "sense.h"
#include "station_state.h"
#include "tawny/catalogue.h"
#include "why.h"

enum { PATH_BYTES = 4096, PARTS = 8, PART_BYTES = 120 };

#define SECOND_US INT64_C(1000000)
#define DAY_US (86400 * SECOND_US)
#define SETTLED_US (60 * SECOND_US) /* until cameras may be expected to be there */
#define WEEK_US (7 * DAY_US)

/* ---- the word ---------------------------------------------------------------------- */

/* What is put together to one line. */
typedef struct word {
    char part[PARTS][PART_BYTES];
    size_t count;
    unsigned wrong; /* of these, from the first on */
} word;

static char *next_part(word *w)
{
    return w->count < PARTS ? w->part[w->count++] : w->part[PARTS - 1];
}

static void say_cameras(tw_station *s, word *w)
{
    unsigned well = 0, all = 0;
    tw_camera_status c;
    for (size_t i = 0; tw_station_camera(s, i, &c) == TW_OK; i++, all++) {
        if (c.lost_us == 0 && !c.ended) {
            well++;
            continue;
        }
        if (w->count < PARTS - 3)
            (void)snprintf(next_part(w), PART_BYTES, "%s is %s", c.name,
                           tw_camera_state_name(&c));
        w->wrong++;
    }
    (void)snprintf(next_part(w), PART_BYTES, "%u of %u cameras", well, all);
    if (well == all)
        (void)snprintf(w->part[w->count - 1], PART_BYTES, "%u camera%s", all,
                       all == 1 ? "" : "s");
}

static void say_sensors(tw_station *s, word *w)
{
    tw_sensor_status one;
    char is[64];
    for (size_t i = 0; tw_station_sensor(s, i, &one) == TW_OK; i++) {
        if (!one.beyond && one.why[0] == '\0')
            continue;
        if (w->count < PARTS - 3)
            (void)snprintf(next_part(w), PART_BYTES, "%s %s", one.name,
                           one.why[0] ? "gives no number"
                                      : twi_sensor_words(one.value, one.unit, is));
        w->wrong++;
    }
}

static void count_stopped(void *ctx, const char *destination, int64_t since_us,
                          const char *why)
{
    word *w = ctx;
    (void)since_us;
    (void)why;
    if (w->count < PARTS - 3)
        (void)snprintf(next_part(w), PART_BYTES, "nothing is sent to %s", destination);
    w->wrong++;
}

static void say_sightings(const twi_catalogue_sums *sums, word *w)
{
    (void)snprintf(next_part(w), PART_BYTES, "%lld sighting%s",
                   (long long)sums->sightings, sums->sightings == 1 ? "" : "s");
    if (sums->alarms > 0)
        (void)snprintf(next_part(w), PART_BYTES, "%lld alarm%s in a day",
                       (long long)sums->alarms, sums->alarms == 1 ? "" : "s");
}

/* By what the last week has brought, and what was free when the writer looked last. */
static void say_card(tw_station *s, const twi_catalogue_sums *sums, word *w)
{
    const uint64_t free_bytes = atomic_load(&s->writer.free_bytes);
    char *out = next_part(w);
    if (free_bytes == TWI_FREE_UNKNOWN) {
        (void)snprintf(out, PART_BYTES, "the card does not answer");
        w->wrong++;
        return;
    }
    int64_t span_us = twi_station_wall(s) - sums->first_us;
    if (span_us < DAY_US)
        span_us = DAY_US;
    const double day = (double)sums->bytes * (double)DAY_US / (double)span_us;
    const double days = twi_plan_days(free_bytes, s->settings.keep_free, day);
    if (sums->bytes == 0 || days > 3650)
        (void)snprintf(out, PART_BYTES, "card with %.1f GB free",
                       (double)free_bytes / 1e9);
    else
        (void)snprintf(out, PART_BYTES, "card for %.0f day%s", days,
                       days >= 0.5 && days < 1.5 ? "" : "s");
}

static void put_together(const word *w, tw_error *line)
{
    size_t n = (size_t)snprintf(line->text, sizeof line->text, "%s",
                                w->wrong == 0 ? "all is well: " : "not all is well: ");
    line->status = w->wrong == 0 ? TW_OK : TW_EAGAIN;
    for (size_t i = 0; i < w->count && n < sizeof line->text; i++)
        n += (size_t)snprintf(line->text + n, sizeof line->text - n, "%s%s",
                              i == 0 ? "" : ", ", w->part[i]);
}

static void say_word(tw_station *s, tw_catalogue *catalogue)
{
    word w = {.count = 0};
    tw_error line = {0};
    twi_catalogue_sums sums = {0};
    const int64_t wall_us = twi_station_wall(s);
    (void)twi_outbox_stopped(catalogue, count_stopped, &w, NULL);
    say_sensors(s, &w);
    say_cameras(s, &w);
    if (twi_catalogue_sum(catalogue, wall_us - DAY_US, wall_us - WEEK_US, &sums, NULL) ==
        TW_OK)
        say_sightings(&sums, &w);
    say_card(s, &sums, &w);
    put_together(&w, &line);
    twi_station_tell(s, &(tw_event){.kind = TW_EVENT_DAILY,
                                    .wall_us = wall_us,
                                    .status = line.status,
                                    .text = line.text});
}

/* ---- when it is said ----------------------------------------------------------------
 */

static bool is_word(void *ctx, const tw_log_entry *entry)
{
    bool *found = ctx;
    *found = strcmp(entry->what, tw_event_name(TW_EVENT_DAILY)) == 0;
    return !*found;
}

/* Another run of today's may have said it. */
static bool was_said(tw_catalogue *catalogue, int64_t since_us)
{
    bool found = false;
    (void)tw_catalogue_log(catalogue, NULL, since_us, 0, is_word, &found, NULL);
    return found;
}

static tw_catalogue *open_catalogue(const tw_station *s)
{
    char path[PATH_BYTES];
    tw_catalogue *catalogue = NULL;
    const tw_card *card = s->platform.card;
    const char *folder = card->ops->folder(card->ctx);
    if (folder &&
        snprintf(path, sizeof path, "%s/" TWI_CATALOGUE_FILE, folder) < PATH_BYTES)
        (void)tw_catalogue_open(path, false, &catalogue, NULL);
    return catalogue;
}

/* Whether a time of the local day, a minute of it, has come and was not seen to yet.
 * @param done_day  The day when it was last; set to today.
 * @param due_us    Set to the wall time that it was today. */
static bool is_due(const tw_station *s, int64_t minute, int64_t *done_day,
                   int64_t *due_us)
{
    const tw_clock *clock = &s->platform.clock;
    const int64_t wall_us = twi_station_wall(s);
    const int64_t local_us =
        wall_us + clock->ops->offset_s(clock->ctx, wall_us) * SECOND_US;
    const int64_t day = local_us / DAY_US;
    *due_us = wall_us - local_us % DAY_US + minute * 60 * SECOND_US;
    if (minute < 0 || wall_us < *due_us || !clock->ops->trusted(clock->ctx, wall_us) ||
        twi_station_now(s) - s->daily.began_us < SETTLED_US || *done_day == day)
        return false;
    *done_day = day;
    return true;
}

static void watch_day(tw_station *s)
{
    int64_t due_us = 0;
    if (!is_due(s, s->settings.daily_word, &s->daily.said_day, &due_us))
        return;
    tw_catalogue *catalogue = open_catalogue(s);
    if (!catalogue || !was_said(catalogue, due_us))
        say_word(s, catalogue);
    tw_catalogue_close(catalogue);
}

static void watch_reel(tw_station *s)
{
    int64_t due_us = 0;
    if (s->daily.reel && twi_daily_reel_is_done(s->daily.reel))
        twi_daily_end(s);
    if (!s->daily.reel && is_due(s, s->settings.daily_reel, &s->daily.reel_day, &due_us))
        s->daily.reel = twi_daily_reel_begin(s, due_us - DAY_US, due_us);
}

void twi_daily_end(tw_station *s)
{
    twi_daily_reel_end(s->daily.reel);
    s->daily.reel = NULL;
}

void twi_daily_tend(tw_station *s)
{
    if (s->daily.began_us == 0)
        s->daily.began_us = twi_station_now(s);
    watch_day(s);
    watch_reel(s);
}
