/* A thread for each destination, and what it does next. */
#include "deliver.h"

#include <errno.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "../base/thread.h"

enum {
    OTHERS_MAX = 32,
    TRIES_GONE = 3,           /* a file may have got another name meanwhile */
    POLL_US = 2000000,        /* others may have changed the queue */
    AGAIN_US = 5000000,       /* first tried again after, ... */
    AGAIN_MOST_US = 900000000 /* ... and at most */
};

#define AUTO_MOST 20
#define HOUR_US INT64_C(3600000000)

/* ---- telling --------------------------------------------------------------------- */

void tw_deliver_tell(const destination *d, tw_status st, const char *format, ...)
{
    char what[TW_ERROR_MAX], line[TW_ERROR_MAX + 64];
    va_list args;
    va_start(args, format);
    (void)vsnprintf(what, sizeof what, format, args);
    va_end(args);
    (void)snprintf(line, sizeof line, "%s: %s", d->set.name, what);
    if (d->of->told)
        d->of->told(d->of->ctx, st, line);
}

void tw_deliver_fail(tw_sending *out, tw_fault fault, const char *format, ...)
{
    va_list args;
    memset(out, 0, sizeof *out);
    out->fault = fault;
    out->verdict = tw_fault_verdict(fault);
    va_start(args, format);
    (void)vsnprintf(out->text, sizeof out->text, format, args);
    va_end(args);
}

static int64_t now_of(const destination *d)
{
    return d->of->clock.ops->now_us(d->of->clock.ctx);
}

static int64_t wall_of(const destination *d)
{
    return d->of->clock.ops->wall_us(d->of->clock.ctx);
}

/* ---- connections ----------------------------------------------------------------- */

bool tw_deliver_connect(destination *d, tw_sending *out)
{
    char secret[SECRET_BYTES];
    tw_error err = {0};
    if (d->sender)
        return true;
    if (tw_secret_read(&d->set, secret, &err) != TW_OK) {
        tw_deliver_fail(out, TW_FAULT_SECRET, "%s", err.text);
        return false;
    }
    const tw_sender_spec spec = {.to = &d->set,
                                 .secret = secret,
                                 .stop = &d->of->stop,
                                 .said = d->said,
                                 .ctx = d->said_ctx};
    const tw_status st = d->transfer->sender_new(&spec, &d->sender, &err);
    explicit_bzero(secret, sizeof secret);
    if (st != TW_OK)
        tw_deliver_fail(out, TW_FAULT_URL, "%s", err.text);
    return st == TW_OK;
}

void tw_deliver_disconnect(destination *d)
{
    if (d->sender)
        d->transfer->sender_free(d->sender);
    if (d->broker)
        d->brokers->broker_free(d->broker);
    d->sender = NULL;
    d->broker = NULL;
}

/* ---- what is next ----------------------------------------------------------------- */

static bool within_hours(const destination *d, int64_t wall_us)
{
    const tw_clock *clock = &d->of->clock;
    return tw_hours_within(&d->hours, wall_us, clock->ops->offset_s(clock->ctx, wall_us),
                           NULL);
}

/* Since when what is first, and what came last of its sighting, have been there. What
 * waited before this began has been there for long. */
static void watch_queue(destination *d, const tw_outbox_fill *fill, int64_t now_us)
{
    if (d->mark_us == 0 || now_us - d->mark_us >= TW_GATHER_US) {
        d->settled = d->mark_us == 0 ? fill->newest : d->marked;
        d->marked = fill->newest;
        d->mark_us = now_us;
    }
    if (fill->first != d->first)
        d->first_us = now_us;
    if (fill->first_newest != d->newest)
        d->newest_us = now_us;
    d->first = fill->first;
    d->newest = fill->first_newest;
}

