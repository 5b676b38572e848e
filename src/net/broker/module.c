/* The broker module, by libmosquitto. Its loop runs in the caller's thread. */
#include <errno.h>
#include <linux/tcp.h>
#include <mosquitto.h>
#include <netinet/in.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <time.h>

#include "../broker.h"
#include "wire.h"
#include "tawny/version.h"
#include "../../settings/sections.h"

enum {
    KEEP_S = 30,
    STEP_MS = 100,
    TOPIC_BYTES = 512,
    HEARD_MAX = 1 << 18, /* bytes that come without a message being whole by then */
    ROOM_BYTES = 1 << 15 /* of the socket: so that it is looked often */
};

struct twi_broker {
    twi_broker_spec spec;
    struct mosquitto *client;
    broker_place at;
    char orders[TOPIC_BYTES], asks[TOPIC_BYTES];
    bool connecting, connected;
    unsigned times;
    int refused;          /* why it does not want us, of CONNACK; 0: it does */
    int waiting;          /* number of the message that is published; 0: it has it */
    uint64_t heard_bytes; /* that had come when a message was whole */
};

static int64_t now_ms(void)
{
    struct timespec t;
    (void)clock_gettime(CLOCK_MONOTONIC, &t);
    return (int64_t)t.tv_sec * 1000 + t.tv_nsec / 1000000;
}

/* ---- how much comes -------------------------------------------------------------- */

/* Bytes that have come from the broker so far; 0: that cannot be told. */
static uint64_t come_bytes(const twi_broker *b)
{
    struct tcp_info info;
    socklen_t bytes = sizeof info;
    const int fd = mosquitto_socket(b->client);
    memset(&info, 0, sizeof info);
    return fd >= 0 && getsockopt(fd, IPPROTO_TCP, TCP_INFO, &info, &bytes) == 0
               ? info.tcpi_bytes_received
               : 0;
}

/* A message is whole. */
static void mark_whole(twi_broker *b)
{
    b->heard_bytes = come_bytes(b);
}

/* Have the library work once. It takes whatever size a broker announces for a message:
 * one that never becomes whole ends the connection. */
static int work(twi_broker *b, int wait_ms)
{
    const int rc = mosquitto_loop(b->client, wait_ms, 1);
    if (rc != MOSQ_ERR_SUCCESS || come_bytes(b) <= b->heard_bytes + HEARD_MAX)
        return rc;
    (void)shutdown(mosquitto_socket(b->client), SHUT_RDWR);
    b->connected = b->connecting = false;
    return MOSQ_ERR_OVERSIZE_PACKET;
}

/* ---- what the library tells ------------------------------------------------------- */

static void on_connect(struct mosquitto *client, void *ctx, int code)
{
    twi_broker *b = ctx;
    b->connecting = false;
    mark_whole(b);
    b->refused = code;
    b->connected = code == 0;
    b->times += b->connected;
    if (b->connected && b->orders[0])
        (void)mosquitto_subscribe(client, NULL, b->orders, 1);
    if (b->connected && b->asks[0])
        (void)mosquitto_subscribe(client, NULL, b->asks, 1);
}

static void on_disconnect(struct mosquitto *client, void *ctx, int code)
{
    twi_broker *b = ctx;
    (void)client;
    (void)code;
    b->connecting = b->connected = false;
}

static void on_publish(struct mosquitto *client, void *ctx, int id)
{
    twi_broker *b = ctx;
    (void)client;
    mark_whole(b);
    if (id == b->waiting)
        b->waiting = 0;
}

static void on_message(struct mosquitto *client, void *ctx,
                       const struct mosquitto_message *m)
{
    twi_broker *b = ctx;
    (void)client;
    mark_whole(b);
    if (b->spec.heard && m->payloadlen > 0 && !m->retain) /* what is retained is old */
        b->spec.heard(b->spec.ctx, m->topic, m->payload, (size_t)m->payloadlen);
}

static void on_log(struct mosquitto *client, void *ctx, int level, const char *text)
{
    twi_broker *b = ctx;
    char line[TWI_REPLY_MAX];
    (void)client;
    (void)level;
    if (strstr(text, "received")) /* also of what no other call tells of */
        mark_whole(b);
    if (b->spec.on_line)
        b->spec.on_line(b->spec.ctx, '*',
                        twi_reply_shown(text, strlen(text), line, sizeof line));
}

/* ---- making ---------------------------------------------------------------------- */

static int set_up(twi_broker *b)
{
    const twi_broker_spec *spec = &b->spec;
    mosquitto_connect_callback_set(b->client, on_connect);
    mosquitto_disconnect_callback_set(b->client, on_disconnect);
    mosquitto_publish_callback_set(b->client, on_publish);
    mosquitto_message_callback_set(b->client, on_message);
    mosquitto_log_callback_set(b->client, on_log);
    int rc = MOSQ_ERR_SUCCESS;
    if (spec->will_topic)
        rc = mosquitto_will_set(b->client, spec->will_topic, (int)strlen(spec->will),
                                spec->will, 1, true);
    if (rc == MOSQ_ERR_SUCCESS && b->at.user[0])
        rc = mosquitto_username_pw_set(b->client, b->at.user, spec->secret);
    return rc == MOSQ_ERR_SUCCESS ? broker_set_tls(b->client, spec->to) : rc;
}

