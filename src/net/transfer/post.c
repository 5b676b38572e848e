/* POST of a form, or of a record alone. */
#include <stdio.h>
#include <string.h>

#include "wire.h"
#include "../../settings/sections.h"

bool wire_add_part(curl_mime *mime, const char *field, const twi_content *what,
                   const char *encoder)
{
    curl_mimepart *part = curl_mime_addpart(mime);
    if (!part)
        return false;
    const CURLcode filled =
        what->path ? curl_mime_filedata(part, what->path)
                   : curl_mime_data(part, (const char *)what->data, what->bytes);
    return filled == CURLE_OK && (!field || curl_mime_name(part, field) == CURLE_OK) &&
           (!what->name || curl_mime_filename(part, what->name) == CURLE_OK) &&
           curl_mime_type(part, what->type) == CURLE_OK &&
           (!encoder || curl_mime_encoder(part, encoder) == CURLE_OK);
}

/* Its address is as it was written: a form has no folder. */
static void own_address(const twi_sender *s, char out[URL_BYTES])
{
    const char *url = s->spec.to->url;
    const size_t n = strlen(url);
    (void)snprintf(out, URL_BYTES, "%s", s->base);
    const size_t m = strlen(out);
    if (n > 0 && url[n - 1] != '/' && m > 0)
        out[m - 1] = '\0';
}

static bool set_up(twi_sender *s, const char *key)
{
    char url[URL_BYTES], line[128];
    own_address(s, url);
    (void)snprintf(line, sizeof line, "Idempotency-Key: %s", key);
    return wire_begin(s) && curl_easy_setopt(s->easy, CURLOPT_URL, url) == CURLE_OK &&
           wire_header(s, line) && wire_header(s, "Expect:") && wire_own_headers(s);
}

void wire_post(twi_sender *s, const char *key, const char *record,
               const twi_content *files, size_t count, twi_sending *out)
{
    const twi_content first = {
        .data = record, .bytes = strlen(record), .type = "application/json"};
    curl_mime *mime = NULL;
    bool good = set_up(s, key);
    if (good && s->spec.to->by == TWI_BY_JSON) {
        good = wire_header(s, "Content-Type: application/json") &&
               curl_easy_setopt(s->easy, CURLOPT_POSTFIELDSIZE_LARGE,
                                (curl_off_t)first.bytes) == CURLE_OK &&
               curl_easy_setopt(s->easy, CURLOPT_POSTFIELDS, record) == CURLE_OK;
    } else if (good) {
        mime = curl_mime_init(s->easy);
        good = mime && wire_add_part(mime, "record", &first, NULL);
        for (size_t i = 0; i < count && good; i++)
            good = wire_add_part(mime, "file", &files[i], NULL);
        good = good && curl_easy_setopt(s->easy, CURLOPT_MIMEPOST, mime) == CURLE_OK;
    }
    if (good)
        wire_run(s, out);
    else
        wire_fail(out, TWI_FAULT_GONE, "");
    curl_mime_free(mime);
}
