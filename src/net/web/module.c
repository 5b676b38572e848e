/* The web module: an HTTP server by libmicrohttpd, a thread for each connection. */
#include <arpa/inet.h>
#include <errno.h>
#include <microhttpd.h>
#include <netdb.h>
#include <sodium.h>
#include <pthread.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>
#include <zlib.h>

#include "connections.h"
#include "tawny/version.h"
#include "../../base/system_error.h"

enum { FROM_ONE = 24, MEMORY = 32768, STREAM_BLOCK = 65536 };

struct twi_web {
    struct MHD_Daemon *daemon;
    twi_web_spec spec;
    int port;
    twi_connections connections;
};

/* A request while its body comes in. */
struct twi_web_call {
    struct MHD_Connection *connection;
    char *body;
    size_t bytes;
    bool oversized;
};

/* ---- what a handler asks ---------------------------------------------------------- */

static const char *value_of(twi_web_call *call, enum MHD_ValueKind kind, const char *name)
{
    return MHD_lookup_connection_value(call->connection, kind, name);
}

static const char *header(twi_web_call *call, const char *name)
{
    return value_of(call, MHD_HEADER_KIND, name);
}

static const char *cookie(twi_web_call *call, const char *name)
{
    return value_of(call, MHD_COOKIE_KIND, name);
}

static const char *query(twi_web_call *call, const char *name)
{
    return value_of(call, MHD_GET_ARGUMENT_KIND, name);
}

/* ---- answers ---------------------------------------------------------------------- */

/* "bytes=5-", "bytes=5-9", "bytes=-5" (RFC 9110); others are answered with all of it.
 * @return false: nothing of the file lies in it. */
static bool read_range(const char *text, uint64_t bytes, uint64_t *from, uint64_t *count)
{
    char *end = NULL;
    *from = 0;
    *count = bytes;
    if (!text || strncmp(text, "bytes=", 6) != 0 || strchr(text, ','))
        return true;
    text += 6;
    if (*text == '-') {
        const uint64_t last = strtoull(text + 1, &end, 10);
        if (end == text + 1 || *end || last == 0)
            return end == text + 1 || *end;
        *from = last < bytes ? bytes - last : 0;
        *count = bytes - *from;
        return true;
    }
    const uint64_t first = strtoull(text, &end, 10);
    if (end == text || *end != '-')
        return true;
    uint64_t last = bytes - 1;
    if (end[1]) {
        char *rest = NULL;
        last = strtoull(end + 1, &rest, 10);
        if (*rest || last < first)
            return true;
    }
    if (first >= bytes)
        return false;
    *from = first;
    *count = (last < bytes ? last + 1 : bytes) - first;
    return true;
}

static struct MHD_Response *file_response(twi_web_call *call, twi_web_answer *a)
{
    uint64_t from = 0, count = 0;
    char range[96];
    if (!read_range(header(call, "Range"), a->file_bytes, &from, &count)) {
        (void)close(a->fd);
        a->status = MHD_HTTP_RANGE_NOT_SATISFIABLE;
        return MHD_create_response_from_buffer(0, NULL, MHD_RESPMEM_PERSISTENT);
    }
    struct MHD_Response *r = MHD_create_response_from_fd_at_offset64(count, a->fd, from);
    if (!r) {
        (void)close(a->fd);
        return NULL;
    }
    (void)MHD_add_response_header(r, "Accept-Ranges", "bytes");
    if (count == a->file_bytes)
        return r;
    a->status = MHD_HTTP_PARTIAL_CONTENT;
    (void)snprintf(range, sizeof range, "bytes %llu-%llu/%llu", (unsigned long long)from,
                   (unsigned long long)(from + count - 1),
                   (unsigned long long)a->file_bytes);
    (void)MHD_add_response_header(r, "Content-Range", range);
    return r;
}