static void broker_free(twi_broker *b)
{
    if (!b)
        return;
    if (b->client && b->connected) {
        (void)mosquitto_disconnect(b->client);
        (void)mosquitto_loop(b->client, STEP_MS, 1);
    }
    if (b->client)
        mosquitto_destroy(b->client);
    free(b);
}

static tw_status broker_new(const twi_broker_spec *spec, twi_broker **out, tw_error *err)
{
    twi_broker *b = calloc(1, sizeof *b);
    if (!b)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    b->spec = *spec;
    (void)snprintf(b->orders, sizeof b->orders, "%s", spec->orders ? spec->orders : "");
    (void)snprintf(b->asks, sizeof b->asks, "%s", spec->asks ? spec->asks : "");
    tw_status st = TW_OK;
    if (!broker_read_url(spec->to, &b->at))
        st = tw_fail(err, TW_EINVAL, "%s", twi_fault_text(TWI_FAULT_URL));
    if (st == TW_OK && !(b->client = mosquitto_new(spec->client, true, b)))
        st = tw_fail(err, TW_ENOMEM, "out of memory");
    const int rc = st == TW_OK ? set_up(b) : MOSQ_ERR_SUCCESS;
    if (rc != MOSQ_ERR_SUCCESS)
        st = tw_fail(err, TW_EINVAL, "%s (%s)", twi_fault_text(TWI_FAULT_TRUST_FILE),
                     mosquitto_strerror(rc));
    if (st != TW_OK) {
        broker_free(b);
        return st;
    }
    *out = b;
    return TW_OK;
}

/* ---- talking --------------------------------------------------------------------- */

static bool stopped(const twi_broker *b)
{
    return b->spec.stop && atomic_load(b->spec.stop);
}

/* Have the library work until something is so, or the time is up.
 * @return what it said last. */
static int work_until(twi_broker *b, const bool *done, bool wanted, int64_t until_ms)
{
    int rc = MOSQ_ERR_SUCCESS;
    while (*done != wanted && rc == MOSQ_ERR_SUCCESS && now_ms() < until_ms &&
           !stopped(b))
        rc = work(b, STEP_MS);
    return rc;
}

static bool connect_now(twi_broker *b, twi_sending *out)
{
    b->refused = 0;
    b->connecting = true;
    int rc = mosquitto_connect(b->client, b->at.host, b->at.port, KEEP_S);
    const int room = ROOM_BYTES;
    b->heard_bytes = 0;
    if (rc == MOSQ_ERR_SUCCESS)
        (void)setsockopt(mosquitto_socket(b->client), SOL_SOCKET, SO_RCVBUF, &room,
                         sizeof room);
    if (rc == MOSQ_ERR_SUCCESS)
        rc = work_until(b, &b->connecting, false,
                        now_ms() + b->spec.to->timeout_us / 1000);
    b->connecting = false;
    if (b->connected)
        broker_fail(out, TWI_FAULT_NONE, "");
    else
        broker_fail(out, broker_fault(b->refused, rc),
                    b->refused ? mosquitto_connack_string(b->refused)
                               : mosquitto_strerror(rc));
    return b->connected;
}

static bool broker_step(twi_broker *b, int wait_ms, twi_sending *out)
{
    broker_fail(out, TWI_FAULT_NONE, "");
    if (!b->connected)
        return connect_now(b, out);
    const int rc = work(b, wait_ms);
    if (rc == MOSQ_ERR_SUCCESS)
        return true;
    b->connected = false;
    broker_fail(out, broker_fault(b->refused, rc), mosquitto_strerror(rc));
    return false;
}

static void broker_publish(twi_broker *b, const char *topic, const char *payload,
                           bool retain, twi_sending *out)
{
    int id = 0;
    const int64_t until_ms = now_ms() + b->spec.to->timeout_us / 1000;
    int rc = mosquitto_publish(b->client, &id, topic, (int)strlen(payload), payload, 1,
                               retain);
    b->waiting = rc == MOSQ_ERR_SUCCESS ? id : 0;
    while (b->waiting != 0 && rc == MOSQ_ERR_SUCCESS && b->connected &&
           now_ms() < until_ms && !stopped(b))
        rc = work(b, STEP_MS);
    if (rc == MOSQ_ERR_SUCCESS && b->waiting == 0) {
        broker_fail(out, TWI_FAULT_NONE, "");
        return;
    }
    /* what is under way must not come again by itself behind what is sent then */
    b->waiting = 0;
    b->connected = false;
    (void)mosquitto_disconnect(b->client);
    broker_fail(out, broker_fault(b->refused, rc), mosquitto_strerror(rc));
}

static void broker_show(twi_broker *b, const char *topic, const void *payload,
                        size_t bytes)
{
    if (b->connected && mosquitto_publish(b->client, NULL, topic, (int)bytes, payload, 0,
                                          false) == MOSQ_ERR_SUCCESS)
        (void)work(b, 0);
}

static unsigned broker_times(const twi_broker *b)
{
    return b->times;
}

/* Before any thread uses it. */
__attribute__((constructor)) static void begin(void)
{
    (void)mosquitto_lib_init();
}

TW_API const twi_broker_module twi_broker_table = {
    TWI_BROKER_ABI, broker_new,           broker_step,     broker_publish,
    broker_show,    broker_times,         broker_free,     listener_new,
    listener_read,  listener_acknowledge, listener_drop,   listener_publish,
    listener_free,  broker_make_key,      broker_open_key, broker_sign,
    broker_verify,  broker_digest};