static tw_dispatch decide(destination *d, const tw_outbox_fill *fill)
{
    const int64_t now_us = now_of(d), wall_us = wall_of(d);
    watch_queue(d, fill, now_us);
    /* nothing more comes of it, or it has been there for long enough */
    const bool ending = atomic_load(&d->of->ending);
    const bool waited = ending || fill->first <= d->settled;
    const bool quiet = ending || fill->first_newest <= d->settled;
    const tw_dispatch_queue queue = {
        .waiting = fill->waiting,
        .sightings = fill->sightings,
        .oldest_us = fill->oldest_us,
        .waited_us = waited ? TW_GATHER_US : now_us - d->first_us,
        .quiet_us = quiet ? TW_GATHER_US : now_us - d->newest_us,
        .over = fill->over,
        .told = fill->told,
        .released = fill->first <= d->released,
        .sent = fill->sent,
        .sent_us = fill->sent_us,
        .within = within_hours(d, wall_us)};
    tw_dispatch next = tw_dispatch_decide(&d->rule, &queue, wall_us);
    if (fill->begun && fill->waiting > 0 && queue.within) /* it was decided before */
        next.go = true;
    if (next.go && !d->rule.joins && d->rule.when.kind != TW_WHEN_EACH)
        d->released = fill->newest;
    return next;
}

/* Nothing waits any more: say what was sent, and let connections go. */
static void rest(destination *d)
{
    if (d->sent > 0)
        tw_deliver_tell(d, TW_OK, "%llu %s%s sent, nothing waits",
                        (unsigned long long)d->sent, d->way->message ? "message" : "file",
                        d->sent == 1 ? "" : "s");
    if (d->sent > 0 && d->way->end)
        d->way->end(d);
    d->sent = 0;
}

/* ---- what became of it ------------------------------------------------------------ */

static void went(destination *d, const tw_outbox_batch *batch)
{
    tw_error err = {0};
    int64_t wall_us = wall_of(d);
    if (wall_us < 1)
        wall_us = 1;
    if (tw_outbox_sent(d->catalogue, batch, wall_us, &err) != TW_OK)
        tw_deliver_tell(d, err.status, "%s", err.text);
    if (d->failing)
        tw_deliver_tell(d, TW_OK, "works again");
    d->failing = d->halted = false;
    d->next_us = 0;
    d->sent++;
    tw_backoff_reset(&d->backoff);
}

static void try_later(destination *d, const tw_sending *out)
{
    int64_t wait_us = tw_backoff_next(&d->backoff);
    if (out->again_us > wait_us)
        wait_us = out->again_us;
    d->next_us = now_of(d) + wait_us;
    if (!d->failing)
        tw_deliver_tell(d, TW_EAGAIN, "%s; trying again in %.0f s, then less often",
                        out->text, (double)wait_us / 1e6);
    d->failing = true;
    tw_deliver_disconnect(d);
}

static void halt(destination *d, const tw_sending *out)
{
    tw_error err = {0};
    d->halted = true;
    tw_deliver_disconnect(d);
    tw_deliver_tell(d, TW_EACCES,
                    "%s. Nothing is sent there until its settings are changed, or tawny "
                    "outbox --retry %s",
                    out->text, d->set.name);
    if (tw_outbox_stop(d->catalogue, d->set.name, wall_of(d), d->made_of, out->text,
                       &err) != TW_OK)
        tw_deliver_tell(d, err.status, "%s", err.text);
}

static void record(destination *d, const tw_outbox_batch *batch, const tw_sending *out)
{
    tw_error err = {0};
    if (out->verdict == TW_DELIVERED) {
        went(d, batch);
        return;
    }
    if (atomic_load(&d->of->stop)) /* given up, not failed */
        return;
    const bool renamed = out->fault == TW_FAULT_GONE && batch->tries < TRIES_GONE;
    const bool never = out->verdict == TW_NEVER && !renamed;
    if (tw_outbox_failed(d->catalogue, batch, never, out->text, &err) != TW_OK)
        tw_deliver_tell(d, err.status, "%s", err.text);
    if (never)
        tw_deliver_tell(d, TW_EINVAL, "given up on %u of what waits: %s",
                        (unsigned)batch->count, out->text);
    else if (out->verdict == TW_HALT)
        halt(d, out);
    else
        try_later(d, out);
}

