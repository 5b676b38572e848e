/* The station: a thread for each camera, one that writes. */
#include "tawny/station.h"

#include <pthread.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "pipeline.h"
#include "queue.h"
#include "tawny/backoff.h"
#include "upkeep.h"

typedef struct watched {
    tw_station *station;
    tw_camera_settings settings;
    tw_lane lane;
    pthread_t thread;
    bool started;
    bool opened;     /* it has delivered; written by its thread, read after the join */
    bool live;       /* its thread's own, as all down to here */
    uint32_t number; /* of its last sighting */
    tw_backoff again;
    tw_camera_status status; /* under telling's lock */
    tw_orders orders;
    int64_t orders_until_us; /* by the clock; 0: for good. Under telling's lock */
} watched;

struct tw_station {
    tw_board board;
    tw_station_settings settings;
    tw_writer writer;
    tw_queue *queue; /* under telling's lock */
    watched *cameras;
    tw_lane **lanes; /* theirs, for the writer */
    size_t count;
    volatile int stop; /* only ever set to 1: also from signal handlers */
    tw_event_fn told;
    void *ctx;
    uint32_t dropped, problems; /* under telling's lock */
    pthread_mutex_t telling;    /* events come one at a time */
};

/* What belongs into the catalogue beside sightings; NULL: nothing. */
static const char *word_happening(const tw_event *event)
{
    switch (event->kind) {
    case TW_EVENT_OPENED: return "opened";
    case TW_EVENT_CLOSED: return "closed";
    case TW_EVENT_FREED: return "freed";
    case TW_EVENT_PROBLEM: return "problem";
    case TW_EVENT_LOST: return "lost";
    case TW_EVENT_BACK: return "back";
    default: return NULL;
    }
}

/* The camera of an event, NULL: it concerns the station. */
static watched *camera_of(const tw_station *s, const char *camera)
{
    for (size_t i = 0; camera && i < s->count; i++)
        if (s->cameras[i].settings.name &&
            strcmp(s->cameras[i].settings.name, camera) == 0)
            return &s->cameras[i];
    return NULL;
}

static void count_reading(tw_camera_status *c, const tw_event *event)
{
    c->open = true;
    c->frames++;
    c->state = event->state;
    c->activity_ppm = event->reading->activity_ppm;
    c->lost_frames = event->lost_frames;
}

static void count_camera(tw_camera_status *c, const tw_event *event)
{
    switch (event->kind) {
    case TW_EVENT_OPENED: c->open = true; break;
    case TW_EVENT_READING: count_reading(c, event); break;
    case TW_EVENT_BEGAN:
        c->sightings++;
        c->last_us = event->wall_us;
        break;
    case TW_EVENT_STORED:
        c->stored++;
        c->stored_bytes += event->bytes;
        break;
    case TW_EVENT_PROBLEM:
        c->problems++;
        c->not_stored += event->lost;
        break;
    case TW_EVENT_CLOSED: c->open = false; break;
    case TW_EVENT_ENDED:
    case TW_EVENT_LOST:
    case TW_EVENT_BACK:
    case TW_EVENT_FREED: break;
    }
}

/* For tw_station_camera and tw_station_store; under the lock. */
static void count(tw_station *s, const tw_event *event)
{
    watched *w = camera_of(s, event->camera);
    if (w)
        count_camera(&w->status, event);
    s->dropped += event->kind == TW_EVENT_FREED;
    s->problems += event->kind == TW_EVENT_PROBLEM && !w;
}

static tw_queue *queue_of(tw_station *s)
{
    (void)pthread_mutex_lock(&s->telling);
    tw_queue *queue = s->queue;
    (void)pthread_mutex_unlock(&s->telling);
    return queue;
}

static void set_queue(tw_station *s, tw_queue *queue)
{
    (void)pthread_mutex_lock(&s->telling);
    s->queue = queue;
    (void)pthread_mutex_unlock(&s->telling);
}

static void note_happening(tw_station *s, const char *what, const tw_event *event)
{
    const char *text = event->text ? event->text : "";
    watched *camera = camera_of(s, event->camera);
    tw_job job = {.kind = TW_JOB_HAPPENED,
                  .happened = what,
                  .lane = camera ? &camera->lane : NULL,
                  .parcel = tw_parcel_copy((const uint8_t *)text, strlen(text) + 1)};
    job.packet.wall_us = s->board.clock.ops->wall_us(s->board.clock.ctx);
    if (!job.parcel)
        return;
    tw_queue *queue = queue_of(s);
    if (!queue) /* the writer's thread is not there yet, or this is it, at its end */
        tw_writer_do(&s->writer, &job);
    else if (!tw_queue_sink(queue).give(queue, &job, false))
        tw_parcel_release(job.parcel);
}