/* A stream that a browser draws. */
typedef struct stream {
    long (*read)(void *ctx, char *out, size_t room);
    void (*end)(void *ctx);
    void *ctx;
} stream;

static ssize_t read_stream(void *ctx, uint64_t at, char *out, size_t room)
{
    stream *s = ctx;
    (void)at;
    const long n = s->read(s->ctx, out, room);
    if (n >= 0)
        return n;
    return n == -1 ? MHD_CONTENT_READER_END_OF_STREAM : MHD_CONTENT_READER_END_WITH_ERROR;
}

static void end_stream(void *ctx)
{
    stream *s = ctx;
    s->end(s->ctx);
    free(s);
}

static struct MHD_Response *stream_response(const twi_web_answer *a)
{
    stream *s = malloc(sizeof *s);
    struct MHD_Response *r = NULL;
    if (s) {
        *s = (stream){a->read, a->end, a->ctx};
        r = MHD_create_response_from_callback(MHD_SIZE_UNKNOWN, STREAM_BLOCK, read_stream,
                                              s, end_stream);
    }
    if (!r) {
        a->end(a->ctx);
        free(s);
    }
    return r;
}

/* Whether gzip is asked for: by name, and not with a weight of 0 (RFC 9110). */
static bool takes_gzip(twi_web_call *call)
{
    const char *asked = header(call, "Accept-Encoding");
    const char *at = asked ? strstr(asked, "gzip") : NULL;
    if (!at)
        return asked && strcmp(asked, "*") == 0;
    at += strlen("gzip");
    at += strspn(at, " ");
    return strncmp(at, ";q=0", 4) != 0 ||
           (at[4] == '.' && at[5 + strspn(at + 5, "0")] > '0');
}

/* Files of the page are packed; whoever does not ask for that gets them as they are.
 * @return false: out of memory. */
static bool unzip(twi_web_answer *a)
{
    enum { MOST = 1 << 23 };
    const unsigned char *packed = a->data;
    z_stream z = {.next_in = (unsigned char *)packed, /* NOLINT: it is not written */
                  .avail_in = (unsigned)a->bytes};
    /* gzip ends with the length of what is in it (RFC 1952). */
    const unsigned char *end = packed + a->bytes;
    const size_t bytes = a->bytes < 18
                             ? 0
                             : (size_t)end[-4] | (size_t)end[-3] << 8 |
                                   (size_t)end[-2] << 16 | (size_t)end[-1] << 24;
    unsigned char *plain = bytes > 0 && bytes <= MOST ? malloc(bytes) : NULL;
    if (!plain || inflateInit2(&z, 16 + MAX_WBITS) != Z_OK) {
        free(plain);
        return false;
    }
    z.next_out = plain;
    z.avail_out = (unsigned)bytes;
    const bool good = inflate(&z, Z_FINISH) == Z_STREAM_END && z.total_out == bytes;
    (void)inflateEnd(&z);
    if (!good) {
        free(plain);
        return false;
    }
    a->data = plain;
    a->bytes = bytes;
    a->owned = true;
    a->zipped = false;
    return true;
}

static struct MHD_Response *response_of(twi_web_call *call, twi_web_answer *a)
{
    if (a->kind == TWI_ANSWER_FILE)
        return file_response(call, a);
    if (a->kind == TWI_ANSWER_STREAM)
        return stream_response(a);
    return MHD_create_response_from_buffer(
        a->bytes, (void *)a->data, /* NOLINT: it is not written */
        a->owned ? MHD_RESPMEM_MUST_FREE : MHD_RESPMEM_PERSISTENT);
}

