/* What a camera tells of its streams, by ONVIF's device and media services: SOAP over
 * HTTP, with the digests of WS-Security and of HTTP, so that no password goes over the
 * network. */
#include <arpa/inet.h>
#include <curl/curl.h>
#include <openssl/evp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/random.h>
#include <time.h>

#include "parts.h"

#define DEVICE "http://www.onvif.org/ver10/device/wsdl"
#define MEDIA "http://www.onvif.org/ver10/media/wsdl"
#define SCHEMA "http://www.onvif.org/ver10/schema"
#define SECURITY "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-"

enum {
    ANSWER_MOST = 256 * 1024,
    ASK_MS = 4000,
    CREATED = 24, /* "2027-03-13T20:30:14Z", with room */
    NONCE = 16,
    TOKEN = 1536,
    REQUEST = 4096
};

/* ---- asking ------------------------------------------------------------------------ */

/* A camera that is asked. */
typedef struct talk {
    CURL *curl;
    const twi_seeking *how;
    twi_found_camera *camera;
    int64_t ahead_s; /* the camera's clock, of ours */
    bool digests;    /* of HTTP are used */
    char *data;      /* the newest answer; owned */
    size_t bytes;
    char wrong[CURL_ERROR_SIZE];
} talk;

static size_t take(char *data, size_t size, size_t count, void *ctx)
{
    talk *t = ctx;
    const size_t n = size * count;
    if (n > ANSWER_MOST - t->bytes)
        return 0;
    memcpy(t->data + t->bytes, data, n);
    t->bytes += n;
    return n;
}

/* Past any route: what is not on the link cannot be reached. */
static int stay_on_link(void *ctx, curl_socket_t fd, curlsocktype purpose)
{
    const int one = 1;
    (void)ctx;
    (void)purpose;
    return setsockopt(fd, SOL_SOCKET, SO_DONTROUTE, &one, sizeof one) == 0
               ? CURL_SOCKOPT_OK
               : CURL_SOCKOPT_ERROR;
}

static int should_stop(void *ctx, curl_off_t a, curl_off_t b, curl_off_t c, curl_off_t d)
{
    const talk *t = ctx;
    (void)a, (void)b, (void)c, (void)d;
    return t->how->stop && atomic_load(t->how->stop);
}

static bool set_up(talk *t)
{
    CURL *c = t->curl;
    return curl_easy_setopt(c, CURLOPT_PROTOCOLS_STR, "http,https") == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_PROXY, "") == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_FOLLOWLOCATION, 0L) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_USERAGENT, "tawny") == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_NOSIGNAL, 1L) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_TIMEOUT_MS, (long)ASK_MS) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_ERRORBUFFER, t->wrong) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_SOCKOPTFUNCTION, stay_on_link) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_NOPROGRESS, 0L) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_XFERINFOFUNCTION, should_stop) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_XFERINFODATA, t) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_WRITEFUNCTION, take) == CURLE_OK &&
           curl_easy_setopt(c, CURLOPT_WRITEDATA, t) == CURLE_OK;
}

/* From now on it is asked with the digest of HTTP, which costs a second request each
 * time: so only where that is wanted.
 * @return whether that is new. */
static bool use_digest(talk *t)
{
    CURL *c = t->curl;
    if (t->digests || !t->how->user)
        return false;
    t->digests =
        curl_easy_setopt(c, CURLOPT_HTTPAUTH, (long)CURLAUTH_DIGEST) == CURLE_OK &&
        curl_easy_setopt(c, CURLOPT_USERNAME, t->how->user) == CURLE_OK &&
        curl_easy_setopt(c, CURLOPT_PASSWORD, t->how->password) == CURLE_OK;
    return t->digests;
}

/* ---- the token --------------------------------------------------------------------- */

/* @return whether all of it fits, with what XML needs written otherwise. */
static bool escape(const char *text, char *out, size_t room)
{
    size_t n = 0;
    for (const char *c = text; *c; c++) {
        const char *as = *c == '&'   ? "&amp;"
                         : *c == '<' ? "&lt;"
                         : *c == '>' ? "&gt;"
                                     : NULL;
        const size_t more = as ? strlen(as) : 1;
        if (n + more >= room || (unsigned char)*c < ' ')
            return false;
        memcpy(out + n, as ? as : c, more);
        n += more;
    }
    out[n] = '\0';
    return true;
}

