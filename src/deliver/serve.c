/* One destination's thread: what goes next, when, and what became of it. */
#include <stdio.h>
#include <string.h>
#include <time.h>

#include "destination.h"
#include "../core/dispatch.h"
#include "../station/waits.h"
#include "../station/why.h"

enum {
    TRIES_GONE = 3,   /* a file may have got another name meanwhile */
    POLL_US = 2000000 /* others may have changed the queue */
};

/* ---- connections ----------------------------------------------------------------- */

/* ---- what is next ----------------------------------------------------------------- */

static bool within_hours(const destination *d, int64_t wall_us)
{
    const tw_clock *clock = &d->of->clock;
    return twi_hours_within(&d->hours, wall_us, clock->ops->offset_s(clock->ctx, wall_us),
                            NULL);
}

/* Since when what is first, and what came last of its sighting, have been there. What
 * waited before this began has been there for long. */
static void watch_queue(destination *d, const twi_outbox_fill *fill, int64_t now_us)
{
    if (d->mark_us == 0 || now_us - d->mark_us >= TWI_GATHER_US) {
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

static twi_dispatch decide(destination *d, const twi_outbox_fill *fill)
{
    const int64_t now_us = twi_deliver_now(d), wall_us = twi_deliver_wall(d);
    watch_queue(d, fill, now_us);
    /* nothing more comes of it, or it has been there for long enough */
    const bool ending = atomic_load(&d->of->ending);
    const bool waited = ending || fill->first <= d->settled;
    const bool quiet = ending || fill->first_newest <= d->settled;
    const twi_dispatch_queue queue = {
        .waiting = fill->waiting,
        .sightings = fill->sightings,
        .oldest_us = fill->oldest_us,
        .waited_us = waited ? TWI_GATHER_US : now_us - d->first_us,
        .quiet_us = quiet ? TWI_GATHER_US : now_us - d->newest_us,
        .over = fill->over,
        .part_sent = fill->part_sent,
        .released = fill->first <= d->released,
        .sent = fill->sent,
        .sent_us = fill->sent_us,
        .last_us = fill->last_us,
        .within = within_hours(d, wall_us)};
    twi_dispatch next = twi_dispatch_decide(&d->rule, &queue, wall_us);
    /* it was decided before, or is an alarm, which goes alone */
    if ((fill->begun || fill->alarm) && fill->waiting > 0 && queue.within)
        next.go = true;
    next.joined = next.joined && !fill->alarm;
    if (next.go && !d->rule.joins && d->rule.when.kind != TWI_WHEN_EACH)
        d->released = fill->newest;
    return next;
}

/* Nothing waits any more: say what was sent, and let connections go. */
static void rest(destination *d)
{
    if (d->sent > 0)
        twi_deliver_tell(
            d, TW_OK, "%llu %s%s sent, nothing %s", (unsigned long long)d->sent,
            d->transport->message ? "message" : "file", d->sent == 1 ? "" : "s",
            d->thrift == TWI_THRIFT_NONE ? "waits" : "more may go now");
    if (d->sent > 0 && d->transport->end)
        d->transport->end(d);
    d->sent = 0;
}

/* ---- what became of it ------------------------------------------------------------ */

static void went(destination *d, const twi_outbox_batch *batch)
{
    tw_error err = {0};
    int64_t wall_us = twi_deliver_wall(d);
    if (wall_us < 1)
        wall_us = 1;
    if (twi_outbox_sent(d->catalogue, batch, wall_us, &err) != TW_OK)
        twi_deliver_tell(d, err.status, "%s", err.text);
    twi_deliver_works(d);
    d->halted = false;
    d->sent++;
}

static void halt(destination *d, const twi_sending *out)
{
    tw_error err = {0};
    d->halted = true;
    twi_deliver_disconnect(d);
    twi_deliver_alarm(d, "nothing is sent to %s any more: %s", d->set.name, out->text);
    twi_deliver_tell(d, TW_ESTOPPED,
                     "%s. Nothing is sent there until its settings are changed, or tawny "
                     "outbox --retry %s",
                     out->text, d->set.name);
    if (twi_outbox_stop(d->catalogue, d->set.name, twi_deliver_wall(d), d->made_of,
                        out->text, &err) != TW_OK)
        twi_deliver_tell(d, err.status, "%s", err.text);
}

/* What has taken nothing for long. */
static void watch_failing(destination *d, const twi_sending *out)
{
    const int64_t now_us = twi_deliver_now(d), after_us = d->of->alarm_after_us;
    char span[24];
    if (d->failing_us == 0)
        d->failing_us = now_us;
    if (after_us == 0 || d->alarmed || now_us - d->failing_us < after_us)
        return;
    d->alarmed = true;
    twi_deliver_alarm(d, "%s has taken nothing for %s: %s", d->set.name,
                      twi_span_words(now_us - d->failing_us, span), out->text);
}

/* Tries that fail use up an uplink as well. */
void twi_deliver_spend(destination *d, uint64_t bytes)
{
    const twi_budget *budget = &d->set.budget;
    tw_error err = {0};
    if (budget->bytes > 0 && bytes > 0 &&
        twi_outbox_spend(d->catalogue, d->set.name, twi_deliver_wall(d), bytes,
                         budget->in_us, &err) != TW_OK)
        twi_deliver_tell(d, err.status, "%s", err.text);
}

/* What may not go for the budget is as if it did not wait. */
static void keep_budget(destination *d)
{
    const twi_budget *budget = &d->set.budget;
    char span[24];
    int64_t spent = 0;
    if (budget->bytes > 0)
        (void)twi_outbox_spent(d->catalogue, d->set.name,
                               twi_deliver_wall(d) - budget->in_us, &spent, NULL);
    const twi_thrift thrift = twi_budget_thrift(budget, spent);
    twi_outbox_hold(d->catalogue, twi_thrift_words(thrift));
    if (thrift == d->thrift)
        return;
    d->thrift = thrift;
    twi_deliver_tell(d, thrift == TWI_THRIFT_NONE ? TW_OK : TW_EAGAIN,
                     "%lld %% of its budget of %.4g MB in %s is used: %s",
                     (long long)(budget->bytes > 0 ? spent * 100 / budget->bytes : 0),
                     (double)budget->bytes / 1e6, twi_span_words(budget->in_us, span),
                     twi_thrift_name(thrift));
}

static void record(destination *d, const twi_outbox_batch *batch, const twi_sending *out)
{
    tw_error err = {0};
    twi_deliver_spend(d, out->bytes);
    if (out->verdict == TWI_DELIVERED) {
        went(d, batch);
        return;
    }
    if (out->verdict == TWI_LATER)
        watch_failing(d, out);
    if (atomic_load(&d->of->stop)) /* given up, not failed */
        return;
    const bool renamed = out->fault == TWI_FAULT_GONE && batch->tries < TRIES_GONE;
    const bool never = out->verdict == TWI_NEVER && !renamed;
    if (twi_outbox_failed(d->catalogue, batch, never, out->text, &err) != TW_OK)
        twi_deliver_tell(d, err.status, "%s", err.text);
    if (never)
        twi_deliver_tell(d, TW_EINVAL, "given up on %u of what waits: %s",
                         (unsigned)batch->count, out->text);
    else if (out->verdict == TWI_HALT)
        halt(d, out);
    else
        twi_deliver_later(d, out);
}

static void send_next(destination *d, bool joined)
{
    twi_outbox_batch batch;
    twi_sending out;
    tw_error err = {0};
    const twi_outbox_take_what what = joined ? TWI_TAKE_ALL : d->transport->take;
    const tw_status st = twi_outbox_take(d->catalogue, d->set.name,
                                         d->set.newest_first != 0, what, &batch, &err);
    if (st == TW_ENOENT)
        return;
    if (st != TW_OK) {
        if (!d->failing)
            twi_deliver_tell(d, st, "%s", err.text);
        d->failing = true;
        d->next_us = twi_deliver_now(d) + twi_backoff_next(&d->backoff);
        return;
    }
    d->transport->send(d, &batch, &out);
    record(d, &batch, &out);
    twi_outbox_batch_free(&batch);
}

/* A queue that does not empty, though what it is for takes what is sent: of a digest a
 * day is usual. */
static void watch_slow(destination *d)
{
    const int64_t look_us = INT64_C(600) * 1000000, day_us = INT64_C(26) * 3600 * 1000000;
    const int64_t now_us = twi_deliver_now(d);
    int64_t first = 0, last = 0;
    if (now_us < d->slow_next_us || d->failing ||
        twi_outbox_span(d->catalogue, d->set.name, &first, &last, NULL) != TW_OK)
        return;
    d->slow_next_us = now_us + look_us;
    if (d->slow_us == 0 || first == 0 || first > d->slow_id) {
        if (d->slow)
            twi_deliver_alarm(d, "what waited for %s has been sent", d->set.name);
        d->slow = false;
        d->slow_id = last;
        d->slow_us = now_us;
        return;
    }
    if (d->slow || now_us - d->slow_us < day_us)
        return;
    d->slow = true;
    twi_deliver_alarm(d,
                      "what is sent to %s comes later each day: something has waited for "
                      "over a day. Look at its limit, hours and bandwidth, or send less",
                      d->set.name);
}

/* ---- the thread ------------------------------------------------------------------ */

/* Whether it was stopped, and nothing has changed since. */
static bool is_halted(destination *d, const twi_outbox_fill *fill)
{
    char now[TWI_MESSAGE_KEY];
    if (fill->stopped_us == 0)
        return false;
    twi_secret_stand_in(&d->set, now);
    if (strcmp(fill->of, now) != 0) {
        (void)twi_outbox_retry(d->catalogue, d->set.name, NULL, NULL);
        d->halted = false;
        return false;
    }
    if (!d->halted)
        twi_deliver_tell(
            d, TW_ESTOPPED,
            "nothing is sent there: %s. It begins again with other settings, or "
            "tawny outbox --retry %s",
            fill->why, d->set.name);
    d->halted = true;
    return true;
}

static bool has_catalogue(destination *d)
{
    tw_error err = {0};
    if (d->catalogue)
        return true;
    if (twi_deliver_catalogue(d->of, &d->catalogue, &err) == TW_OK) {
        if (!d->transport->message) /* a file that comes twice has the same name */
            (void)twi_outbox_relax(d->catalogue, NULL);
        return true;
    }
    if (!d->failing)
        twi_deliver_tell(d, err.status, "nothing is sent: %s", err.text);
    d->failing = true;
    return false;
}

/* Whatever waits goes at once, one by one: then nothing need be counted. */
static bool is_simple(const destination *d)
{
    return !d->rule.joins && d->rule.when.kind == TWI_WHEN_EACH &&
           d->rule.limit.most == 0;
}

/* How the queue stands, as far as it matters; now and then all of it, so that it is
 * bounded. */
static tw_status inspect(destination *d, twi_outbox_fill *fill, tw_error *err)
{
    enum { ALL_EVERY = 1000 };
    uint32_t excess = 0;
    const bool newest_first = d->set.newest_first != 0;
    if (is_simple(d) && d->inspections++ % ALL_EVERY != 0)
        return twi_outbox_peek(d->catalogue, d->set.name, newest_first, fill, err);
    const tw_status st =
        twi_outbox_inspect(d->catalogue, d->set.name, newest_first,
                           twi_deliver_wall(d) - d->rule.limit.in_us, fill, err);
    if (st == TW_OK && fill->waiting > TWI_OUTBOX_MOST &&
        twi_outbox_bound(d->catalogue, d->set.name, TWI_OUTBOX_MOST, &excess, NULL) ==
            TW_OK)
        twi_deliver_tell(d, TW_ENOSPC, "more than %d wait: given up on the oldest %u",
                         TWI_OUTBOX_MOST, (unsigned)excess);
    return st;
}

/* Do what is to be done. @return how long to wait then, microseconds. */
static int64_t step(destination *d)
{
    twi_outbox_fill fill;
    tw_error err = {0};
    if (!has_catalogue(d))
        return TWI_AGAIN_US;
    keep_budget(d);
    if (inspect(d, &fill, &err) != TW_OK) {
        twi_deliver_tell(d, err.status, "%s", err.text);
        return TWI_AGAIN_US;
    }
    if (is_halted(d, &fill))
        return POLL_US;
    watch_slow(d);
    if (fill.waiting == 0)
        rest(d);
    const int64_t left_us = d->next_us > 0 ? d->next_us - twi_deliver_now(d) : 0;
    if (left_us > 0)
        return left_us < POLL_US ? left_us : (int64_t)POLL_US;
    const twi_dispatch next = decide(d, &fill);
    if (next.go) {
        send_next(d, next.joined);
        return 0;
    }
    return next.wait_us < POLL_US ? next.wait_us : (int64_t)POLL_US;
}

/* Until something has happened, or so long. */
static void wait_for(destination *d, unsigned *seen, int64_t wait_us)
{
    twi_deliver *o = d->of;
    const struct timespec until = twi_deadline_by(&o->clock, wait_us);
    (void)pthread_mutex_lock(&o->lock);
    int code = 0;
    while (*seen == o->wakes && code == 0 && !atomic_load(&o->ending))
        code = pthread_cond_timedwait(&o->came, &o->lock, &until);
    *seen = o->wakes;
    (void)pthread_mutex_unlock(&o->lock);
}

void *twi_deliver_work(void *ctx)
{
    destination *d = ctx;
    unsigned seen = 0;
    while (!atomic_load(&d->of->stop)) {
        const int64_t wait_us = step(d);
        if (wait_us > 0 && atomic_load(&d->of->ending))
            break;
        if (d->transport->idle)
            d->transport->idle(d, wait_us);
        else if (wait_us > 0)
            wait_for(d, &seen, wait_us);
    }
    if (d->transport->end)
        d->transport->end(d);
    return NULL;
}
