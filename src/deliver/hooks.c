/* Events that wait for programs, and the threads that run these. */
#include "hooks_state.h"
#include "classify.h"

#include <pthread.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../base/thread.h"
#include "../json/json.h"
#include "../core/naming.h"
#include "../settings/sections.h"
#include "../station/why.h"
#include "tawny/events.h"
#include "tawny/settings.h"

enum { ARG_BYTES = 4096 };

#define LOW_EVERY_US (INT64_C(3600) * 1000000)

typedef struct hook {
    char *name, *cameras;
    char *text; /* of run; the words lie in it */
    char *words[TWI_PROGRAM_ARGS_MAX + 1];
    int64_t on, timeout_us;
    bool classifies;
} hook;

typedef struct entry {
    struct entry *next;
    const hook *of;
    twi_fields fields;
    char *input; /* the event as JSON, for the program's standard input */
} entry;

struct twi_hooks {
    hook *hooks;
    size_t count;
    char *station, *store;
    const tw_card *card;
    tw_clock clock;
    twi_hook_report_fn callback;
    void *ctx;
    pthread_t threads[TWI_HOOKS_AT_ONCE];
    size_t started;
    _Atomic int64_t until_us; /* on CLOCK_MONOTONIC; 0: the station goes on */
    pthread_mutex_t lock;
    pthread_cond_t came;
    /* Under the lock. */
    entry *first, *last;
    size_t waiting;
    bool ending;
    bool dropping;       /* events, and that has been told */
    int64_t low_next_us; /* the card is not told low again before */
};

static void tell(const twi_hooks *h, tw_status st, const char *hook_name,
                 const char *what)
{
    char line[2 * TWI_PROGRAM_LINE_MAX + 128];
    (void)snprintf(line, sizeof line, "hook %s: %s", hook_name, what);
    if (h->callback)
        h->callback(h->ctx, st, line);
}

/* ---- what happened ---------------------------------------------------------------- */

static const struct {
    int64_t bit;
    const char *word;
} WORDS[] = {{TWI_HOOK_BEGAN, "began"}, {TWI_HOOK_STILL, "still"},
             {TWI_HOOK_CLIP, "clip"},   {TWI_HOOK_ENDED, "ended"},
             {TWI_HOOK_LOST, "lost"},   {TWI_HOOK_BACK, "back"},
             {TWI_HOOK_LOW, "low"},     {TWI_HOOK_STOPPED, "stopped"},
             {TWI_HOOK_ALARM, "alarm"}, {TWI_HOOK_DAILY, "daily"}};

/* @return the bit of an event; 0: no hook is started on it. */
static int64_t bit_of(const tw_event *e)
{
    switch ((enum tw_event_kind_values)e->kind) {
    case TW_EVENT_BEGAN: return TWI_HOOK_BEGAN;
    case TW_EVENT_ENDED: return TWI_HOOK_ENDED;
    case TW_EVENT_LOST: return TWI_HOOK_LOST;
    case TW_EVENT_BACK: return TWI_HOOK_BACK;
    case TW_EVENT_FREED: return TWI_HOOK_LOW;
    case TW_EVENT_STOPPED: return TWI_HOOK_STOPPED;
    case TW_EVENT_ALARM: return TWI_HOOK_ALARM;
    case TW_EVENT_DAILY: return TWI_HOOK_DAILY;
    case TW_EVENT_STORED:
        if (strcmp(e->file_kind, twi_kind_name(TWI_KIND_STILL)) == 0)
            return TWI_HOOK_STILL;
        return strcmp(e->file_kind, twi_kind_name(TWI_KIND_CLIP)) == 0 ? TWI_HOOK_CLIP
                                                                       : 0;
    default: return 0;
    }
}

static const char *word_of(int64_t bit)
{
    for (size_t i = 0; i < sizeof WORDS / sizeof *WORDS; i++)
        if (WORDS[i].bit == bit)
            return WORDS[i].word;
    return "";
}

static void set(twi_fields *f, twi_field field, const char *value)
{
    (void)snprintf(f->value[field], TWI_FIELD_MAX, "%s", value ? value : "");
}

