/* Brokers: the state of station and cameras is retained there, sightings are told as they
 * go on, and orders are taken if that is allowed. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "destination.h"
#include "retell.h"
#include "said.h"
#include "../station/series.h"
#include "../core/naming.h"
#include "../net/topic.h"
#include "tawny/version.h"

enum {
    CAMERAS_MAX = 64,
    TOPIC_BYTES = 512,
    STEP_MS = 200,         /* between looks at what has happened */
    POLL_US = 1000000,     /* at the cameras */
    REFRESH_US = 60000000, /* a state is told again after, with new figures */
    SECOND_US = 1000000,
    ORDER_MOST_S = 366 * 86400, /* that an order may hold */
    RETOLD_MAX = 10,            /* in each step: what happens now is not to wait */
    ANSWERS_MAX = 16            /* that wait to be told */
};

/* A state is refreshed thrice before it is too old: whoever finds an older one knows that
 * its station has died without a word, in the middle of whatever it says. */
#define HOLDS_US (INT64_C(3) * REFRESH_US)

/* What the broker was told. */
typedef struct broker_view {
    unsigned times; /* that it was connected */
    int64_t polled_us;
    char will_topic[TOPIC_BYTES], will[256], orders[TOPIC_BYTES], client[128];
    struct {
        char name[64], state[32];
        uint32_t sightings;
        int64_t told_us;
        bool placed;
        int64_t latitude, longitude; /* millionths of a degree */
    } camera[CAMERAS_MAX];
    int64_t station_us;
    char asks[TOPIC_BYTES], series[TWI_SERIES_BYTES];
    twi_retelling again;
    twi_draft_word answers[ANSWERS_MAX];
    size_t answer_count;
    unsigned plain_times; /* of the settings that were told last */
    char digest[TWI_DIGEST_TEXT];
} broker_view;

static int64_t now_of(const destination *d)
{
    return d->of->clock.ops->now_us(d->of->clock.ctx);
}

/* ---- topics ---------------------------------------------------------------------- */

/* "tawny/STATION/CAMERA/what"; the first part is the path of the URL. */
static void topic(const destination *d, const char *camera, const char *what,
                  char out[TOPIC_BYTES])
{
    twi_topic_root(d->set.url, out, TOPIC_BYTES / 2);
    twi_topic_add(out, TOPIC_BYTES, d->of->station);
    if (camera)
        twi_topic_add(out, TOPIC_BYTES, camera);
    twi_topic_add(out, TOPIC_BYTES, what);
}

/* ---- connecting ------------------------------------------------------------------- */

static twi_looking *look_of(const destination *d)
{
    (void)pthread_mutex_lock(&d->of->lock);
    twi_looking *look = d->set.live ? d->of->look : NULL;
    (void)pthread_mutex_unlock(&d->of->lock);
    return look;
}

/* @return whether it was a question for live pictures. Where they are not given, it is
 * as if nobody had asked. */
static bool hear_look(destination *d, const void *payload, size_t bytes)
{
    twi_looking *look = look_of(d);
    const tw_status st =
        look ? twi_looking_take(look, d->set.name, payload, bytes) : TW_ENOTSUP;
    if (st == TW_ESYNTAX)
        twi_deliver_tell(d, TW_EINVAL,
                         "a question was not understood: write {\"look\": CAMERA, "
                         "\"for_s\": SECONDS}");
    return st != TW_ENOTSUP || twi_looking_is(payload, bytes);
}

/* {"settings": true} */
static bool is_curious(const void *payload, size_t bytes)
{
    json_t *o = bytes < 256 ? json_loadb(payload, bytes, 0, NULL) : NULL;
    const bool is = json_is_true(json_object_get(o, "settings"));
    json_decref(o);
    return is;
}

/* @return whether it was a question for the settings, which are told again. */
static bool hear_curious(destination *d, const void *payload, size_t bytes)
{
    if (!is_curious(payload, bytes))
        return false;
    d->view->plain_times = 0;
    d->view->digest[0] = '\0';
    return true;
}

/* What was told once is told again to who asks: nothing else comes of it, so that needs
 * no leave to give orders. */
