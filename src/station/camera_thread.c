/* One camera of a station, in a thread of its own: watched, lost, found again. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "../base/thread.h"
#include "station_state.h"
#include "why.h"
#include "../settings/sections.h"
#include "tawny/events.h"

enum {
    SILENT_US = 10000000,     /* without a frame a live camera is lost */
    STEADY_US = 30000000,     /* with frames for so long it is well again */
    AGAIN_US = 1000000,       /* first tried again after, ... */
    AGAIN_MOST_US = 60000000, /* ... and at most */
    POLL_EVERY_US = 1000000,  /* its state is worked out so often */
    NAP_US = 100000           /* between looks whether the station stops */
};

/* Orders that were for a time have had it. */
static void end_orders(camera_thread *w)
{
    tw_station *s = w->station;
    if (atomic_load(&w->orders.armed) == TWI_AS_SET)
        return;
    (void)pthread_mutex_lock(&s->lock);
    if (w->orders_until_us > 0 && twi_station_now(s) >= w->orders_until_us) {
        w->orders_until_us = 0;
        w->ordered_by[0] = '\0';
        atomic_store(&w->orders.armed, TWI_AS_SET);
    }
    (void)pthread_mutex_unlock(&s->lock);
}

/* ---- lost and found -------------------------------------------------------------- */

/* Told once, however often it is tried again, once it has been so for long. */
static void alarm_if_long(camera_thread *w, const char *why)
{
    tw_station *s = w->station;
    tw_error line = {0};
    char span[24];
    const int64_t after_us = s->settings.alarm_after_us,
                  lost_us = twi_station_now(s) - w->lost_since_us;
    if (after_us == 0 || w->alarmed || lost_us < after_us)
        return;
    w->alarmed = true;
    (void)tw_fail(&line, TW_ESTOPPED, "it has given no picture for %s: %s",
                  twi_span_words(lost_us, span), why);
    twi_station_tell(s, &(tw_event){.kind = TW_EVENT_ALARM,
                                    .camera = w->name,
                                    .wall_us = twi_station_wall(s),
                                    .status = TW_ESTOPPED,
                                    .text = line.text});
}

/* Told once, however often it is tried again. */
static void lost(camera_thread *w, tw_status st, const tw_error *why, int64_t wait_us)
{
    tw_station *s = w->station;
    const char *text = why->text[0] ? why->text : "it ended";
    const int64_t wall_us = twi_station_wall(s);
    tw_error line = {0};
    (void)pthread_mutex_lock(&s->lock);
    const bool first = w->status.lost_us == 0;
    if (first)
        w->status.lost_us = wall_us;
    w->status.open = false;
    w->status.next_us = wall_us + wait_us;
    (void)snprintf(w->status.lost_why, sizeof w->status.lost_why, "%s", text);
    (void)pthread_mutex_unlock(&s->lock);
    if (first)
        w->lost_since_us = twi_station_now(s);
    alarm_if_long(w, text);
    if (!first)
        return;
    (void)tw_fail(&line, st, "lost: %s; trying again in %.1f s, then less often", text,
                  (double)wait_us / 1e6);
    twi_station_tell(s, &(tw_event){.kind = TW_EVENT_LOST,
                                    .camera = w->name,
                                    .wall_us = wall_us,
                                    .status = st,
                                    .text = line.text});
}

/* A frame has come. */
static void found_again(camera_thread *w)
{
    tw_station *s = w->station;
    const int64_t wall_us = twi_station_wall(s);
    tw_error line = {0};
    (void)pthread_mutex_lock(&s->lock);
    const int64_t since_us = w->status.lost_us;
    w->status.lost_us = w->status.next_us = 0;
    (void)pthread_mutex_unlock(&s->lock);
    if (since_us == 0)
        return;
    (void)tw_fail(&line, TW_OK, "back after %.1f s", (double)(wall_us - since_us) / 1e6);
    if (w->alarmed) /* who was told the one is told the other */
        twi_station_tell(s, &(tw_event){.kind = TW_EVENT_ALARM,
                                        .camera = w->name,
                                        .wall_us = wall_us,
                                        .text = line.text});
    w->alarmed = false;
    twi_station_tell(s, &(tw_event){.kind = TW_EVENT_BACK,
                                    .camera = w->name,
                                    .wall_us = wall_us,
                                    .text = line.text});
}