static void describe(const twi_hooks *h, const tw_event *e, int64_t bit, twi_fields *f)
{
    char why[256];
    memset(f, 0, sizeof *f);
    set(f, TWI_FIELD_EVENT, word_of(bit));
    set(f, TWI_FIELD_STATION, h->station);
    set(f, TWI_FIELD_CAMERA, e->camera);
    set(f, TWI_FIELD_KIND, e->file_kind);
    set(f, TWI_FIELD_TEXT, e->text);
    (void)twi_utc(e->wall_us > 0 ? e->wall_us : h->clock.ops->wall_us(h->clock.ctx),
                  f->value[TWI_FIELD_TIME]);
    if (e->sighting)
        (void)snprintf(f->value[TWI_FIELD_SIGHTING], TWI_FIELD_MAX, "%u",
                       (unsigned)e->sighting->number);
    if (bit == TWI_HOOK_BEGAN)
        set(f, TWI_FIELD_TEXT, twi_why_began(e->sighting, why, sizeof why));
    if (e->file)
        (void)snprintf(f->value[TWI_FIELD_FILE], TWI_FIELD_MAX, "%s%s%s",
                       h->store ? h->store : "", h->store ? "/" : "", e->file);
}

/* The event as every subscriber gets it, with the word that the hook waits for, and where
 * the file lies. */
static char *json_of(const twi_hooks *h, const tw_event *e, const twi_fields *f)
{
    json_t *o = twi_json_event(e, h->station, h->clock.ops->wall_us(h->clock.ctx));
    (void)json_object_set_new(o, "event", json_string(f->value[TWI_FIELD_EVENT]));
    if (e->file)
        (void)json_object_set_new(o, "path", json_string(f->value[TWI_FIELD_FILE]));
    return twi_json_text(o);
}

/* Under the lock. @return false: there is no room. */
static bool enqueue(twi_hooks *h, const hook *of, const twi_fields *fields,
                    const char *input)
{
    entry *made = h->waiting < TWI_HOOKS_WAITING ? malloc(sizeof *made) : NULL;
    if (!made)
        return false;
    *made = (entry){NULL, of, *fields, input ? strdup(input) : NULL};
    if (h->last)
        h->last->next = made;
    else
        h->first = made;
    h->last = made;
    h->waiting++;
    (void)pthread_cond_signal(&h->came);
    return true;
}

/* The card is told low once an hour. Under the lock. */
static bool is_told(twi_hooks *h, int64_t bit)
{
    const int64_t now_us = h->clock.ops->now_us(h->clock.ctx);
    if (bit != TWI_HOOK_LOW)
        return true;
    if (h->low_next_us != 0 && now_us < h->low_next_us)
        return false;
    h->low_next_us = now_us + LOW_EVERY_US;
    return true;
}

static bool is_for(const hook *k, int64_t bit, const char *camera)
{
    const bool all = k->cameras[strspn(k->cameras, " \t,")] == '\0';
    return (k->on & bit) != 0 &&
           (all || !camera || twi_settings_names(k->cameras, camera));
}

void twi_hooks_event(twi_hooks *h, const tw_event *e)
{
    const int64_t bit = h ? bit_of(e) : 0;
    twi_fields fields;
    const hook *refused = NULL;
    if (bit == 0)
        return;
    describe(h, e, bit, &fields);
    char *input = json_of(h, e, &fields);
    (void)pthread_mutex_lock(&h->lock);
    const bool wanted = is_told(h, bit);
    for (size_t i = 0; wanted && i < h->count; i++)
        if (is_for(&h->hooks[i], bit, e->camera) &&
            !enqueue(h, &h->hooks[i], &fields, input) && !h->dropping)
            refused = &h->hooks[i];
    h->dropping = h->dropping || refused;
    (void)pthread_mutex_unlock(&h->lock);
    free(input);
    if (refused)
        tell(h, TW_ESIZE, refused->name,
             "events come faster than its program ends: some are left out");
}

/* ---- running ---------------------------------------------------------------------- */

