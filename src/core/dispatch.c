/* When what waits goes. */
#include "dispatch.h"

#include <stddef.h>

enum { POLL_US = 30000000 }; /* where no moment is known */

static twi_dispatch hold(twi_hold why, int64_t wait_us)
{
    if (wait_us <= 0)
        wait_us = 1;
    return (twi_dispatch){.hold = why,
                          .wait_us = wait_us < POLL_US ? wait_us : (int64_t)POLL_US};
}

static bool is_full(const twi_limit *limit, const twi_dispatch_queue *q)
{
    return limit->most > 0 && q->sent >= limit->most;
}

/* More sightings wait than there are messages left for. */
static bool is_scarce(const twi_limit *limit, const twi_dispatch_queue *q)
{
    return limit->most > 0 && q->sightings > limit->most - q->sent;
}

/* A clock that was set back would hold things up for as long: then age counts as none. */
static int64_t age_of(int64_t then_us, int64_t now_us)
{
    return now_us > then_us ? now_us - then_us : 0;
}

/* Of each by itself. */
static twi_dispatch decide_each(const twi_dispatch_rule *rule,
                                const twi_dispatch_queue *q)
{
    const bool joined = rule->joins && is_scarce(&rule->limit, q);
    const int64_t gathered_us = q->over ? q->quiet_us : q->waited_us;
    if (rule->joins && !joined && !q->over && q->part_sent)
        return hold(TWI_HOLD_GATHER, POLL_US); /* its end brings the rest */
    if (rule->joins && gathered_us < TWI_GATHER_US)
        return hold(TWI_HOLD_GATHER, TWI_GATHER_US - gathered_us);
    return (twi_dispatch){.go = true, .joined = joined};
}

/* A digest waits for so long after what it tells of, and after the one before it: when a
 * network is back after days, all that waits is old. */
static int64_t digest_wait(const twi_dispatch_rule *rule, const twi_dispatch_queue *q,
                           int64_t now_us)
{
    int64_t age_us = age_of(q->oldest_us, now_us);
    if (q->last_us > 0 && q->last_us <= now_us && now_us - q->last_us < age_us)
        age_us = now_us - q->last_us;
    return age_us < rule->when.every_us ? rule->when.every_us - age_us : 0;
}

twi_dispatch twi_dispatch_decide(const twi_dispatch_rule *rule,
                                 const twi_dispatch_queue *q, int64_t now_us)
{
    if (!rule || !q || q->waiting == 0)
        return hold(TWI_HOLD_NOTHING, POLL_US);
    if (!q->within)
        return hold(TWI_HOLD_HOURS, POLL_US);
    if (is_full(&rule->limit, q))
        return hold(TWI_HOLD_LIMIT, rule->limit.in_us - age_of(q->sent_us, now_us));
    if (rule->when.kind == TWI_WHEN_EACH || q->released)
        return decide_each(rule, q);
    if (rule->when.kind == TWI_WHEN_AFTER && q->sightings < rule->when.count)
        return hold(TWI_HOLD_AFTER, POLL_US);
    const int64_t digest_us =
        rule->when.kind == TWI_WHEN_DIGEST ? digest_wait(rule, q, now_us) : 0;
    if (digest_us > 0)
        return hold(TWI_HOLD_DIGEST, digest_us);
    return (twi_dispatch){.go = true, .joined = rule->joins};
}

const char *twi_hold_name(twi_hold hold)
{
    static const char *const names[] = {"nothing", "gather", "digest",
                                        "after",   "limit",  "hours"};
    return (size_t)hold < sizeof names / sizeof *names ? names[hold] : "?";
}
