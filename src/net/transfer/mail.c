/* Mail: text, HTML with a picture, and files. */
#include <openssl/evp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "wire.h"

enum { LINE_BYTES = 2048, WORD_BYTES = 45 /* of an encoded word, RFC 2047 */ };

/* ---- headers --------------------------------------------------------------------- */

static bool is_plain(const char *text)
{
    for (; *text; text++)
        if (*text < ' ' || *text > '~')
            return false;
    return true;
}

/* The next piece of UTF-8 that fits into one encoded word; characters stay whole. */
static size_t piece_of(const char *text)
{
    size_t n = strlen(text);
    if (n <= WORD_BYTES)
        return n;
    for (n = WORD_BYTES; n > 1 && ((unsigned char)text[n] & 0xC0) == 0x80;)
        n--;
    return n;
}

/* A header that is being written. */
typedef struct header {
    char line[LINE_BYTES];
    size_t used;
} header;

static void put(header *h, const char *text, size_t n)
{
    if (h->used + n >= sizeof h->line)
        return;
    memcpy(h->line + h->used, text, n);
    h->used += n;
    h->line[h->used] = '\0';
}

/* What would begin another line is taken out, and what is no ASCII is written in encoded
 * words (RFC 2047). */
static void put_words(header *h, const char *text, size_t n)
{
    char clean[LINE_BYTES / 4], word[WORD_BYTES * 2];
    size_t used = 0;
    for (size_t i = 0; i < n && used + 1 < sizeof clean; i++)
        clean[used++] = (unsigned char)text[i] < ' ' || text[i] == 0x7F ? ' ' : text[i];
    clean[used] = '\0';
    if (is_plain(clean)) {
        put(h, clean, used);
        return;
    }
    for (const char *at = clean; *at;) {
        const size_t m = piece_of(at);
        (void)EVP_EncodeBlock((unsigned char *)word, (const unsigned char *)at, (int)m);
        if (at != clean)
            put(h, "\r\n ", 3);
        put(h, "=?UTF-8?B?", 10);
        put(h, word, strlen(word));
        put(h, "?=", 2);
        at += m;
    }
}

static void begin_header(header *h, const char *name)
{
    h->used = 0;
    put(h, name, strlen(name));
    put(h, ": ", 2);
}

static bool add_header(twi_sender *s, const char *name, const char *value)
{
    header h;
    begin_header(&h, name);
    put_words(&h, value, strlen(value));
    return wire_header(s, h.line);
}

/* "Name <address>, address": of these the names alone are written in words. */
static bool add_people(twi_sender *s, const char *name, const char *list)
{
    header h;
    begin_header(&h, name);
    for (const char *at = list; *at;) {
        const size_t n = strcspn(at, ","), words = strcspn(at, "<,");
        size_t end = words;
        while (end > 0 && at[end - 1] == ' ')
            end--;
        put_words(&h, at, end);
        if (words < n) {
            put(&h, " ", 1);
            put_words(&h, at + words, n - words);
        }
        at += n;
        at += strspn(at, ", ");
        if (*at)
            put(&h, ", ", 2);
    }
    return wire_header(s, h.line);
}

static bool add_date(twi_sender *s, const twi_mail *mail)
{
    static const char *const days[] = {"Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"};
    static const char *const months[] = {"Jan", "Feb", "Mar", "Apr", "May", "Jun",
                                         "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"};
    const time_t local = (time_t)(mail->wall_us / 1000000 + mail->offset_s);
    struct tm t;
    char value[64];
    if (!gmtime_r(&local, &t))
        return true;
    const int off = mail->offset_s / 60, away = off < 0 ? -off : off;
    (void)snprintf(value, sizeof value, "%s, %02d %s %04d %02d:%02d:%02d %c%02d%02d",
                   days[t.tm_wday], t.tm_mday, months[t.tm_mon], t.tm_year + 1900,
                   t.tm_hour, t.tm_min, t.tm_sec, off < 0 ? '-' : '+', away / 60,
                   away % 60);
    return add_header(s, "Date", value);
}

static bool add_id(twi_sender *s, const char *name, const char *id)
{
    char value[256];
    (void)snprintf(value, sizeof value, "<%s>", id);
    return add_header(s, name, value);
}

static const char *sender_of(const twi_sender *s)
{
    return s->spec.to->from[0] ? s->spec.to->from : s->user;
}

static bool add_headers(twi_sender *s, const twi_mail *mail)
{
    return add_date(s, mail) && add_people(s, "From", sender_of(s)) &&
           add_people(s, "To", s->spec.to->to) &&
           add_header(s, "Subject", mail->subject) && add_id(s, "Message-ID", mail->id) &&
           (!mail->thread || (add_id(s, "In-Reply-To", mail->thread) &&
                              add_id(s, "References", mail->thread))) &&
           /* RFC 3834: nobody's holiday answer is wanted */
           add_header(s, "Auto-Submitted", "auto-generated");
}

/* ---- parts ----------------------------------------------------------------------- */

/* Lines of mail end in two characters. @return NULL: out of memory. */
static char *with_line_ends(const char *text)
{
    size_t n = 1;
    for (const char *c = text; *c; c++)
        n += *c == '\n' ? 2 : 1;
    char *out = malloc(n), *to = out;
    for (const char *c = text; out && *c; c++) {
        if (*c == '\n')
            *to++ = '\r';
        *to++ = *c;
    }
    if (out)
        *to = '\0';
    return out;
}