static void say(const twi_hooks *h, const hook *k, const twi_program_outcome *o)
{
    char what[TWI_PROGRAM_LINE_MAX + 96];
    const char *colon = o->last[0] ? ": " : "";
    if (o->late)
        (void)snprintf(what, sizeof what, "ended after %.0f s, its timeout%s%s",
                       (double)o->us / 1e6, colon, o->last);
    else if (o->code != 0)
        (void)snprintf(what, sizeof what, "exit code %d%s%s", o->code, colon, o->last);
    else
        (void)snprintf(what, sizeof what, "done in %.1f s%s%s", (double)o->us / 1e6,
                       colon, o->last);
    tell(h, o->late ? TW_ETIMEOUT : o->code != 0 ? TW_EIO : TW_OK, k->name, what);
}

/* What it says of the sighting that it was started for. */
static void take_answer(const twi_hooks *h, const entry *what, const char *answer)
{
    char said[256];
    tw_error err = {0};
    const char *number = what->fields.value[TWI_FIELD_SIGHTING];
    if (!h->store || number[0] == '\0')
        return;
    const twi_classified who = {.store = h->store,
                                .card = h->card,
                                .program = what->of->name,
                                .sighting = strtoll(number, NULL, 10),
                                .at_us = h->clock.ops->wall_us(h->clock.ctx)};
    const tw_status st = twi_classify(&who, answer, said, sizeof said, &err);
    if (st == TW_EEXIST) /* as it should be */
        return;
    tell(h, st, what->of->name, st == TW_OK ? said : err.text);
}

static void run(const twi_hooks *h, const entry *what)
{
    const hook *k = what->of;
    char *argv[TWI_PROGRAM_ARGS_MAX + 1] = {NULL};
    twi_program_outcome outcome;
    tw_error err = {0};
    char **environment = twi_fields_environment(&what->fields);
    tw_status st =
        what->input && environment ? TW_OK : tw_fail(&err, TW_ENOMEM, "out of memory");
    for (size_t i = 0; st == TW_OK && k->words[i]; i++) {
        argv[i] = malloc(ARG_BYTES);
        st = argv[i] ? twi_fields_expand(k->words[i], &what->fields, argv[i], ARG_BYTES)
                     : TW_ENOMEM;
        if (st != TW_OK)
            (void)tw_fail(&err, st, "an argument is too long");
    }
    if (st == TW_OK)
        st = twi_program_run(argv, environment, what->input, k->timeout_us, &h->until_us,
                             &outcome, &err);
    if (st == TW_OK && k->classifies && !outcome.late && outcome.code == 0)
        take_answer(h, what, outcome.last);
    else if (st == TW_OK)
        say(h, k, &outcome);
    else
        tell(h, st, k->name, err.text);
    twi_fields_free_environment(environment);
    for (size_t i = 0; i < TWI_PROGRAM_ARGS_MAX; i++)
        free(argv[i]);
}

/* @return what is next; NULL: that was all. */
static entry *take(twi_hooks *h)
{
    (void)pthread_mutex_lock(&h->lock);
    while (!h->first && !h->ending)
        (void)pthread_cond_wait(&h->came, &h->lock);
    entry *taken = h->first;
    if (taken) {
        h->first = taken->next;
        h->last = h->first ? h->last : NULL;
        h->waiting--;
        h->dropping = h->dropping && h->waiting > 0;
    }
    (void)pthread_mutex_unlock(&h->lock);
    return taken;
}

static void *work(void *ctx)
{
    twi_hooks *h = ctx;
    for (entry *what = take(h); what; what = take(h)) {
        const int64_t until_us = atomic_load(&h->until_us);
        if (until_us == 0 || twi_program_now() < until_us)
            run(h, what);
        else
            tell(h, TW_ESTOPPED, what->of->name,
                 "an event is left out: the station stops");
        free(what->input);
        free(what);
    }
    return NULL;
}

/* ---- making ----------------------------------------------------------------------- */

static tw_status read_hook(hook *k, const twi_hook_settings *from, tw_error *err)
{
    k->name = strdup(from->name);
    k->cameras = strdup(from->cameras ? from->cameras : "");
    k->text = strdup(from->run ? from->run : "");
    k->on = from->on;
    k->timeout_us = from->timeout_us;
    k->classifies = from->classifies;
    if (!k->name || !k->cameras || !k->text)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    if (twi_program_split(k->text, k->words) != TW_OK)
        return tw_fail(err, TW_ESYNTAX,
                       "hook %s: run = %s: expected a program and at most %d arguments, "
                       "quotes closed",
                       from->name, from->run ? from->run : "", TWI_PROGRAM_ARGS_MAX - 1);
    return TW_OK;
}

