/* Making what serves the destinations, and what others ask of it. */
#include "destination.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "../base/thread.h"
#include "../core/dispatch.h"
#include "../settings/sections.h"
#include "tawny/events.h"
#include "tawny/settings.h"

#define AUTO_MOST 20
#define HOUR_US INT64_C(3600000000)

/* ---- making ---------------------------------------------------------------------- */

static tw_status make_destination(twi_deliver *o, const char *name, destination *d,
                                  tw_error *err)
{
    d->of = o;
    if (twi_settings_destination(o->settings, name, &d->set) != TW_OK || !d->set.url)
        return tw_fail(err, TW_EINVAL, "destination %s has no url", name);
    d->transport = twi_deliver_transport(&d->set);
    d->rule = (twi_dispatch_rule){d->set.when, d->set.limit,
                                  d->transport->message &&
                                      d->transport != &twi_transport_broker};
    if (d->set.limit.most == TWI_LIMIT_AUTO)
        d->rule.limit = (twi_limit){d->rule.joins ? AUTO_MOST : 0, HOUR_US};
    if (d->transport == &twi_transport_broker) /* what is late is of no use there */
        d->rule = (twi_dispatch_rule){.limit = {0, HOUR_US}};
    (void)twi_hours_parse(d->set.hours, &d->hours, NULL);
    twi_deliver_patience(d);
    twi_secret_stand_in(&d->set, d->made_of);
    if (d->transport == &twi_transport_folder)
        return TW_OK;
    if (d->transport == &twi_transport_broker)
        d->brokers = twi_broker_load(err);
    else
        d->transfer = twi_transfer_load(err);
    return d->brokers || d->transfer ? TW_OK : TW_ENOTSUP;
}

/* @param only  NULL: all of them. */
static tw_status make_destinations(twi_deliver *o, const char *only, tw_error *err)
{
    tw_status st = TW_OK;
    size_t count = 0;
    const char *name = NULL;
    while (twi_settings_destination_name(o->settings, count))
        count++;
    o->all = calloc(count + 1, sizeof *o->all);
    if (!o->all)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    for (size_t i = 0;
         st == TW_OK && (name = twi_settings_destination_name(o->settings, i)); i++)
        if (!only || strcmp(only, name) == 0)
            st = make_destination(o, name, &o->all[o->count++], err);
    return st;
}

static void init_lock(twi_deliver *o)
{
    (void)pthread_mutex_init(&o->lock, NULL);
    (void)pthread_mutex_init(&o->station_lock, NULL);
    twi_cond_init(&o->came);
}

/* What trusts more than it should is told at every start. */
static void warn(const destination *d)
{
    if (d->transport == &twi_transport_folder)
        return;
    if (d->set.tls == TWI_TLS_UNVERIFIED)
        twi_deliver_tell(
            d, TW_EACCES,
            "tls = unverified: whoever answers there is believed, and gets the "
            "secret");
    const bool clear =
        twi_deliver_begins(d->set.url, "http://") ||
        twi_deliver_begins(d->set.url, "ftp://") ||
        twi_deliver_begins(d->set.url, "mqtt://") ||
        twi_deliver_begins(d->set.url, "s3+http://") ||
        (twi_deliver_begins(d->set.url, "smtp://") && d->set.tls == TWI_TLS_NONE);
    if (clear)
        twi_deliver_tell(d, TW_EACCES, "nothing is encrypted on the way there");
}

static bool start_threads(twi_deliver *o)
{
    bool good = true;
    for (size_t i = 0; i < o->count; i++) {
        destination *d = &o->all[i];
        warn(d);
        d->started = twi_thread_start(&d->thread, twi_deliver_work, d);
        good &= d->started;
    }
    return good;
}

tw_status twi_deliver_make(const tw_settings *settings, const char *only, tw_clock clock,
                           twi_deliver **out, tw_error *err)
{
    twi_station_settings station;
    twi_deliver *o = calloc(1, sizeof *o);
    *out = o;
    if (!o)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    init_lock(o);
    o->clock = clock;
    o->settings = tw_settings_copy(settings);
    twi_settings_station(settings, &station);
    o->station = strdup(station.name);
    o->accounts = strdup(station.accounts_file);
    o->page_url = strdup(station.page_url);
    o->alarm_after_us = station.alarm_after_us;
    if (!o->settings || !o->station || !o->accounts || !o->page_url)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    return make_destinations(o, only, err);
}

tw_status twi_deliver_new(const tw_settings *settings, const char *store, tw_clock clock,
                          twi_deliver_report_fn callback, void *ctx, twi_deliver **out,
                          tw_error *err)
{
    twi_deliver *o = NULL;
    if (!settings || !store || !out)
        return tw_fail(err, TW_EINVAL, "no settings or no store");
    *out = NULL;
    tw_status st = twi_deliver_make(settings, NULL, clock, &o, err);
    if (st == TW_OK && !(o->store = strdup(store)))
        st = tw_fail(err, TW_ENOMEM, "out of memory");
    if (st == TW_OK) {
        o->callback = callback;
        o->ctx = ctx;
        st = twi_deliver_route(o, err); /* with no destination: nothing goes anywhere */
    }
    if (st == TW_OK && o->count > 0 && !start_threads(o))
        st = tw_fail(err, TW_ENOMEM, "cannot start a thread for each destination");
    if (st == TW_OK && o->count > 0)
        *out = o;
    else
        twi_deliver_free(o);
    return st;
}

