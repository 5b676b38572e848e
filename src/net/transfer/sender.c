/* A destination: its connections, and what becomes of a transfer. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "wire.h"
#include "../../settings/sections.h"

enum { REDIRECTED = 300, FAILED = 400, SECONDS_MOST = 86400, BODY_MAX = 1 << 16 };

static bool begins(const char *text, const char *with)
{
    return strncmp(text, with, strlen(with)) == 0;
}

/* ---- making ---------------------------------------------------------------------- */

/* Schemes, and what the library calls them. */
static const struct {
    const char *ours, *theirs;
    twi_protocol protocol;
} SCHEMES[] = {
    {"smtps://", "smtps://", TWI_PROTOCOL_SMTP},
    {"smtp://", "smtp://", TWI_PROTOCOL_SMTP},
    {"ftps://", "ftp://", TWI_PROTOCOL_FTP}, /* encrypted when asked: RFC 4217 */
    {"ftp://", "ftp://", TWI_PROTOCOL_FTP},
    {"sftp://", "sftp://", TWI_PROTOCOL_SFTP},
    {"https://", "https://", TWI_PROTOCOL_HTTP},
    {"http://", "http://", TWI_PROTOCOL_HTTP},
    {"s3://", "https://", TWI_PROTOCOL_S3},
    {"s3+http://", "http://", TWI_PROTOCOL_S3},
    {"push:", "", TWI_PROTOCOL_HTTP}}; /* each phone has an address of its own */

enum { SCHEME_COUNT = sizeof SCHEMES / sizeof *SCHEMES };

/* Take the user out of what the settings say, and see that it ends with "/". */
static tw_status read_url(twi_sender *s, tw_error *err)
{
    const char *url = s->spec.to->url;
    size_t i = 0;
    while (i < SCHEME_COUNT && !begins(url, SCHEMES[i].ours))
        i++;
    if (i == SCHEME_COUNT)
        return TW_ENOTSUP;
    s->protocol = SCHEMES[i].protocol;
    const char *rest = url + strlen(SCHEMES[i].ours);
    const size_t host = strcspn(rest, "/?#");
    const char *at = memchr(rest, '@', host);
    if (at && (size_t)(at - rest) < sizeof s->user)
        (void)snprintf(s->user, sizeof s->user, "%.*s", (int)(at - rest), rest);
    if (s->spec.to->user && s->spec.to->user[0])
        (void)snprintf(s->user, sizeof s->user, "%s", s->spec.to->user);
    const char *after = at ? at + 1 : rest, *theirs = SCHEMES[i].theirs;
    /* the port that is encrypted from the beginning */
    if (begins(url, "ftps://") && memmem(after, strcspn(after, "/"), ":990", 4))
        theirs = "ftps://";
    const size_t n = strlen(after);
    if (snprintf(s->base, sizeof s->base, "%s%s%s", theirs, after,
                 n > 0 && after[n - 1] == '/' ? "" : "/") >= (int)sizeof s->base - 512)
        return tw_fail(err, TW_ESIZE, "destination %s: its url is too long",
                       s->spec.to->name);
    return TW_OK;
}

tw_status wire_sender_new(const twi_sender_spec *spec, twi_sender **out, tw_error *err)
{
    twi_sender *s = calloc(1, sizeof *s);
    if (!s)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    s->spec = *spec;
    tw_status st = read_url(s, err);
    s->secret = strdup(spec->secret ? spec->secret : "");
    s->easy = curl_easy_init();
    if (st == TW_OK && (!s->secret || !s->easy))
        st = tw_fail(err, TW_ENOMEM, "out of memory");
    if (st != TW_OK) {
        wire_sender_free(s);
        return st;
    }
    s->talk =
        (wire_talk){.on_line = spec->on_line, .ctx = spec->ctx, .secret = s->secret};
    *out = s;
    return TW_OK;
}

static void drop_lists(twi_sender *s)
{
    curl_slist_free_all(s->headers);
    curl_slist_free_all(s->quotes);
    s->headers = s->quotes = NULL;
}

void wire_sender_free(twi_sender *s)
{
    if (!s)
        return;
    curl_easy_cleanup(s->easy);
    drop_lists(s);
    if (s->secret)
        explicit_bzero(s->secret, strlen(s->secret));
    free(s->secret);
    free(s);
}

/* ---- one transfer ---------------------------------------------------------------- */

static bool add(struct curl_slist **list, const char *text)
{
    struct curl_slist *more = text ? curl_slist_append(*list, text) : *list;
    if (text && more)
        *list = more;
    return !text || more;
}

