/* Live pictures: asked for over the broker while somebody looks, by a connection of its
 * own that is there only meanwhile. */
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>

#include "../base/thread.h"
#include "../gather/heard.h"
#include "../net/broker.h"
#include "../net/topic.h"
#include "many_state.h"

enum {
    LOOKED_MAX = 16,
    STEP_MS = 100,
    FOR_S = 30,          /* that a station is asked for ... */
    AGAIN_US = 10000000, /* ... and asked again */
    TOPIC_BYTES = 2 * TWI_HEARD_NAME + 512
};

/* A camera that a station was asked for. */
typedef struct asked {
    char name[TWI_PAGE_CAMERA];
    int64_t at_us;
} asked;

struct twi_many_look {
    twi_many *many;
    const twi_broker_module *brokers;
    twi_broker *broker; /* NULL: nobody looks */
    char root[TOPIC_BYTES / 2], filter[TOPIC_BYTES], client[128];
    asked all[LOOKED_MAX];
    atomic_bool ending;
    pthread_t thread;
    bool started;
};

static int64_t now_of(const twi_many_look *l)
{
    const tw_clock *clock = &l->many->spec.clock;
    return clock->ops->now_us(clock->ctx);
}

/* ---- pictures that come ----------------------------------------------------------- */

/* "ROOT/north/kerb/picture" */
static void hear(void *ctx, const char *topic, const void *payload, size_t bytes)
{
    twi_many_look *l = ctx;
    char name[TWI_PAGE_CAMERA];
    const size_t root = strlen(l->root), n = strlen(topic);
    static const char END[] = "/picture";
    const size_t end = sizeof END - 1;
    const uint8_t *jpeg = payload;
    if (n <= root + 1 + end || strncmp(topic, l->root, root) != 0 || topic[root] != '/' ||
        strcmp(topic + n - end, END) != 0 || bytes < 4 || jpeg[0] != 0xFF ||
        jpeg[1] != 0xD8)
        return;
    const int length = (int)(n - end - root - 1);
    if (length >= (int)sizeof name)
        return;
    (void)snprintf(name, sizeof name, "%.*s", length, topic + root + 1);
    twi_page_show(l->many->page, name, payload, bytes);
}

/* ---- asking ----------------------------------------------------------------------- */

/* @return whether a camera is to be asked for now. */
static bool is_due(twi_many_look *l, const char *name)
{
    const int64_t now_us = now_of(l);
    asked *oldest = &l->all[0];
    for (size_t i = 0; i < LOOKED_MAX; i++) {
        if (l->all[i].at_us < oldest->at_us)
            oldest = &l->all[i];
        if (strcmp(l->all[i].name, name) != 0)
            continue;
        if (l->all[i].at_us != 0 && now_us - l->all[i].at_us < AGAIN_US)
            return false;
        l->all[i].at_us = now_us;
        return true;
    }
    (void)snprintf(oldest->name, sizeof oldest->name, "%s", name);
    oldest->at_us = now_us;
    return true;
}

static void ask_for(const twi_many_look *l, const char *name)
{
    char station[TWI_PAGE_CAMERA], topic[TOPIC_BYTES];
    twi_sending out;
    (void)snprintf(station, sizeof station, "%s", name);
    char *slash = strrchr(station, '/');
    if (!slash)
        return;
    *slash = '\0';
    json_t *o = json_pack("{ss si}", "look", slash + 1, "for_s", FOR_S);
    char *text = o ? json_dumps(o, JSON_COMPACT) : NULL;
    if (text && twi_heard_topic(l->root, station, "ask", topic, sizeof topic))
        l->brokers->broker_publish(l->broker, topic, text, false, &out);
    free(text);
    json_decref(o);
}

static void make_broker(twi_many_look *l)
{
    const twi_broker_spec spec = {.to = l->many->spec.broker,
                                  .secret = l->many->spec.secret,
                                  .client = l->client,
                                  .orders = l->filter,
                                  .stop = &l->ending,
                                  .heard = hear,
                                  .ctx = l};
    if (l->brokers->broker_new(&spec, &l->broker, NULL) != TW_OK)
        l->broker = NULL;
    memset(l->all, 0, sizeof l->all);
}

static void nap(const twi_many_look *l)
{
    const tw_clock *clock = &l->many->spec.clock;
    clock->ops->sleep_until(clock->ctx, now_of(l) + STEP_MS * INT64_C(1000));
}

static void go_round(twi_many_look *l)
{
    char names[LOOKED_MAX][TWI_PAGE_CAMERA];
    twi_sending out;
    const size_t count = twi_page_looked_at(l->many->page, names, LOOKED_MAX);
    if (count == 0 && l->broker) {
        l->brokers->broker_free(l->broker);
        l->broker = NULL;
    }
    if (count > 0 && !l->broker)
        make_broker(l);
    if (!l->broker || !l->brokers->broker_step(l->broker, STEP_MS, &out)) {
        nap(l);
        return;
    }
    for (size_t i = 0; i < count; i++)
        if (is_due(l, names[i]))
            ask_for(l, names[i]);
}

static void *run(void *ctx)
{
    twi_many_look *l = ctx;
    while (!atomic_load(&l->ending))
        go_round(l);
    if (l->broker)
        l->brokers->broker_free(l->broker);
    return NULL;
}

/* ---- beginning and ending --------------------------------------------------------- */

tw_status twi_many_look_new(twi_many *m, twi_many_look **out, tw_error *err)
{
    twi_many_look *l = calloc(1, sizeof *l);
    *out = l;
    if (!l)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    l->many = m;
    if (!(l->brokers = twi_broker_load(err)))
        return TW_ENOTSUP;
    twi_topic_root(m->spec.broker->url, l->root, sizeof l->root);
    (void)snprintf(l->filter, sizeof l->filter, "%s/+/+/picture", l->root);
    (void)snprintf(l->client, sizeof l->client, "tawny-look-%s", m->spec.session);
    l->started = twi_thread_start(&l->thread, run, l);
    return l->started ? TW_OK : tw_fail(err, TW_ENOMEM, "no thread for live pictures");
}

void twi_many_look_free(twi_many_look *l)
{
    if (!l)
        return;
    atomic_store(&l->ending, true);
    if (l->started)
        (void)pthread_join(l->thread, NULL);
    free(l);
}

/* ---- answering -------------------------------------------------------------------- */

static bool has_camera(const known *k, const char *station, const char *camera)
{
    for (size_t i = 0; i < k->count; i++) {
        const known_station *s = &k->station[i];
        for (size_t c = 0; strcmp(s->name, station) == 0 && c < s->cameras; c++)
            if (strcmp(k->camera[s->first + c].name, camera) == 0)
                return true;
    }
    return false;
}

void twi_many_picture(twi_page *p, const twi_asked *r, const char *name,
                      twi_web_answer *out)
{
    twi_many *m = twi_page_ctx(p);
    tw_error err = {0};
    const char *slash = strrchr(name, '/');
    char *station = slash ? strndup(name, (size_t)(slash - name)) : NULL;
    const known *k = station ? twi_known_take(m, &err) : NULL;
    const bool there =
        k && twi_scope_has(m, r, station) && has_camera(k, station, slash + 1);
    if (k)
        twi_known_done(m);
    free(station);
    if (there)
        twi_answer_picture(p, r, name, out);
    else
        twi_answer_error(err.text[0] ? 503 : 404,
                         err.text[0] ? err.text : "there is no such camera", out);
}
