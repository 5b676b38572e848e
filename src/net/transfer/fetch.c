/* Getting what an address names. */
#include <curl/curl.h>
#include <stdbool.h>
#include <stdlib.h>
#include <string.h>

#include "wire.h"

struct twi_fetch {
    CURLM *multi;
    CURL *easy;
    char *shown;
    bool under_way;
    size_t most;
    uint8_t *data;
    size_t bytes, room;
    char why[CURL_ERROR_SIZE];
};

/* The library's way to take what has come. */
static size_t take(char *data, size_t size, size_t count, void *ctx)
{
    twi_fetch *f = ctx;
    const size_t n = size * count;
    if (n > f->most - f->bytes)
        return 0; /* which ends it */
    if (f->bytes + n > f->room) {
        const size_t room = 2 * (f->bytes + n);
        uint8_t *more = realloc(f->data, room);
        if (!more)
            return 0;
        f->data = more;
        f->room = room;
    }
    memcpy(f->data + f->bytes, data, n);
    f->bytes += n;
    return n;
}

void twi_fetch_free(twi_fetch *f)
{
    if (!f)
        return;
    if (f->under_way)
        (void)curl_multi_remove_handle(f->multi, f->easy);
    curl_easy_cleanup(f->easy);
    (void)curl_multi_cleanup(f->multi);
    free(f->shown);
    free(f->data);
    free(f);
}

static bool set_up(twi_fetch *f, const twi_fetch_spec *spec)
{
    CURL *c = f->easy;
    return curl_easy_setopt(c, CURLOPT_URL, spec->url) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_PROTOCOLS_STR, "http,https") == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_HTTPAUTH, (long)CURLAUTH_ANY) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_USERAGENT, "tawny") == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_FAILONERROR, 1L) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_FOLLOWLOCATION, 1L) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_MAXREDIRS, 4L) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_NOSIGNAL, 1L) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_TIMEOUT_MS, spec->timeout_ms) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_ERRORBUFFER, f->why) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_WRITEFUNCTION, take) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_WRITEDATA, f) == CURLE_OK;
}

tw_status twi_fetch_new(const twi_fetch_spec *spec, twi_fetch **out, tw_error *err)
{
    twi_fetch *f = calloc(1, sizeof *f);
    if (!f)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    f->most = spec->most_bytes;
    f->shown = strdup(spec->shown);
    f->multi = curl_multi_init();
    f->easy = curl_easy_init();
    if (!f->shown || !f->multi || !f->easy || !set_up(f, spec)) {
        twi_fetch_free(f);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    *out = f;
    return TW_OK;
}

tw_status twi_fetch_begin(twi_fetch *f, tw_error *err)
{
    if (f->under_way)
        (void)curl_multi_remove_handle(f->multi, f->easy);
    f->bytes = 0;
    f->why[0] = '\0';
    f->under_way = curl_multi_add_handle(f->multi, f->easy) == CURLM_OK;
    return f->under_way ? TW_OK : tw_fail(err, TW_ENOMEM, "out of memory");
}

/* What went wrong, in our words where we know better than the library. */
static tw_status word_failure(const twi_fetch *f, CURLcode code, tw_error *err)
{
    long answer = 0;
    (void)curl_easy_getinfo(f->easy, CURLINFO_RESPONSE_CODE, &answer);
    switch (code) {
    case CURLE_OPERATION_TIMEDOUT:
        return tw_fail(err, TW_ETIMEOUT, "%s: no answer in time", f->shown);
    case CURLE_COULDNT_CONNECT:
        return tw_fail(err, TW_EIO, "%s: nobody answers there", f->shown);
    case CURLE_COULDNT_RESOLVE_HOST:
        return tw_fail(err, TW_EIO, "%s: there is no such host", f->shown);
    case CURLE_WRITE_ERROR:
        return tw_fail(err, TW_ESIZE, "%s: the answer is over %zu bytes", f->shown,
                       f->most);
    case CURLE_HTTP_RETURNED_ERROR:
        if (answer == 401 || answer == 403)
            return tw_fail(err, TW_EACCES,
                           "%s: user or password are refused (answer %ld)", f->shown,
                           answer);
        return tw_fail(err, answer == 404 ? TW_ENOENT : TW_EIO, "%s: answer %ld",
                       f->shown, answer);
    default:
        return tw_fail(err, TW_EIO, "%s: %s", f->shown,
                       f->why[0] ? f->why : curl_easy_strerror(code));
    }
}

tw_status twi_fetch_step(twi_fetch *f, int wait_ms, const uint8_t **data, size_t *bytes,
                         tw_error *err)
{
    int running = 0, left = 0;
    if (!f->under_way)
        return tw_fail(err, TW_EINVAL, "nothing is being got");
    if (curl_multi_perform(f->multi, &running) != CURLM_OK ||
        (running > 0 && curl_multi_poll(f->multi, NULL, 0, wait_ms, NULL) != CURLM_OK) ||
        (running > 0 && curl_multi_perform(f->multi, &running) != CURLM_OK))
        return tw_fail(err, TW_ENOMEM, "out of memory");
    if (running > 0)
        return TW_EAGAIN;
    const CURLMsg *message = curl_multi_info_read(f->multi, &left);
    const CURLcode code = message ? message->data.result : CURLE_GOT_NOTHING;
    (void)curl_multi_remove_handle(f->multi, f->easy);
    f->under_way = false;
    if (code != CURLE_OK)
        return word_failure(f, code, err);
    *data = f->data;
    *bytes = f->bytes;
    return TW_OK;
}