/* No code but ours, no other host, no frame around it; nothing is kept unless it says. */
static void add_headers(struct MHD_Response *r, const twi_web_answer *a)
{
    char text[320];
    static const char *const always[][2] = {
        {"Content-Security-Policy",
         "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' "
         "data:; media-src 'self'; connect-src 'self'; manifest-src 'self'; "
         "form-action 'none'; base-uri 'none'; "
         "frame-ancestors 'none'"},
        {"X-Content-Type-Options", "nosniff"},
        {"Referrer-Policy", "no-referrer"},
        {"Cross-Origin-Resource-Policy", "same-origin"}};
    for (size_t i = 0; i < sizeof always / sizeof *always; i++)
        (void)MHD_add_response_header(r, always[i][0], always[i][1]);
    (void)MHD_add_response_header(r, "Cache-Control", a->cache ? a->cache : "no-store");
    if (a->type)
        (void)MHD_add_response_header(r, "Content-Type", a->type);
    if (a->zipped)
        (void)MHD_add_response_header(r, "Content-Encoding", "gzip");
    if (a->kind == TWI_ANSWER_BYTES)
        (void)MHD_add_response_header(r, "Vary", "Accept-Encoding");
    if (a->cookie[0])
        (void)MHD_add_response_header(r, "Set-Cookie", a->cookie);
    (void)snprintf(text, sizeof text, "attachment; filename=\"%s\"", a->name);
    if (a->name[0])
        (void)MHD_add_response_header(r, "Content-Disposition", text);
    (void)snprintf(text, sizeof text, "\"%s\"", a->tag);
    if (a->tag[0])
        (void)MHD_add_response_header(r, "ETag", text);
    (void)snprintf(text, sizeof text, "%u", a->again_s);
    if (a->again_s > 0)
        (void)MHD_add_response_header(r, "Retry-After", text);
}

static enum MHD_Result answer(twi_web_call *call, twi_web_answer *a)
{
    if (a->zipped && !takes_gzip(call) && !unzip(a))
        return MHD_NO;
    struct MHD_Response *r = response_of(call, a);
    if (!r)
        return MHD_NO;
    add_headers(r, a);
    const enum MHD_Result queued = MHD_queue_response(call->connection, a->status, r);
    MHD_destroy_response(r);
    return queued;
}

/* ---- requests --------------------------------------------------------------------- */

static void word_peer(struct MHD_Connection *connection, char out[64])
{
    const union MHD_ConnectionInfo *info =
        MHD_get_connection_info(connection, MHD_CONNECTION_INFO_CLIENT_ADDRESS);
    out[0] = '\0';
    if (info && info->client_addr)
        (void)getnameinfo(info->client_addr,
                          info->client_addr->sa_family == AF_INET6
                              ? sizeof(struct sockaddr_in6)
                              : sizeof(struct sockaddr_in),
                          out, 64, NULL, 0, NI_NUMERICHOST);
}

static void take_body(twi_web_call *call, const char *data, size_t bytes)
{
    if (call->oversized || bytes > TWI_WEB_BODY_MAX - call->bytes) {
        call->oversized = true;
        return;
    }
    char *more = realloc(call->body, call->bytes + bytes + 1);
    if (!more) {
        call->oversized = true;
        return;
    }
    memcpy(more + call->bytes, data, bytes);
    call->body = more;
    call->bytes += bytes;
    more[call->bytes] = '\0';
}

/* Whether so much is announced that it need not even come. */
static bool is_too_much(twi_web_call *call)
{
    const char *length = header(call, "Content-Length");
    return length && strtoull(length, NULL, 10) > TWI_WEB_BODY_MAX;
}

static enum MHD_Result refuse_size(twi_web_call *call)
{
    twi_web_answer a = {.status = MHD_HTTP_CONTENT_TOO_LARGE};
    return answer(call, &a);
}

static twi_connection *connection_of(struct MHD_Connection *connection)
{
    const union MHD_ConnectionInfo *info =
        MHD_get_connection_info(connection, MHD_CONNECTION_INFO_SOCKET_CONTEXT);
    return info ? info->socket_context : NULL;
}