/* Base64(SHA-1(nonce + created + password)). */
static bool digest(const uint8_t nonce[NONCE], const char *created, const char *password,
                   char out[32])
{
    uint8_t sum[EVP_MAX_MD_SIZE];
    unsigned bytes = 0;
    EVP_MD_CTX *ctx = EVP_MD_CTX_new();
    const bool good = ctx && EVP_DigestInit_ex(ctx, EVP_sha1(), NULL) == 1 &&
                      EVP_DigestUpdate(ctx, nonce, NONCE) == 1 &&
                      EVP_DigestUpdate(ctx, created, strlen(created)) == 1 &&
                      EVP_DigestUpdate(ctx, password, strlen(password)) == 1 &&
                      EVP_DigestFinal_ex(ctx, sum, &bytes) == 1;
    EVP_MD_CTX_free(ctx);
    if (good)
        (void)EVP_EncodeBlock((unsigned char *)out, sum, (int)bytes);
    return good;
}

bool find_token(const char *user, const char *password, const uint8_t nonce[16],
                const char *created, char *out, size_t room)
{
    char name[256], sum[32], chance[32];
    if (!escape(user, name, sizeof name) || !digest(nonce, created, password, sum))
        return false;
    (void)EVP_EncodeBlock((unsigned char *)chance, nonce, NONCE);
    const int n = snprintf(
        out, room,
        "<w:Security s:mustUnderstand=\"1\" xmlns:w=\"" SECURITY
        "wssecurity-secext-1.0.xsd\" xmlns:u=\"" SECURITY
        "wssecurity-utility-1.0.xsd\"><w:UsernameToken><w:Username>%s</w:Username>"
        "<w:Password Type=\"" SECURITY
        "username-token-profile-1.0#PasswordDigest\">%s</w:Password>"
        "<w:Nonce EncodingType=\"" SECURITY
        "soap-message-security-1.0#Base64Binary\">%s</w:Nonce>"
        "<u:Created>%s</u:Created></w:UsernameToken></w:Security>",
        name, sum, chance, created);
    return n > 0 && (size_t)n < room;
}

/* By the camera's clock, as one that is hours off takes no other. */
static bool make_token(const talk *t, char out[TOKEN])
{
    uint8_t nonce[NONCE];
    char created[CREATED];
    struct tm utc;
    const time_t at = time(NULL) + (time_t)t->ahead_s;
    out[0] = '\0';
    if (!t->how->user)
        return true;
    return getrandom(nonce, sizeof nonce, 0) == (ssize_t)sizeof nonce &&
           gmtime_r(&at, &utc) &&
           strftime(created, sizeof created, "%Y-%m-%dT%H:%M:%SZ", &utc) > 0 &&
           find_token(t->how->user, t->how->password, nonce, created, out, TOKEN);
}

/* ---- requests ---------------------------------------------------------------------- */

static CURLcode perform(talk *t, long *answer)
{
    t->bytes = 0;
    t->wrong[0] = '\0';
    const CURLcode code = curl_easy_perform(t->curl);
    (void)curl_easy_getinfo(t->curl, CURLINFO_RESPONSE_CODE, answer);
    return code;
}

/* @return whether there is an answer; else t->wrong says why. */
static bool post(talk *t, const char *url, const char *action, const char *envelope)
{
    char type[256];
    long answer = 0;
    struct curl_slist *heads = NULL;
    CURLcode code = CURLE_OUT_OF_MEMORY;
    (void)snprintf(type, sizeof type,
                   "Content-Type: application/soap+xml; charset=utf-8; action=\"%s\"",
                   action);
    heads = curl_slist_append(heads, type);
    if (heads && curl_easy_setopt(t->curl, CURLOPT_URL, url) == CURLE_OK &&
        curl_easy_setopt(t->curl, CURLOPT_HTTPHEADER, heads) == CURLE_OK &&
        curl_easy_setopt(t->curl, CURLOPT_COPYPOSTFIELDS, envelope) == CURLE_OK)
        code = perform(t, &answer);
    if (code == CURLE_OK && answer == 401 && use_digest(t))
        code = perform(t, &answer);
    if (code != CURLE_OK && !t->wrong[0])
        (void)snprintf(t->wrong, sizeof t->wrong, "%s", curl_easy_strerror(code));
    curl_slist_free_all(heads);
    return code == CURLE_OK;
}