static void send_next(destination *d, bool joined)
{
    tw_outbox_batch batch;
    tw_sending out;
    tw_error err = {0};
    const tw_outbox_take_what what = joined ? TW_TAKE_ALL : d->way->take;
    const tw_status st = tw_outbox_take(d->catalogue, d->set.name,
                                        d->set.newest_first != 0, what, &batch, &err);
    if (st == TW_ENOENT)
        return;
    if (st != TW_OK) {
        if (!d->failing)
            tw_deliver_tell(d, st, "%s", err.text);
        d->failing = true;
        d->next_us = now_of(d) + tw_backoff_next(&d->backoff);
        return;
    }
    d->way->send(d, &batch, &out);
    record(d, &batch, &out);
    tw_outbox_batch_free(&batch);
}

/* ---- the thread ------------------------------------------------------------------ */

/* Whether it was stopped, and nothing has changed since. */
static bool is_halted(destination *d, const tw_outbox_fill *fill)
{
    tw_secret_stand_in(&d->set, d->made_of);
    if (fill->stopped_us == 0)
        return false;
    if (strcmp(fill->of, d->made_of) != 0) {
        (void)tw_outbox_retry(d->catalogue, d->set.name, NULL, NULL);
        d->halted = false;
        return false;
    }
    if (!d->halted)
        tw_deliver_tell(
            d, TW_EACCES,
            "nothing is sent there: %s. It begins again with other settings, or "
            "tawny outbox --retry %s",
            fill->why, d->set.name);
    d->halted = true;
    return true;
}

static bool has_catalogue(destination *d)
{
    char path[PATH_BYTES];
    tw_error err = {0};
    if (d->catalogue)
        return true;
    (void)snprintf(path, sizeof path, "%s/" TW_CATALOGUE_FILE, d->of->store);
    if (tw_catalogue_open(path, true, &d->catalogue, &err) == TW_OK) {
        if (!d->way->message) /* a file that comes twice has the same name */
            (void)tw_outbox_relax(d->catalogue, NULL);
        return true;
    }
    if (!d->failing)
        tw_deliver_tell(d, err.status, "nothing is sent: %s", err.text);
    d->failing = true;
    return false;
}

/* Whatever waits goes at once, one by one: then nothing need be counted. */
static bool is_simple(const destination *d)
{
    return !d->rule.joins && d->rule.when.kind == TW_WHEN_EACH && d->rule.limit.most == 0;
}

/* How the queue stands, as far as it matters; now and then all of it, so that it is
 * bounded. */
static tw_status look(destination *d, tw_outbox_fill *fill, tw_error *err)
{
    enum { ALL_EVERY = 1000 };
    uint32_t excess = 0;
    const bool newest_first = d->set.newest_first != 0;
    if (is_simple(d) && d->looks++ % ALL_EVERY != 0)
        return tw_outbox_peek(d->catalogue, d->set.name, newest_first, fill, err);
    const tw_status st = tw_outbox_look(d->catalogue, d->set.name, newest_first,
                                        wall_of(d) - d->rule.limit.in_us, fill, err);
    if (st == TW_OK && fill->waiting > TW_OUTBOX_MOST &&
        tw_outbox_bound(d->catalogue, d->set.name, TW_OUTBOX_MOST, &excess, NULL) ==
            TW_OK)
        tw_deliver_tell(d, TW_ENOSPC, "more than %d wait: given up on the oldest %u",
                        TW_OUTBOX_MOST, (unsigned)excess);
    return st;
}

/* Do what is to be done. @return how long to wait then, microseconds. */
static int64_t step(destination *d)
{
    tw_outbox_fill fill;
    tw_error err = {0};
    if (!has_catalogue(d))
        return AGAIN_US;
    if (look(d, &fill, &err) != TW_OK) {
        tw_deliver_tell(d, err.status, "%s", err.text);
        return AGAIN_US;
    }
    if (is_halted(d, &fill))
        return POLL_US;
    if (fill.waiting == 0)
        rest(d);
    const int64_t left_us = d->next_us > 0 ? d->next_us - now_of(d) : 0;
    if (left_us > 0)
        return left_us < POLL_US ? left_us : (int64_t)POLL_US;
    const tw_dispatch next = decide(d, &fill);
    if (next.go) {
        send_next(d, next.joined);
        return 0;
    }
    return next.wait_us < POLL_US ? next.wait_us : (int64_t)POLL_US;
}