static void hear_ask(destination *d, const void *payload, size_t bytes)
{
    broker_view *v = d->view;
    if (hear_look(d, payload, bytes) || hear_curious(d, payload, bytes))
        return;
    if (twi_retell_take(&v->again, v->series, payload, bytes) == TW_ESYNTAX)
        twi_deliver_tell(d, TW_EINVAL,
                         "a question was not understood: write "
                         "{\"series\": SERIES, \"numbers\": [[1, 9]]}");
}

/* One for which there is no room is asked for again. */
static void answer(broker_view *v, const twi_draft_word *word)
{
    if (word->id > 0 && v->answer_count < ANSWERS_MAX)
        v->answers[v->answer_count++] = *word;
}

/* What is said of a sighting is kept, and its record told again, to all who listen.
 * @return whether it was something of that kind. */
static bool hear_said(destination *d, const void *payload, size_t bytes)
{
    broker_view *v = d->view;
    twi_said said = {0};
    tw_error err = {0};
    const tw_clock *clock = &d->of->clock;
    const tw_status st =
        twi_said_take(d->set.orders ? d->catalogue : NULL, v->series, payload, bytes,
                      clock->ops->wall_us(clock->ctx), &said, &err);
    const char *why = !d->set.orders    ? "orders = no"
                      : err.text[0]     ? err.text
                      : st == TW_ENOENT ? "there is no such sighting"
                                        : "not understood";
    twi_draft_word word = {.id = said.id, .taken = st == TW_OK};
    if (st == TW_ENOTSUP)
        return false;
    if (st == TW_OK) {
        twi_retell_add(&v->again, said.number);
        twi_deliver_tell(d, TW_OK, "something was said of sighting %u",
                         (unsigned)said.number);
    } else {
        (void)snprintf(word.text, sizeof word.text, "%s", why);
        twi_deliver_tell(d, TW_EINVAL, "what was said of a sighting was not taken: %s",
                         why);
    }
    answer(v, &word);
    return true;
}

/* @return whether it was settings. */
static bool hear_settings(destination *d, const void *payload, size_t bytes)
{
    static const twi_afar NO_WAY;
    twi_draft_word word;
    tw_error err = {0};
    (void)pthread_mutex_lock(&d->of->lock);
    const twi_afar *afar = d->of->afar ? d->of->afar : &NO_WAY;
    (void)pthread_mutex_unlock(&d->of->lock);
    const twi_afar_way way = {d->brokers, d->set.settings_from, d->of->station,
                              d->catalogue};
    const tw_status st = twi_afar_take(afar, &way, payload, bytes, &word, &err);
    if (st == TW_ENOTSUP)
        return false;
    if (st == TW_OK && word.taken)
        twi_deliver_tell(d, TW_OK, "settings came from afar: %s", word.text);
    else
        twi_deliver_tell(d, TW_EINVAL, "settings from afar were not taken: %s",
                         st == TW_OK   ? word.text
                         : err.text[0] ? err.text
                                       : "not understood");
    if (st == TW_OK)
        answer(d->view, &word);
    return true;
}

/* By which an order is to be answered; 0: it is not. */
static int64_t id_of(const void *payload, size_t bytes)
{
    json_t *o = bytes <= 4096 ? json_loadb(payload, bytes, 0, NULL) : NULL;
    const int64_t id = json_integer_value(json_object_get(o, "id"));
    json_decref(o);
    return id;
}

static tw_status obey(destination *d, const void *payload, size_t bytes, tw_error *err)
{
    char who[96];
    (void)snprintf(who, sizeof who, "the broker %s", d->set.name);
    if (!d->set.orders)
        return tw_fail(err, TW_EACCES, "orders = no");
    (void)pthread_mutex_lock(&d->of->station_lock);
    const tw_status st = d->of->running
                             ? twi_deliver_order(d->of->running, payload, bytes, who, err)
                             : tw_fail(err, TW_EAGAIN, "no station runs");
    (void)pthread_mutex_unlock(&d->of->station_lock);
    return st;
}

