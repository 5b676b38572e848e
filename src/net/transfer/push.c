/* Messages to phones, through the push services of their browsers (RFC 8030). */
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "wire.h"

enum { HOLDS_S = 12 * 3600, NOT_FOUND = 404, GONE = 410, UNKNOWN = 401, FORBIDDEN = 403 };

/* Who is meant by what is signed: scheme and host. @return false: it is no address that
 * something may be sent to. */
static bool origin_of(const char *endpoint, char *out, size_t capacity)
{
    static const char SCHEME[] = "https://";
    const size_t n = sizeof SCHEME - 1;
    if (strncmp(endpoint, SCHEME, n) != 0)
        return false;
    const size_t host = strcspn(endpoint + n, "/?#");
    if (host == 0 || n + host >= capacity ||
        strcspn(endpoint + n, "@\"\\<> \t\r\n") < host)
        return false;
    (void)snprintf(out, capacity, "%.*s", (int)(n + host), endpoint);
    return true;
}

/* "vapid t=..., k=...": RFC 8292. */
static bool authorize(twi_sender *s, const char *origin, const char *pem,
                      const twi_push_message *message)
{
    char claims[1024], public[TWI_PUSH_PUBLIC], line[2048];
    const bool said = message->contact && message->contact[0];
    (void)snprintf(claims, sizeof claims, "{\"aud\":\"%s\",\"exp\":%" PRId64 "%s%s%s}",
                   origin, message->wall_us / 1000000 + HOLDS_S,
                   said ? ",\"sub\":\"" : "", said ? message->contact : "",
                   said ? "\"" : "");
    char *token = push_sign(pem, claims);
    const bool good = token && push_key_public(pem, public, NULL) == TW_OK;
    (void)snprintf(line, sizeof line, "Authorization: vapid t=%s, k=%s",
                   good ? token : "", good ? public : "");
    free(token);
    return good && wire_header(s, line);
}

static bool set_headers(twi_sender *s, const twi_push_message *message)
{
    char keep[32], topic[64];
    (void)snprintf(keep, sizeof keep, "TTL: %u", (unsigned)message->keep_s);
    (void)snprintf(topic, sizeof topic, "Topic: %.32s", message->topic);
    return wire_header(s, keep) && wire_header(s, topic) &&
           wire_header(s, "Urgency: high") &&
           wire_header(s, "Content-Encoding: aes128gcm") &&
           wire_header(s, "Content-Type: application/octet-stream") &&
           wire_header(s, "Expect:");
}

/* What a phone's service answers is of that phone alone: nothing else is held up by it.
 */
static void judge(const twi_sender *s, twi_sending *out)
{
    const unsigned code = twi_reply_read(s->talk.last).code;
    if (code == NOT_FOUND || code == GONE) {
        out->fault = TWI_FAULT_RECIPIENT;
        out->verdict = TWI_NEVER;
        (void)snprintf(out->text, sizeof out->text, "it takes no more messages");
    } else if (code == UNKNOWN || code == FORBIDDEN) {
        out->fault = TWI_FAULT_LOGIN;
        out->verdict = TWI_NEVER;
        (void)snprintf(out->text, sizeof out->text,
                       "its push service does not know the station's key (%s)",
                       s->talk.last);
    } else if (out->verdict == TWI_HALT) {
        out->verdict = TWI_LATER;
    }
}

void wire_push(twi_sender *s, const twi_push_phone *phone, const char *pem,
               const twi_push_message *message, twi_sending *out)
{
    uint8_t sealed[TWI_PUSH_SEALED];
    char origin[512];
    size_t bytes = 0;
    tw_error err = {0};
    if (!origin_of(phone->endpoint, origin, sizeof origin) ||
        push_seal(phone, message->data, message->bytes, NULL, NULL, sealed, &bytes,
                  &err) != TW_OK) {
        wire_fail(out, TWI_FAULT_RECIPIENT, err.text);
        out->verdict = TWI_NEVER;
        return;
    }
    if (wire_begin(s) && authorize(s, origin, pem, message) && set_headers(s, message) &&
        curl_easy_setopt(s->easy, CURLOPT_PROTOCOLS_STR, "https") == CURLE_OK &&
        curl_easy_setopt(s->easy, CURLOPT_URL, phone->endpoint) == CURLE_OK &&
        curl_easy_setopt(s->easy, CURLOPT_POSTFIELDSIZE, (long)bytes) == CURLE_OK &&
        curl_easy_setopt(s->easy, CURLOPT_POSTFIELDS, sealed) == CURLE_OK) {
        wire_run(s, out);
        judge(s, out);
    } else {
        wire_fail(out, TWI_FAULT_OTHER, "out of memory");
    }
}