static enum MHD_Result handle(void *ctx, struct MHD_Connection *connection,
                              const char *url, const char *method, const char *version,
                              const char *data, size_t *bytes, void **state)
{
    twi_web *web = ctx;
    twi_web_call *call = *state;
    char peer[64];
    (void)version;
    if (!call) {
        *state = call = calloc(1, sizeof *call);
        if (!call)
            return MHD_NO;
        call->connection = connection;
        return is_too_much(call) ? refuse_size(call) : MHD_YES;
    }
    if (*bytes > 0) {
        take_body(call, data, *bytes);
        *bytes = 0;
        return MHD_YES;
    }
    if (call->oversized)
        return refuse_size(call);
    word_peer(connection, peer);
    const twi_web_request request = {.method = method,
                                     .path = url,
                                     .peer = peer,
                                     .body = call->body ? call->body : "",
                                     .bytes = call->bytes,
                                     .call = call};
    twi_web_answer a = {.status = MHD_HTTP_NOT_FOUND};
    twi_connections_answer(&web->connections, connection_of(connection), false);
    web->spec.handle(web->spec.ctx, &request, &a);
    twi_connections_answer(&web->connections, connection_of(connection), a.known);
    return answer(call, &a);
}

static void completed(void *ctx, struct MHD_Connection *connection, void **state,
                      enum MHD_RequestTerminationCode code)
{
    twi_web *web = ctx;
    twi_web_call *call = *state;
    (void)code;
    twi_connections_wait(&web->connections, connection_of(connection));
    if (!call)
        return;
    if (call->body)
        sodium_memzero(call->body, call->bytes); /* it may be a password */
    free(call->body);
    free(call);
    *state = NULL;
}

/* A connection comes and goes. */
static void connected(void *ctx, struct MHD_Connection *connection, void **place,
                      enum MHD_ConnectionNotificationCode what)
{
    twi_web *web = ctx;
    const union MHD_ConnectionInfo *info =
        MHD_get_connection_info(connection, MHD_CONNECTION_INFO_CONNECTION_FD);
    if (what == MHD_CONNECTION_NOTIFY_STARTED && info)
        *place = twi_connections_open(&web->connections, info->connect_fd);
    else if (what == MHD_CONNECTION_NOTIFY_CLOSED)
        twi_connections_close(&web->connections, *place);
}

/* ---- passwords -------------------------------------------------------------------- */

/* It may be asked for by any thread, and again. */
static bool is_ready(void)
{
    return sodium_init() >= 0;
}

static bool hash(const char *password, char out[TWI_HASH_BYTES])
{
    _Static_assert(TWI_HASH_BYTES >= crypto_pwhash_STRBYTES, "a hash fits");
    return is_ready() && crypto_pwhash_str(out, password, strlen(password),
                                           crypto_pwhash_OPSLIMIT_INTERACTIVE,
                                           crypto_pwhash_MEMLIMIT_INTERACTIVE) == 0;
}

static bool check(const char *password, const char *hash_text)
{
    char padded[TWI_HASH_BYTES] = "";
    (void)snprintf(padded, sizeof padded, "%s", hash_text);
    return is_ready() &&
           crypto_pwhash_str_verify(padded, password, strlen(password)) == 0;
}

static void token(char out[TWI_TOKEN_BYTES])
{
    unsigned char bytes[32];
    randombytes_buf(bytes, sizeof bytes);
    (void)sodium_bin2base64(out, TWI_TOKEN_BYTES, bytes, sizeof bytes,
                            sodium_base64_VARIANT_URLSAFE_NO_PADDING);
}

static bool same(const char *a, const char *b)
{
    const size_t n = strlen(a);
    return n == strlen(b) && sodium_memcmp(a, b, n) == 0;
}

/* ---- the server ------------------------------------------------------------------- */

static int port_of(const twi_web *web)
{
    return web->port;
}

static void stop(twi_web *web)
{
    if (!web)
        return;
    if (web->daemon)
        MHD_stop_daemon(web->daemon);
    twi_connections_end(&web->connections);
    free(web);
}