/* ---- other settings -------------------------------------------------------------- */

static twi_queue *queue_of(tw_station *s)
{
    (void)pthread_mutex_lock(&s->lock);
    twi_queue *queue = s->queue;
    (void)pthread_mutex_unlock(&s->lock);
    return queue;
}

void twi_camera_thread_offer(camera_thread *w, twi_snapshot *next, tw_applied how)
{
    tw_station *s = w->station;
    (void)pthread_mutex_lock(&s->lock);
    atomic_store(&w->leave_by_us, twi_station_now(s) + w->snapshot->camera.longest_us);
    twi_snapshot *unread = w->offered;
    w->offered = next;
    atomic_store(&w->offered_how, how);
    (void)pthread_mutex_unlock(&s->lock);
    twi_snapshot_release(unread);
}

/* @param most  What it may take at most.
 * @return what is offered, now the caller's; NULL: nothing is, or it takes more. */
static twi_snapshot *take_offered(camera_thread *w, tw_applied most, tw_applied *how)
{
    tw_station *s = w->station;
    twi_snapshot *offered = NULL;
    (void)pthread_mutex_lock(&s->lock);
    *how = (tw_applied)atomic_load(&w->offered_how);
    if (*how <= most) {
        offered = w->offered;
        w->offered = NULL;
        atomic_store(&w->offered_how, TW_APPLIED_NOT);
    }
    (void)pthread_mutex_unlock(&s->lock);
    return offered;
}

/* It runs on other settings from now on, and so does what the writer gets after this. */
static void run_on(camera_thread *w, twi_snapshot *next)
{
    tw_station *s = w->station;
    twi_queue *queue = queue_of(s);
    twi_job job = {.kind = TWI_JOB_SETTINGS,
                   .channel = &w->channel,
                   .snapshot = twi_snapshot_keep(next)};
    (void)twi_queue_jobs(queue).give(queue, &job, true);
    (void)pthread_mutex_lock(&s->lock);
    twi_snapshot *had = w->snapshot;
    w->snapshot = next;
    (void)pthread_mutex_unlock(&s->lock);
    twi_snapshot_release(had);
}

/* Other settings hold by light and hour; the writer works by them as well. */
static void follow_light(camera_thread *w, const twi_pipeline *pipeline)
{
    const unsigned holds = twi_pipeline_holds(pipeline);
    if (holds == w->holds)
        return;
    twi_snapshot *by = twi_snapshot_when(w->snapshot, holds);
    if (!by)
        return; /* tried again with the next frame */
    w->holds = holds;
    run_on(w, by);
}

/* Between two frames. */
static void adjust(camera_thread *w, twi_pipeline *pipeline)
{
    tw_applied how;
    tw_error err = {0}, line = {0};
    twi_snapshot *next = take_offered(w, TW_APPLIED_RELEARN, &how);
    if (!next)
        return;
    if (twi_pipeline_adjust(pipeline, &next->camera, &err) == TW_OK) {
        run_on(w, next);
        w->holds = 0; /* what holds of them is another snapshot */
        return;
    }
    twi_snapshot_release(next);
    (void)tw_fail(&line, err.status, "its new settings do not hold: %s", err.text);
    twi_station_tell(w->station, &(tw_event){.kind = TW_EVENT_PROBLEM,
                                             .camera = w->name,
                                             .wall_us = twi_station_wall(w->station),
                                             .status = err.status,
                                             .text = line.text});
}

/* While the camera is closed. @return whether it is to be opened for them. */
static bool take_over(camera_thread *w)
{
    tw_applied how;
    twi_snapshot *next = take_offered(w, TW_APPLIED_START, &how);
    if (!next)
        return false;
    run_on(w, next);
    w->holds = 0;
    if (how < TW_APPLIED_REOPEN)
        return false;
    w->live = false; /* it may be another source */
    (void)pthread_mutex_lock(&w->station->lock);
    w->status.open = false;
    (void)pthread_mutex_unlock(&w->station->lock);
    twi_backoff_reset(&w->again);
    return true;
}

/* ---- watching -------------------------------------------------------------------- */

