/* The gatherer's round: hear, put, acknowledge; ask; notice silence. */
#include "gather.h"

#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../net/topic.h"
#include "signed.h"

enum {
    TOPIC_BYTES = 512,
    WAIT_MS = 200,
    UNDER_WAY = TWI_LEDGER_BATCH, /* messages that are not acknowledged yet */
    ROOM = UNDER_WAY + 1000,      /* with what needs no acknowledgement */
    RANGES_MAX = 16               /* that one question has */
};

#define S INT64_C(1000000)
#define AGAIN_US (20 * S) /* a station is asked at most so often, in vain less */
#define UNANSWERED_US (30 * S)
#define FORGET_US (3600 * S)
#define LOOK_US (5 * S) /* for gaps, and for who is silent */

/* A gatherer at work. */
typedef struct gatherer {
    const twi_gathering *of;
    const twi_broker_module *brokers;
    const twi_ledger_kind *kind;
    twi_ledger *ledger;
    twi_listener *listener;
    char root[TOPIC_BYTES], filters[TWI_LISTENER_TOPICS][TOPIC_BYTES];
    twi_heard *batch;
    size_t count;
    int64_t looked_us, forgot_us;
    bool due; /* something is to be told at once */
    uint64_t misunderstood;
    enum { NOTHING, BROKER, LEDGER } failing; /* and that was told */
    int64_t later_us;
    unsigned failures;
} gatherer;

static int64_t now_of(const gatherer *g)
{
    return g->of->clock.ops->now_us(g->of->clock.ctx);
}

static int64_t wall_of(const gatherer *g)
{
    return g->of->clock.ops->wall_us(g->of->clock.ctx);
}

static void tell(const gatherer *g, tw_status st, const char *line)
{
    g->of->tell(g->of->ctx, st, line);
}

/* ---- hearing --------------------------------------------------------------------- */

static void hear(void *ctx, const char *topic, const void *payload, size_t bytes)
{
    gatherer *g = ctx;
    char line[TOPIC_BYTES + 64];
    if (g->count == ROOM)
        return; /* never: little more than UNDER_WAY comes */
    const tw_status st =
        twi_heard_read(g->root, topic, payload, bytes, &g->batch[g->count]);
    g->count += st == TW_OK;
    if (st == TW_OK || st == TW_ENOENT)
        return;
    twi_heard_clear(&g->batch[g->count]);
    if (g->misunderstood++ % 1000 != 0) /* one that floods us does not flood the log */
        return;
    (void)snprintf(line, sizeof line, "a message on %.*s was left out: %s",
                   TOPIC_BYTES - 1, topic,
                   st == TW_ESIZE ? "it is too large" : "it was not understood");
    for (char *c = line; *c; c++)
        *c = (unsigned char)*c < ' ' || *c == 0x7F ? '?' : *c;
    tell(g, TW_EINVAL, line);
}

static void forget(gatherer *g)
{
    for (size_t i = 0; i < g->count; i++)
        twi_heard_clear(&g->batch[i]);
    g->count = 0;
}

/* ---- putting --------------------------------------------------------------------- */

/* One by one: a message that no data base can hold must not keep out all behind it. */
static tw_status put_singly(gatherer *g, tw_error *err)
{
    char line[TW_ERROR_MAX + 2 * TWI_HEARD_NAME];
    tw_status st = TW_OK;
    for (size_t i = 0; i < g->count && (st == TW_OK || st == TW_EINVAL); i++) {
        st = g->kind->put(g->ledger, &g->batch[i], 1, wall_of(g), err);
        if (st != TW_EINVAL)
            continue;
        (void)snprintf(line, sizeof line, "%s: what it told cannot be kept: %s",
                       g->batch[i].station, err->text);
        tell(g, TW_EINVAL, line);
    }
    return st == TW_EINVAL ? TW_OK : st;
}