static bool add_text(curl_mime *mime, const char *text, const char *type)
{
    char *lines = with_line_ends(text);
    const twi_content content = {
        .data = lines, .bytes = lines ? strlen(lines) : 0, .type = type};
    const bool good = lines && wire_add_part(mime, NULL, &content, "quoted-printable");
    free(lines); /* the library has its own copy */
    return good;
}

/* A part that has parts; they are freed with it. */
static bool add_parts(curl_mime *mime, curl_mime *parts, const char *type)
{
    curl_mimepart *part = parts ? curl_mime_addpart(mime) : NULL;
    if (part && curl_mime_subparts(part, parts) == CURLE_OK)
        return curl_mime_type(part, type) == CURLE_OK;
    curl_mime_free(parts);
    return false;
}

/* Shown in its place, and saved under its own name, which is safe to quote. */
static struct curl_slist *picture_headers(size_t index, const char *name)
{
    char line[320];
    (void)snprintf(line, sizeof line, "Content-ID: <picture%zu>", index);
    struct curl_slist *list = curl_slist_append(NULL, line);
    (void)snprintf(line, sizeof line, "Content-Disposition: inline; filename=\"%.255s\"",
                   name);
    if (list && !strpbrk(name, "\"\\\r\n") && !curl_slist_append(list, line)) {
        curl_slist_free_all(list);
        return NULL;
    }
    return list;
}

static bool add_picture(curl_mime *mime, size_t index, const twi_content *p)
{
    struct curl_slist *headers = picture_headers(index, p->name);
    curl_mimepart *part = headers ? curl_mime_addpart(mime) : NULL;
    if (part && curl_mime_headers(part, headers, 1) == CURLE_OK)
        headers = NULL; /* the part's */
    const bool good =
        part && !headers &&
        (p->path ? curl_mime_filedata(part, p->path)
                 : curl_mime_data(part, (const char *)p->data, p->bytes)) == CURLE_OK &&
        curl_mime_filename(part, NULL) == CURLE_OK &&
        curl_mime_type(part, p->type) == CURLE_OK &&
        curl_mime_encoder(part, "base64") == CURLE_OK;
    curl_slist_free_all(headers);
    return good;
}

/* The HTML, with the pictures that it shows. */
static bool add_html(twi_sender *s, curl_mime *mime, const twi_mail *mail)
{
    curl_mime *related = curl_mime_init(s->easy);
    bool good = related && add_text(related, mail->html, "text/html; charset=utf-8");
    for (size_t i = 0; i < mail->picture_count && good; i++)
        good = add_picture(related, i, &mail->pictures[i]);
    if (!good) {
        curl_mime_free(related);
        return false;
    }
    return add_parts(mime, related, "multipart/related");
}

static bool add_body(twi_sender *s, curl_mime *mime, const twi_mail *mail)
{
    curl_mime *both = curl_mime_init(s->easy);
    if (!both || !add_text(both, mail->text, "text/plain; charset=utf-8") ||
        !add_html(s, both, mail)) {
        curl_mime_free(both);
        return false;
    }
    bool good = add_parts(mime, both, "multipart/alternative");
    for (size_t i = 0; i < mail->file_count && good; i++)
        good = wire_add_part(mime, NULL, &mail->files[i], "base64");
    return good;
}

/* ---- who ------------------------------------------------------------------------- */

/* "Ann <ann@lane.example>" is ann@lane.example. */
static bool add_address(struct curl_slist **list, const char *text, size_t n)
{
    char one[320];
    const char *open = memchr(text, '<', n), *close = open ? memchr(text, '>', n) : NULL;
    if (open && close && close > open) {
        n = (size_t)(close - open) - 1;
        text = open + 1;
    }
    while (n > 0 && (*text == ' ' || *text == '\t'))
        text++, n--;
    while (n > 0 && (text[n - 1] == ' ' || text[n - 1] == '\t'))
        n--;
    if (n == 0)
        return true;
    (void)snprintf(one, sizeof one, "%.*s", (int)n, text);
    struct curl_slist *more = curl_slist_append(*list, one);
    *list = more ? more : *list;
    return more != NULL;
}

static struct curl_slist *recipients(const char *list)
{
    struct curl_slist *out = NULL;
    for (const char *at = list; *at;) {
        const size_t n = strcspn(at, ",");
        if (!add_address(&out, at, n))
            break;
        at += n + (at[n] == ',');
    }
    return out;
}

void wire_mail(twi_sender *s, const twi_mail *mail, twi_sending *out)
{
    struct curl_slist *to = recipients(s->spec.to->to), *from = NULL;
    curl_mime *mime = NULL;
    const char *sender = sender_of(s);
    bool good = wire_begin(s) && to && add_address(&from, sender, strlen(sender)) &&
                from && (mime = curl_mime_init(s->easy)) != NULL &&
                add_headers(s, mail) && add_body(s, mime, mail) &&
                curl_easy_setopt(s->easy, CURLOPT_URL, s->base) == CURLE_OK &&
                curl_easy_setopt(s->easy, CURLOPT_MAIL_FROM, from->data) == CURLE_OK &&
                curl_easy_setopt(s->easy, CURLOPT_MAIL_RCPT, to) == CURLE_OK &&
                curl_easy_setopt(s->easy, CURLOPT_MIMEPOST, mime) == CURLE_OK;
    if (good)
        wire_run(s, out);
    else
        wire_fail(out, TWI_FAULT_GONE, "");
    curl_mime_free(mime);
    curl_slist_free_all(to);
    curl_slist_free_all(from);
}
