/* Putting files into folders: FTP, SFTP, WebDAV, PUT, object storage. */
#include <openssl/evp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "wire.h"
#include "../../settings/sections.h"

#define PART ".part" /* until it is whole */

enum { PIECE = 1 << 16, FOLDERS_MAX = 32 };

/* What is read of a content. */
typedef struct source {
    const twi_content *what;
    FILE *file; /* NULL: of memory */
    size_t at;  /* of memory */
    uint64_t bytes;
} source;

static bool open_source(const twi_content *what, source *out)
{
    *out = (source){.what = what, .bytes = what->bytes};
    if (!what->path)
        return true;
    out->file = fopen(what->path, "rb");
    if (!out->file)
        return false;
    const long end = fseek(out->file, 0, SEEK_END) == 0 ? ftell(out->file) : -1;
    out->bytes = end > 0 ? (uint64_t)end : 0;
    rewind(out->file);
    return end >= 0;
}

static void close_source(source *s)
{
    if (s->file)
        (void)fclose(s->file);
    s->file = NULL;
}

static size_t read_source(char *out, size_t size, size_t count, void *ctx)
{
    source *s = ctx;
    size_t n = size * count;
    if (s->file) {
        n = fread(out, 1, n, s->file);
        return n == 0 && ferror(s->file) ? CURL_READFUNC_ABORT : n;
    }
    if (n > s->what->bytes - s->at)
        n = s->what->bytes - s->at;
    memcpy(out, (const char *)s->what->data + s->at, n);
    s->at += n;
    return n;
}

/* The library begins again, where a login is asked for in between. */
static int seek_source(void *ctx, curl_off_t offset, int origin)
{
    source *s = ctx;
    if (origin != SEEK_SET || offset < 0)
        return CURL_SEEKFUNC_CANTSEEK;
    if (s->file)
        return fseek(s->file, (long)offset, SEEK_SET) == 0 ? CURL_SEEKFUNC_OK
                                                           : CURL_SEEKFUNC_FAIL;
    s->at = (size_t)offset < s->what->bytes ? (size_t)offset : s->what->bytes;
    return CURL_SEEKFUNC_OK;
}

/* ---- names ----------------------------------------------------------------------- */

bool wire_address(const twi_sender *s, const char *name, const char *ending, char *out,
                  size_t capacity)
{
    size_t used = (size_t)snprintf(out, capacity, "%s", s->base);
    for (const char *c = name; *c; c++) /* it would be a command of its own */
        if ((unsigned char)*c < ' ' || *c == 0x7F)
            return false;
    for (const char *at = name; used < capacity;) {
        const size_t n = strcspn(at, "/");
        char *part = curl_easy_escape(s->easy, at, (int)n);
        if (!part || n == 0) {
            curl_free(part);
            return false;
        }
        used += (size_t)snprintf(out + used, capacity - used, "%s%s", part,
                                 at[n] ? "/" : ending);
        curl_free(part);
        if (!at[n])
            return used < capacity;
        at += n + 1;
    }
    return false;
}

static const char *last_part(const char *name)
{
    const char *slash = strrchr(name, '/');
    return slash ? slash + 1 : name;
}

static bool set_up(twi_sender *s, const char *url, source *from)
{
    CURL *c = s->easy;
    return wire_begin(s) && curl_easy_setopt(c, CURLOPT_URL, url) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_UPLOAD, 1L) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_READFUNCTION, read_source) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_READDATA, from) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_SEEKFUNCTION, seek_source) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_SEEKDATA, from) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_INFILESIZE_LARGE, (curl_off_t)from->bytes) ==
               CURLE_OK;
}

static void no_memory(twi_sending *out)
{
    wire_fail(out, TWI_FAULT_OTHER, "out of memory, or a name that cannot be sent");
}

/* ---- what is there already -------------------------------------------------------- */

/* Whether something of that length has that name already. */
static bool is_there(twi_sender *s, const char *url, uint64_t bytes)
{
    curl_off_t length = -1;
    twi_sending asked;
    CURL *c = s->easy;
    if (!wire_begin(s) || curl_easy_setopt(c, CURLOPT_URL, url) != CURLE_OK ||
        curl_easy_setopt(c, CURLOPT_NOBODY, 1L) != CURLE_OK ||
        (s->protocol == TWI_PROTOCOL_HTTP && !wire_own_headers(s)))
        return false;
    wire_run(s, &asked);
    return asked.verdict == TWI_DELIVERED &&
           curl_easy_getinfo(c, CURLINFO_CONTENT_LENGTH_DOWNLOAD_T, &length) ==
               CURLE_OK &&
           length >= 0 && (uint64_t)length == bytes;
}