/* Until something has happened, or so long. */
static void wait_for(destination *d, unsigned *seen, int64_t wait_us)
{
    tw_deliver *o = d->of;
    struct timespec until;
    (void)clock_gettime(CLOCK_MONOTONIC, &until);
    const int64_t ns = until.tv_nsec + wait_us % 1000000 * 1000;
    until.tv_sec += (time_t)(wait_us / 1000000 + ns / 1000000000);
    until.tv_nsec = (long)(ns % 1000000000);
    (void)pthread_mutex_lock(&o->lock);
    int code = 0;
    while (*seen == o->wakes && code == 0 && !atomic_load(&o->ending))
        code = pthread_cond_timedwait(&o->came, &o->lock, &until);
    *seen = o->wakes;
    (void)pthread_mutex_unlock(&o->lock);
}

static void *work(void *ctx)
{
    destination *d = ctx;
    unsigned seen = 0;
    while (!atomic_load(&d->of->stop)) {
        const int64_t wait_us = step(d);
        if (wait_us > 0 && atomic_load(&d->of->ending))
            break;
        if (d->way->idle)
            d->way->idle(d, wait_us);
        else if (wait_us > 0)
            wait_for(d, &seen, wait_us);
    }
    if (d->way->end)
        d->way->end(d);
    return NULL;
}

/* ---- what goes where -------------------------------------------------------------- */

/* Kinds of captures, and as what they go. */
static const struct {
    tw_kind kind;
    int64_t what;
    const char *word;
} GOES[] = {{TW_KIND_STILL, TW_SEND_STILL, "still"},
            {TW_KIND_CAPTIONED_STILL, TW_SEND_STILL, "still"},
            {TW_KIND_SNAP, TW_SEND_STILL, "still"},
            {TW_KIND_STILL, TW_SEND_SMALL, "small"},
            {TW_KIND_CAPTIONED_STILL, TW_SEND_SMALL, "small"},
            {TW_KIND_SNAP, TW_SEND_SMALL, "small"},
            {TW_KIND_CLIP, TW_SEND_CLIP, "clip"},
            {TW_KIND_CAPTIONED_CLIP, TW_SEND_CLIP, "clip"},
            {TW_KIND_TIMED_STILL, TW_SEND_TIMED, "timed"},
            {TW_KIND_TIMED_CLIP, TW_SEND_TIMED, "timed"},
            {TW_KIND_SEGMENT, TW_SEND_SEGMENT, "segment"}};

enum { GOES_COUNT = sizeof GOES / sizeof *GOES };

/* Where there are both, the one with its caption goes. */
static bool is_spare(const tw_camera_settings *camera, tw_kind kind)
{
    const bool captions = camera->caption && camera->caption[0] && camera->caption_clean;
    return captions &&
           ((kind == TW_KIND_STILL && (camera->caption_on & TW_CAPTION_STILLS)) ||
            (kind == TW_KIND_CLIP && (camera->caption_on & TW_CAPTION_CLIPS)));
}

static size_t routes_of(const tw_camera_settings *camera, const destination *d,
                        tw_route *out)
{
    size_t n = 0;
    const bool broker = d->way == &tw_way_broker;
    for (size_t i = 0; i < GOES_COUNT && !broker; i++)
        if ((d->set.what & GOES[i].what) && !is_spare(camera, GOES[i].kind))
            out[n++] = (tw_route){camera->name, tw_kind_name(GOES[i].kind), d->set.name,
                                  GOES[i].word};
    if (broker || (d->set.what & TW_SEND_RECORD))
        out[n++] = (tw_route){camera->name, "", d->set.name, "record"};
    return n;
}

static bool is_served(const tw_deliver *o, const char *name)
{
    for (size_t i = 0; i < o->count; i++)
        if (strcmp(o->all[i].set.name, name) == 0)
            return true;
    return false;
}

/* Destinations that the queue knows and the settings do not serve. */
typedef struct others {
    const tw_deliver *of;
    char *wrong[OTHERS_MAX + 1]; /* what they say of these has mistakes */
    size_t wrong_count;
    char *gone[OTHERS_MAX]; /* of these they say nothing */
    size_t gone_count;
} others;