static tw_status begin(twi_web *web, const struct addrinfo *at, tw_error *err)
{
    const twi_web_spec *spec = &web->spec;
    const bool tls = spec->certificate && spec->key;
    unsigned flags =
        MHD_USE_INTERNAL_POLLING_THREAD | MHD_USE_THREAD_PER_CONNECTION | MHD_USE_POLL;
    flags |= at->ai_family == AF_INET6 ? MHD_USE_DUAL_STACK : 0U;
    flags |= tls ? MHD_USE_TLS : 0U;
    const struct MHD_OptionItem more[] = {
        {MHD_OPTION_HTTPS_MEM_CERT, 0, (void *)spec->certificate}, /* NOLINT */
        {MHD_OPTION_HTTPS_MEM_KEY, 0, (void *)spec->key},          /* NOLINT */
        {MHD_OPTION_END, 0, NULL}};
    static const struct MHD_OptionItem none[] = {{MHD_OPTION_END, 0, NULL}};
    errno = 0;
    web->daemon = MHD_start_daemon(
        flags, (uint16_t)spec->port, NULL, NULL, handle, web, MHD_OPTION_SOCK_ADDR,
        at->ai_addr, MHD_OPTION_CONNECTION_LIMIT, (unsigned)TWI_WEB_CONNECTIONS,
        MHD_OPTION_PER_IP_CONNECTION_LIMIT, (unsigned)FROM_ONE,
        MHD_OPTION_CONNECTION_TIMEOUT, (unsigned)TWI_WEB_PATIENCE_S,
        MHD_OPTION_CONNECTION_MEMORY_LIMIT, (size_t)MEMORY, MHD_OPTION_NOTIFY_COMPLETED,
        completed, web, MHD_OPTION_NOTIFY_CONNECTION, connected, web, MHD_OPTION_ARRAY,
        tls ? more : none, MHD_OPTION_END);
    const int code = errno;
    if (!web->daemon)
        return tw_fail(err, twi_status_of_errno(code ? code : EINVAL),
                       "cannot listen at %s, port %d: %s", spec->address, spec->port,
                       code ? strerror(code) : "the certificate or its key is no good");
    const union MHD_DaemonInfo *info =
        MHD_get_daemon_info(web->daemon, MHD_DAEMON_INFO_BIND_PORT);
    web->port = info ? info->port : spec->port;
    return TW_OK;
}

static tw_status start(const twi_web_spec *spec, twi_web **out, tw_error *err)
{
    const struct addrinfo hints = {.ai_flags = AI_NUMERICHOST | AI_PASSIVE,
                                   .ai_socktype = SOCK_STREAM};
    struct addrinfo *at = NULL;
    char port[16];
    (void)snprintf(port, sizeof port, "%d", spec->port);
    if (!is_ready())
        return tw_fail(err, TW_EIO, "there is no source of chance for tokens");
    if (getaddrinfo(spec->address, port, &hints, &at) != 0)
        return tw_fail(err, TW_EINVAL, "%s is no address to listen at", spec->address);
    twi_web *web = calloc(1, sizeof *web);
    if (!web) {
        freeaddrinfo(at);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    web->spec = *spec;
    sigset_t all, before;
    (void)sigfillset(&all);
    (void)pthread_sigmask(SIG_SETMASK, &all, &before); /* its threads are for no signal */
    tw_status st = twi_connections_begin(&web->connections, err);
    if (st == TW_OK)
        st = begin(web, at, err);
    (void)pthread_sigmask(SIG_SETMASK, &before, NULL);
    freeaddrinfo(at);
    if (st == TW_OK)
        *out = web;
    else
        stop(web);
    return st;
}

TW_API const twi_web_module twi_web_table = {
    TWI_WEB_ABI, start, port_of, stop, header, cookie, query, hash, check, token, same};
