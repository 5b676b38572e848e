/* Hooks, destinations and the page of a station. The former two are made again when what
 * the settings say of them changes, in the thread in which events are told of here. */
#include "tawny/outward.h"

#include <pthread.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "../core/sized.h"
#include "../base/thread.h"
#include "../deliver/deliver.h"
#include "../deliver/hooks.h"
#include "../page/page.h"
#include "../settings/sections.h"
#include "tawny/events.h"
#include "tawny/settings.h"
#include "../station/waits.h"

enum {
    RETRY_US = 10000000
}; /* until destinations that could not begin are tried again */

struct tw_outward {
    tw_station *station;
    tw_outward_host host;   /* its texts are ours */
    twi_page *page;         /* NULL: there is none; the same all the time */
    twi_looking *look;      /* the same all the time */
    pthread_mutex_t lock;   /* of these two, for events: */
    twi_hooks *hooks;       /* NULL: there are none */
    twi_deliver *deliver;   /* likewise */
    pthread_mutex_t making; /* one makes them at a time; and of what follows: */
    tw_settings *settings;  /* that hold; NULL: none yet */
    bool owed;              /* destinations could not begin: their card failed */
    bool ending;
    pthread_cond_t changed;
    pthread_t retrying, applying;
    bool retries, applies;   /* those threads are there */
    twi_afar afar;           /* the same all the time */
    pthread_mutex_t writing; /* of the settings file */
    tw_settings *written;    /* under lock: to be applied; NULL: none */
    bool over;               /* likewise: nothing more is */
    pthread_cond_t wrote;    /* of that lock */
};

/* ---- telling ----------------------------------------------------------------------- */

static void tell(const tw_outward *o, const char *what, tw_status st, const char *line)
{
    if (o->host.callback)
        o->host.callback(o->host.ctx, what, st, line);
}

static void tell_failed(const tw_outward *o, const tw_error *why, const char *so)
{
    tw_error line = {0};
    (void)tw_fail(&line, why->status, "%s: %s", so, why->text);
    if (o->host.failed)
        o->host.failed(o->host.ctx, line.text);
}

/* It will mend, and is tried again. */
static void tell_later(const tw_outward *o, const tw_error *why)
{
    tw_error line = {0};
    (void)tw_fail(&line, TW_EAGAIN, "%s: nothing is sent until it can be read",
                  why->text);
    tell(o, "destination", TW_EAGAIN, line.text);
}

static void on_hook(void *ctx, tw_status st, const char *line)
{
    tell(ctx, "hook", st, line);
}

static void on_page(void *ctx, tw_status st, const char *line)
{
    tell(ctx, "page", st, line);
}

/* From a thread of a destination's, which ends before the hooks do. */
static void on_destination(void *ctx, tw_status st, const char *line)
{
    tw_outward *o = ctx;
    tell(o, "destination", st, line);
    if (st != TW_ESTOPPED) /* somebody is needed */
        return;
    const tw_clock *clock = &o->host.clock;
    (void)pthread_mutex_lock(&o->lock);
    twi_hooks_event(o->hooks, &(tw_event){.kind = TW_EVENT_STOPPED,
                                          .wall_us = clock->ops->wall_us(clock->ctx),
                                          .status = st,
                                          .text = line});
    (void)pthread_mutex_unlock(&o->lock);
}

/* ---- hooks and destinations -------------------------------------------------------- */

/* @param settings  NULL: none any more. */
static void use_hooks(tw_outward *o, const tw_settings *settings)
{
    twi_hooks *made = NULL;
    tw_error err = {0};
    if (settings && twi_settings_same_hooks(settings, o->settings))
        return;
    if (settings && twi_hooks_new(settings, o->host.store, o->host.card, o->host.clock,
                                  on_hook, o, &made, &err) != TW_OK)
        tell_failed(o, &err, "no hook is started");
    (void)pthread_mutex_lock(&o->lock);
    twi_hooks *old = o->hooks;
    o->hooks = made;
    (void)pthread_mutex_unlock(&o->lock);
    twi_hooks_free(old);
}

/* A card may be full, or not there yet: that will mend. */
static bool is_of_the_card(tw_status st)
{
    return st == TW_EIO || st == TW_ENOSPC || st == TW_EACCES || st == TW_ENOENT;
}

/* Nothing is sent from here on. */
static void end_destinations(tw_outward *o)
{
    (void)pthread_mutex_lock(&o->lock);
    twi_deliver *old = o->deliver;
    o->deliver = NULL;
    (void)pthread_mutex_unlock(&o->lock);
    twi_deliver_free(old);
}

