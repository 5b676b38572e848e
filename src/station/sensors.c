/* Sensors: numbers that files and programs give, read now and then. */
#include "sensors.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../base/thread.h"
#include "../core/limits.h"
#include "sense.h"
#include "station_state.h"
#include "waits.h"
#include "why.h"

typedef struct sensor {
    twi_sensor_settings set;
    twi_limits limits;
    int64_t due_us, failing_us; /* by the clock; failing_us 0: it gives a number */
    bool alarmed;               /* that it gives none */
    tw_sensor_status status;    /* under the lock */
} sensor;

struct twi_sensors {
    tw_station *station;
    twi_snapshot *held; /* so that the texts of the settings stay */
    sensor *all;
    size_t count;
    pthread_t thread;
    bool started;
    pthread_mutex_t lock; /* of each status, and of: */
    pthread_cond_t woken;
    bool ending;
};

/* ---- telling ---------------------------------------------------------------------- */

static int64_t now_of(const twi_sensors *o)
{
    return twi_station_now(o->station);
}

static int64_t wall_of(const twi_sensors *o)
{
    return twi_station_wall(o->station);
}

static void tell(const twi_sensors *o, tw_event_kind kind, const tw_error *line)
{
    twi_station_tell(o->station, &(tw_event){.kind = kind,
                                             .wall_us = wall_of(o),
                                             .status = line->status,
                                             .text = line->text});
}

static bool has_alarms(const twi_sensors *o)
{
    return o->station->settings.alarm_after_us > 0;
}

static void tell_limit(const twi_sensors *o, const sensor *s, twi_limits_news news,
                       int64_t value)
{
    char is[64], limit[64];
    tw_error line = {0};
    const bool above = value > s->limits.above;
    if (news == TWI_LIMITS_BEYOND)
        (void)tw_fail(&line, TW_EAGAIN, "%s is at %s, %s %s", s->set.name,
                      twi_sensor_words(value, s->set.unit, is), above ? "above" : "below",
                      twi_sensor_words(above ? s->limits.above : s->limits.below,
                                       s->set.unit, limit));
    else
        (void)tw_fail(&line, TW_OK, "%s is within its limits again: %s", s->set.name,
                      twi_sensor_words(value, s->set.unit, is));
    tell(o, TW_EVENT_ALARM, &line);
}

/* ---- what a reading means ---------------------------------------------------------- */

/* Told once, and once more when it has been so for long. */
static void failed(twi_sensors *o, sensor *s, const tw_error *why)
{
    const int64_t after_us = o->station->settings.alarm_after_us;
    tw_error line = {0};
    char span[24];
    (void)pthread_mutex_lock(&o->lock);
    s->status.known = false;
    (void)snprintf(s->status.why, sizeof s->status.why, "%s", why->text);
    (void)pthread_mutex_unlock(&o->lock);
    if (s->failing_us == 0) {
        s->failing_us = now_of(o);
        (void)tw_fail(&line, why->status, "sensor %s: %s", s->set.name, why->text);
        tell(o, TW_EVENT_PROBLEM, &line);
    }
    const int64_t for_us = now_of(o) - s->failing_us;
    if (after_us == 0 || s->alarmed || for_us < after_us)
        return;
    s->alarmed = true;
    (void)tw_fail(&line, why->status, "sensor %s has given no number for %s: %s",
                  s->set.name, twi_span_words(for_us, span), why->text);
    tell(o, TW_EVENT_ALARM, &line);
}

static void works_again(twi_sensors *o, sensor *s)
{
    tw_error line = {0};
    if (s->alarmed) {
        (void)tw_fail(&line, TW_OK, "sensor %s gives a number again", s->set.name);
        tell(o, TW_EVENT_ALARM, &line);
    }
    s->alarmed = false;
    s->failing_us = 0;
}

static void give_value(const twi_sensors *o, const sensor *s, int64_t value)
{
    twi_sensed sensed = {.value = value, .keep_us = s->set.keep_us};
    (void)snprintf(sensed.name, sizeof sensed.name, "%s", s->set.name);
    twi_station_give(o->station, &(twi_job){.kind = TWI_JOB_SENSED,
                                            .buffer = twi_buffer_copy(
                                                (const uint8_t *)&sensed, sizeof sensed),
                                            .packet = {.wall_us = wall_of(o)}});
}

static void take(twi_sensors *o, sensor *s, int64_t value)
{
    works_again(o, s);
    const twi_limits_news news = twi_limits_judge(&s->limits, value);
    (void)pthread_mutex_lock(&o->lock);
    s->status.known = true;
    s->status.value = value;
    s->status.at_us = wall_of(o);
    s->status.beyond = s->limits.beyond;
    s->status.why[0] = '\0';
    (void)pthread_mutex_unlock(&o->lock);
    give_value(o, s, value);
    if (news != TWI_LIMITS_SAME && has_alarms(o))
        tell_limit(o, s, news, value);
}