static void end_threads(twi_deliver *o)
{
    struct timespec until;
    (void)pthread_mutex_lock(&o->lock);
    atomic_store(&o->ending, true);
    (void)pthread_cond_broadcast(&o->came);
    (void)pthread_mutex_unlock(&o->lock);
    (void)clock_gettime(CLOCK_REALTIME, &until);
    until.tv_sec += TWI_DELIVER_END_S;
    for (size_t i = 0; i < o->count; i++)
        if (o->all[i].started &&
            pthread_timedjoin_np(o->all[i].thread, NULL, &until) == 0)
            o->all[i].started = false;
    atomic_store(&o->stop, true);
    for (size_t i = 0; i < o->count; i++)
        if (o->all[i].started)
            (void)pthread_join(o->all[i].thread, NULL);
}

static void drop_oldest(destination *d)
{
    free(d->news[d->news_first].text);
    d->news_first = (d->news_first + 1) % NEWS_MAX;
    d->news_count--;
}

void twi_deliver_free(twi_deliver *o)
{
    if (!o)
        return;
    end_threads(o);
    for (size_t i = 0; i < o->count; i++) {
        while (o->all[i].news_count > 0)
            drop_oldest(&o->all[i]);
        tw_catalogue_close(o->all[i].catalogue);
        free(o->all[i].phones);
    }
    (void)pthread_cond_destroy(&o->came);
    (void)pthread_mutex_destroy(&o->lock);
    (void)pthread_mutex_destroy(&o->station_lock);
    free(o->all);
    free(o->store);
    free(o->accounts);
    free(o->page_url);
    free(o->plain);
    free(o->station);
    tw_settings_free(o->settings);
    free(o);
}

/* ---- what happens ---------------------------------------------------------------- */

/* Without memory it is not told: the record of the sighting is, once it is over. */
static void add_news(destination *d, const tw_event *e, const char *text)
{
    news what = {.text = strdup(text)};
    if (!what.text)
        return;
    (void)snprintf(what.camera, sizeof what.camera, "%s", e->camera);
    if (d->news_count == NEWS_MAX) /* the oldest is of least use */
        drop_oldest(d);
    d->news[(d->news_first + d->news_count++) % NEWS_MAX] = what;
}

void twi_deliver_event(twi_deliver *o, const tw_event *e)
{
    char *text = NULL;
    if (!o || e->kind == TW_EVENT_READING)
        return;
    if (e->sighting && (e->kind == TW_EVENT_BEGAN || e->kind == TW_EVENT_STORED))
        text = twi_json_text(
            twi_json_event(e, o->station, o->clock.ops->wall_us(o->clock.ctx)));
    (void)pthread_mutex_lock(&o->lock);
    for (size_t i = 0; i < o->count && text; i++)
        if (o->all[i].transport == &twi_transport_broker)
            add_news(&o->all[i], e, text);
    o->wakes++;
    (void)pthread_cond_broadcast(&o->came);
    (void)pthread_mutex_unlock(&o->lock);
    free(text);
}

void twi_deliver_look(twi_deliver *o, twi_looking *look)
{
    if (!o)
        return;
    (void)pthread_mutex_lock(&o->lock);
    o->look = look;
    (void)pthread_mutex_unlock(&o->lock);
}

void twi_deliver_afar(twi_deliver *o, const twi_afar *afar)
{
    if (!o)
        return;
    (void)pthread_mutex_lock(&o->lock);
    o->afar = afar;
    (void)pthread_mutex_unlock(&o->lock);
}

void twi_deliver_settings(twi_deliver *o, const tw_settings *settings)
{
    char *text = o && settings ? twi_afar_text(settings) : NULL;
    if (!o)
        return;
    (void)pthread_mutex_lock(&o->lock);
    free(o->plain);
    o->plain = text;
    o->plain_times++;
    (void)pthread_mutex_unlock(&o->lock);
}

void twi_deliver_station(twi_deliver *o, tw_station *station)
{
    if (!o)
        return;
    (void)pthread_mutex_lock(&o->station_lock);
    o->running = station;
    (void)pthread_mutex_unlock(&o->station_lock);
}

/* ---- checking -------------------------------------------------------------------- */

static bool check_one(const twi_destination_settings *set, char line[TW_ERROR_MAX])
{
    char secret[SECRET_BYTES];
    tw_error err = {0};
    const tw_status st = twi_secret_read(set, secret, &err);
    explicit_bzero(secret, sizeof secret);
    if (st == TW_OK)
        return true;
    (void)snprintf(line, TW_ERROR_MAX, "destination %s: %s", set->name, err.text);
    return false;
}

tw_status twi_deliver_check(const tw_settings *settings, tw_problem_fn callback,
                            void *ctx)
{
    bool good = true;
    const char *name = NULL;
    for (size_t i = 0; (name = twi_settings_destination_name(settings, i)); i++) {
        twi_destination_settings set;
        char line[TW_ERROR_MAX];
        (void)twi_settings_destination(settings, name, &set);
        if (check_one(&set, line))
            continue;
        good = false;
        callback(ctx, line);
    }
    return good ? TW_OK : TW_EACCES;
}