static void begin_destinations(tw_outward *o, const tw_settings *settings)
{
    twi_deliver *made = NULL;
    tw_error err = {0};
    const tw_status st = twi_deliver_new(settings, o->host.store, o->host.clock,
                                         on_destination, o, &made, &err);
    const bool later = st != TW_OK && is_of_the_card(st);
    if (later && !o->owed)
        tell_later(o, &err);
    else if (st != TW_OK && !later)
        tell_failed(o, &err, "nothing is sent");
    o->owed = later;
    twi_deliver_station(made, o->station);
    twi_deliver_look(made, o->look);
    twi_deliver_afar(made, &o->afar);
    twi_deliver_settings(made, settings);
    (void)pthread_mutex_lock(&o->lock);
    o->deliver = made;
    (void)pthread_mutex_unlock(&o->lock);
    (void)pthread_cond_signal(&o->changed);
}

/* The old ones first, so that nothing is sent by both. */
static void use_destinations(tw_outward *o, const tw_settings *settings)
{
    if (!o->owed && twi_settings_same_sending(settings, o->settings))
        return;
    end_destinations(o);
    begin_destinations(o, settings);
}

static void use(tw_outward *o, const tw_settings *settings)
{
    tw_settings *copy = tw_settings_copy(settings);
    (void)pthread_mutex_lock(&o->making);
    use_hooks(o, settings);
    use_destinations(o, settings);
    (void)pthread_mutex_lock(&o->lock);
    twi_deliver_settings(o->deliver, settings);
    (void)pthread_mutex_unlock(&o->lock);
    tw_settings_free(o->settings);
    o->settings = copy;
    (void)pthread_mutex_unlock(&o->making);
}

/* ---- what could not begin ---------------------------------------------------------- */

/* With making held. */
static void wait_for_retry(tw_outward *o)
{
    while (!o->ending && !o->owed)
        (void)pthread_cond_wait(&o->changed, &o->making);
    const struct timespec until = twi_deadline_by(&o->host.clock, RETRY_US);
    int waited = 0;
    while (!o->ending && o->owed && waited == 0)
        waited = pthread_cond_timedwait(&o->changed, &o->making, &until);
}

static void *retry(void *ctx)
{
    tw_outward *o = ctx;
    (void)pthread_mutex_lock(&o->making);
    while (!o->ending) {
        wait_for_retry(o);
        if (!o->ending && o->owed && o->settings)
            begin_destinations(o, o->settings);
    }
    (void)pthread_mutex_unlock(&o->making);
    return NULL;
}

/* ---- events ------------------------------------------------------------------------ */

/* In a thread of its own, under no lock of the station's. */
static void on_event(void *ctx, const tw_event *event)
{
    tw_outward *o = ctx;
    if (event->kind == TW_EVENT_READING) {
        twi_looking_event(o->look, event);
        return;
    }
    if (event->kind == TW_EVENT_RELOADED && event->settings)
        use(o, event->settings);
    (void)pthread_mutex_lock(&o->lock);
    twi_hooks_event(o->hooks, event);
    twi_deliver_event(o->deliver, event);
    (void)pthread_mutex_unlock(&o->lock);
}

/* In a camera's thread. */
static bool wants_picture(void *ctx, const char *camera)
{
    const tw_outward *o = ctx;
    return twi_looking_wants(o->look, camera);
}

/* The page has changed the file. @param settings  That it makes; taken over. */
static tw_status on_changed(void *ctx, tw_settings *settings)
{
    tw_outward *o = ctx;
    (void)pthread_mutex_lock(&o->making);
    const tw_status st = twi_settings_override(settings, o->settings);
    (void)pthread_mutex_unlock(&o->making);
    if (st == TW_OK)
        return tw_station_apply(o->station, settings);
    tw_settings_free(settings);
    return st;
}

/* ---- settings from afar ------------------------------------------------------------ */

/* From a thread of a destination's, for which whoever makes destinations may wait: this
 * waits for nobody. What was written before holds in what comes later. */
static void on_afar(void *ctx, tw_settings *settings)
{
    tw_outward *o = ctx;
    (void)pthread_mutex_lock(&o->lock);
    tw_settings *old = o->written;
    o->written = settings;
    (void)pthread_cond_signal(&o->wrote);
    (void)pthread_mutex_unlock(&o->lock);
    tw_settings_free(old);
}

/* @return the next ones to be applied; NULL: it is over. */
static tw_settings *wait_for_written(tw_outward *o)
{
    (void)pthread_mutex_lock(&o->lock);
    while (!o->written && !o->over)
        (void)pthread_cond_wait(&o->wrote, &o->lock);
    tw_settings *next = o->written;
    o->written = NULL;
    (void)pthread_mutex_unlock(&o->lock);
    return next;
}