static void read_one(twi_sensors *o, sensor *s)
{
    tw_error err = {0};
    int64_t value = 0;
    if (twi_sensor_read(o->station->platform.sensors, &s->set, &value, &err) == TW_OK)
        take(o, s, value);
    else
        failed(o, s, &err);
    s->due_us = now_of(o) + s->set.every_us;
}

/* ---- the thread -------------------------------------------------------------------- */

static sensor *next_of(const twi_sensors *o)
{
    sensor *next = &o->all[0];
    for (size_t i = 1; i < o->count; i++)
        if (o->all[i].due_us < next->due_us)
            next = &o->all[i];
    return next;
}

/* @return false: it ends. */
static bool wait_for(twi_sensors *o, const sensor *s)
{
    int waited = 0;
    (void)pthread_mutex_lock(&o->lock);
    const int64_t span_us = s->due_us - now_of(o);
    const struct timespec until =
        twi_deadline_by(&o->station->platform.clock, span_us > 0 ? span_us : 0);
    while (!o->ending && span_us > 0 && waited == 0)
        waited = pthread_cond_timedwait(&o->woken, &o->lock, &until);
    const bool goes_on = !o->ending;
    (void)pthread_mutex_unlock(&o->lock);
    return goes_on;
}

static void *work(void *ctx)
{
    twi_sensors *o = ctx;
    sensor *next = next_of(o);
    while (wait_for(o, next)) {
        if (now_of(o) >= next->due_us)
            read_one(o, next);
        next = next_of(o);
    }
    return NULL;
}

/* ---- making ----------------------------------------------------------------------- */

static void set_up(twi_sensors *o, const tw_settings *settings)
{
    for (size_t i = 0; i < o->count; i++) {
        sensor *s = &o->all[i];
        (void)twi_settings_sensor(settings, twi_settings_sensor_name(settings, i),
                                  &s->set);
        s->limits.above = s->set.above == TWI_NO_NUMBER ? INT64_MAX : s->set.above;
        s->limits.below = s->set.below == TWI_NO_NUMBER ? INT64_MIN : s->set.below;
        (void)snprintf(s->status.name, sizeof s->status.name, "%s", s->set.name);
        (void)snprintf(s->status.unit, sizeof s->status.unit, "%s", s->set.unit);
    }
}

tw_status twi_sensors_new(tw_station *station, twi_source *from, twi_sensors **out)
{
    const tw_settings *settings = twi_source_settings(from);
    size_t count = 0;
    *out = NULL;
    while (twi_settings_sensor_name(settings, count))
        count++;
    if (count == 0)
        return TW_OK;
    twi_sensors *o = calloc(1, sizeof *o);
    if (!o)
        return TW_ENOMEM;
    o->station = station;
    o->held = twi_snapshot_new(from, NULL);
    (void)pthread_mutex_init(&o->lock, NULL);
    twi_cond_init(&o->woken);
    o->all = calloc(count, sizeof *o->all);
    o->count = o->all ? count : 0;
    set_up(o, settings);
    o->started = o->all && o->held && twi_thread_start(&o->thread, work, o);
    if (o->started) {
        *out = o;
        return TW_OK;
    }
    twi_sensors_free(o);
    return TW_ENOMEM;
}

tw_status twi_sensors_status(twi_sensors *o, size_t index, tw_sensor_status *out)
{
    if (!o || index >= o->count)
        return TW_ENOENT;
    (void)pthread_mutex_lock(&o->lock);
    *out = o->all[index].status;
    (void)pthread_mutex_unlock(&o->lock);
    return TW_OK;
}

void twi_sensors_free(twi_sensors *o)
{
    if (!o)
        return;
    (void)pthread_mutex_lock(&o->lock);
    o->ending = true;
    (void)pthread_cond_signal(&o->woken);
    (void)pthread_mutex_unlock(&o->lock);
    if (o->started)
        (void)pthread_join(o->thread, NULL);
    (void)pthread_cond_destroy(&o->woken);
    (void)pthread_mutex_destroy(&o->lock);
    twi_snapshot_release(o->held);
    free(o->all);
    free(o);
}

void twi_station_sense(tw_station *s, twi_source *from)
{
    twi_sensors *made = NULL;
    (void)pthread_mutex_lock(&s->lock);
    twi_sensors *old = s->sensors;
    s->sensors = NULL;
    (void)pthread_mutex_unlock(&s->lock);
    twi_sensors_free(old);
    if (from && twi_sensors_new(s, from, &made) != TW_OK)
        twi_station_tell(s, &(tw_event){.kind = TW_EVENT_PROBLEM,
                                        .status = TW_ENOMEM,
                                        .text = "out of memory: no sensor is read"});
    (void)pthread_mutex_lock(&s->lock);
    s->sensors = made;
    (void)pthread_mutex_unlock(&s->lock);
}
