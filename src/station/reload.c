/* Taking new settings over while the station runs: each camera is compared with what it
 * runs on, and does what the difference takes. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "station_state.h"
#include "../settings/sections.h"
#include "tawny/events.h"
#include "tawny/settings.h"

typedef struct changes {
    unsigned live, reopened, added, dropped, kept_wrong;
} changes;

static camera_thread *find(const tw_station *s, const char *name)
{
    for (size_t i = 0; i < s->count; i++)
        if (strcmp(s->cameras[i]->name, name) == 0)
            return s->cameras[i];
    return NULL;
}

/* ---- ending ---------------------------------------------------------------------- */

/* The writer may still have its jobs; it is freed when that has let it go. */
static void retire(tw_station *s, camera_thread *w)
{
    twi_job job = {.kind = TWI_JOB_CHANNEL_GONE, .channel = &w->channel};
    (void)twi_queue_jobs(s->queue).give(s->queue, &job, true);
    w->next = s->retired;
    s->retired = w;
}

static void free_retired(tw_station *s)
{
    for (camera_thread **at = &s->retired; *at;) {
        camera_thread *w = *at;
        if (!atomic_load(&w->channel.gone)) {
            at = &w->next;
            continue;
        }
        *at = w->next;
        twi_camera_thread_free(w);
    }
}

/* Close the gap that one leaves. */
static void drop(tw_station *s, size_t index)
{
    camera_thread *w = s->cameras[index];
    (void)pthread_mutex_lock(&s->lock);
    s->count--;
    memmove(&s->cameras[index], &s->cameras[index + 1],
            (s->count - index) * sizeof(camera_thread *));
    (void)pthread_mutex_unlock(&s->lock);
    retire(s, w);
}

static bool has_ended(tw_station *s, const camera_thread *w)
{
    (void)pthread_mutex_lock(&s->lock);
    const bool ended = w->ended;
    (void)pthread_mutex_unlock(&s->lock);
    return ended;
}

bool twi_station_settle(tw_station *s)
{
    bool any = false;
    free_retired(s);
    for (size_t i = s->count; i-- > 0;) {
        camera_thread *w = s->cameras[i];
        if (!has_ended(s, w)) {
            any = true;
            continue;
        }
        if (w->started)
            (void)pthread_join(w->thread, NULL);
        w->started = false;
        s->any_opened = s->any_opened || w->opened;
        if (twi_station_stopping(s))
            continue;
        if (atomic_load(&w->leave))
            drop(s, i);
        else
            any = twi_camera_thread_again(w) || any;
    }
    return any;
}

/* ---- comparing ------------------------------------------------------------------- */

static bool add(tw_station *s, camera_thread *w)
{
    (void)pthread_mutex_lock(&s->lock);
    camera_thread **more = realloc(s->cameras, (s->count + 1) * sizeof(camera_thread *));
    if (more) {
        s->cameras = more;
        s->cameras[s->count++] = w;
    }
    (void)pthread_mutex_unlock(&s->lock);
    if (more)
        twi_camera_thread_start(w);
    else
        twi_camera_thread_free(w);
    return more != NULL;
}

/* How new settings stand to those a camera has. */
typedef struct standing {
    tw_applied since_offered; /* what the user has changed since the last time */
    tw_applied since_taken;   /* what the camera must do, from what it runs on */
    bool was_sound;           /* of the newest that it has */
} standing;

/* What was offered may not have been taken yet: a sighting runs, or a frame. Nobody else
 * offers it anything. */
static standing compare(camera_thread *w, const twi_source *from)
{
    tw_station *s = w->station;
    tw_settings *given = twi_source_settings(from);
    (void)pthread_mutex_lock(&s->lock);
    const twi_snapshot *taken = w->snapshot, *newest = w->offered ? w->offered : taken;
    const standing to = {
        .since_offered =
            twi_settings_difference(twi_source_settings(newest->source), given, w->name),
        .since_taken =
            twi_settings_difference(twi_source_settings(taken->source), given, w->name),
        .was_sound = newest->sound,
    };
    (void)pthread_mutex_unlock(&s->lock);
    return to;
}

static tw_status add_camera(tw_station *s, twi_source *from, const char *name,
                            changes *done)
{
    camera_thread *made = twi_camera_thread_new(s, from, name);
    done->added++;
    return made && add(s, made) ? TW_OK : TW_ENOMEM;
}

static tw_status take_camera(tw_station *s, twi_source *from, const char *name,
                             changes *done)
{
    camera_thread *w = find(s, name);
    if (!w)
        return add_camera(s, from, name, done);
    standing to = compare(w, from);
    if (to.was_sound && !twi_settings_sound(twi_source_settings(from), name)) {
        done->kept_wrong++; /* better with its old settings than not at all */
        return TW_OK;
    }
    if (atomic_exchange(&w->leave, false) || atomic_load(&w->failed) || !to.was_sound)
        to = (standing){TW_APPLIED_REOPEN, TW_APPLIED_REOPEN, false}; /* begins anew */
    done->reopened += to.since_offered >= TW_APPLIED_REOPEN;
    done->live +=
        to.since_offered > TW_APPLIED_NOT && to.since_offered < TW_APPLIED_REOPEN;
    if (to.since_taken == TW_APPLIED_NOT) {
        twi_camera_thread_offer(w, NULL,
                                TW_APPLIED_NOT); /* nor what was offered before */
        return TW_OK;
    }
    twi_snapshot *next = twi_snapshot_new(from, name);
    if (!next)
        return TW_ENOMEM;
    twi_camera_thread_offer(w, next, to.since_taken);
    return TW_OK;
}