static void say(talk *t, const char *what)
{
    if (!t->camera->why[0])
        (void)snprintf(t->camera->why, sizeof t->camera->why, "%s", what);
}

/* An answer that is a refusal, in our words. @return whether it is one. */
static bool is_refused(talk *t, const xmlDoc *doc)
{
    long answer = 0;
    char code[256], reason[128];
    const xmlNode *fault = doc ? find_below(xmlDocGetRootElement(doc), "Fault") : NULL;
    (void)curl_easy_getinfo(t->curl, CURLINFO_RESPONSE_CODE, &answer);
    find_text_below(fault, "Code", code, sizeof code);
    find_text_below(fault, "Reason", reason, sizeof reason);
    if (answer == 401 || answer == 403 || strstr(code, "NotAuthorized") ||
        strstr(code, "FailedAuthentication"))
        say(t, t->how->user ? "user or password are refused"
                            : "it tells its streams to a user with a password alone");
    else if (fault || answer != 200 || !doc)
        (void)snprintf(t->camera->why, sizeof t->camera->why, "%s%s%s",
                       doc || answer != 200 ? "it refuses to tell its streams"
                                            : "its answer makes no sense",
                       reason[0] ? ": " : "", reason);
    else
        return false;
    return true;
}

/* @param open  It is asked without a token: some cameras refuse what they need not.
 * @return its answer, to be freed; NULL: why says what is wrong. */
static xmlDoc *ask(talk *t, const char *url, const char *service, const char *name,
                   const char *body, bool open)
{
    char token[TOKEN] = "", request[REQUEST], action[128];
    xmlDoc *doc = NULL;
    if (!open && !make_token(t, token)) {
        say(t, "this user or password cannot be sent: no control characters, and at most "
               "200 bytes");
        return NULL;
    }
    (void)snprintf(action, sizeof action, "%s/%s", service, name);
    const int n = snprintf(
        request, sizeof request,
        "<?xml version=\"1.0\" encoding=\"utf-8\"?>"
        "<s:Envelope xmlns:s=\"http://www.w3.org/2003/05/soap-envelope\" xmlns:t=\"%s\" "
        "xmlns:x=\"" SCHEMA "\"><s:Header>%s</s:Header><s:Body><t:%s>%s</t:%s></s:Body>"
        "</s:Envelope>",
        service, token, name, body, name);
    if (n < 0 || (size_t)n >= sizeof request)
        return NULL;
    if (!post(t, url, action, request)) {
        say(t, t->wrong);
        return NULL;
    }
    doc = find_xml(t->data, t->bytes);
    if (is_refused(t, doc)) {
        xmlFreeDoc(doc);
        doc = NULL;
    }
    return doc;
}

/* ---- what is asked ----------------------------------------------------------------- */

static void learn_clock(talk *t)
{
    xmlDoc *doc = ask(t, t->camera->at, DEVICE, "GetSystemDateAndTime", "", true);
    const xmlNode *utc =
        doc ? find_below(xmlDocGetRootElement(doc), "UTCDateTime") : NULL;
    t->camera->why[0] = '\0'; /* it need not tell */
    if (utc) {
        struct tm at = {.tm_year = (int)find_number_below(utc, "Year") - 1900,
                        .tm_mon = (int)find_number_below(utc, "Month") - 1,
                        .tm_mday = (int)find_number_below(utc, "Day"),
                        .tm_hour = (int)find_number_below(utc, "Hour"),
                        .tm_min = (int)find_number_below(utc, "Minute"),
                        .tm_sec = (int)find_number_below(utc, "Second")};
        const time_t theirs = timegm(&at);
        t->ahead_s = theirs > 0 ? (int64_t)(theirs - time(NULL)) : 0;
    }
    xmlFreeDoc(doc);
}

/* Where its media service is: at the camera, whatever host it says.
 * @return whether it is known. */
static bool learn_media(talk *t, char out[TWI_FOUND_URL])
{
    char text[TWI_FOUND_URL];
    xmlDoc *doc = ask(t, t->camera->at, DEVICE, "GetCapabilities",
                      "<t:Category>Media</t:Category>", false);
    const xmlNode *media = doc ? find_below(xmlDocGetRootElement(doc), "Media") : NULL;
    find_text_below(media, "XAddr", text, sizeof text);
    xmlFreeDoc(doc);
    const bool good =
        find_url(text, "http https", out) && (find_url_is_at(out, t->camera->address) ||
                                              find_url_move(out, t->camera->address));
    if (!good)
        say(t, "it does not tell where its streams are told");
    return good;
}

