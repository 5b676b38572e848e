/* The station: a thread for each camera, one that writes, and the one that runs it. */
#include "tawny/station.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../core/sized.h"
#include "station_state.h"
#include "waits.h"
#include "../settings/sections.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

static void set_queue(tw_station *s, twi_queue *queue)
{
    (void)pthread_mutex_lock(&s->lock);
    s->queue = queue;
    (void)pthread_mutex_unlock(&s->lock);
}

/* ---- making ---------------------------------------------------------------------- */

static tw_status make_cameras(tw_station *s)
{
    const tw_settings *settings = twi_source_settings(s->source);
    const size_t count = tw_settings_camera_count(settings);
    s->cameras = calloc(count, sizeof(camera_thread *));
    for (size_t i = 0; s->cameras && i < count; i++) {
        s->cameras[i] =
            twi_camera_thread_new(s, s->source, tw_settings_camera_name(settings, i));
        if (!s->cameras[i])
            return TW_ENOMEM;
        s->count++;
    }
    return s->cameras ? TW_OK : TW_ENOMEM;
}

tw_status tw_station_new(const tw_platform *platform, tw_settings *settings,
                         tw_event_fn callback, void *ctx, tw_station **out, tw_error *err)
{
    if (!platform || !settings || !out)
        return tw_fail(err, TW_EINVAL, "no board");
    tw_platform own;
    TWI_TAKE(own, platform);
    if (!own.card)
        return tw_fail(err, TW_EINVAL, "no card: a station stores what it sees");
    if (tw_settings_camera_count(settings) == 0)
        return tw_fail(err, TW_ENOENT,
                       "there is no camera: write a [camera NAME] section with a source");
    tw_station *s = calloc(1, sizeof *s);
    if (s) {
        s->source = twi_source_new(settings, false);
        s->feed = twi_feed_new();
    }
    if (!s || !s->source || !s->feed) {
        if (s) {
            twi_source_release(s->source);
            twi_feed_free(s->feed);
        }
        free(s);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    if (callback)
        (void)twi_feed_add(
            s->feed,
            &(tw_subscriber){.callback = callback, .readings = true, .ctx = ctx});
    s->platform = own;
    twi_settings_station(settings, &s->settings);
    s->writer = (twi_writer){.clock = own.clock,
                             .numbers_for_good = true,
                             .callback = twi_station_tell,
                             .ctx = s};
    atomic_init(&s->writer.free_bytes, TWI_FREE_UNKNOWN);
    (void)pthread_mutex_init(&s->lock, NULL);
    twi_cond_init(&s->changed);
    tw_status st = make_cameras(s);
    if (st != TW_OK)
        (void)tw_fail(err, st, "out of memory");
    if (st == TW_OK)
        st = twi_writer_open(&s->writer, own.card, &s->settings, err);
    if (st == TW_OK)
        twi_writer_try_card(&s->writer);
    if (st == TW_OK)
        *out = s;
    else
        tw_station_free(s);
    return st;
}

tw_status tw_station_subscribe(tw_station *s, const tw_subscriber *who)
{
    tw_subscriber own;
    if (!s || !who)
        return TW_EINVAL;
    TWI_TAKE(own, who);
    return twi_feed_add(s->feed, &own);
}

void tw_station_unsubscribe(tw_station *s, const void *ctx)
{
    if (s)
        twi_feed_remove(s->feed, ctx);
}

void tw_station_free(tw_station *s)
{
    if (!s)
        return;
    twi_writer_close(&s->writer);
    twi_feed_free(s->feed);
    for (size_t i = 0; i < s->count; i++) {
        twi_camera_thread_free(s->cameras[i]);
    }
    for (camera_thread *w = s->retired, *next; w; w = next) {
        next = w->next;
        twi_camera_thread_free(w);
    }
    twi_source_release(s->source);
    tw_settings_free(s->pending);
    (void)pthread_cond_destroy(&s->changed);
    (void)pthread_mutex_destroy(&s->lock);
    free(s->cameras);
    free(s);
}

/* ---- running --------------------------------------------------------------------- */

/* Wait until there is something to see to, or it is time to look. @return settings to
 * take over, NULL: none. */
static tw_settings *wait_for_change(tw_station *s)
{
    bool ended = false;
    int waited = 0;
    (void)pthread_mutex_lock(&s->lock);
    const struct timespec until =
        twi_deadline_by(&s->platform.clock, TWI_DAILY_EVERY_S * INT64_C(1000000));
    while (waited == 0) {
        for (size_t i = 0; i < s->count; i++)
            ended = ended || (s->cameras[i]->ended && s->cameras[i]->started);
        if (ended || s->pending)
            break;
        waited = pthread_cond_timedwait(&s->changed, &s->lock, &until);
    }
    tw_settings *pending = s->pending;
    s->pending = NULL;
    (void)pthread_mutex_unlock(&s->lock);
    return pending;
}

static void watch_all(tw_station *s)
{
    for (size_t i = 0; i < s->count; i++)
        twi_camera_thread_start(s->cameras[i]);
    while (twi_station_settle(s)) {
        twi_daily_tend(s);
        tw_settings *settings = wait_for_change(s);
        if (settings && !twi_station_stopping(s))
            twi_station_adopt(s, settings);
        else
            tw_settings_free(settings);
    }
}

tw_status tw_station_run(tw_station *s)
{
    if (!s)
        return TW_EINVAL;
    tw_error err = {0};
    twi_queue *queue = NULL;
    tw_status st = twi_feed_start(s->feed);
    if (st == TW_OK)
        st = twi_queue_start(&s->writer, (size_t)s->settings.queue_bytes, &queue, &err);
    if (st == TW_OK) {
        set_queue(s, queue);
        twi_station_sense(s, s->source);
        watch_all(s);
        twi_station_sense(s, NULL);
        twi_daily_end(s);
        set_queue(s, NULL); /* nobody may look at it while it ends */
        twi_queue_finish(queue);
        twi_writer_end_videos(&s->writer);
        st = s->any_opened ? TW_OK : TW_EIO;
    }
    twi_feed_finish(s->feed);
    return st;
}

tw_status tw_station_apply(tw_station *s, tw_settings *settings)
{
    if (!s || !settings || tw_settings_camera_count(settings) == 0 ||
        !twi_settings_sound(settings, NULL)) {
        tw_settings_free(settings);
        return TW_EINVAL;
    }
    (void)pthread_mutex_lock(&s->lock);
    tw_settings *unread = s->pending; /* an earlier one that was not seen to yet */
    s->pending = settings;
    (void)pthread_cond_signal(&s->changed);
    (void)pthread_mutex_unlock(&s->lock);
    tw_settings_free(unread);
    return TW_OK;
}

typedef enum order { ARM, DISARM, AS_SET, TRIGGER, SNAP } order;

/* Under the lock. */
static void give_order(camera_thread *w, order what, int64_t until_us, const char *who)
{
    if (what == ARM || what == DISARM || what == AS_SET)
        (void)snprintf(w->ordered_by, sizeof w->ordered_by, "%s",
                       who && what != AS_SET ? who : "");
    switch (what) {
    case ARM:
    case DISARM:
        w->orders_until_us = until_us;
        atomic_store(&w->orders.armed, what == ARM);
        if (what == ARM)
            (void)atomic_fetch_add(&w->orders.arms, 1);
        break;
    case AS_SET:
        w->orders_until_us = 0;
        atomic_store(&w->orders.armed, TWI_AS_SET);
        break;
    case TRIGGER: atomic_store(&w->orders.trigger, true); break;
    case SNAP: atomic_store(&w->orders.snap, true); break;
    }
}

enum { ORDER_BYTES = 192 };

/* "disarmed for 2 h, by order of ann"; who may be NULL. */
static void word_order(order what, int64_t for_us, const char *who,
                       char text[ORDER_BYTES])
{
    static const char *const words[] = {"armed", "disarmed", "armed as the settings say",
                                        "a sighting was asked for",
                                        "a still was asked for"};
    const double s = (double)for_us / 1e6;
    char length[32] = "";
    if (for_us > 0)
        (void)snprintf(length, sizeof length, " for %.3g %s",
                       s < 120      ? s
                       : s < 7200   ? s / 60
                       : s < 172800 ? s / 3600
                                    : s / 86400,
                       s < 120      ? "s"
                       : s < 7200   ? "min"
                       : s < 172800 ? "h"
                                    : "d");
    const bool arms = what == ARM || what == DISARM;
    (void)snprintf(text, ORDER_BYTES, "%s%s%s%s%.100s", words[what], length,
                   arms ? ", by order" : "",
                   !who   ? ""
                   : arms ? " of "
                          : ", by ",
                   who ? who : "");
}

static void tell_order(tw_station *s, const char *camera, order what, int64_t for_us,
                       const char *who)
{
    char text[ORDER_BYTES];
    word_order(what, for_us, who, text);
    twi_station_tell(
        s, &(tw_event){.kind = TW_EVENT_ORDERED,
                       .camera = camera,
                       .wall_us = s->platform.clock.ops->wall_us(s->platform.clock.ctx),
                       .text = text});
}

/* Give an order to the next camera that it is for. @return whether there was one; its
 * name is copied, as it may be gone after this. */
static bool order_next(tw_station *s, const char *camera, order what, int64_t until_us,
                       const char *who, size_t *from, char name[64])
{
    bool found = false;
    (void)pthread_mutex_lock(&s->lock);
    for (; !found && *from < s->count; (*from)++) {
        camera_thread *w = s->cameras[*from];
        found = !camera || strcmp(camera, w->name) == 0;
        if (!found)
            continue;
        give_order(w, what, until_us, who);
        (void)snprintf(name, 64, "%s", w->name);
    }
    (void)pthread_mutex_unlock(&s->lock);
    return found;
}

static tw_status order_cameras(tw_station *s, const char *camera, order what,
                               int64_t for_us, const char *who)
{
    const int64_t most_us = INT64_C(366) * 86400 * 1000000;
    if (!s || for_us < 0 || for_us > most_us)
        return TW_EINVAL;
    bool any = false;
    char name[64];
    const int64_t now_us = s->platform.clock.ops->now_us(s->platform.clock.ctx);
    const int64_t until_us = for_us > 0 ? now_us + for_us : 0;
    for (size_t i = 0; order_next(s, camera, what, until_us, who, &i, name);) {
        tell_order(s, name, what, for_us, who);
        any = true;
    }
    return any ? TW_OK : TW_ENOENT;
}

tw_status tw_station_arm(tw_station *s, const char *camera, bool armed, int64_t for_us)
{
    return order_cameras(s, camera, armed ? ARM : DISARM, for_us, NULL);
}

tw_status tw_station_arm_as_set(tw_station *s, const char *camera)
{
    return order_cameras(s, camera, AS_SET, 0, NULL);
}

tw_status tw_station_trigger(tw_station *s, const char *camera)
{
    return order_cameras(s, camera, TRIGGER, 0, NULL);
}

tw_status tw_station_snap(tw_station *s, const char *camera)
{
    return order_cameras(s, camera, SNAP, 0, NULL);
}

tw_status tw_station_order_by(tw_station *s, const char *what, const char *camera,
                              int64_t for_us, const char *who)
{
    static const struct {
        const char *word;
        order is;
        bool lasts; /* for_us is of it */
    } all[] = {{"arm", ARM, true},
               {"disarm", DISARM, true},
               {"as-set", AS_SET, false},
               {"trigger", TRIGGER, false},
               {"snap", SNAP, false}};
    if (!what)
        return TW_EINVAL;
    for (size_t i = 0; i < sizeof all / sizeof *all; i++)
        if (strcmp(all[i].word, what) == 0)
            return order_cameras(s, camera, all[i].is, all[i].lasts ? for_us : 0, who);
    return TW_ENOTSUP;
}

tw_status tw_station_order(tw_station *s, const char *what, const char *camera,
                           int64_t for_us)
{
    return tw_station_order_by(s, what, camera, for_us, NULL);
}

tw_status tw_station_did(tw_station *s, const char *camera, const char *text)
{
    if (!s || !text)
        return TW_EINVAL;
    twi_station_tell(s, &(tw_event){.kind = TW_EVENT_ORDERED,
                                    .camera = camera,
                                    .wall_us = twi_station_wall(s),
                                    .text = text});
    return TW_OK;
}

void tw_station_stop(tw_station *s)
{
    if (s)
        __atomic_store_n(&s->stop, 1, __ATOMIC_RELAXED);
}