static void hear_order(destination *d, const void *payload, size_t bytes)
{
    tw_error err = {0};
    const tw_status st = obey(d, payload, bytes, &err);
    twi_draft_word word = {.id = id_of(payload, bytes), .taken = st == TW_OK};
    (void)snprintf(word.text, sizeof word.text, "%s", err.text);
    if (st == TW_OK)
        twi_deliver_tell(d, TW_OK, "an order was taken: %s", err.text);
    else
        twi_deliver_tell(d, TW_EINVAL, "an order was not taken: %s", err.text);
    if (d->view && st != TW_EAGAIN) /* that comes again */
        answer(d->view, &word);
}

static void hear(void *ctx, const char *name, const void *payload, size_t bytes)
{
    destination *d = ctx;
    if (d->view && strcmp(name, d->view->asks) == 0) {
        hear_ask(d, payload, bytes);
        return;
    }
    if (d->view && (hear_settings(d, payload, bytes) || hear_said(d, payload, bytes)))
        return;
    hear_order(d, payload, bytes);
}

static void hear_talk(void *ctx, char who, const char *line)
{
    const destination *d = ctx;
    if (d->on_line)
        d->on_line(d->talk_ctx, who, line);
}

static tw_status make_view(destination *d)
{
    d->view = calloc(1, sizeof *d->view);
    if (!d->view)
        return TW_ENOMEM;
    topic(d, NULL, "state", d->view->will_topic);
    topic(d, NULL, "order", d->view->orders);
    topic(d, NULL, "ask", d->view->asks);
    if (d->catalogue)
        (void)twi_catalogue_series(d->catalogue, d->view->series, NULL);
    (void)snprintf(d->view->client, sizeof d->view->client, "tawny-");
    twi_topic_add(d->view->client, sizeof d->view->client, d->of->station);
    twi_topic_add(d->view->client, sizeof d->view->client, d->set.name);
    char *will = twi_json_text(twi_json_station(d->of->station, "dead", NULL, NULL));
    (void)snprintf(d->view->will, sizeof d->view->will, "%s", will ? will : "");
    free(will);
    return TW_OK;
}

static bool make_broker(destination *d, twi_sending *out)
{
    char secret[SECRET_BYTES];
    tw_error err = {0};
    if (d->broker)
        return true;
    if (!d->view && make_view(d) != TW_OK) {
        twi_deliver_fail(out, TWI_FAULT_OTHER, "out of memory");
        return false;
    }
    if (!twi_deliver_secret(d, secret, out))
        return false;
    const twi_broker_spec spec = {
        .to = &d->set,
        .secret = secret,
        .client = d->view->client,
        .will_topic = d->view->will_topic,
        .will = d->view->will,
        .orders = d->set.orders || d->set.settings_from[0] ? d->view->orders : NULL,
        .asks = d->view->series[0] ? d->view->asks : NULL,
        .stop = &d->of->stop,
        .heard = hear,
        .on_line = d->on_line ? hear_talk : NULL,
        .ctx = d};
    const tw_status st = d->brokers->broker_new(&spec, &d->broker, &err);
    explicit_bzero(secret, sizeof secret);
    if (st != TW_OK)
        twi_deliver_fail(out, TWI_FAULT_URL, "%s", err.text);
    d->view->times = 0; /* it counts anew */
    return st == TW_OK;
}

/* @return whether it is connected; out says why not. */
static bool ready(destination *d, twi_sending *out)
{
    return make_broker(d, out) && d->brokers->broker_step(d->broker, 0, out);
}

static bool publish_text(destination *d, const char *camera, const char *what, char *text,
                         bool retain, twi_sending *out)
{
    char name[TOPIC_BYTES];
    topic(d, camera, what, name);
    if (text)
        d->brokers->broker_publish(d->broker, name, text, retain, out);
    else
        twi_deliver_fail(out, TWI_FAULT_OTHER, "out of memory");
    out->bytes = text ? strlen(name) + strlen(text) : 0;
    free(text);
    return out->verdict == TWI_DELIVERED;
}

/* Publish JSON and let it go. */
static bool publish(destination *d, const char *camera, const char *what, json_t *json,
                    bool retain, twi_sending *out)
{
    return publish_text(d, camera, what, twi_json_text(json), retain, out);
}