static void take_other(void *ctx, const char *name)
{
    others *x = ctx;
    tw_destination_settings set;
    if (is_served(x->of, name) || x->wrong_count + x->gone_count == OTHERS_MAX)
        return;
    if (tw_settings_destination(x->of->settings, name, &set) == TW_OK)
        x->wrong[x->wrong_count++] = strdup(name);
    else
        x->gone[x->gone_count++] = strdup(name);
}

/* What waits for a destination that is no more there holds its captures on the card. */
static void tell_gone(const tw_deliver *o, tw_catalogue *catalogue, const char *name)
{
    char line[TW_ERROR_MAX];
    tw_outbox_fill fill;
    if (!name || !o->told ||
        tw_outbox_look(catalogue, name, false, 0, &fill, NULL) != TW_OK ||
        fill.waiting == 0)
        return;
    (void)snprintf(line, sizeof line,
                   "%s: %u wait for it, and there is no such destination any more: tawny "
                   "outbox --drop %s",
                   name, (unsigned)fill.waiting, name);
    o->told(o->ctx, TW_ENOENT, line);
}

static size_t collect_routes(tw_deliver *o, tw_route *routes)
{
    size_t count = 0;
    const char *name = NULL;
    for (size_t i = 0; (name = tw_settings_camera_name(o->settings, i)); i++) {
        tw_camera_settings camera;
        if (tw_settings_camera(o->settings, name, &camera) != TW_OK)
            continue;
        for (size_t k = 0; k < o->count; k++)
            if (tw_settings_names(camera.send_to, o->all[k].set.name))
                count += routes_of(&camera, &o->all[k], routes + count);
    }
    return count;
}

/* What goes where from now on. A mistake in what is said of a destination loses nothing:
 * what was to go there goes on waiting. */
static tw_status set_routes(tw_deliver *o, tw_error *err)
{
    char path[PATH_BYTES];
    tw_catalogue *catalogue = NULL;
    others x = {.of = o};
    const size_t most =
        tw_settings_camera_count(o->settings) * o->count * (GOES_COUNT + 1) + 1;
    tw_route *routes = calloc(most, sizeof *routes);
    if (!routes)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    (void)snprintf(path, sizeof path, "%s/" TW_CATALOGUE_FILE, o->store);
    tw_status st = tw_catalogue_open(path, true, &catalogue, err);
    if (st == TW_OK)
        st = tw_outbox_destinations(catalogue, take_other, &x, err);
    if (st == TW_OK)
        st = tw_outbox_route(catalogue, routes, collect_routes(o, routes),
                             (const char *const *)x.wrong, err);
    for (size_t i = 0; st == TW_OK && i < x.gone_count; i++)
        tell_gone(o, catalogue, x.gone[i]);
    for (size_t i = 0; i < OTHERS_MAX; i++) {
        free(x.wrong[i]);
        free(x.gone[i]);
    }
    tw_catalogue_close(catalogue);
    free(routes);
    return st;
}

/* ---- making ---------------------------------------------------------------------- */

static bool begins(const char *text, const char *with)
{
    return text && strncmp(text, with, strlen(with)) == 0;
}

static const way *way_for(const tw_destination_settings *set)
{
    if (begins(set->url, "file:"))
        return &tw_way_folder;
    if (begins(set->url, "smtp"))
        return &tw_way_mail;
    if (begins(set->url, "mqtt"))
        return &tw_way_broker;
    return begins(set->url, "http") && set->by >= TW_BY_FORM ? &tw_way_post
                                                             : &tw_way_file;
}

static tw_status make_destination(tw_deliver *o, const char *name, destination *d,
                                  tw_error *err)
{
    d->of = o;
    if (tw_settings_destination(o->settings, name, &d->set) != TW_OK || !d->set.url)
        return tw_fail(err, TW_EINVAL, "destination %s has no url", name);
    d->way = way_for(&d->set);
    d->rule = (tw_dispatch_rule){d->set.when, d->set.limit,
                                 d->way->message && d->way != &tw_way_broker};
    if (d->set.limit.most == TW_LIMIT_AUTO)
        d->rule.limit = (tw_limit){d->rule.joins ? AUTO_MOST : 0, HOUR_US};
    if (d->way == &tw_way_broker) /* what is late is of no use there */
        d->rule = (tw_dispatch_rule){.limit = {0, HOUR_US}};
    (void)tw_hours_parse(d->set.hours, &d->hours, NULL);
    d->backoff = (tw_backoff){AGAIN_US, AGAIN_MOST_US, (uint32_t)now_of(d), 0};
    if (d->way == &tw_way_folder)
        return TW_OK;
    if (d->way == &tw_way_broker)
        d->brokers = tw_broker_load(err);
    else
        d->transfer = tw_transfer_load(err);
    return d->brokers || d->transfer ? TW_OK : TW_ENOTSUP;
}

