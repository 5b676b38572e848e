/* Taking new settings over while the station runs: each camera is compared with what it
 * runs on, and only those that differ are touched. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "station_state.h"

typedef struct changes {
    unsigned changed, added, dropped, kept_wrong;
} changes;

void tw_said_release(said *what)
{
    if (!what || --what->users > 0)
        return;
    if (what->owned)
        tw_settings_free(what->settings);
    free(what);
}

static watched *find(const tw_station *s, const char *name)
{
    for (size_t i = 0; i < s->count; i++)
        if (strcmp(s->cameras[i]->settings.name, name) == 0)
            return s->cameras[i];
    return NULL;
}

/* ---- ending and following -------------------------------------------------------- */

/* What it has done and was told goes on in what takes its place. */
static void inherit(watched *next, const watched *w)
{
    const tw_camera_status *from = &w->status;
    next->number = w->number;
    next->status = *from;
    next->status.open = false;
    next->status.lost_us = next->status.next_us = 0;
    next->orders_until_us = w->orders_until_us;
    atomic_store(&next->orders.armed, atomic_load(&w->orders.armed));
}

/* The writer may still have its jobs; it is freed when that has let it go. */
static void retire(tw_station *s, watched *w)
{
    tw_job job = {.kind = TW_JOB_LANE_GONE, .lane = &w->lane};
    (void)tw_queue_sink(s->queue).give(s->queue, &job, true);
    w->next = s->retired;
    s->retired = w;
}

static void free_retired(tw_station *s)
{
    for (watched **at = &s->retired; *at;) {
        watched *w = *at;
        if (!atomic_load(&w->lane.gone)) {
            at = &w->next;
            continue;
        }
        *at = w->next;
        tw_watched_free(w);
    }
}

/* Put what follows in its place, or close the gap. */
static void replace(tw_station *s, size_t index)
{
    watched *w = s->cameras[index], *next = w->next;
    w->next = NULL;
    (void)pthread_mutex_lock(&s->telling);
    if (next) {
        inherit(next, w);
        s->cameras[index] = next;
    } else {
        s->count--;
        memmove(&s->cameras[index], &s->cameras[index + 1],
                (s->count - index) * sizeof(watched *));
    }
    (void)pthread_mutex_unlock(&s->telling);
    retire(s, w);
    if (next)
        tw_watched_start(next);
}

static bool has_ended(tw_station *s, const watched *w)
{
    (void)pthread_mutex_lock(&s->telling);
    const bool ended = w->ended;
    (void)pthread_mutex_unlock(&s->telling);
    return ended;
}

bool tw_station_settle(tw_station *s)
{
    bool any = false;
    free_retired(s);
    for (size_t i = s->count; i-- > 0;) {
        watched *w = s->cameras[i];
        if (!has_ended(s, w)) {
            any = true;
            continue;
        }
        if (w->started)
            (void)pthread_join(w->thread, NULL);
        w->started = false;
        s->any_opened = s->any_opened || w->opened;
        if (!atomic_load(&w->leave) || tw_station_stopping(s))
            continue;
        any = any || w->next;
        replace(s, i);
    }
    return any;
}

/* ---- comparing ------------------------------------------------------------------- */

static void ask_to_leave(watched *w)
{
    const tw_clock *clock = &w->station->board.clock;
    if (atomic_load(&w->leave))
        return;
    w->leave_by_us = clock->ops->now_us(clock->ctx) + w->settings.longest_us;
    atomic_store(&w->leave, true);
}

static bool add(tw_station *s, watched *w)
{
    (void)pthread_mutex_lock(&s->telling);
    watched **more = realloc(s->cameras, (s->count + 1) * sizeof(watched *));
    if (more) {
        s->cameras = more;
        s->cameras[s->count++] = w;
    }
    (void)pthread_mutex_unlock(&s->telling);
    if (more)
        tw_watched_start(w);
    else
        tw_watched_free(w);
    return more != NULL;
}

static tw_status take_camera(tw_station *s, said *from, const char *name, changes *done)
{
    watched *w = find(s, name);
    const watched *newest = w && w->next ? w->next : w;
    const bool dropped = w && atomic_load(&w->leave) && !w->next;
    if (w && newest->sound && !tw_settings_sound(from->settings, name)) {
        done->kept_wrong++; /* better with its old settings than not at all */
        return TW_OK;
    }
    if (w && !dropped && !atomic_load(&w->failed) &&
        tw_settings_same(newest->said->settings, from->settings, name))
        return TW_OK;
    watched *made = tw_watched_new(s, from, name);
    if (!made)
        return TW_ENOMEM;
    if (!w) {
        done->added++;
        return add(s, made) ? TW_OK : TW_ENOMEM;
    }
    done->changed++;
    tw_watched_free(w->next);
    w->next = made;
    ask_to_leave(w);
    return TW_OK;
}

static void drop_others(tw_station *s, const said *from, changes *done)
{
    tw_camera_settings unused;
    for (size_t i = 0; i < s->count; i++) {
        watched *w = s->cameras[i];
        if (tw_settings_camera(from->settings, w->settings.name, &unused) == TW_OK ||
            (atomic_load(&w->leave) && !w->next))
            continue;
        tw_watched_free(w->next);
        w->next = NULL;
        ask_to_leave(w);
        done->dropped++;
    }
}

static void say(tw_station *s, tw_status st, const char *text)
{
    tw_station_tell(
        s, &(tw_event){.kind = st == TW_OK ? TW_EVENT_RELOADED : TW_EVENT_PROBLEM,
                       .wall_us = s->board.clock.ops->wall_us(s->board.clock.ctx),
                       .status = st,
                       .text = text});
}

static void say_changes(tw_station *s, const changes *done)
{
    char text[200], wrong[100] = "";
    if (done->kept_wrong > 0)
        (void)snprintf(wrong, sizeof wrong,
                       "; cameras with mistakes, which keep their old settings: %u",
                       done->kept_wrong);
    if (done->changed + done->added + done->dropped == 0)
        (void)snprintf(text, sizeof text, "settings read again: no camera differs%s",
                       wrong);
    else
        (void)snprintf(text, sizeof text,
                       "settings read again: cameras changed %u, new %u, dropped %u%s",
                       done->changed, done->added, done->dropped, wrong);
    say(s, TW_OK, text);
}

void tw_station_adopt(tw_station *s, tw_settings *settings)
{
    changes done = {0};
    tw_status st = TW_OK;
    said *from = malloc(sizeof *from);
    if (!from) {
        tw_settings_free(settings);
        say(s, TW_ENOMEM, "out of memory: the old settings hold");
        return;
    }
    *from = (said){settings, true, 1};
    if (!tw_settings_same(s->said->settings, settings, NULL))
        say(s, TW_EAGAIN, "what has changed in [station] holds from the next start on");
    for (size_t i = 0; st == TW_OK && tw_settings_camera_name(settings, i); i++)
        st = take_camera(s, from, tw_settings_camera_name(settings, i), &done);
    if (st == TW_OK)
        drop_others(s, from, &done);
    if (st == TW_OK)
        say_changes(s, &done);
    else
        say(s, st, "out of memory: not all of the new settings hold");
    tw_said_release(s->said);
    s->said = from;
}
