/* Who listens to many stations.
 *
 * The library answers a message (PUBACK) before it hands it on. As it is told that its
 * loop is somebody else's business, it only lines the answer up: it goes when this end
 * writes, which it does once all that came is safe. */
#include <mosquitto.h>
#include <mqtt_protocol.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "wire.h"

enum {
    KEEP_S = 30,
    STEP_MS = 50,
    SESSION_S = 30 * 86400, /* that the broker keeps what comes meanwhile */
    TOPIC_BYTES = 512,
    WRITES_MAX = 10000,
    COME_BYTES_MAX = 1 << 24, /* of messages that are not acknowledged yet */
    RETAINED_MS = 10000,      /* that what is retained may go on coming */
    QUIET_MS = 1000           /* without a message: it is all there */
};

struct twi_listener {
    twi_listener_spec spec;
    struct mosquitto *client;
    broker_place at;
    char secret[512], name[128], group[64];
    bool connecting, connected;
    int refused;
    size_t come, come_bytes;   /* messages since the last that was acknowledged */
    int64_t retained_until_ms; /* what is retained may still come until then; 0: it was
                                  there */
    int64_t came_ms;           /* when the last message was there */
};

static int64_t now_ms(void)
{
    struct timespec t;
    (void)clock_gettime(CLOCK_MONOTONIC, &t);
    return (int64_t)t.tv_sec * 1000 + t.tv_nsec / 1000000;
}

/* ---- what the library tells ------------------------------------------------------- */

static void share(struct mosquitto *client, const twi_listener_spec *spec,
                  const char *const topics[TWI_LISTENER_TOPICS], int qos)
{
    char topic[TOPIC_BYTES];
    for (size_t i = 0; i < TWI_LISTENER_TOPICS && topics[i]; i++) {
        (void)snprintf(topic, sizeof topic, "$share/%s/%s", spec->group, topics[i]);
        (void)mosquitto_subscribe(client, NULL, topic, qos);
    }
}

/* What is retained comes to no share (MQTT 5, 4.8.2): for a moment this one asks for all
 * of it by itself. */
static void ask_retained(twi_listener *l, bool on)
{
    const twi_listener_spec *spec = &l->spec;
    for (size_t i = 0; i < TWI_LISTENER_TOPICS && spec->passing[i]; i++)
        if (on)
            (void)mosquitto_subscribe(l->client, NULL, spec->passing[i], 1);
        else
            (void)mosquitto_unsubscribe(l->client, NULL, spec->passing[i]);
    l->came_ms = now_ms();
    l->retained_until_ms = on && spec->passing[0] ? l->came_ms + RETAINED_MS : 0;
}

static bool has_retained(const twi_listener *l)
{
    const int64_t now = now_ms();
    return l->retained_until_ms != 0 &&
           (now >= l->retained_until_ms || now - l->came_ms >= QUIET_MS);
}

static void subscribe(twi_listener *l)
{
    share(l->client, &l->spec, l->spec.topics, 1);
    share(l->client, &l->spec, l->spec.passing, 0);
    ask_retained(l, true);
}

static void on_connect(struct mosquitto *client, void *ctx, int code, int flags,
                       const mosquitto_property *properties)
{
    twi_listener *l = ctx;
    (void)flags;
    (void)properties;
    l->connecting = false;
    l->refused = code;
    l->connected = code == 0;
    (void)client;
    if (l->connected)
        subscribe(l);
}

static void on_disconnect(struct mosquitto *client, void *ctx, int code)
{
    twi_listener *l = ctx;
    (void)client;
    (void)code;
    l->connecting = l->connected = false;
}

static void on_message(struct mosquitto *client, void *ctx,
                       const struct mosquitto_message *m)
{
    twi_listener *l = ctx;
    (void)client;
    l->come++;
    l->came_ms = now_ms();
    l->come_bytes += (size_t)m->payloadlen;
    if (m->payloadlen > 0)
        l->spec.heard(l->spec.ctx, m->topic, m->payload, (size_t)m->payloadlen);
}

/* ---- making ---------------------------------------------------------------------- */

static int set_up(twi_listener *l)
{
    struct mosquitto *client = l->client;
    mosquitto_connect_v5_callback_set(client, on_connect);
    mosquitto_disconnect_callback_set(client, on_disconnect);
    mosquitto_message_callback_set(client, on_message);
    int rc = mosquitto_threaded_set(client, true); /* see above */
    if (rc == MOSQ_ERR_SUCCESS)
        rc = mosquitto_int_option(client, MOSQ_OPT_PROTOCOL_VERSION, MQTT_PROTOCOL_V5);
    if (rc == MOSQ_ERR_SUCCESS)
        rc = mosquitto_int_option(client, MOSQ_OPT_RECEIVE_MAXIMUM, l->spec.most);
    if (rc == MOSQ_ERR_SUCCESS && l->at.user[0])
        rc = mosquitto_username_pw_set(client, l->at.user, l->secret);
    return rc == MOSQ_ERR_SUCCESS ? broker_set_tls(client, l->spec.to) : rc;
}

/* Anew each time, so that nothing is left over of the connection before. */
static int make_client(twi_listener *l)
{
    if (l->client)
        mosquitto_destroy(l->client);
    l->come = l->come_bytes = 0;
    l->retained_until_ms = 0;
    l->connecting = l->connected = false;
    l->client = mosquitto_new(l->name, false, l);
    return l->client ? set_up(l) : MOSQ_ERR_NOMEM;
}

