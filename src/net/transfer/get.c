/* Getting a file that was put there. */
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "wire.h"

enum { HTTP_OTHERS = 300 }; /* from here on an answer is not what was asked for */

/* SHA-256 of nothing: what is signed of a request without a body. */
#define HASH_OF_NOTHING "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"

typedef struct sink {
    twi_sender *of;
    int fd;
    uint64_t room; /* bytes that may still come */
    bool full, failed;
} sink;

static bool is_asked_for(const sink *to)
{
    long code = 0;
    const twi_protocol p = to->of->protocol;
    if (p != TWI_PROTOCOL_HTTP && p != TWI_PROTOCOL_S3)
        return true;
    return curl_easy_getinfo(to->of->easy, CURLINFO_RESPONSE_CODE, &code) == CURLE_OK &&
           code < HTTP_OTHERS;
}

static size_t take(char *data, size_t size, size_t count, void *ctx)
{
    sink *to = ctx;
    const size_t n = size * count;
    size_t done = 0;
    to->full = to->full || n > to->room;
    if (to->full)
        return 0;
    to->room -= n;
    while (is_asked_for(to) && done < n) {
        const ssize_t written = write(to->fd, data + done, n - done);
        to->failed = written <= 0;
        if (to->failed)
            return 0;
        done += (size_t)written;
    }
    return n;
}

/* Who asks, where a name and a password do not say so. */
static bool say_who_asks(twi_sender *s)
{
    if (s->protocol == TWI_PROTOCOL_HTTP)
        return wire_own_headers(s);
    return s->protocol != TWI_PROTOCOL_S3 || wire_sign(s, HASH_OF_NOTHING);
}

void wire_get(twi_sender *s, const char *name, int fd, uint64_t most, twi_sending *out)
{
    char url[URL_BYTES];
    sink to = {s, fd, most, false, false};
    if (!wire_address(s, name, "", url, sizeof url) || !wire_begin(s) ||
        curl_easy_setopt(s->easy, CURLOPT_URL, url) != CURLE_OK ||
        curl_easy_setopt(s->easy, CURLOPT_WRITEFUNCTION, take) != CURLE_OK ||
        curl_easy_setopt(s->easy, CURLOPT_WRITEDATA, &to) != CURLE_OK ||
        !say_who_asks(s)) {
        wire_fail(out, TWI_FAULT_OTHER, "out of memory, or a name that cannot be got");
        return;
    }
    wire_run(s, out);
    if (to.full)
        wire_fail(out, TWI_FAULT_OTHER, "it is larger than what is got");
    else if (to.failed)
        wire_fail(out, TWI_FAULT_OTHER, "it cannot be written here");
}
