/* Hooks, destinations and the page; the former are made again when what the settings say
 * of them changes. */
#include "outward.h"

#define RETRY_US                                                                         \
    INT64_C(10000000) /* until destinations that could not begin are tried               \
                       */

struct outward {
    const tw_card *card;
    char *store, *settings_file; /* whole paths */
    tw_clock clock;
    outward_calls calls;
    tw_settings *settings; /* that hold; NULL: none yet */
    gboolean owed;         /* destinations, which could not begin: their card failed */
    int64_t retry_us;      /* when they are tried again */
    tw_station *station;   /* NULL: none yet, or none any more */
    GMutex lock;           /* of what follows, for events */
    tw_hooks *hooks;       /* NULL: there are none */
    tw_deliver *deliver;   /* likewise */
    tw_page *page;         /* likewise; the same while the station runs */
};

outward *outward_begin(const tw_card *card, const char *settings_file, tw_clock clock,
                       outward_calls calls)
{
    outward *o = g_new0(outward, 1);
    o->card = card;
    o->store = g_canonicalize_filename(card->ops->place(card->ctx), NULL);
    o->settings_file = g_canonicalize_filename(settings_file, NULL);
    o->clock = clock;
    o->calls = calls;
    g_mutex_init(&o->lock);
    return o;
}

static void on_hook(void *ctx, tw_status st, const char *line)
{
    const outward *o = ctx;
    o->calls.told(o->calls.ctx, "hook", st, line);
}

static void tell_hooks(outward *o, const tw_event *event)
{
    g_mutex_lock(&o->lock);
    tw_hooks_event(o->hooks, event);
    g_mutex_unlock(&o->lock);
}

static void on_destination(void *ctx, tw_status st, const char *line)
{
    outward *o = ctx;
    o->calls.told(o->calls.ctx, "destination", st, line);
    if (st == TW_ESTOPPED) /* somebody is needed */
        tell_hooks(o, &(tw_event){.kind = TW_EVENT_STOPPED,
                                  .wall_us = o->clock.ops->wall_us(o->clock.ctx),
                                  .status = st,
                                  .text = line});
}

/* NULL settings: none any more. */
static gboolean use_hooks(outward *o, const tw_settings *settings)
{
    tw_hooks *made = NULL;
    tw_error err = {0};
    if (settings && tw_settings_same_hooks(settings, o->settings))
        return TRUE;
    const gboolean good = !settings || tw_hooks_new(settings, o->store, o->clock, on_hook,
                                                    o, &made, &err) == TW_OK;
    if (!good)
        (void)cli_say(CLI_FAILED, "%s: no hook is started", err.text);
    g_mutex_lock(&o->lock);
    tw_hooks *old = o->hooks;
    o->hooks = made;
    g_mutex_unlock(&o->lock);
    tw_hooks_free(old);
    return good;
}

/* A card may be full, or not there yet: that will mend. */
static gboolean is_of_the_card(tw_status st)
{
    return st == TW_EIO || st == TW_ENOSPC || st == TW_EACCES || st == TW_ENOENT;
}

/* The old one first, so that nothing is sent by both. */
static gboolean use_destinations(outward *o, const tw_settings *settings)
{
    tw_deliver *made = NULL;
    tw_error err = {0};
    if (settings && !o->owed && tw_settings_same_sending(settings, o->settings))
        return TRUE;
    g_mutex_lock(&o->lock);
    tw_deliver *old = o->deliver;
    o->deliver = NULL;
    g_mutex_unlock(&o->lock);
    tw_deliver_free(old);
    const gboolean good =
        !settings || tw_deliver_new(settings, o->store, o->clock, on_destination, o,
                                    &made, &err) == TW_OK;
    const gboolean later = !good && is_of_the_card(err.status);
    if (!good && !(later && o->owed))
        (void)cli_say(CLI_FAILED, "%s: nothing is sent%s", err.text,
                      later ? " until it can be read" : "");
    o->owed = later;
    o->retry_us = o->clock.ops->now_us(o->clock.ctx) + RETRY_US;
    tw_deliver_station(made, o->station);
    g_mutex_lock(&o->lock);
    o->deliver = made;
    g_mutex_unlock(&o->lock);
    return good || later;
}

void outward_turn(outward *o)
{
    if (o->owed && o->clock.ops->now_us(o->clock.ctx) >= o->retry_us)
        (void)use_destinations(o, o->settings);
}

static void on_page(void *ctx, tw_status st, const char *line)
{
    const outward *o = ctx;
    o->calls.told(o->calls.ctx, "page", st, line);
}

static void on_changed(void *ctx)
{
    const outward *o = ctx;
    o->calls.reload(o->calls.ctx);
}

/* It stays at its address: what it shows of cameras follows the settings. */
static gboolean use_page(outward *o, const tw_settings *settings)
{
    tw_page *made = NULL;
    tw_error err = {0};
    if (o->settings)
        return tw_page_reload(o->page, settings) == TW_OK;
    const tw_page_host host = {.store = o->store,
                               .card = o->card,
                               .settings_file = o->settings_file,
                               .clock = o->clock,
                               .told = on_page,
                               .reload = on_changed,
                               .ctx = o};
    const gboolean good = tw_page_new(settings, &host, &made, &err) == TW_OK;
    if (!good)
        (void)cli_say(CLI_FAILED, "%s: there is no page", err.text);
    g_mutex_lock(&o->lock);
    o->page = made;
    g_mutex_unlock(&o->lock);
    return good;
}

static void end_page(outward *o)
{
    g_mutex_lock(&o->lock);
    tw_page *old = o->page;
    o->page = NULL;
    g_mutex_unlock(&o->lock);
    tw_page_free(old);
}

gboolean outward_use(outward *o, const tw_settings *settings)
{
    gboolean good = use_hooks(o, settings);
    good &= use_page(o, settings);
    good &= use_destinations(o, settings);
    tw_settings_free(o->settings);
    o->settings = tw_settings_copy(settings);
    return good;
}

/* In a thread of its own: it may take its time. */
static void on_event(void *ctx, const tw_event *event)
{
    outward *o = ctx;
    g_mutex_lock(&o->lock);
    tw_hooks_event(o->hooks, event);
    tw_deliver_event(o->deliver, event);
    g_mutex_unlock(&o->lock);
}

void outward_station(outward *o, tw_station *station)
{
    o->station = station;
    tw_deliver_station(o->deliver, station); /* not under the lock: events wait for it */
    (void)tw_page_station(o->page, station); /* there is room for more than these two */
    if (station)
        (void)tw_station_subscribe(station, &(tw_subscriber){.told = on_event, .ctx = o});
}

void outward_end(outward *o)
{
    if (!o)
        return;
    end_page(o);
    (void)use_hooks(o, NULL);
    (void)use_destinations(o, NULL);
    tw_settings_free(o->settings);
    g_mutex_clear(&o->lock);
    g_free(o->store);
    g_free(o->settings_file);
    g_free(o);
}