bool wire_header(twi_sender *s, const char *text)
{
    return add(&s->headers, text);
}

bool wire_quote(twi_sender *s, const char *text)
{
    return add(&s->quotes, text);
}

static int watch(void *ctx, curl_off_t down_all, curl_off_t down, curl_off_t up_all,
                 curl_off_t up)
{
    const twi_sender *s = ctx;
    (void)down_all;
    (void)down;
    (void)up_all;
    (void)up;
    return s->spec.stop && atomic_load(s->spec.stop);
}

static int64_t now_us(void)
{
    struct timespec t;
    (void)clock_gettime(CLOCK_MONOTONIC, &t);
    return (int64_t)t.tv_sec * 1000000 + t.tv_nsec / 1000;
}

/* Of an answer the beginning may say why; one that has no end is cut off, so that nobody
 * holds a destination by it. */
static size_t take_body(char *data, size_t size, size_t count, void *ctx)
{
    twi_sender *s = ctx;
    wire_talk *talk = &s->talk;
    const size_t n = size * count, room = sizeof talk->body - 1 - talk->body_bytes;
    const size_t taken = n < room ? n : room;
    if (s->body_bytes == 0)
        s->body_since_us = now_us();
    s->body_bytes += n;
    if (s->body_bytes > BODY_MAX ||
        now_us() - s->body_since_us > s->spec.to->timeout_us) {
        s->cut_off = true;
        return 0;
    }
    memcpy(talk->body + talk->body_bytes, data, taken);
    talk->body_bytes += taken;
    talk->body[talk->body_bytes] = '\0';
    return n;
}

static bool set_patience(CURL *c, const twi_destination_settings *to)
{
    const long s = (long)(to->timeout_us / 1000000);
    return curl_easy_setopt(c, CURLOPT_CONNECTTIMEOUT, s) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_SERVER_RESPONSE_TIMEOUT, s) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_LOW_SPEED_TIME, s) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_LOW_SPEED_LIMIT, 1L) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_MAX_SEND_SPEED_LARGE, (curl_off_t)to->bandwidth) ==
               CURLE_OK;
}

static bool set_tls(const twi_sender *s)
{
    CURL *c = s->easy;
    const twi_destination_settings *to = s->spec.to;
    const bool verified = to->tls == TWI_TLS_VERIFIED;
    /* only ftp:// is asked for in clear text by its name */
    const bool asked = to->tls != TWI_TLS_NONE && !begins(to->url, "ftp://");
    bool good =
        curl_easy_setopt(c, CURLOPT_SSL_VERIFYPEER, verified ? 1L : 0L) == CURLE_OK &&
        curl_easy_setopt(c, CURLOPT_SSL_VERIFYHOST, verified ? 2L : 0L) == CURLE_OK &&
        curl_easy_setopt(c, CURLOPT_SSLVERSION, (long)CURL_SSLVERSION_TLSv1_2) ==
            CURLE_OK;
    if (good && (s->protocol == TWI_PROTOCOL_SMTP || s->protocol == TWI_PROTOCOL_FTP))
        good = curl_easy_setopt(c, CURLOPT_USE_SSL,
                                asked ? (long)CURLUSESSL_ALL : (long)CURLUSESSL_NONE) ==
               CURLE_OK;
    if (good && to->trust && to->trust[0])
        good = curl_easy_setopt(c, CURLOPT_CAINFO, to->trust) == CURLE_OK;
    return good;
}

/* The known keys of hosts: without a file the library would believe any. */
static bool set_keys(const twi_sender *s)
{
    CURL *c = s->easy;
    const twi_destination_settings *to = s->spec.to;
    char path[URL_BYTES];
    const char *home = getenv("HOME");
    (void)snprintf(path, sizeof path, "%s/.ssh/known_hosts", home ? home : "");
    bool good = curl_easy_setopt(c, CURLOPT_SSH_KNOWNHOSTS,
                                 to->host_keys[0] ? to->host_keys : path) == CURLE_OK;
    if (good && to->key_file[0])
        good =
            curl_easy_setopt(c, CURLOPT_SSH_PRIVATE_KEYFILE, to->key_file) == CURLE_OK &&
            curl_easy_setopt(c, CURLOPT_KEYPASSWD, s->secret) == CURLE_OK &&
            curl_easy_setopt(c, CURLOPT_SSH_AUTH_TYPES, (long)CURLSSH_AUTH_PUBLICKEY) ==
                CURLE_OK;
    else if (good)
        good = curl_easy_setopt(c, CURLOPT_SSH_AUTH_TYPES, (long)CURLSSH_AUTH_PASSWORD) ==
               CURLE_OK;
    return good;
}