static void *apply_written(void *ctx)
{
    tw_outward *o = ctx;
    tw_settings *next = NULL;
    while ((next = wait_for_written(o)))
        if (on_changed(o, next) != TW_OK)
            tell(o, "settings", TW_EINVAL,
                 "what came from afar does not hold: there are mistakes in what concerns "
                 "all cameras, or none is left");
    return NULL;
}

static void end_afar(tw_outward *o)
{
    (void)pthread_mutex_lock(&o->lock);
    o->over = true;
    (void)pthread_cond_signal(&o->wrote);
    (void)pthread_mutex_unlock(&o->lock);
    if (o->applies)
        (void)pthread_join(o->applying, NULL);
    tw_settings_free(o->written);
}

static tw_status on_propose(void *ctx, const char *camera, const volatile int *stop,
                            char **out, tw_error *err)
{
    const tw_outward *o = ctx;
    return o->host.propose(o->host.ctx, camera, stop, out, err);
}

/* ---- beginning and ending ---------------------------------------------------------- */

static void begin_page(tw_outward *o, const tw_settings *settings)
{
    tw_error err = {0};
    const twi_page_host host = {.store = o->host.store,
                                .card = o->host.card,
                                .settings_file = o->host.settings_file,
                                .clock = o->host.clock,
                                .callback = on_page,
                                .apply = on_changed,
                                .writing = &o->writing,
                                .propose = o->host.propose ? on_propose : NULL,
                                .ctx = o};
    if (twi_page_new(settings, &host, &o->page, &err) != TW_OK)
        tell_failed(o, &err, "page not started");
    else if (twi_page_station(o->page, o->station) != TW_OK)
        tell_failed(o, &(tw_error){TW_ESIZE, "too many subscribers"}, "the page is dead");
}

static tw_outward *make(tw_station *station, const tw_outward_host *host)
{
    tw_outward *o = calloc(1, sizeof *o);
    if (!o)
        return NULL;
    o->station = station;
    TWI_TAKE(o->host, host);
    o->host.store = strdup(host->store);
    o->host.settings_file = host->settings_file ? strdup(host->settings_file) : NULL;
    (void)pthread_mutex_init(&o->lock, NULL);
    (void)pthread_mutex_init(&o->making, NULL);
    (void)pthread_mutex_init(&o->writing, NULL);
    (void)pthread_cond_init(&o->wrote, NULL);
    twi_cond_init(&o->changed);
    o->look = twi_looking_new(host->clock);
    o->afar = (twi_afar){o->host.settings_file, &o->writing, on_afar, o};
    if (o->look && o->host.store && (o->host.settings_file || !host->settings_file))
        return o;
    tw_outward_end(o);
    return NULL;
}

tw_status tw_outward_begin(tw_station *station, const tw_settings *settings,
                           const tw_outward_host *host, tw_outward **out, tw_error *err)
{
    if (!station || !settings || !host || !host->store || !out)
        return tw_fail(err, TW_EINVAL, "no station, settings or store");
    tw_outward *o = make(station, host);
    const tw_subscriber who = {.callback = on_event, .wants = wants_picture, .ctx = o};
    if (o)
        o->retries = twi_thread_start(&o->retrying, retry, o);
    if (o)
        o->applies = twi_thread_start(&o->applying, apply_written, o);
    if (!o || !o->retries || !o->applies ||
        tw_station_subscribe(station, &who) != TW_OK) {
        tw_outward_end(o);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    use(o, settings);
    begin_page(o, settings);
    *out = o;
    return TW_OK;
}

void tw_outward_end(tw_outward *o)
{
    if (!o)
        return;
    (void)pthread_mutex_lock(&o->making);
    o->ending = true;
    (void)pthread_cond_signal(&o->changed);
    (void)pthread_mutex_unlock(&o->making);
    if (o->retries)
        (void)pthread_join(o->retrying, NULL);
    tw_station_unsubscribe(o->station, o);
    (void)twi_page_station(o->page, NULL);
    twi_page_free(o->page);
    twi_deliver_station(o->deliver, NULL);
    end_destinations(o);
    end_afar(o);
    twi_looking_free(o->look);
    use_hooks(o, NULL); /* destinations may have told them of their end */
    tw_settings_free(o->settings);
    (void)pthread_cond_destroy(&o->changed);
    (void)pthread_mutex_destroy(&o->making);
    (void)pthread_mutex_destroy(&o->writing);
    (void)pthread_cond_destroy(&o->wrote);
    (void)pthread_mutex_destroy(&o->lock);
    free((char *)o->host.store);
    free((char *)o->host.settings_file);
    free(o);
}
