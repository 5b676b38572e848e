/* Headers of the user's own, with the secret in its place. */
#include <stdio.h>
#include <string.h>

#include "wire.h"

/* One of them with {secret} replaced. @return false: too long. */
static bool put_secret(const char *text, size_t bytes, const char *secret, char *out,
                       size_t capacity)
{
    static const char FIELD[] = "{secret}";
    size_t used = 0;
    for (size_t i = 0; i < bytes;) {
        const bool field =
            bytes - i >= strlen(FIELD) && strncmp(text + i, FIELD, strlen(FIELD)) == 0;
        const char *piece = field ? secret : text + i;
        const size_t n = field ? strlen(secret) : 1;
        if (used + n >= capacity)
            return false;
        memcpy(out + used, piece, n);
        used += n;
        i += field ? strlen(FIELD) : 1;
    }
    out[used] = '\0';
    return true;
}

bool wire_own_headers(twi_sender *s)
{
    char line[URL_BYTES];
    const char *at = s->spec.to->headers ? s->spec.to->headers : "";
    bool good = true;
    while (*at && good) {
        at += strspn(at, " \t|");
        size_t n = strcspn(at, "|"), whole = n;
        while (n > 0 && at[n - 1] == ' ')
            n--;
        if (n > 0)
            good =
                put_secret(at, n, s->secret, line, sizeof line) && wire_header(s, line);
        at += whole;
    }
    explicit_bzero(line, sizeof line);
    return good;
}

/* The library signs the hash of nothing where it does not know the body beforehand: so it
 * is told. Every other header would be signed as well. */
bool wire_sign(twi_sender *s, const char *hash)
{
    char line[160], signing[160];
    (void)snprintf(line, sizeof line, "x-amz-content-sha256: %s", hash);
    (void)snprintf(signing, sizeof signing, "aws:amz:%s:s3", s->spec.to->region);
    return curl_easy_setopt(s->easy, CURLOPT_AWS_SIGV4, signing) == CURLE_OK &&
           wire_header(s, line);
}