static tw_status put(gatherer *g, tw_error *err)
{
    const tw_status st = g->kind->put(g->ledger, g->batch, g->count, wall_of(g), err);
    return st == TW_EINVAL ? put_singly(g, err) : st;
}

/* It waits a little longer each time, a minute at most. */
static void fail(gatherer *g, int who, tw_status st, const char *line)
{
    const int64_t wait_us = S << (g->failures < 6 ? g->failures : 6);
    g->later_us = now_of(g) + (wait_us < 60 * S ? wait_us : 60 * S);
    g->failures++;
    if (g->failing == NOTHING)
        tell(g, st == TW_OK ? TW_EAGAIN : st, line);
    g->failing = who == LEDGER ? LEDGER : BROKER;
}

static void works(gatherer *g, int who)
{
    if (g->failing != (who == LEDGER ? LEDGER : BROKER))
        return;
    tell(g, TW_OK, who == LEDGER ? "the ledger works again" : "the broker answers again");
    g->failing = NOTHING;
    g->failures = 0;
}

/* What is not safe is not acknowledged, and comes again. */
static void keep(gatherer *g)
{
    tw_error err = {0};
    const tw_status st = put(g, &err);
    if (st == TW_OK) {
        works(g, LEDGER);
        (void)g->brokers->listener_acknowledge(g->listener);
    } else {
        g->brokers->listener_drop(g->listener);
        fail(g, LEDGER, TW_EAGAIN, err.text);
    }
    forget(g);
}

/* ---- asking ---------------------------------------------------------------------- */

/* Ranges of one series from the i-th on. @return how many there are. */
static size_t ask_for(const gatherer *g, const twi_ledger_gap *gaps, size_t count)
{
    char topic[TOPIC_BYTES], text[1024];
    size_t n = 0;
    int used =
        snprintf(text, sizeof text, "{\"series\":\"%s\",\"numbers\":[", gaps[0].series);
    while (n < count && n < RANGES_MAX && strcmp(gaps[n].station, gaps[0].station) == 0 &&
           strcmp(gaps[n].series, gaps[0].series) == 0 && used > 0 &&
           (size_t)used < sizeof text - 64) {
        used += snprintf(text + used, sizeof text - (size_t)used,
                         "%s[%" PRId64 ",%" PRId64 "]", n > 0 ? "," : "", gaps[n].first,
                         gaps[n].last);
        n++;
    }
    (void)snprintf(text + used, sizeof text - (size_t)used, "]}");
    if (!strpbrk(gaps[0].series, "\"\\") &&
        twi_heard_topic(g->root, gaps[0].station, "ask", topic, sizeof topic))
        g->brokers->listener_publish(g->listener, topic, text);
    return n;
}

static void ask(gatherer *g)
{
    twi_ledger_gap gaps[TWI_LEDGER_GAPS];
    size_t found = 0;
    tw_error err = {0};
    const int64_t wall_us = wall_of(g);
    if (g->kind->gaps(g->ledger, wall_us, AGAIN_US, gaps, &found, &err) != TW_OK) {
        fail(g, LEDGER, TW_EAGAIN, err.text);
        return;
    }
    works(g, LEDGER);
    for (size_t i = 0; i < found;) {
        const size_t n = ask_for(g, &gaps[i], found - i);
        i += n;
        while (i < found && strcmp(gaps[i].station, gaps[i - 1].station) == 0)
            i++; /* more than a question holds: the next time */
    }
}

/* ---- telling --------------------------------------------------------------------- */

enum { TOLD_AT_ONCE = 500 };

/* While the broker cannot be reached they wait. */
static void tell_words(gatherer *g)
{
    char topic[TOPIC_BYTES];
    twi_word *w = NULL;
    for (int i = 0; g->of->words && i < TOLD_AT_ONCE; i++) {
        if (!(w = twi_to_tell_take(g->of->words)))
            return;
        if (strcmp(w->what, TWI_TO_TELL_DUE) == 0)
            g->due = true;
        else if (twi_heard_topic(g->root, w->station, w->what, topic, sizeof topic))
            g->brokers->listener_publish(g->listener, topic, w->text);
        free(w);
    }
}