/* ---- news ------------------------------------------------------------------------ */

static bool next_news(destination *d, news *out)
{
    (void)pthread_mutex_lock(&d->of->lock);
    const bool some = d->news_count > 0;
    if (some) {
        *out = d->news[d->news_first];
        d->news_first = (d->news_first + 1) % NEWS_MAX;
        d->news_count--;
    }
    (void)pthread_mutex_unlock(&d->of->lock);
    return some;
}

static bool tell_news(destination *d, twi_sending *out)
{
    news n;
    bool good = true;
    for (int i = 0; i < NEWS_MAX && good && next_news(d, &n); i++)
        good = publish_text(d, n.camera, "sighting", n.text, false, out);
    return good;
}

static void forget_news(destination *d)
{
    news n;
    for (int i = 0; i < NEWS_MAX && next_news(d, &n); i++)
        free(n.text);
}

/* ---- what waits ------------------------------------------------------------------- */

static bool take_item(void *ctx, const twi_outbox_item *item)
{
    twi_message_take(item, ctx);
    return false;
}

static void send_record(destination *d, const twi_outbox_batch *batch, twi_sending *out)
{
    message_item item = {.what = ""};
    json_t *o = NULL;
    if (!ready(d, out))
        return;
    (void)twi_outbox_batch_items(d->catalogue, batch, take_item, &item, NULL);
    if (item.entry != 0)
        o = twi_message_alarm(d, &item);
    else if (item.sighting != 0)
        o = twi_message_record(d, item.sighting, "end");
    if (!o) {
        twi_deliver_fail(out, TWI_FAULT_GONE, "the sighting is no more in the catalogue");
        return;
    }
    if (tell_news(d, out)) /* what came before its end is told before */
        (void)publish(d, item.camera[0] ? item.camera : NULL,
                      item.entry != 0 ? item.what : "sighting", o, false, out);
    else
        json_decref(o);
}

/* ---- what was told before --------------------------------------------------------- */

/* What is no more is said to be gone, so that it is not asked for again; what still runs
 * comes by itself. */
static bool tell_one_again(destination *d, uint32_t number, twi_sending *out)
{
    sighting_facts facts;
    const tw_status st = twi_message_facts(d->catalogue, number, &facts, NULL);
    if (st == TW_ENOENT)
        return publish(d, NULL, "gone",
                       twi_json_gone(d->of->station, d->view->series, number), false,
                       out);
    if (st != TW_OK || !facts.over)
        return true;
    json_t *o = twi_message_record(d, number, "end");
    return !o || publish(d, facts.camera, "sighting", o, false, out);
}

static bool tell_again(destination *d, twi_sending *out)
{
    uint32_t number = 0;
    bool good = true;
    for (int i = 0; i < RETOLD_MAX && good && twi_retell_next(&d->view->again, &number);
         i++)
        good = tell_one_again(d, number, out);
    return good;
}

static void put_time(const destination *d, json_t *o, const char *key, int64_t in_us)
{
    char time[TWI_UTC_MAX];
    const tw_clock *clock = &d->of->clock;
    (void)json_object_set_new(
        o, key, json_string(twi_utc(clock->ops->wall_us(clock->ctx) + in_us, time)));
}

/* ---- answers, and the settings ---------------------------------------------------- */

static bool tell_answers(destination *d, twi_sending *out)
{
    broker_view *v = d->view;
    bool good = true;
    while (good && v->answer_count > 0) {
        json_t *o = twi_json_answer(d->of->station, &v->answers[0]);
        put_time(d, o, "time", 0);
        good = publish(d, NULL, "answer", o, false, out);
        if (good)
            memmove(v->answers, v->answers + 1, --v->answer_count * sizeof *v->answers);
    }
    return good;
}

/* @return a copy of the settings, if they are others than were told; else NULL. */
static char *new_settings(destination *d)
{
    char *copy = NULL;
    (void)pthread_mutex_lock(&d->of->lock);
    if (d->of->plain && d->view->plain_times != d->of->plain_times)
        copy = strdup(d->of->plain);
    if (copy)
        d->view->plain_times = d->of->plain_times;
    (void)pthread_mutex_unlock(&d->of->lock);
    return copy;
}