/* Whether what is to be done spoils no sighting, or has waited for one for long enough.
 */
static bool may_end(const camera_thread *w, const twi_pipeline *pipeline)
{
    return !pipeline || !twi_pipeline_in_sighting(pipeline) ||
           twi_station_now(w->station) >= atomic_load(&w->leave_by_us);
}

/* Whether its thread is to end: at once with the station. */
static bool leaves(const camera_thread *w, const twi_pipeline *pipeline)
{
    return twi_station_stopping(w->station) ||
           (atomic_load(&w->leave) && may_end(w, pipeline));
}

/* Whether it is to be opened again. */
static bool reopens(const camera_thread *w, const twi_pipeline *pipeline)
{
    return atomic_load(&w->offered_how) >= TW_APPLIED_REOPEN && may_end(w, pipeline);
}

/* A rate that does not hold is told, with who holds it up and what can be done. */
static void tell_rate(const camera_thread *w, twi_rate_news news, uint32_t wanted_milli)
{
    const double real = w->rate.milli_fps / 1e3, wanted = wanted_milli / 1e3;
    tw_error line = {0};
    if (news == TWI_RATE_NOTHING)
        return;
    if (news == TWI_RATE_HOLDS)
        (void)tw_fail(&line, TW_OK, "%.1f frames a second again", real);
    else if (news == TWI_RATE_BUSY)
        (void)tw_fail(&line, TW_EAGAIN,
                      "only %.1f of %.1f frames a second: its thread is busy %.0f %% of "
                      "the time; look at fewer (check_every = 0.2 s) or smaller ones "
                      "(size), or take what is encoded off this board (clip_video)",
                      real, wanted, w->rate.busy_ppm / 1e4);
    else
        (void)tw_fail(&line, TW_EAGAIN,
                      "only %.1f of %.1f frames a second come from the camera: in the "
                      "dark many expose for longer (see controls), and a link may be too "
                      "slow (size)",
                      real, wanted);
    twi_station_tell(w->station, &(tw_event){.kind = TW_EVENT_PROBLEM,
                                             .camera = w->name,
                                             .wall_us = twi_station_wall(w->station),
                                             .status = line.status,
                                             .text = line.text});
}

/* Time of a processor that this thread has taken. */
static int64_t busy_us(void)
{
    struct timespec t;
    (void)clock_gettime(CLOCK_THREAD_CPUTIME_ID, &t);
    return (int64_t)t.tv_sec * 1000000 + t.tv_nsec / 1000;
}

static void place(tw_camera_status *c, const twi_camera_settings *set)
{
    c->placed = set->latitude != TWI_NOWHERE && set->longitude != TWI_NOWHERE;
    c->latitude = c->placed ? set->latitude : 0;
    c->longitude = c->placed ? set->longitude : 0;
}

/* Once a second: how it fares, for whoever asks. */
static void examine(camera_thread *w, const twi_run *run, tw_liveness live)
{
    tw_station *s = w->station;
    const int64_t now_us = twi_station_now(s);
    if (now_us - w->polled_us < POLL_EVERY_US)
        return;
    w->polled_us = now_us;
    twi_health health;
    twi_pipeline_health(run->pipeline, &health);
    const twi_rate_counts counts = {run->frames, run->dropped, busy_us()};
    const twi_rate_news news = twi_rate_sample(&w->rate, now_us, &counts,
                                               live == TW_LIVE ? run->wanted_milli : 0);
    tw_camera_status *c = &w->status;
    (void)pthread_mutex_lock(&s->lock);
    c->width = health.width;
    c->height = health.height;
    c->wanted_milli = run->wanted_milli;
    c->real_milli = w->rate.milli_fps;
    c->busy_ppm = w->rate.busy_ppm;
    c->dropped = run->dropped;
    c->damaged = health.damaged;
    c->kept_bytes = health.kept_bytes;
    c->kept_raw = health.kept_raw;
    c->light_ppm = health.light_ppm;
    c->noise = health.noise;
    c->sound_level = health.sound_level;
    c->darkness = health.darkness;
    twi_conditions_word(w->snapshot->camera.conditions, health.holds, c->holds,
                        sizeof c->holds);
    place(c, &w->snapshot->camera);
    c->arming = health.arming;
    c->arming_until_us = health.arming_until_us;
    if (w->orders_until_us > 0)
        c->arming_until_us = twi_station_wall(s) + w->orders_until_us - now_us;
    memcpy(c->ordered_by, w->ordered_by, sizeof c->ordered_by);
    (void)pthread_mutex_unlock(&s->lock);
    tell_rate(w, news, run->wanted_milli);
}