/* @param only  NULL: all of them. */
static tw_status make_destinations(tw_deliver *o, const char *only, tw_error *err)
{
    tw_status st = TW_OK;
    size_t count = 0;
    const char *name = NULL;
    while (tw_settings_destination_name(o->settings, count))
        count++;
    o->all = calloc(count + 1, sizeof *o->all);
    if (!o->all)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    for (size_t i = 0;
         st == TW_OK && (name = tw_settings_destination_name(o->settings, i)); i++)
        if (!only || strcmp(only, name) == 0)
            st = make_destination(o, name, &o->all[o->count++], err);
    return st;
}

static void init_lock(tw_deliver *o)
{
    pthread_condattr_t attr;
    (void)pthread_condattr_init(&attr);
    (void)pthread_condattr_setclock(&attr, CLOCK_MONOTONIC);
    (void)pthread_mutex_init(&o->lock, NULL);
    (void)pthread_mutex_init(&o->station_lock, NULL);
    (void)pthread_cond_init(&o->came, &attr);
    (void)pthread_condattr_destroy(&attr);
}

/* What trusts more than it should is told at every start. */
static void warn(const destination *d)
{
    if (d->way == &tw_way_folder)
        return;
    if (d->set.tls == TW_TLS_UNVERIFIED)
        tw_deliver_tell(
            d, TW_EACCES,
            "tls = unverified: whoever answers there is believed, and gets the "
            "secret");
    const bool clear = begins(d->set.url, "http://") || begins(d->set.url, "ftp://") ||
                       begins(d->set.url, "mqtt://") ||
                       begins(d->set.url, "s3+http://") ||
                       (begins(d->set.url, "smtp://") && d->set.tls == TW_TLS_NONE);
    if (clear)
        tw_deliver_tell(d, TW_EACCES, "nothing is encrypted on the way there");
}

static bool start_threads(tw_deliver *o)
{
    bool good = true;
    for (size_t i = 0; i < o->count; i++) {
        destination *d = &o->all[i];
        warn(d);
        d->started = tw_thread_start(&d->thread, work, d);
        good &= d->started;
    }
    return good;
}

tw_status tw_deliver_make(const tw_settings *settings, const char *only, tw_clock clock,
                          tw_deliver **out, tw_error *err)
{
    tw_station_settings station;
    tw_deliver *o = calloc(1, sizeof *o);
    *out = o;
    if (!o)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    init_lock(o);
    o->clock = clock;
    o->settings = tw_settings_copy(settings);
    tw_settings_station(settings, &station);
    o->station = strdup(station.name);
    if (!o->settings || !o->station)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    return make_destinations(o, only, err);
}

tw_status tw_deliver_new(const tw_settings *settings, const char *store, tw_clock clock,
                         tw_deliver_told_fn told, void *ctx, tw_deliver **out,
                         tw_error *err)
{
    tw_deliver *o = NULL;
    if (!settings || !store || !out)
        return tw_fail(err, TW_EINVAL, "no settings or no store");
    *out = NULL;
    tw_status st = tw_deliver_make(settings, NULL, clock, &o, err);
    if (st == TW_OK && !(o->store = strdup(store)))
        st = tw_fail(err, TW_ENOMEM, "out of memory");
    if (st == TW_OK) {
        o->told = told;
        o->ctx = ctx;
        st = set_routes(o, err); /* with no destination: nothing goes anywhere */
    }
    if (st == TW_OK && o->count > 0 && !start_threads(o))
        st = tw_fail(err, TW_ENOMEM, "cannot start a thread for each destination");
    if (st == TW_OK && o->count > 0)
        *out = o;
    else
        tw_deliver_free(o);
    return st;
}