/* They are retained there, for who comes later. */
static bool tell_settings(destination *d, twi_sending *out)
{
    char digest[TWI_DIGEST_TEXT];
    char *text = new_settings(d);
    if (!text)
        return true;
    d->brokers->digest(text, digest);
    bool good = true;
    if (strcmp(digest, d->view->digest) != 0) {
        (void)snprintf(d->view->digest, sizeof d->view->digest, "%s", digest);
        d->view->station_us = 0; /* its state names them */
        if (d->set.settings_from[0])
            good = publish(d, NULL, "settings",
                           twi_json_settings(d->of->station, digest, text), true, out);
    }
    free(text);
    return good;
}

/* ---- live pictures ---------------------------------------------------------------- */

/* As long as the budget has room for what is not pressing. */
static void show_pictures(destination *d)
{
    twi_looking *look = look_of(d);
    char camera[TWI_LOOK_NAME], name[TOPIC_BYTES];
    uint8_t *jpeg = NULL;
    size_t bytes = 0;
    while (look && twi_looking_next(look, d->set.name, camera, &jpeg, &bytes)) {
        topic(d, camera, "picture", name);
        if (d->thrift == TWI_THRIFT_NONE) {
            d->brokers->broker_show(d->broker, name, jpeg, bytes);
            twi_deliver_spend(d, strlen(name) + bytes);
        }
        free(jpeg);
    }
}

/* ---- states ---------------------------------------------------------------------- */

static json_t *describe_camera(const destination *d, const tw_camera_status *c)
{
    json_t *o = twi_json_camera(c, d->of->station);
    put_time(d, o, "time", 0);
    put_time(d, o, "holds_until", HOLDS_US);
    return o;
}

/* Who keeps the sightings of many stations finds by these whether one is missing. */
static void put_numbers(const destination *d, json_t *o)
{
    int64_t last = 0;
    if (!d->catalogue || twi_catalogue_last_over(d->catalogue, &last, NULL) != TW_OK)
        return;
    (void)json_object_set_new(o, "series", json_string(d->view->series));
    (void)json_object_set_new(o, "last_number", json_integer(last));
}

static void put_sensors(const destination *d, json_t *o)
{
    tw_sensor_status one;
    json_t *list = json_array();
    for (size_t i = 0;
         d->of->running && tw_station_sensor(d->of->running, i, &one) == TW_OK; i++)
        (void)json_array_append_new(list, twi_json_sensor(&one));
    if (json_array_size(list) > 0)
        (void)json_object_set(o, "sensors", list);
    json_decref(list);
}

static json_t *describe_station(const destination *d, const char *state)
{
    tw_store_status store;
    const bool known =
        d->of->running && tw_station_store(d->of->running, &store) == TW_OK;
    json_t *o = twi_json_station(
        d->of->station, state, twi_json_all_stopped(d->catalogue), known ? &store : NULL);
    (void)json_object_set_new(o, "version", json_string(tw_version()));
    put_sensors(d, o);
    put_time(d, o, "time", 0);
    put_numbers(d, o);
    if (d->view->digest[0])
        (void)json_object_set_new(o, "settings", json_string(d->view->digest));
    if (d->set.settings_from[0])
        (void)json_object_set_new(o, "changeable", json_true());
    return o;
}

/* @return false: the camera's state was told already. */
static bool has_changed(destination *d, size_t i, const tw_camera_status *c,
                        int64_t now_us)
{
    broker_view *v = d->view;
    const bool same = strcmp(v->camera[i].name, c->name) == 0 &&
                      strcmp(v->camera[i].state, tw_camera_state_name(c)) == 0 &&
                      v->camera[i].sightings == c->sightings &&
                      now_us - v->camera[i].told_us < REFRESH_US;
    (void)snprintf(v->camera[i].name, sizeof v->camera[i].name, "%s", c->name);
    (void)snprintf(v->camera[i].state, sizeof v->camera[i].state, "%s",
                   tw_camera_state_name(c));
    v->camera[i].sightings = c->sightings;
    v->camera[i].placed = c->placed;
    v->camera[i].latitude = c->latitude;
    v->camera[i].longitude = c->longitude;
    if (!same)
        v->camera[i].told_us = now_us;
    return !same;
}