static tw_status read_hooks(twi_hooks *h, const tw_settings *settings, tw_error *err)
{
    twi_hook_settings from;
    tw_status st = TW_OK;
    size_t count = 0;
    while (twi_settings_hook_name(settings, count))
        count++;
    h->hooks = calloc(count > 0 ? count : 1, sizeof *h->hooks);
    if (!h->hooks)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    for (; st == TW_OK && h->count < count; h->count++) {
        (void)twi_settings_hook(settings, twi_settings_hook_name(settings, h->count),
                                &from);
        st = read_hook(&h->hooks[h->count], &from, err);
    }
    return st;
}

static void drop_hooks(twi_hooks *h)
{
    for (size_t i = 0; i < h->count; i++) {
        free(h->hooks[i].name);
        free(h->hooks[i].cameras);
        free(h->hooks[i].text);
    }
    free(h->hooks);
}

static void start_threads(twi_hooks *h)
{
    while (h->started < TWI_HOOKS_AT_ONCE &&
           twi_thread_start(&h->threads[h->started], work, h))
        h->started++;
}

tw_status twi_hooks_new(const tw_settings *settings, const char *store,
                        const tw_card *card, tw_clock clock, twi_hook_report_fn callback,
                        void *ctx, twi_hooks **out, tw_error *err)
{
    twi_station_settings station;
    *out = NULL;
    if (!twi_settings_hook_name(settings, 0))
        return TW_OK;
    twi_hooks *h = calloc(1, sizeof *h);
    if (!h)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    h->clock = clock;
    h->card = card;
    h->callback = callback;
    h->ctx = ctx;
    (void)pthread_mutex_init(&h->lock, NULL);
    (void)pthread_cond_init(&h->came, NULL);
    twi_settings_station(settings, &station);
    h->station = strdup(station.name);
    h->store = store ? strdup(store) : NULL;
    tw_status st = read_hooks(h, settings, err);
    if (st == TW_OK && (!h->station || (store && !h->store)))
        st = tw_fail(err, TW_ENOMEM, "out of memory");
    if (st == TW_OK)
        start_threads(h);
    if (st == TW_OK && h->started == 0)
        st = tw_fail(err, TW_ENOMEM, "cannot start a thread for the hooks");
    if (st == TW_OK)
        *out = h;
    else
        twi_hooks_free(h);
    return st;
}

void twi_hooks_free(twi_hooks *h)
{
    if (!h)
        return;
    atomic_store(&h->until_us, twi_program_now() + TWI_HOOKS_END_S * INT64_C(1000000));
    (void)pthread_mutex_lock(&h->lock);
    h->ending = true;
    (void)pthread_cond_broadcast(&h->came);
    (void)pthread_mutex_unlock(&h->lock);
    for (size_t i = 0; i < h->started; i++)
        (void)pthread_join(h->threads[i], NULL);
    (void)pthread_cond_destroy(&h->came);
    (void)pthread_mutex_destroy(&h->lock);
    drop_hooks(h);
    free(h->station);
    free(h->store);
    free(h);
}

/* ---- trying ----------------------------------------------------------------------- */

tw_status twi_hooks_try(const tw_settings *settings, tw_problem_fn callback, void *ctx)
{
    twi_hooks h = {.count = 0};
    tw_error err = {0};
    const tw_status read = read_hooks(&h, settings, &err);
    bool good = read == TW_OK;
    if (!good)
        callback(ctx, err.text);
    for (size_t i = 0; read == TW_OK && i < h.count; i++) {
        char line[512];
        if (twi_program_is_there(h.hooks[i].words[0]))
            continue;
        (void)snprintf(line, sizeof line, "hook %s: %s is not there, or may not be run",
                       h.hooks[i].name, h.hooks[i].words[0]);
        callback(ctx, line);
        good = false;
    }
    drop_hooks(&h);
    return good ? TW_OK : TW_ENOENT;
}