tw_status listener_new(const twi_listener_spec *spec, twi_listener **out, tw_error *err)
{
    twi_listener *l = calloc(1, sizeof *l);
    if (!l)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    l->spec = *spec;
    (void)snprintf(l->secret, sizeof l->secret, "%s", spec->secret);
    (void)snprintf(l->name, sizeof l->name, "%s", spec->client);
    (void)snprintf(l->group, sizeof l->group, "%s", spec->group);
    l->spec.secret = l->secret;
    l->spec.group = l->group;
    tw_status st = TW_OK;
    if (!broker_read_url(spec->to, &l->at))
        st = tw_fail(err, TW_EINVAL, "%s", twi_fault_text(TWI_FAULT_URL));
    const int rc = st == TW_OK ? make_client(l) : MOSQ_ERR_SUCCESS;
    if (rc != MOSQ_ERR_SUCCESS)
        st = tw_fail(err, TW_EINVAL, "%s (%s)", twi_fault_text(TWI_FAULT_TRUST_FILE),
                     mosquitto_strerror(rc));
    if (st != TW_OK) {
        listener_free(l);
        return st;
    }
    *out = l;
    return TW_OK;
}

/* ---- the loop -------------------------------------------------------------------- */

static bool stopped(const twi_listener *l)
{
    return l->spec.stop && atomic_load(l->spec.stop);
}

static int write_all(twi_listener *l)
{
    int rc = MOSQ_ERR_SUCCESS;
    for (int i = 0;
         i < WRITES_MAX && rc == MOSQ_ERR_SUCCESS && mosquitto_want_write(l->client);
         i++) {
        struct pollfd p = {.fd = mosquitto_socket(l->client), .events = POLLOUT};
        if (poll(&p, 1, STEP_MS) < 0)
            break;
        rc = mosquitto_loop_write(l->client, 1);
    }
    return rc;
}

static bool is_readable(const twi_listener *l, int wait_ms)
{
    struct pollfd p = {.fd = mosquitto_socket(l->client), .events = POLLIN};
    return p.fd >= 0 && poll(&p, 1, wait_ms) > 0;
}

/* What is there is read until nothing more comes, or as much as may be under way has
 * come; what the socket's encryption holds back already shows by something coming. */
static int read_all(twi_listener *l, int wait_ms)
{
    int rc = MOSQ_ERR_SUCCESS;
    size_t before = l->come + 1;
    if (!is_readable(l, wait_ms))
        return rc;
    while (rc == MOSQ_ERR_SUCCESS && l->come < l->spec.most &&
           l->come_bytes < COME_BYTES_MAX && (before != l->come || is_readable(l, 0))) {
        before = l->come;
        rc = mosquitto_loop_read(l->client, 1);
    }
    return rc;
}

static bool gave_up(twi_listener *l, int rc, twi_sending *out)
{
    broker_fail(out, broker_fault(l->refused, rc), mosquitto_strerror(rc));
    listener_drop(l);
    return false;
}

static bool connect_now(twi_listener *l, twi_sending *out)
{
    mosquitto_property *properties = NULL;
    const int64_t until_ms = now_ms() + l->spec.to->timeout_us / 1000;
    int rc = mosquitto_property_add_int32(&properties, MQTT_PROP_SESSION_EXPIRY_INTERVAL,
                                          SESSION_S);
    l->refused = 0;
    l->connecting = true;
    if (rc == MOSQ_ERR_SUCCESS)
        rc = mosquitto_connect_bind_v5(l->client, l->at.host, l->at.port, KEEP_S, NULL,
                                       properties);
    mosquitto_property_free_all(&properties);
    while (rc == MOSQ_ERR_SUCCESS && l->connecting && now_ms() < until_ms &&
           !stopped(l)) {
        rc = write_all(l);
        if (rc == MOSQ_ERR_SUCCESS)
            rc = read_all(l, STEP_MS);
    }
    if (rc == MOSQ_ERR_SUCCESS &&
        l->connected) /* the subscriptions; of what came nothing */
        rc = l->come == 0 ? write_all(l) : MOSQ_ERR_SUCCESS;
    if (rc != MOSQ_ERR_SUCCESS || !l->connected)
        return gave_up(l, rc, out);
    return true;
}

bool listener_read(twi_listener *l, int wait_ms, twi_sending *out)
{
    broker_fail(out, TWI_FAULT_NONE, "");
    if (!l->connected)
        return connect_now(l, out);
    int rc = read_all(l, wait_ms);
    if (rc == MOSQ_ERR_SUCCESS)
        rc = mosquitto_loop_misc(l->client);
    if (l->come == 0 && has_retained(l))
        ask_retained(l, false);
    if (rc == MOSQ_ERR_SUCCESS && l->come == 0)
        rc = write_all(l);
    if (rc == MOSQ_ERR_SUCCESS && l->connected)
        return true;
    return gave_up(l, rc, out);
}

/* What it asked for by itself would be kept for it as well. */
void listener_free(twi_listener *l)
{
    if (!l)
        return;
    if (l->client && l->connected && l->retained_until_ms != 0) {
        ask_retained(l, false);
        (void)write_all(l);
    }
    if (l->client)
        mosquitto_destroy(l->client);
    explicit_bzero(l->secret, sizeof l->secret);
    free(l);
}

bool listener_acknowledge(twi_listener *l)
{
    l->come = l->come_bytes = 0;
    if (!l->connected)
        return false;
    if (write_all(l) == MOSQ_ERR_SUCCESS && l->connected)
        return true;
    listener_drop(l);
    return false;
}

void listener_drop(twi_listener *l)
{
    (void)make_client(l);
}

void listener_publish(twi_listener *l, const char *topic, const char *payload)
{
    if (!l->connected || l->come > 0)
        return;
    (void)mosquitto_publish(l->client, NULL, topic, (int)strlen(payload), payload, 0,
                            false);
    (void)write_all(l);
}