static bool set_login(const twi_sender *s)
{
    CURL *c = s->easy;
    const bool own = s->spec.to->headers && strstr(s->spec.to->headers, "{secret}");
    if (s->protocol == TWI_PROTOCOL_SFTP && !set_keys(s))
        return false;
    if (!s->user[0] || own)
        return true;
    bool good = curl_easy_setopt(c, CURLOPT_USERNAME, s->user) == CURLE_OK &&
                curl_easy_setopt(c, CURLOPT_PASSWORD, s->secret) == CURLE_OK;
    if (good && s->protocol == TWI_PROTOCOL_HTTP)
        good = curl_easy_setopt(c, CURLOPT_HTTPAUTH, (long)CURLAUTH_ANY) == CURLE_OK;
    return good;
}

bool wire_begin(twi_sender *s)
{
    CURL *c = s->easy;
    drop_lists(s);
    curl_easy_reset(c); /* connections stay */
    s->why[0] = s->talk.last[0] = s->talk.tale[0] = s->talk.body[0] = '\0';
    s->talk.body_bytes = 0;
    s->body_bytes = 0;
    s->cut_off = false;
    s->talk.answering = false;
    return curl_easy_setopt(c, CURLOPT_PROTOCOLS_STR,
                            "http,https,ftp,ftps,sftp,smtp,smtps") == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_NOSIGNAL, 1L) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_USERAGENT, "tawny") == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_ERRORBUFFER, s->why) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_VERBOSE, 1L) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_DEBUGFUNCTION, wire_hear) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_DEBUGDATA, &s->talk) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_WRITEFUNCTION, take_body) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_WRITEDATA, s) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_NOPROGRESS, 0L) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_XFERINFOFUNCTION, watch) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_XFERINFODATA, s) == CURLE_OK &&
           set_patience(c, s->spec.to) && set_tls(s) && set_login(s);
}

/* ---- what became of it ----------------------------------------------------------- */

void wire_fail(twi_sending *out, twi_fault fault, const char *more)
{
    memset(out, 0, sizeof *out);
    out->fault = fault;
    out->verdict = twi_fault_verdict(fault);
    (void)snprintf(out->text, sizeof out->text, "%s%s%s%s", twi_fault_text(fault),
                   more[0] ? " (" : "", more, more[0] ? ")" : "");
}

/* A certificate is refused for one of three reasons. */
static twi_fault certificate_fault(const twi_sender *s)
{
    if (s->protocol == TWI_PROTOCOL_SFTP)
        return TWI_FAULT_HOST_KEY;
    if (strstr(s->why, "not yet valid"))
        return TWI_FAULT_CLOCK;
    if (strstr(s->why, "subject name") || strstr(s->why, "subjectAltName"))
        return TWI_FAULT_CERT_NAME;
    return TWI_FAULT_CERTIFICATE;
}

/* Of what the library says; OTHER: the server's reply says more. */
static twi_fault library_fault(const twi_sender *s, CURLcode code)
{
    switch (code) {
    case CURLE_COULDNT_RESOLVE_HOST: return TWI_FAULT_HOST;
    case CURLE_COULDNT_CONNECT: return TWI_FAULT_CONNECT;
    case CURLE_OPERATION_TIMEDOUT: return TWI_FAULT_TIMEOUT;
    case CURLE_PEER_FAILED_VERIFICATION: return certificate_fault(s);
    case CURLE_SSL_CACERT_BADFILE: return TWI_FAULT_TRUST_FILE;
    case CURLE_USE_SSL_FAILED: return TWI_FAULT_NO_TLS;
    case CURLE_SSL_CONNECT_ERROR: return TWI_FAULT_TLS;
    case CURLE_REMOTE_DISK_FULL: return TWI_FAULT_FULL;
    case CURLE_READ_ERROR:
    case CURLE_FILE_COULDNT_READ_FILE: return TWI_FAULT_GONE;
    case CURLE_URL_MALFORMAT: return TWI_FAULT_URL;
    case CURLE_FILESIZE_EXCEEDED: return TWI_FAULT_TOO_LARGE;
    default: return TWI_FAULT_OTHER;
    }
}