static void tell(void *ctx, const tw_event *event)
{
    tw_station *s = ctx;
    const char *what = word_happening(event);
    if (what && s->writer.catalogue)
        note_happening(s, what, event);
    (void)pthread_mutex_lock(&s->telling);
    count(s, event);
    if (s->told)
        s->told(s->ctx, event);
    (void)pthread_mutex_unlock(&s->telling);
}

static bool stopping(const tw_station *s)
{
    return __atomic_load_n(&s->stop, __ATOMIC_RELAXED) != 0;
}

/* Orders that were for a time have had it. */
static void end_orders(watched *w)
{
    tw_station *s = w->station;
    if (atomic_load(&w->orders.armed) == TW_AS_SET)
        return;
    (void)pthread_mutex_lock(&s->telling);
    if (w->orders_until_us > 0 &&
        s->board.clock.ops->now_us(s->board.clock.ctx) >= w->orders_until_us) {
        w->orders_until_us = 0;
        atomic_store(&w->orders.armed, TW_AS_SET);
    }
    (void)pthread_mutex_unlock(&s->telling);
}

/* ---- lost and found -------------------------------------------------------------- */

/* Told once, however often it is tried again. */
static void lost(watched *w, tw_status st, const tw_error *why, int64_t wait_us)
{
    tw_station *s = w->station;
    const char *text = why->text[0] ? why->text : "it ended";
    const int64_t wall_us = s->board.clock.ops->wall_us(s->board.clock.ctx);
    tw_error line = {0};
    (void)pthread_mutex_lock(&s->telling);
    const bool first = w->status.lost_us == 0;
    if (first)
        w->status.lost_us = wall_us;
    w->status.open = false;
    w->status.next_us = wall_us + wait_us;
    (void)snprintf(w->status.lost_why, sizeof w->status.lost_why, "%s", text);
    (void)pthread_mutex_unlock(&s->telling);
    if (!first)
        return;
    (void)tw_fail(&line, st, "lost: %s; trying again in %.1f s, then less often", text,
                  (double)wait_us / 1e6);
    tell(s, &(tw_event){.kind = TW_EVENT_LOST,
                        .camera = w->settings.name,
                        .wall_us = wall_us,
                        .status = st,
                        .text = line.text});
}

/* A frame has come. */
static void found_again(watched *w)
{
    tw_station *s = w->station;
    const int64_t wall_us = s->board.clock.ops->wall_us(s->board.clock.ctx);
    tw_error line = {0};
    (void)pthread_mutex_lock(&s->telling);
    const int64_t since_us = w->status.lost_us;
    w->status.lost_us = w->status.next_us = 0;
    (void)pthread_mutex_unlock(&s->telling);
    if (since_us == 0)
        return;
    (void)tw_fail(&line, TW_OK, "back after %.1f s", (double)(wall_us - since_us) / 1e6);
    tell(s, &(tw_event){.kind = TW_EVENT_BACK,
                        .camera = w->settings.name,
                        .wall_us = wall_us,
                        .text = line.text});
}

/* ---- one camera ------------------------------------------------------------------ */

enum {
    SILENT_US = 10000000,     /* without a frame a live camera is lost */
    STEADY_US = 30000000,     /* with frames for so long it is well again */
    AGAIN_US = 1000000,       /* first tried again after, ... */
    AGAIN_MOST_US = 60000000, /* ... and at most */
    NAP_US = 100000           /* between looks whether the station stops */
};

static int64_t now_of(const tw_station *s)
{
    return s->board.clock.ops->now_us(s->board.clock.ctx);
}

static int64_t wall_of(const tw_station *s)
{
    return s->board.clock.ops->wall_us(s->board.clock.ctx);
}

/* Watch until the camera ends, fails, falls silent, or the station stops. */
static tw_status watch_run(watched *w, tw_run *run, tw_liveness live, tw_error *err)
{
    tw_station *s = w->station;
    const int64_t opened_us = now_of(s);
    int64_t heard_us = opened_us;
    uint64_t frames = 0;
    tw_status st = TW_OK;
    while (st == TW_OK && !stopping(s)) {
        end_orders(w);
        st = tw_run_step(run, err);
        if (live == TW_RECORDED)
            continue;
        const int64_t now_us = now_of(s);
        if (run->frames != frames) {
            frames = run->frames;
            heard_us = now_us;
            found_again(w);
        }
        if (st == TW_OK && live == TW_LIVE && now_us - heard_us >= SILENT_US)
            st = tw_fail(err, TW_ETIMEOUT, "no frame for %d s", SILENT_US / 1000000);
        if (now_us - opened_us >= STEADY_US)
            tw_backoff_reset(&w->again);
    }
    return st;
}