/* What a renaming that was refused means: the answer to an earlier one may have been
 * lost, and then it is there. If not, all of it goes again. */
static void check_again(twi_sender *s, const char *url, uint64_t bytes, twi_sending *out)
{
    if (is_there(s, url, bytes))
        wire_fail(out, TWI_FAULT_NONE, "");
    else
        wire_fail(out, TWI_FAULT_BROKEN, "what was put there is gone");
}

/* ---- FTP and SFTP: another name until it is whole -------------------------------- */

/* The decoded path on the server: what commands want. */
static bool server_path(const twi_sender *s, const char *name, const char *ending,
                        char *out, size_t capacity)
{
    const char *host = strstr(s->base, "://") + 3, *path = strchr(host, '/');
    int n = 0;
    char *plain = curl_easy_unescape(s->easy, path, 0, &n);
    if (!plain)
        return false;
    /* "~" is where the user begins */
    const char *from = strncmp(plain, "/~/", 3) == 0 ? plain + 3 : plain;
    const bool good =
        !strpbrk(plain, "\r\n\"") && !strpbrk(name, "\"") &&
        snprintf(out, capacity, "%s%s%s", from, name, ending) < (int)capacity;
    curl_free(plain);
    return good;
}

/* Renaming need not replace anything there: what an earlier try left goes first. */
static bool rename_ftp(twi_sender *s, const char *name)
{
    char line[URL_BYTES];
    (void)snprintf(line, sizeof line, "*DELE %s", last_part(name));
    bool good = wire_quote(s, line);
    (void)snprintf(line, sizeof line, "RNFR %s" PART, last_part(name));
    good = good && wire_quote(s, line);
    (void)snprintf(line, sizeof line, "RNTO %s", last_part(name));
    return good && wire_quote(s, line);
}

static bool rename_sftp(twi_sender *s, const char *name)
{
    char part[URL_BYTES], whole[URL_BYTES], line[2 * URL_BYTES + 32];
    if (!server_path(s, name, PART, part, sizeof part) ||
        !server_path(s, name, "", whole, sizeof whole))
        return false;
    (void)snprintf(line, sizeof line, "*rm \"%s\"", whole);
    bool good = wire_quote(s, line);
    (void)snprintf(line, sizeof line, "rename \"%s\" \"%s\"", part, whole);
    return good && wire_quote(s, line);
}

/* Whether a file was sent whole, and what came then was refused. */
static bool was_put(const twi_sender *s)
{
    curl_off_t sent = 0;
    return curl_easy_getinfo(s->easy, CURLINFO_SIZE_UPLOAD_T, &sent) == CURLE_OK &&
           sent > 0;
}

static void put_renamed(twi_sender *s, const char *name, source *from, twi_sending *out)
{
    char url[URL_BYTES];
    const bool sftp = s->protocol == TWI_PROTOCOL_SFTP;
    if (!wire_address(s, name, PART, url, sizeof url) || !set_up(s, url, from) ||
        curl_easy_setopt(s->easy, CURLOPT_FTP_CREATE_MISSING_DIRS,
                         (long)CURLFTP_CREATE_DIR_RETRY) != CURLE_OK ||
        !(sftp ? rename_sftp(s, name) : rename_ftp(s, name)))
        no_memory(out);
    else
        wire_run(s, out);
    /* Some refuse to rename what they have renamed already. */
    if (!sftp && out->fault == TWI_FAULT_FOLDER && was_put(s) &&
        wire_address(s, name, "", url, sizeof url) && is_there(s, url, from->bytes))
        wire_fail(out, TWI_FAULT_NONE, "");
}

/* ---- HTTP ------------------------------------------------------------------------ */

/* A request without a body. */
static void ask(twi_sender *s, const char *method, const char *url, const char *header,
                twi_sending *out)
{
    CURL *c = s->easy;
    if (!wire_begin(s) || curl_easy_setopt(c, CURLOPT_URL, url) != CURLE_OK ||
        curl_easy_setopt(c, CURLOPT_CUSTOMREQUEST, method) != CURLE_OK ||
        !wire_header(s, header) || !wire_own_headers(s))
        no_memory(out);
    else
        wire_run(s, out);
}

/* Make the collections above a file, the outermost first. One that is there already, or
 * that is not ours to make, is refused: what is wrong shows when the file is put. */
