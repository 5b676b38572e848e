/* When what waits goes. */
#include "tawny/dispatch.h"

#include <stddef.h>

enum { POLL_US = 30000000 }; /* where no moment is known */

static tw_dispatch hold(tw_hold why, int64_t wait_us)
{
    if (wait_us <= 0)
        wait_us = 1;
    return (tw_dispatch){.hold = why,
                         .wait_us = wait_us < POLL_US ? wait_us : (int64_t)POLL_US};
}

static bool is_full(const tw_limit *limit, const tw_dispatch_queue *q)
{
    return limit->most > 0 && q->sent >= limit->most;
}

/* More sightings wait than there are messages left for. */
static bool is_scarce(const tw_limit *limit, const tw_dispatch_queue *q)
{
    return limit->most > 0 && q->sightings > limit->most - q->sent;
}

/* A clock that was set back would hold things up for as long: then age counts as none. */
static int64_t age_of(int64_t then_us, int64_t now_us)
{
    return now_us > then_us ? now_us - then_us : 0;
}

/* Of each by itself. */
static tw_dispatch decide_each(const tw_dispatch_rule *rule, const tw_dispatch_queue *q)
{
    const bool joined = rule->joins && is_scarce(&rule->limit, q);
    const int64_t gathered_us = q->over ? q->quiet_us : q->waited_us;
    if (rule->joins && !joined && !q->over && q->part_sent)
        return hold(TW_HOLD_GATHER, POLL_US); /* its end brings the rest */
    if (rule->joins && gathered_us < TW_GATHER_US)
        return hold(TW_HOLD_GATHER, TW_GATHER_US - gathered_us);
    return (tw_dispatch){.go = true, .joined = joined};
}

/* A digest waits for so long after what it tells of, and after the one before it: when a
 * network is back after days, all that waits is old. */
static int64_t digest_wait(const tw_dispatch_rule *rule, const tw_dispatch_queue *q,
                           int64_t now_us)
{
    int64_t age_us = age_of(q->oldest_us, now_us);
    if (q->last_us > 0 && q->last_us <= now_us && now_us - q->last_us < age_us)
        age_us = now_us - q->last_us;
    return age_us < rule->when.every_us ? rule->when.every_us - age_us : 0;
}

tw_dispatch tw_dispatch_decide(const tw_dispatch_rule *rule, const tw_dispatch_queue *q,
                               int64_t now_us)
{
    if (!rule || !q || q->waiting == 0)
        return hold(TW_HOLD_NOTHING, POLL_US);
    if (!q->within)
        return hold(TW_HOLD_HOURS, POLL_US);
    if (is_full(&rule->limit, q))
        return hold(TW_HOLD_LIMIT, rule->limit.in_us - age_of(q->sent_us, now_us));
    if (rule->when.kind == TW_WHEN_EACH || q->released)
        return decide_each(rule, q);
    if (rule->when.kind == TW_WHEN_AFTER && q->sightings < rule->when.count)
        return hold(TW_HOLD_AFTER, POLL_US);
    const int64_t digest_us =
        rule->when.kind == TW_WHEN_DIGEST ? digest_wait(rule, q, now_us) : 0;
    if (digest_us > 0)
        return hold(TW_HOLD_DIGEST, digest_us);
    return (tw_dispatch){.go = true, .joined = rule->joins};
}

const char *tw_hold_name(tw_hold hold)
{
    static const char *const names[] = {"nothing", "gather", "digest",
                                        "after",   "limit",  "hours"};
    return (size_t)hold < sizeof names / sizeof *names ? names[hold] : "?";
}