/* Sleep in short naps. @return false: the station stops. */
static bool nap_until(const tw_station *s, int64_t until_us)
{
    for (int64_t now = now_of(s); now < until_us && !stopping(s); now = now_of(s))
        s->board.clock.ops->sleep_until(
            s->board.clock.ctx, until_us - now < NAP_US ? until_us : now + NAP_US);
    return !stopping(s);
}

/* One try. @return whether the camera is to be tried again. */
static bool watch_once(watched *w, tw_status *st, tw_error *err)
{
    tw_station *s = w->station;
    const tw_keep keep = {&w->lane, tw_queue_sink(queue_of(s)), &w->orders, w->number};
    tw_run run;
    *err = (tw_error){0};
    *st = tw_run_open(&run, &s->board, &w->settings, w->settings.pace, w->settings.loop,
                      &keep, tell, s, err);
    w->opened = w->opened || *st == TW_OK;
    const tw_liveness live = run.camera.ops ? run.camera.ops->live : TW_RECORDED;
    w->live = w->live || live != TW_RECORDED;
    if (*st == TW_OK)
        *st = watch_run(w, &run, live, err);
    if (run.pipeline)
        w->number = tw_pipeline_number(run.pipeline);
    tw_run_close(&run);
    return live != TW_RECORDED && !stopping(s);
}

static void *watch_camera(void *ctx)
{
    watched *w = ctx;
    tw_station *s = w->station;
    tw_error err = {0};
    tw_status st = TW_OK;
    while (watch_once(w, &st, &err)) {
        const int64_t wait_us = tw_backoff_next(&w->again);
        lost(w, st, &err, wait_us);
        if (!nap_until(s, now_of(s) + wait_us))
            break;
    }
    const bool wrong = !w->live && st != TW_OK && st != TW_EEND;
    const tw_event event = {.kind = TW_EVENT_CLOSED,
                            .camera = w->settings.name,
                            .wall_us = wall_of(s),
                            .status = wrong ? st : TW_OK,
                            .text = wrong ? err.text : NULL};
    tell(s, &event);
    return NULL;
}