/* @return false: it is not connected any more. */
static bool tell_camera(destination *d, size_t i, bool *there, twi_sending *out)
{
    tw_camera_status c;
    json_t *o = NULL;
    (void)pthread_mutex_lock(&d->of->station_lock);
    *there = d->of->running && tw_station_camera(d->of->running, i, &c) == TW_OK;
    if (*there && has_changed(d, i, &c, now_of(d)))
        o = describe_camera(d, &c);
    (void)pthread_mutex_unlock(&d->of->station_lock);
    return !o || publish(d, c.name, "state", o, true, out);
}

static bool tell_states(destination *d, twi_sending *out)
{
    broker_view *v = d->view;
    const int64_t now_us = now_of(d);
    const unsigned times = d->brokers->broker_times(d->broker);
    if (times != v->times) { /* it may be another broker: all of it again */
        v->times = times;
        v->station_us = v->polled_us = 0;
        v->plain_times = 0;
        v->digest[0] = '\0';
        memset(v->camera, 0, sizeof v->camera);
    }
    if (v->polled_us != 0 && now_us - v->polled_us < POLL_US)
        return true;
    v->polled_us = now_us;
    bool good = true, there = true;
    if (v->station_us == 0 || now_us - v->station_us >= REFRESH_US) {
        v->station_us = now_us;
        (void)pthread_mutex_lock(&d->of->station_lock);
        json_t *o = describe_station(d, d->of->running ? "up" : "starting");
        (void)pthread_mutex_unlock(&d->of->station_lock);
        good = publish(d, NULL, "state", o, true, out);
    }
    for (size_t i = 0; good && there && i < CAMERAS_MAX; i++)
        good = tell_camera(d, i, &there, out);
    return good;
}

/* ---- the thread's time ------------------------------------------------------------ */

static bool woken(const destination *d, unsigned wakes)
{
    (void)pthread_mutex_lock(&d->of->lock);
    const bool other = d->of->wakes != wakes;
    (void)pthread_mutex_unlock(&d->of->lock);
    return other;
}

static void nap(const destination *d, int64_t us)
{
    const tw_clock *clock = &d->of->clock;
    clock->ops->sleep_until(clock->ctx, clock->ops->now_us(clock->ctx) + us);
}

static void failed(destination *d, const twi_sending *out)
{
    twi_deliver_disconnect(d);
    if (atomic_load(&d->of->ending))
        return;
    if (out->verdict == TWI_HALT) {
        if (!d->halted)
            twi_deliver_tell(
                d, TW_EACCES,
                "%s. It is left alone until its settings are changed, or tawny "
                "outbox --retry %s",
                out->text, d->set.name);
        d->halted = true;
        (void)twi_outbox_stop(d->catalogue, d->set.name,
                              d->of->clock.ops->wall_us(d->of->clock.ctx), d->made_of,
                              out->text, NULL);
        return;
    }
    twi_deliver_later(d, out);
}

static bool tell_all(destination *d, twi_sending *out)
{
    return tell_states(d, out) && tell_settings(d, out) && tell_news(d, out) &&
           tell_again(d, out) && tell_answers(d, out);
}

static void idle(destination *d, int64_t wait_us)
{
    twi_sending out;
    const int64_t until_us = now_of(d) + wait_us;
    (void)pthread_mutex_lock(&d->of->lock);
    const unsigned wakes = d->of->wakes;
    (void)pthread_mutex_unlock(&d->of->lock);
    do {
        if (d->halted || (d->next_us > 0 && now_of(d) < d->next_us)) {
            forget_news(d); /* it would be old */
            nap(d, STEP_MS * 1000);
            continue;
        }
        if (!ready(d, &out) || !tell_all(d, &out)) {
            failed(d, &out);
            continue;
        }
        twi_deliver_works(d);
        show_pictures(d);
        if (now_of(d) < until_us)
            (void)d->brokers->broker_step(d->broker, STEP_MS, &out);
    } while (now_of(d) < until_us && !woken(d, wakes) && !atomic_load(&d->of->ending));
}