static void end_threads(tw_deliver *o)
{
    struct timespec until;
    (void)pthread_mutex_lock(&o->lock);
    atomic_store(&o->ending, true);
    (void)pthread_cond_broadcast(&o->came);
    (void)pthread_mutex_unlock(&o->lock);
    (void)clock_gettime(CLOCK_REALTIME, &until);
    until.tv_sec += TW_DELIVER_END_S;
    for (size_t i = 0; i < o->count; i++)
        if (o->all[i].started &&
            pthread_timedjoin_np(o->all[i].thread, NULL, &until) == 0)
            o->all[i].started = false;
    atomic_store(&o->stop, true);
    for (size_t i = 0; i < o->count; i++)
        if (o->all[i].started)
            (void)pthread_join(o->all[i].thread, NULL);
}

void tw_deliver_free(tw_deliver *o)
{
    if (!o)
        return;
    end_threads(o);
    for (size_t i = 0; i < o->count; i++)
        tw_catalogue_close(o->all[i].catalogue);
    (void)pthread_cond_destroy(&o->came);
    (void)pthread_mutex_destroy(&o->lock);
    (void)pthread_mutex_destroy(&o->station_lock);
    free(o->all);
    free(o->store);
    free(o->station);
    tw_settings_free(o->settings);
    free(o);
}

/* ---- what happens ---------------------------------------------------------------- */

static void add_news(destination *d, const news *what)
{
    if (d->way != &tw_way_broker)
        return;
    if (d->news_count == NEWS_MAX) { /* the oldest is of least use */
        d->news_first = (d->news_first + 1) % NEWS_MAX;
        d->news_count--;
    }
    d->news[(d->news_first + d->news_count++) % NEWS_MAX] = *what;
}

void tw_deliver_event(tw_deliver *o, const tw_event *e)
{
    const bool begins_one = e->kind == TW_EVENT_BEGAN;
    news what = {.phase = begins_one ? "begin" : "update", .wall_us = e->wall_us};
    if (!o || e->kind == TW_EVENT_READING)
        return;
    const bool is_news = e->sighting && (begins_one || e->kind == TW_EVENT_STORED);
    if (is_news) {
        what.number = e->sighting->number;
        (void)snprintf(what.camera, sizeof what.camera, "%s", e->camera);
        (void)snprintf(what.file, sizeof what.file, "%s", e->file ? e->file : "");
        if (begins_one)
            (void)tw_why_began(e->sighting, what.why, sizeof what.why);
    }
    (void)pthread_mutex_lock(&o->lock);
    for (size_t i = 0; i < o->count && is_news; i++)
        add_news(&o->all[i], &what);
    o->wakes++;
    (void)pthread_cond_broadcast(&o->came);
    (void)pthread_mutex_unlock(&o->lock);
}

void tw_deliver_station(tw_deliver *o, tw_station *station)
{
    if (!o)
        return;
    (void)pthread_mutex_lock(&o->station_lock);
    o->running = station;
    (void)pthread_mutex_unlock(&o->station_lock);
}

/* ---- checking -------------------------------------------------------------------- */

static bool check_one(const tw_destination_settings *set, char line[TW_ERROR_MAX])
{
    char secret[SECRET_BYTES];
    tw_error err = {0};
    const tw_status st = tw_secret_read(set, secret, &err);
    explicit_bzero(secret, sizeof secret);
    if (st == TW_OK)
        return true;
    (void)snprintf(line, TW_ERROR_MAX, "destination %s: %s", set->name, err.text);
    return false;
}

tw_status tw_deliver_check(const tw_settings *settings, tw_problem_fn told, void *ctx)
{
    bool good = true;
    const char *name = NULL;
    for (size_t i = 0; (name = tw_settings_destination_name(settings, i)); i++) {
        tw_destination_settings set;
        char line[TW_ERROR_MAX];
        (void)tw_settings_destination(settings, name, &set);
        if (check_one(&set, line))
            continue;
        good = false;
        told(ctx, line);
    }
    return good ? TW_OK : TW_EACCES;
}