/* Whether it is offered settings for which it need not be opened again. */
static bool gentle(const camera_thread *w)
{
    const int how = atomic_load(&w->offered_how);
    return how != TW_APPLIED_NOT && how < TW_APPLIED_REOPEN;
}

/* Watch until the camera ends, fails, falls silent, or is to leave, or to be opened anew.
 */
static tw_status watch_run(camera_thread *w, twi_run *run, tw_liveness live,
                           tw_error *err)
{
    tw_station *s = w->station;
    const int64_t opened_us = twi_station_now(s);
    int64_t heard_us = opened_us;
    uint64_t frames = 0;
    tw_status st = TW_OK;
    w->rate = (twi_rate){0};
    while (st == TW_OK && !leaves(w, run->pipeline) && !reopens(w, run->pipeline)) {
        end_orders(w);
        if (gentle(w))
            adjust(w, run->pipeline);
        st = twi_run_step(run, err);
        follow_light(w, run->pipeline);
        const int64_t now_us = twi_station_now(s);
        if (run->frames != frames) {
            frames = run->frames;
            heard_us = now_us;
            if (live != TW_RECORDED)
                found_again(w);
        }
        if (st == TW_OK)
            examine(w, run, live);
        if (st == TW_OK && live == TW_LIVE && now_us - heard_us >= SILENT_US)
            st = tw_fail(err, TW_ETIMEOUT, "no frame for %d s", SILENT_US / 1000000);
        if (live != TW_RECORDED && now_us - opened_us >= STEADY_US)
            twi_backoff_reset(&w->again);
    }
    return st;
}

/* Sleep in short naps, until then or until there are other settings.
 * @return false: it is to leave. */
static bool nap_until(const camera_thread *w, int64_t until_us)
{
    const tw_station *s = w->station;
    for (int64_t now = twi_station_now(s);
         now < until_us && !leaves(w, NULL) && atomic_load(&w->offered_how) == 0;
         now = twi_station_now(s))
        s->platform.clock.ops->sleep_until(
            s->platform.clock.ctx, until_us - now < NAP_US ? until_us : now + NAP_US);
    return !leaves(w, NULL);
}

/* Events of recorded footage wait for who is slow: it can wait, too. */
static void tell_of(void *ctx, const tw_event *event)
{
    camera_thread *w = ctx;
    twi_station_tell_of(w->station, event, w->recorded);
}

/* One try. @return whether the camera is to be tried again. */
static bool watch_once(camera_thread *w, tw_status *st, tw_error *err)
{
    tw_station *s = w->station;
    const twi_sink sink = {.channel = &w->channel,
                           .jobs = twi_queue_jobs(queue_of(s)),
                           .orders = &w->orders,
                           .number = w->number,
                           .numbers = &s->writer.last_number,
                           .pins = s->platform.pins};
    const twi_camera_settings *camera = &w->snapshot->camera;
    twi_run run;
    *err = (tw_error){0};
    *st = twi_run_open(&run, &s->platform, camera, camera->pace, camera->loop, &sink,
                       tell_of, w, err);
    w->opened = w->opened || *st == TW_OK;
    const tw_liveness live = run.camera.ops ? run.camera.ops->live : TW_RECORDED;
    w->live = w->live || live != TW_RECORDED;
    w->recorded = live == TW_RECORDED && !camera->pace;
    if (*st == TW_OK)
        *st = watch_run(w, &run, live, err);
    if (run.pipeline)
        w->number = twi_pipeline_number(run.pipeline);
    twi_run_close(&run);
    return live != TW_RECORDED && !leaves(w, NULL);
}