/* No camera is left in the middle of a sighting. */
static bool tell_down(destination *d, twi_sending *out)
{
    bool good = true;
    for (size_t i = 0; good && d->view && i < CAMERAS_MAX && d->view->camera[i].name[0];
         i++) {
        tw_camera_status last = {.placed = d->view->camera[i].placed,
                                 .latitude = d->view->camera[i].latitude,
                                 .longitude = d->view->camera[i].longitude};
        (void)snprintf(last.name, sizeof last.name, "%s", d->view->camera[i].name);
        json_t *o = twi_json_camera_down(&last, d->of->station);
        put_time(d, o, "time", 0);
        good = publish(d, d->view->camera[i].name, "state", o, true, out);
    }
    return good;
}

/* It is told that this end goes on purpose. */
static void end(destination *d)
{
    twi_sending out;
    if (!atomic_load(&d->of->ending)) /* nothing waits; the connection stays */
        return;
    if (d->broker && d->brokers->broker_times(d->broker) > 0 && !d->failing)
        (void)(publish(d, NULL, "state",
                       twi_json_station(d->of->station, "down", NULL, NULL), true,
                       &out) &&
               tell_down(d, &out));
    twi_deliver_disconnect(d);
    free(d->view);
    d->view = NULL;
}

const transport twi_transport_broker = {
    .message = true, .take = TWI_TAKE_ONE, .send = send_record, .idle = idle, .end = end};

/* ---- trying ---------------------------------------------------------------------- */

void twi_broker_try(destination *d, twi_sending *out)
{
    if (ready(d, out))
        (void)publish_text(d, NULL, "test", twi_json_text(twi_json_test(d->of->station)),
                           false, out);
    twi_deliver_disconnect(d);
    free(d->view);
    d->view = NULL;
}

/* ---- orders ---------------------------------------------------------------------- */

/* Whether an object has what an order may have, each of its kind, and nothing else: what
 * is misunderstood must not become an order to all cameras. */
static bool is_order(json_t *o)
{
    const char *key = NULL;
    json_t *value = NULL;
    bool good = json_is_string(json_object_get(o, "do"));
    json_object_foreach(o, key, value)
    {
        if (strcmp(key, "do") == 0)
            continue;
        if (strcmp(key, "camera") == 0)
            good = good && (json_is_string(value) || json_is_null(value));
        else if (strcmp(key, "for_s") == 0)
            good = good && json_is_number(value);
        else if (strcmp(key, "id") == 0)
            good = good && json_is_integer(value);
        else
            good = false;
    }
    return good;
}

tw_status twi_deliver_order(tw_station *station, const void *text, size_t bytes,
                            const char *who, tw_error *err)
{
    enum { MOST_BYTES = 4096 };
    if (!station || !text)
        return tw_fail(err, TW_EINVAL, "no order");
    json_t *o = bytes <= MOST_BYTES
                    ? json_loadb(text, bytes, JSON_REJECT_DUPLICATES, NULL)
                    : NULL;
    const char *what = json_string_value(json_object_get(o, "do"));
    const char *camera = json_string_value(json_object_get(o, "camera"));
    const double for_s = json_number_value(json_object_get(o, "for_s"));
    char shown[64];
    tw_status st = TW_ESYNTAX;
    if (is_order(o) && for_s >= 0 && for_s <= ORDER_MOST_S)
        st =
            tw_station_order_by(station, what, camera, (int64_t)(for_s * SECOND_US), who);
    if (st == TW_ENOTSUP)
        st = TW_ESYNTAX;
    if (st == TW_OK)
        (void)tw_fail(err, st, "%s %s", what, camera ? camera : "all cameras");
    else if (st == TW_ENOENT)
        (void)tw_fail(err, st, "there is no camera %s",
                      twi_reply_shown(camera ? camera : "", 60, shown, sizeof shown));
    else
        (void)tw_fail(err, st,
                      "not understood: write {\"do\": \"arm\", \"camera\": NAME, "
                      "\"for_s\": SECONDS}, or disarm, as-set, trigger, snap");
    json_decref(o);
    return st;
}