/* That signs settings; "": none. */
static const char *secret_of(const gatherer *g)
{
    return g->of->settings_secret ? g->of->settings_secret : "";
}

/* What waits in the ledger until it is answered. */
static void tell_due(gatherer *g)
{
    twi_due due[TWI_WORDS_DUE];
    char topic[TOPIC_BYTES];
    size_t found = 0;
    tw_error err = {0};
    g->due = false;
    if (twi_words_due(g->kind, g->ledger, secret_of(g)[0] != '\0', wall_of(g),
                      UNANSWERED_US, due, &found, &err) != TW_OK) {
        fail(g, LEDGER, TW_EAGAIN, err.text);
        return;
    }
    for (size_t i = 0; i < found; i++) {
        char *text = twi_signed_order(g->brokers, secret_of(g), &due[i]);
        if (text &&
            twi_heard_topic(g->root, due[i].station, "order", topic, sizeof topic))
            g->brokers->listener_publish(g->listener, topic, text);
        free(text);
    }
    twi_due_clear(due, found);
    g->due = found == TWI_WORDS_DUE; /* there may be more */
}

static void ask_settings(void *ctx, const char *station)
{
    const gatherer *g = ctx;
    char topic[TOPIC_BYTES];
    if (twi_heard_topic(g->root, station, "ask", topic, sizeof topic))
        g->brokers->listener_publish(g->listener, topic, "{\"settings\":true}");
}

/* Of stations that told that theirs are others than are known here. */
static void ask_for_settings(gatherer *g)
{
    tw_error err = {0};
    if (twi_words_unknown(g->kind, g->ledger, wall_of(g), AGAIN_US, ask_settings, g,
                          &err) != TW_OK)
        fail(g, LEDGER, TW_EAGAIN, err.text);
}

static void forget_words(gatherer *g)
{
    tw_error err = {0};
    if (g->forgot_us != 0 && now_of(g) - g->forgot_us < FORGET_US)
        return;
    g->forgot_us = now_of(g);
    if (twi_words_forget(g->kind, g->ledger, wall_of(g), &err) != TW_OK)
        fail(g, LEDGER, TW_EAGAIN, err.text);
}

/* ---- silence --------------------------------------------------------------------- */

enum { SILENT_MAX = 256 }; /* that are told at once */

/* Who has fallen silent; they are told once the ledger is free. */
typedef struct silence {
    int64_t wall_us;
    size_t count;
    struct {
        char station[TWI_HEARD_NAME];
        int64_t heard_us;
    } one[SILENT_MAX];
} silence;

static void look_at(void *ctx, const twi_ledger_station *s)
{
    silence *q = ctx;
    if (s->silent || s->heard_us == 0 || q->count == SILENT_MAX ||
        strcmp(s->state, "down") == 0 || /* it went on purpose */
        !twi_usual_is_silent(s->usual_us, q->wall_us - s->heard_us))
        return;
    (void)snprintf(q->one[q->count].station, TWI_HEARD_NAME, "%s", s->name);
    q->one[q->count++].heard_us = s->heard_us;
}

static void notice_silence(gatherer *g)
{
    silence *q = calloc(1, sizeof *q);
    tw_error err = {0};
    if (!q)
        return;
    q->wall_us = wall_of(g);
    if (g->kind->stations(g->ledger, false, look_at, q, &err) != TW_OK)
        fail(g, LEDGER, TW_EAGAIN, err.text);
    for (size_t i = 0; i < q->count; i++) {
        bool first = false;
        if (g->kind->silence(g->ledger, q->one[i].station, &first, &err) == TW_OK &&
            first)
            g->of->silent(g->of->ctx, q->one[i].station, q->one[i].heard_us);
    }
    free(q);
}

/* ---- the round ------------------------------------------------------------------- */

