/* The conversation with a server: its last words are kept, and all of it is told, with
 * secrets masked. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>

#include "wire.h"

#define MASK "***"

enum { GOOD_BYE = 221 }; /* of mail and FTP: comes behind what matters */

static bool begins(const char *line, const char *with)
{
    return strncasecmp(line, with, strlen(with)) == 0;
}

/* Every place where the secret stands as it is. */
static void mask_secret(char *line, const char *secret)
{
    const size_t n = secret ? strlen(secret) : 0;
    if (n == 0)
        return;
    for (char *at = strstr(line, secret); at; at = strstr(at + 1, secret)) {
        const size_t rest = strlen(at + n);
        if (n < strlen(MASK)) { /* no room for more */
            memset(at, '*', n);
            continue;
        }
        memmove(at + strlen(MASK), at + n, rest + 1);
        memset(at, '*', strlen(MASK));
    }
}

/* What we say that is, or may be made of, the secret. */
static void mask_ours(wire_talk *talk, char *line, size_t capacity)
{
    static const char *const heads[] = {"Authorization:", "Proxy-Authorization:", "PASS ",
                                        "Cookie:", NULL};
    const bool answer = talk->answering;
    talk->answering = false;
    for (size_t i = 0; heads[i]; i++) {
        const size_t n = strlen(heads[i]);
        if (begins(line, heads[i]) && n + sizeof " " MASK <= capacity)
            (void)snprintf(line + n, capacity - n, "%s" MASK,
                           line[n - 1] == ' ' ? "" : " ");
    }
    if (begins(line, "AUTH ")) { /* AUTH PLAIN ..., of mail */
        char *blank = strchr(line + strlen("AUTH "), ' ');
        if (blank && (size_t)(blank - line) + sizeof " " MASK <= capacity)
            memcpy(blank, " " MASK, sizeof " " MASK);
    } else if (answer) {
        (void)snprintf(line, capacity, MASK);
    }
}

/* Steps of the library's own that tell a reader nothing. */
static bool is_noise(const char *line)
{
    return begins(line, "TLSv") || begins(line, "TLS ") || begins(line, "ALPN") ||
           begins(line, "old SSL session") || begins(line, "Connection #") ||
           begins(line, "Mark bundle") || begins(line, "successfully set");
}

static void tell(const wire_talk *talk, char who, const char *line)
{
    if (talk->on_line && line[0] && !(who == '*' && is_noise(line)))
        talk->on_line(talk->ctx, who, line);
}

static void tell_bytes(wire_talk *talk)
{
    char line[64];
    if (talk->sent_bytes == 0)
        return;
    (void)snprintf(line, sizeof line, "(%llu bytes)",
                   (unsigned long long)talk->sent_bytes);
    talk->sent_bytes = 0;
    tell(talk, '>', line);
}

static void take_line(wire_talk *talk, char who, const char *data, size_t bytes)
{
    char line[SAID_MAX];
    (void)twi_reply_shown(data, bytes, line, sizeof line);
    if (who == '>')
        mask_ours(talk, line, sizeof line);
    mask_secret(line, talk->secret);
    if (who == '<' && line[0]) {
        const twi_reply reply = twi_reply_read(line);
        talk->answering = begins(line, "334");
        if (reply.code != GOOD_BYE && (reply.code != 0 || !talk->last[0]))
            (void)snprintf(talk->last, sizeof talk->last, "%s", line);
    }
    if (who == '*')
        (void)snprintf(talk->tale, sizeof talk->tale, "%s", line);
    tell(talk, who, line);
}

int wire_hear(CURL *easy, curl_infotype type, char *data, size_t bytes, void *ctx)
{
    wire_talk *talk = ctx;
    (void)easy;
    if (type == CURLINFO_DATA_OUT) {
        talk->sent_bytes += bytes;
        return 0;
    }
    const char who = type == CURLINFO_HEADER_IN    ? '<'
                     : type == CURLINFO_HEADER_OUT ? '>'
                     : type == CURLINFO_TEXT       ? '*'
                                                   : '\0';
    if (who == '\0')
        return 0;
    tell_bytes(talk);
    for (size_t at = 0; at < bytes;) { /* line by line */
        const char *end = memchr(data + at, '\n', bytes - at);
        const size_t n = end ? (size_t)(end - data) - at : bytes - at;
        take_line(talk, who, data + at, n);
        at += n + 1;
    }
    return 0;
}

/* ---- own headers ----------------------------------------------------------------- */