/* Watch, again and again, as long as there is a reason to. */
static void watch_on(camera_thread *w, tw_status *st, tw_error *err)
{
    for (;;) {
        const bool lost_it = watch_once(w, st, err);
        if (leaves(w, NULL))
            break;
        if (take_over(w))
            continue;
        if (!lost_it)
            break;
        const int64_t wait_us = twi_backoff_next(&w->again);
        lost(w, *st, err, wait_us);
        if (!nap_until(w, twi_station_now(w->station) + wait_us))
            break;
        (void)take_over(w);
    }
}

static void closed(camera_thread *w, tw_status st, const char *text)
{
    tw_station *s = w->station;
    atomic_store(&w->failed, st != TW_OK);
    /* First, so that whoever is told finds it so; its thread is joined after this. */
    (void)pthread_mutex_lock(&s->lock);
    w->ended = true;
    (void)pthread_cond_signal(&s->changed);
    (void)pthread_mutex_unlock(&s->lock);
    twi_station_tell(s, &(tw_event){.kind = TW_EVENT_CLOSED,
                                    .camera = w->name,
                                    .wall_us = twi_station_wall(s),
                                    .status = st,
                                    .text = st != TW_OK ? text : NULL});
}

static void *watch_camera(void *ctx)
{
    camera_thread *w = ctx;
    tw_error err = {0};
    tw_status st = TW_OK;
    watch_on(w, &st, &err);
    const bool wrong = !w->live && st != TW_OK && st != TW_EEND;
    closed(w, wrong ? st : TW_OK, err.text);
    return NULL;
}

/* ---- making ---------------------------------------------------------------------- */

/* Cameras that are lost together are not tried again together. */
static uint32_t seed_of(const char *name)
{
    uint32_t seed = 2166136261U; /* FNV-1a */
    for (; *name; name++)
        seed = (seed ^ (uint8_t)*name) * 16777619U;
    return seed;
}

camera_thread *twi_camera_thread_new(tw_station *s, twi_source *from, const char *name)
{
    camera_thread *w = calloc(1, sizeof *w);
    if (w)
        w->snapshot = twi_snapshot_new(from, name);
    if (!w || !w->snapshot) {
        free(w);
        return NULL;
    }
    w->station = s;
    (void)snprintf(w->name, sizeof w->name, "%s", name);
    w->channel.camera = &w->snapshot->camera;
    w->channel.snapshot = twi_snapshot_keep(w->snapshot);
    atomic_init(&w->channel.gone, false);
    atomic_init(&w->leave, false);
    atomic_init(&w->leave_by_us, 0);
    atomic_init(&w->offered_how, TW_APPLIED_NOT);
    atomic_init(&w->failed, false);
    atomic_init(&w->orders.armed, TWI_AS_SET);
    atomic_init(&w->orders.arms, 0);
    w->again = (twi_backoff){AGAIN_US, AGAIN_MOST_US, seed_of(name), 0};
    (void)snprintf(w->status.name, sizeof w->status.name, "%s", name);
    w->status.sound_level = TW_SOUND_UNKNOWN;
    place(&w->status, &w->snapshot->camera);
    return w;
}

void twi_camera_thread_free(camera_thread *w)
{
    if (!w)
        return;
    twi_snapshot_release(w->snapshot);
    twi_snapshot_release(w->offered);
    twi_snapshot_release(w->channel.snapshot);
    free(w);
}

void twi_camera_thread_start(camera_thread *w)
{
    twi_queue *queue = w->station->queue;
    twi_job job = {.kind = TWI_JOB_CHANNEL, .channel = &w->channel};
    if (!w->has_channel)
        (void)twi_queue_jobs(queue).give(queue, &job, true);
    w->has_channel = true;
    if (!w->snapshot->sound) {
        closed(w, TW_ESYNTAX, "its settings have mistakes, so it is not watched");
        return;
    }
    w->started = twi_thread_start(&w->thread, watch_camera, w);
    if (!w->started)
        closed(w, TW_ENOMEM, "cannot start the camera's thread");
}

bool twi_camera_thread_again(camera_thread *w)
{
    if (!take_over(w))
        return false;
    atomic_store(&w->failed, false);
    (void)pthread_mutex_lock(&w->station->lock);
    w->ended = false;
    (void)pthread_mutex_unlock(&w->station->lock);
    twi_camera_thread_start(w);
    return true;
}