static void look(gatherer *g)
{
    const int64_t now_us = now_of(g);
    if (g->looked_us != 0 && now_us - g->looked_us < LOOK_US)
        return;
    g->looked_us = now_us;
    ask(g);
    ask_for_settings(g);
    g->due = true;
    notice_silence(g);
    forget_words(g);
}

/* The ledger may not be there yet, or not any more. */
static bool has_ledger(gatherer *g)
{
    tw_error err = {0};
    if (g->ledger)
        return true;
    const tw_status st = g->kind->open(g->of->ledger, &g->ledger, &err);
    if (st != TW_OK)
        fail(g, LEDGER, st, err.text);
    return st == TW_OK;
}

static void go_round(gatherer *g)
{
    twi_sending out;
    const tw_clock *clock = &g->of->clock;
    if (g->later_us > now_of(g)) {
        clock->ops->sleep_until(clock->ctx, now_of(g) + WAIT_MS * INT64_C(1000));
        return;
    }
    if (!has_ledger(g))
        return;
    const bool there = g->brokers->listener_read(g->listener, WAIT_MS, &out);
    if (!there && !atomic_load(g->of->stop))
        fail(g, BROKER, TW_EAGAIN, out.text);
    if (!there) {
        forget(g); /* it comes again */
        return;
    }
    works(g, BROKER);
    if (g->count > 0)
        keep(g);
    else /* of what was nothing to keep nothing waits */
        (void)g->brokers->listener_acknowledge(g->listener);
    if (g->later_us > now_of(g))
        return;
    tell_words(g); /* nothing is told before what came is acknowledged */
    look(g);
    if (g->due && g->later_us <= now_of(g))
        tell_due(g);
}

static void listen_spec(gatherer *g, twi_listener_spec *out)
{
    static const char *const kept[] = {"+/+/sighting", "+/gone",     "+/alarm",
                                       "+/+/alarm",    "+/settings", "+/answer"};
    static const char *const passing[] = {"+/state", "+/+/state"};
    enum {
        KEPT = sizeof kept / sizeof *kept,
        PASSING = sizeof passing / sizeof *passing
    };
    *out = (twi_listener_spec){.to = g->of->broker,
                               .secret = g->of->secret,
                               .group = "tawny",
                               .most = UNDER_WAY,
                               .stop = g->of->stop,
                               .heard = hear,
                               .ctx = g};
    for (size_t i = 0; i < KEPT + PASSING; i++) {
        const char *below = i < KEPT ? kept[i] : passing[i - KEPT];
        (void)snprintf(g->filters[i], TOPIC_BYTES, "%.*s/%s", TOPIC_BYTES - 16, g->root,
                       below);
        *(i < KEPT ? &out->topics[i] : &out->passing[i - KEPT]) = g->filters[i];
    }
}

static tw_status begin(gatherer *g, tw_error *err)
{
    char client[128];
    twi_listener_spec spec;
    twi_topic_root(g->of->broker->url, g->root, sizeof g->root);
    (void)snprintf(client, sizeof client, "tawny-gather-%s", g->of->session);
    g->batch = calloc(ROOM, sizeof *g->batch);
    if (!g->batch)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    if (!(g->brokers = twi_broker_load(err)) ||
        !(g->kind = twi_ledger_find(g->of->ledger, err)))
        return TW_ENOTSUP;
    listen_spec(g, &spec);
    spec.client = client;
    return g->brokers->listener_new(&spec, &g->listener, err);
}

tw_status twi_gather(const twi_gathering *of, tw_error *err)
{
    gatherer g = {.of = of};
    const tw_status st = begin(&g, err);
    while (st == TW_OK && !atomic_load(of->stop))
        go_round(&g);
    forget(&g);
    if (g.listener)
        g.brokers->listener_free(g.listener);
    if (g.ledger)
        g.kind->close(g.ledger);
    free(g.batch);
    return st;
}