static void make_folders(twi_sender *s, const char *url, twi_sending *out)
{
    char folder[URL_BYTES];
    const char *slash = strchr(strstr(url, "://") + 3, '/');
    for (size_t i = 0; i < FOLDERS_MAX && slash; i++) {
        slash = strchr(slash + 1, '/');
        if (!slash)
            break;
        (void)snprintf(folder, sizeof folder, "%.*s", (int)(slash - url) + 1, url);
        ask(s, "MKCOL", folder, NULL, out);
        if (twi_reply_read(s->talk.last).code == 0)
            return; /* nobody answers any more */
    }
    memset(out, 0, sizeof *out);
}

/* RFC 4918 asks for 409; others answer 404, or fail on their own. */
static bool lacks_folder(uint16_t code)
{
    return code == 409 || code == 404 || code == 500;
}

static void put_plain(twi_sender *s, const char *url, source *from, twi_sending *out)
{
    char type[128];
    if (seek_source(from, 0, SEEK_SET) != CURL_SEEKFUNC_OK) {
        wire_fail(out, TWI_FAULT_GONE, "");
        return;
    }
    (void)snprintf(type, sizeof type, "Content-Type: %s",
                   from->what->type ? from->what->type : "application/octet-stream");
    if (!set_up(s, url, from) || !wire_header(s, type) || !wire_header(s, "Expect:") ||
        !wire_own_headers(s))
        no_memory(out);
    else
        wire_run(s, out);
}

/* A part that was moved already, or that another has taken away. */
static bool lacks_part(uint16_t code)
{
    return code == 404 || code == 412;
}

static void put_webdav(twi_sender *s, const char *name, source *from, twi_sending *out)
{
    char part[URL_BYTES], whole[URL_BYTES], header[URL_BYTES + 32];
    if (!wire_address(s, name, PART, part, sizeof part) ||
        !wire_address(s, name, "", whole, sizeof whole)) {
        no_memory(out);
        return;
    }
    put_plain(s, part, from, out);
    if (lacks_folder(twi_reply_read(s->talk.last).code)) {
        make_folders(s, whole, out);
        if (out->verdict == TWI_DELIVERED)
            put_plain(s, part, from, out);
    }
    if (out->verdict != TWI_DELIVERED)
        return;
    (void)snprintf(header, sizeof header, "Destination: %s", whole);
    ask(s, "MOVE", part, header, out);
    if (lacks_part(twi_reply_read(s->talk.last).code))
        check_again(s, whole, from->bytes, out);
}

/* ---- object storage -------------------------------------------------------------- */

static bool hash_source(source *from, char out[65])
{
    unsigned char digest[EVP_MAX_MD_SIZE];
    unsigned int length = 0;
    char *piece = malloc(PIECE);
    EVP_MD_CTX *hash = EVP_MD_CTX_new();
    bool good = piece && hash && EVP_DigestInit_ex(hash, EVP_sha256(), NULL) == 1;
    for (size_t n = 1; good && n > 0;) {
        n = read_source(piece, 1, PIECE, from);
        good = n <= PIECE && (n == 0 || EVP_DigestUpdate(hash, piece, n) == 1);
    }
    good = good && EVP_DigestFinal_ex(hash, digest, &length) == 1 && length == 32;
    for (unsigned i = 0; good && i < length; i++)
        (void)snprintf(out + 2 * (size_t)i, 3, "%02x", digest[i]);
    EVP_MD_CTX_free(hash);
    free(piece);
    return good && seek_source(from, 0, SEEK_SET) == CURL_SEEKFUNC_OK;
}

static void put_object(twi_sender *s, const char *name, source *from, twi_sending *out)
{
    char url[URL_BYTES], hash[65];
    if (!hash_source(from, hash)) {
        wire_fail(out, TWI_FAULT_GONE, "");
        return;
    }
    if (!wire_address(s, name, "", url, sizeof url) || !set_up(s, url, from) ||
        !wire_sign(s, hash))
        no_memory(out);
    else
        wire_run(s, out);
}

void wire_put(twi_sender *s, const char *name, const twi_content *what, twi_sending *out)
{
    source from;
    char url[URL_BYTES];
    if (!open_source(what, &from)) {
        wire_fail(out, TWI_FAULT_GONE, "");
        return;
    }
    if (s->protocol == TWI_PROTOCOL_FTP || s->protocol == TWI_PROTOCOL_SFTP)
        put_renamed(s, name, &from, out);
    else if (s->protocol == TWI_PROTOCOL_S3)
        put_object(s, name, &from, out);
    else if (s->spec.to->by == TWI_BY_WEBDAV)
        put_webdav(s, name, &from, out);
    else if (wire_address(s, name, "", url, sizeof url))
        put_plain(s, url, &from, out);
    else
        no_memory(out);
    close_source(&from);
}