tw_status tw_station_new(const tw_board *board, tw_settings *settings, tw_event_fn told,
                         void *ctx, tw_station **out, tw_error *err)
{
    if (!board || !board->card || !board->makers || !settings || !out)
        return tw_fail(err, TW_EINVAL, "no board");
    const size_t count = tw_settings_camera_count(settings);
    if (count == 0)
        return tw_fail(err, TW_ENOENT,
                       "there is no camera: write a [camera NAME] section with a source");
    tw_station *s = calloc(1, sizeof *s);
    if (s) {
        s->cameras = calloc(count, sizeof *s->cameras);
        s->lanes = calloc(count, sizeof *s->lanes);
    }
    if (!s || !s->cameras || !s->lanes) {
        if (s) {
            free(s->cameras);
            free(s->lanes);
        }
        free(s);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    s->board = *board;
    s->count = count;
    s->told = told;
    s->ctx = ctx;
    tw_settings_station(settings, &s->settings);
    s->writer = (tw_writer){.clock = board->clock,
                            .told = tell,
                            .ctx = s,
                            .lanes = s->lanes,
                            .lane_count = count};
    (void)pthread_mutex_init(&s->telling, NULL);
    tw_status st = tw_writer_open(&s->writer, board->card, &s->settings, err);
    if (st == TW_OK)
        tw_upkeep_mend(&s->writer);
    for (size_t i = 0; i < count && st == TW_OK; i++) {
        watched *w = &s->cameras[i];
        w->station = s;
        st = tw_settings_camera(settings, tw_settings_camera_name(settings, i),
                                &w->settings);
        w->lane.camera = &w->settings;
        atomic_init(&w->orders.armed, TW_AS_SET);
        w->again = (tw_backoff){AGAIN_US, AGAIN_MOST_US, (uint32_t)(i * 2654435761U), 0};
        (void)snprintf(w->status.name, sizeof w->status.name, "%s",
                       w->settings.name ? w->settings.name : "");
        s->lanes[i] = &w->lane;
        if (st != TW_OK)
            (void)tw_fail(err, st, "out of memory");
    }
    if (st == TW_OK)
        *out = s;
    else
        tw_station_free(s);
    return st;
}

void tw_station_free(tw_station *s)
{
    if (!s)
        return;
    tw_writer_close(&s->writer);
    (void)pthread_mutex_destroy(&s->telling);
    free(s->cameras);
    free(s->lanes);
    free(s);
}

/* Signals are for the thread that runs the station. */
static void start_cameras(tw_station *s)
{
    sigset_t all, before;
    (void)sigfillset(&all);
    (void)pthread_sigmask(SIG_SETMASK, &all, &before);
    for (size_t i = 0; i < s->count; i++) {
        watched *w = &s->cameras[i];
        w->started = pthread_create(&w->thread, NULL, watch_camera, w) == 0;
        if (w->started)
            continue;
        const tw_event event = {.kind = TW_EVENT_CLOSED,
                                .camera = w->settings.name,
                                .status = TW_ENOMEM,
                                .text = "cannot start the camera's thread"};
        tell(s, &event);
    }
    (void)pthread_sigmask(SIG_SETMASK, &before, NULL);
}

tw_status tw_station_run(tw_station *s)
{
    if (!s)
        return TW_EINVAL;
    sigset_t all, before;
    (void)sigfillset(&all);
    (void)pthread_sigmask(SIG_SETMASK, &all, &before);
    tw_error err = {0};
    tw_queue *queue = NULL;
    const tw_status st =
        tw_queue_start(&s->writer, (size_t)s->settings.queue_bytes, &queue, &err);
    (void)pthread_sigmask(SIG_SETMASK, &before, NULL);
    if (st != TW_OK)
        return st;
    set_queue(s, queue);
    start_cameras(s);
    bool any = false;
    for (size_t i = 0; i < s->count; i++) {
        if (s->cameras[i].started)
            (void)pthread_join(s->cameras[i].thread, NULL);
        any = any || s->cameras[i].opened;
    }
    set_queue(s, NULL); /* nobody may look at it while it ends */
    tw_queue_finish(queue);
    return any ? TW_OK : TW_EIO;
}

typedef enum order { ARM, DISARM, AS_SET, TRIGGER, SNAP } order;

/* Under telling's lock. */
static void give_order(watched *w, order what, int64_t until_us)
{
    switch (what) {
    case ARM:
    case DISARM:
        w->orders_until_us = until_us;
        atomic_store(&w->orders.armed, what == ARM);
        break;
    case AS_SET:
        w->orders_until_us = 0;
        atomic_store(&w->orders.armed, TW_AS_SET);
        break;
    case TRIGGER: atomic_store(&w->orders.trigger, true); break;
    case SNAP: atomic_store(&w->orders.snap, true); break;
    }
}

static tw_status order_cameras(tw_station *s, const char *camera, order what,
                               int64_t for_us)
{
    if (!s || for_us < 0)
        return TW_EINVAL;
    bool any = false;
    const int64_t now_us = s->board.clock.ops->now_us(s->board.clock.ctx);
    (void)pthread_mutex_lock(&s->telling);
    for (size_t i = 0; i < s->count; i++) {
        if (camera && strcmp(s->cameras[i].settings.name, camera) != 0)
            continue;
        give_order(&s->cameras[i], what, for_us > 0 ? now_us + for_us : 0);
        any = true;
    }
    (void)pthread_mutex_unlock(&s->telling);
    return any ? TW_OK : TW_ENOENT;
}

tw_status tw_station_arm(tw_station *s, const char *camera, bool armed, int64_t for_us)
{
    return order_cameras(s, camera, armed ? ARM : DISARM, for_us);
}

tw_status tw_station_arm_as_set(tw_station *s, const char *camera)
{
    return order_cameras(s, camera, AS_SET, 0);
}

tw_status tw_station_trigger(tw_station *s, const char *camera)
{
    return order_cameras(s, camera, TRIGGER, 0);
}

tw_status tw_station_snap(tw_station *s, const char *camera)
{
    return order_cameras(s, camera, SNAP, 0);
}

tw_status tw_station_camera(tw_station *s, size_t index, tw_camera_status *out)
{
    if (!s || !out)
        return TW_EINVAL;
    if (index >= s->count)
        return TW_ENOENT;
    (void)pthread_mutex_lock(&s->telling);
    *out = s->cameras[index].status;
    (void)pthread_mutex_unlock(&s->telling);
    return TW_OK;
}

tw_status tw_station_store(tw_station *s, tw_store_status *out)
{
    if (!s || !out)
        return TW_EINVAL;
    const tw_card *card = s->board.card;
    *out = (tw_store_status){0};
    out->card =
        card->ops->space(card->ctx, &out->free_bytes, &out->total_bytes, NULL) == TW_OK;
    (void)pthread_mutex_lock(&s->telling);
    out->waiting_bytes = s->queue ? tw_queue_waiting(s->queue) : 0;
    out->dropped = s->dropped;
    out->problems = s->problems;
    (void)pthread_mutex_unlock(&s->telling);
    out->catalogue = !__atomic_load_n(&s->writer.catalogue_failed, __ATOMIC_RELAXED);
    return TW_OK;
}

void tw_station_stop(tw_station *s)
{
    if (s)
        __atomic_store_n(&s->stop, 1, __ATOMIC_RELAXED);
}