static void drop_others(tw_station *s, const twi_source *from, changes *done)
{
    twi_camera_settings unused;
    for (size_t i = 0; i < s->count; i++) {
        camera_thread *w = s->cameras[i];
        if (twi_settings_camera(twi_source_settings(from), w->name, &unused) == TW_OK ||
            atomic_load(&w->leave))
            continue;
        twi_camera_thread_offer(w, NULL, TW_APPLIED_NOT);
        atomic_store(&w->leave, true);
        done->dropped++;
    }
}

/* What concerns the store holds with the next file. */
static tw_status take_station(tw_station *s, twi_source *from, tw_error *err)
{
    twi_snapshot *next = twi_snapshot_new(from, NULL);
    if (!next)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    const tw_status st = twi_store_check_names(next->station.names, err);
    if (st != TW_OK) {
        twi_snapshot_release(next);
        return st;
    }
    s->settings.daily_word = next->station.daily_word;
    s->settings.daily_reel = next->station.daily_reel;
    s->settings.keep_free = next->station.keep_free;
    s->settings.goes_first = next->station.goes_first;
    twi_queue_limit(s->queue, (size_t)next->station.queue_bytes);
    twi_job job = {.kind = TWI_JOB_SETTINGS, .snapshot = next};
    (void)twi_queue_jobs(s->queue).give(s->queue, &job, true);
    return TW_OK;
}

static void say(tw_station *s, tw_status st, const char *text)
{
    twi_station_tell(
        s, &(tw_event){.kind = TW_EVENT_PROBLEM,
                       .wall_us = s->platform.clock.ops->wall_us(s->platform.clock.ctx),
                       .status = st,
                       .text = text});
}

/* "settings read again: cameras changed 2, opened again 1, new 1" */
static void say_changes(tw_station *s, const twi_source *from, const changes *done)
{
    const struct {
        const char *what;
        unsigned count;
    } parts[] = {{"changed", done->live},
                 {"opened again", done->reopened},
                 {"new", done->added},
                 {"dropped", done->dropped}};
    char text[256];
    size_t n = (size_t)snprintf(text, sizeof text, "settings read again: ");
    bool any = false;
    for (size_t i = 0; i < sizeof parts / sizeof *parts; i++) {
        if (parts[i].count == 0)
            continue;
        n += (size_t)snprintf(text + n, sizeof text - n, "%s%s %u",
                              any ? ", " : "cameras ", parts[i].what, parts[i].count);
        any = true;
    }
    if (!any)
        n += (size_t)snprintf(text + n, sizeof text - n, "no camera differs");
    if (done->kept_wrong > 0)
        (void)snprintf(text + n, sizeof text - n,
                       "; cameras with mistakes, which keep their old settings: %u",
                       done->kept_wrong);
    twi_station_tell(
        s, &(tw_event){.kind = TW_EVENT_RELOADED,
                       .wall_us = s->platform.clock.ops->wall_us(s->platform.clock.ctx),
                       .settings = twi_source_settings(from),
                       .text = text});
}

static void adopt_station(tw_station *s, twi_source *from)
{
    tw_error err = {0};
    const tw_applied how = twi_settings_difference(twi_source_settings(s->source),
                                                   twi_source_settings(from), NULL);
    if (how == TW_APPLIED_START)
        say(s, TW_EAGAIN,
            "some of what has changed in [station] holds from the next start on");
    if (how != TW_APPLIED_NOT && take_station(s, from, &err) != TW_OK)
        say(s, err.status, err.text);
}

void twi_station_adopt(tw_station *s, tw_settings *settings)
{
    changes done = {0};
    tw_status st = TW_OK;
    twi_source *from = twi_source_new(settings, true);
    if (!from) {
        tw_settings_free(settings);
        say(s, TW_ENOMEM, "out of memory: the old settings hold");
        return;
    }
    adopt_station(s, from);
    for (size_t i = 0; st == TW_OK && tw_settings_camera_name(settings, i); i++)
        st = take_camera(s, from, tw_settings_camera_name(settings, i), &done);
    if (st == TW_OK)
        drop_others(s, from, &done);
    if (st == TW_OK)
        say_changes(s, from, &done);
    else
        say(s, st, "out of memory: not all of the new settings hold");
    if (!twi_settings_same_sensors(twi_source_settings(s->source), settings))
        twi_station_sense(s, from);
    twi_source_release(s->source);
    s->source = from;
}