/* Of what the server said, where the library says little. */
static twi_fault server_fault(const twi_sender *s, CURLcode code)
{
    const twi_reply reply = twi_reply_read(s->talk.last);
    twi_fault fault = twi_reply_fault(s->protocol, &reply);
    const bool refused = reply.code >= FAILED ||
                         (reply.code >= REDIRECTED && s->protocol == TWI_PROTOCOL_HTTP);
    if (s->protocol == TWI_PROTOCOL_S3 && strstr(s->talk.body, "RequestTimeTooSkewed"))
        return TWI_FAULT_CLOCK;
    if (s->protocol == TWI_PROTOCOL_SMTP && fault == TWI_FAULT_RECIPIENT &&
        strstr(s->why, "MAIL"))
        return TWI_FAULT_SENDER;
    if (refused && s->protocol != TWI_PROTOCOL_SFTP)
        return fault;
    if (code == CURLE_LOGIN_DENIED)
        return TWI_FAULT_LOGIN;
    if (code == CURLE_REMOTE_ACCESS_DENIED || code == CURLE_REMOTE_FILE_NOT_FOUND ||
        code == CURLE_QUOTE_ERROR || (code == CURLE_SSH && strstr(s->why, "ermission")))
        return TWI_FAULT_FOLDER;
    if (code == CURLE_SSH && strstr(s->why, "uthentication"))
        return TWI_FAULT_LOGIN;
    return code == CURLE_SEND_ERROR || code == CURLE_RECV_ERROR ||
                   code == CURLE_GOT_NOTHING || code == CURLE_PARTIAL_FILE ||
                   code == CURLE_FTP_ACCEPT_FAILED
               ? TWI_FAULT_BROKEN
               : TWI_FAULT_OTHER;
}

/* What the server says of it, or else the library. */
static const char *more_of(const twi_sender *s, twi_fault fault)
{
    const bool heard = twi_reply_read(s->talk.last).code >= REDIRECTED;
    switch (fault) {
    case TWI_FAULT_HOST:
    case TWI_FAULT_CONNECT:
    case TWI_FAULT_CERTIFICATE:
    case TWI_FAULT_TLS: return s->why;
    default: return heard && s->protocol != TWI_PROTOCOL_SFTP ? s->talk.last : s->why;
    }
}

/* What a request has cost. */
static uint64_t bytes_of(CURL *c)
{
    curl_off_t up = 0, down = 0;
    long head = 0, request = 0;
    (void)curl_easy_getinfo(c, CURLINFO_SIZE_UPLOAD_T, &up);
    (void)curl_easy_getinfo(c, CURLINFO_SIZE_DOWNLOAD_T, &down);
    (void)curl_easy_getinfo(c, CURLINFO_HEADER_SIZE, &head);
    (void)curl_easy_getinfo(c, CURLINFO_REQUEST_SIZE, &request);
    return (uint64_t)up + (uint64_t)down + (uint64_t)head + (uint64_t)request;
}

void wire_run(twi_sender *s, twi_sending *out)
{
    CURL *c = s->easy;
    curl_off_t again_s = 0;
    char more[TWI_REPLY_MAX];
    CURLcode code = CURLE_OUT_OF_MEMORY;
    if ((!s->headers ||
         curl_easy_setopt(c, CURLOPT_HTTPHEADER, s->headers) == CURLE_OK) &&
        (!s->quotes || curl_easy_setopt(c, CURLOPT_POSTQUOTE, s->quotes) == CURLE_OK))
        code = curl_easy_perform(c);
    if (s->cut_off) /* what the answer says is known by then */
        code = CURLE_OK;
    const twi_reply reply = twi_reply_read(s->talk.last);
    const bool http = s->protocol == TWI_PROTOCOL_HTTP || s->protocol == TWI_PROTOCOL_S3;
    memset(out, 0, sizeof *out);
    s->cost += bytes_of(c);
    (void)snprintf(out->text, sizeof out->text, "%s", s->talk.last);
    if (code == CURLE_OK && !(http && reply.code >= REDIRECTED))
        return;
    twi_fault fault = library_fault(s, code);
    if (fault == TWI_FAULT_OTHER)
        fault = server_fault(s, code);
    const char *why = more_of(s, fault);
    wire_fail(out, fault, twi_reply_shown(why, strlen(why), more, sizeof more));
    if (curl_easy_getinfo(c, CURLINFO_RETRY_AFTER, &again_s) == CURLE_OK && again_s > 0)
        out->again_us =
            (again_s < SECONDS_MOST ? again_s : (curl_off_t)SECONDS_MOST) * 1000000;
}
