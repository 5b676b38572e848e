/* Where a broker is, how it is reached, and what its refusals mean. */
#include "wire.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { PORT = 1883, PORT_TLS = 8883 };

/* "mqtts://user@host:port/topic" */
bool broker_read_url(const twi_destination_settings *to, broker_place *b)
{
    const char *url = to->url, *at = strstr(url, "://");
    if (!at)
        return false;
    b->port = strncmp(url, "mqtts", 5) == 0 ? PORT_TLS : PORT;
    at += 3;
    size_t n = strcspn(at, "/");
    const char *sign = memchr(at, '@', n);
    if (sign) {
        (void)snprintf(b->user, sizeof b->user, "%.*s", (int)(sign - at), at);
        n -= (size_t)(sign - at) + 1;
        at = sign + 1;
    }
    if (to->user[0])
        (void)snprintf(b->user, sizeof b->user, "%s", to->user);
    const char *colon = memchr(at, ':', n);
    const size_t host = colon ? (size_t)(colon - at) : n;
    (void)snprintf(b->host, sizeof b->host, "%.*s", (int)host, at);
    if (colon)
        b->port = atoi(colon + 1);
    return host > 0 && host < sizeof b->host && b->port > 0 && b->port < 65536;
}

int broker_set_tls(struct mosquitto *client, const twi_destination_settings *to)
{
    if (strncmp(to->url, "mqtts", 5) != 0)
        return MOSQ_ERR_SUCCESS;
    const char *file = to->trust[0] ? to->trust : NULL;
    int rc =
        mosquitto_tls_set(client, file, file ? NULL : "/etc/ssl/certs", NULL, NULL, NULL);
    if (rc == MOSQ_ERR_SUCCESS && to->tls != TWI_TLS_VERIFIED) {
        rc = mosquitto_tls_opts_set(client, 0, NULL, NULL);
        if (rc == MOSQ_ERR_SUCCESS)
            rc = mosquitto_tls_insecure_set(client, true);
    }
    return rc;
}

void broker_fail(twi_sending *out, twi_fault fault, const char *more)
{
    memset(out, 0, sizeof *out);
    out->fault = fault;
    out->verdict = twi_fault_verdict(fault);
    if (fault != TWI_FAULT_NONE)
        (void)snprintf(out->text, sizeof out->text, "%s%s%s%s", twi_fault_text(fault),
                       more[0] ? " (" : "", more, more[0] ? ")" : "");
}

twi_fault broker_fault(int refused, int rc)
{
    enum { UNAVAILABLE = 3, BAD_LOGIN = 4, NOT_ALLOWED = 5 }; /* of CONNACK, MQTT 3.1.1 */
    if (refused == BAD_LOGIN || refused == NOT_ALLOWED)
        return TWI_FAULT_LOGIN;
    if (refused == UNAVAILABLE)
        return TWI_FAULT_BUSY;
    switch (rc) {
    case MOSQ_ERR_EAI: return TWI_FAULT_HOST;
    case MOSQ_ERR_ERRNO: return errno == EPROTO ? TWI_FAULT_TLS : TWI_FAULT_CONNECT;
    case MOSQ_ERR_TLS: return TWI_FAULT_CERTIFICATE;
    case MOSQ_ERR_OVERSIZE_PACKET: return TWI_FAULT_BROKEN;
    case MOSQ_ERR_PAYLOAD_SIZE: return TWI_FAULT_TOO_LARGE;
    case MOSQ_ERR_CONN_LOST: return TWI_FAULT_BROKEN;
    case MOSQ_ERR_SUCCESS: return TWI_FAULT_TIMEOUT;
    default: return TWI_FAULT_OTHER;
    }
}