size_t find_profiles_read(const char *data, size_t bytes,
                          twi_found_stream out[TWI_FOUND_STREAMS],
                          char tokens[TWI_FOUND_STREAMS][TWI_FOUND_NAME])
{
    size_t n = 0;
    xmlDoc *doc = find_xml(data, bytes);
    const xmlNode *p = doc ? find_below(xmlDocGetRootElement(doc), "Profiles") : NULL;
    for (; p && n < TWI_FOUND_STREAMS; p = find_beside(p)) {
        const xmlNode *video = find_below(p, "VideoEncoderConfiguration");
        const xmlNode *size = video ? find_below(video, "Resolution") : NULL;
        xmlChar *token =
            xmlGetNoNsProp((xmlNode *)(uintptr_t)p, (const xmlChar *)"token");
        memset(&out[n], 0, sizeof out[n]);
        find_text(token ? (const char *)token : "", tokens[n], TWI_FOUND_NAME);
        find_text_below(p, "Name", out[n].name, sizeof out[n].name);
        find_text_below(video, "Encoding", out[n].codec, sizeof out[n].codec);
        if (size) {
            out[n].width = find_number_below(size, "Width");
            out[n].height = find_number_below(size, "Height");
        }
        if (video)
            out[n].fps = find_number_below(video, "FrameRateLimit");
        n += tokens[n][0] != '\0';
        xmlFree(token);
    }
    xmlFreeDoc(doc);
    return n;
}

static bool learn_url(talk *t, const char *media, const char *token,
                      twi_found_stream *stream)
{
    char named[2 * TWI_FOUND_NAME], text[TWI_FOUND_URL], body[512];
    xmlDoc *doc = NULL;
    if (!escape(token, named, sizeof named))
        return false;
    (void)snprintf(body, sizeof body,
                   "<t:StreamSetup><x:Stream>RTP-Unicast</x:Stream><x:Transport>"
                   "<x:Protocol>RTSP</x:Protocol></x:Transport></t:StreamSetup>"
                   "<t:ProfileToken>%s</t:ProfileToken>",
                   named);
    doc = ask(t, media, MEDIA, "GetStreamUri", body, false);
    find_text_below(doc ? xmlDocGetRootElement(doc) : NULL, "Uri", text, sizeof text);
    const bool good = doc && find_url(text, "rtsp rtsps", stream->url);
    if (doc && !good)
        say(t, "it tells an address of a stream that is none");
    xmlFreeDoc(doc);
    return good;
}

static int by_size(const void *a, const void *b)
{
    const twi_found_stream *x = a, *y = b;
    const uint64_t p = (uint64_t)x->width * x->height, q = (uint64_t)y->width * y->height;
    return (p < q) - (p > q);
}

static void learn_streams(talk *t)
{
    char media[TWI_FOUND_URL], tokens[TWI_FOUND_STREAMS][TWI_FOUND_NAME];
    twi_found_camera *c = t->camera;
    twi_found_stream all[TWI_FOUND_STREAMS];
    xmlDoc *doc = NULL;
    size_t known = 0;
    learn_clock(t);
    if (!learn_media(t, media) || !(doc = ask(t, media, MEDIA, "GetProfiles", "", false)))
        return;
    xmlFreeDoc(doc);
    const size_t n = find_profiles_read(t->data, t->bytes, all, tokens);
    for (size_t i = 0; i < n; i++)
        if (learn_url(t, media, tokens[i], &all[i]))
            all[known++] = all[i];
    if (known == 0) {
        say(t, "it tells of no stream");
        return;
    }
    qsort(all, known, sizeof *all, by_size);
    memcpy(c->streams, all, sizeof all);
    c->stream_count = known;
}

void find_streams(twi_found_camera *camera, const twi_seeking *how)
{
    talk t = {.how = how, .camera = camera};
    if (!camera->at[0]) {
        (void)snprintf(camera->why, sizeof camera->why,
                       "it does not tell where it can be asked");
        return;
    }
    t.data = malloc(ANSWER_MOST);
    t.curl = curl_easy_init();
    if (t.data && t.curl && set_up(&t))
        learn_streams(&t);
    else
        say(&t, "out of memory");
    if (t.curl)
        curl_easy_cleanup(t.curl);
    free(t.data);
}
