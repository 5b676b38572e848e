/* DNS-SD over multicast DNS: one question, from a port of our own, which is answered to
 * us alone (RFC 6762, 5.1 and 6.7). Messages by the resolver of the C library. */
#include <arpa/inet.h>
#include <arpa/nameser.h>
#include <ctype.h>
#include <resolv.h>
#include <stdio.h>
#include <string.h>
#include <strings.h>

#include "parts.h"

static void put16(uint8_t *to, unsigned value)
{
    to[0] = (uint8_t)(value >> 8);
    to[1] = (uint8_t)value;
}

size_t find_question(uint16_t id, const char *name, int type, uint8_t out[FIND_DNS_BYTES])
{
    enum { HEAD = 12, FOOT = 4 };
    memset(out, 0, HEAD);
    put16(out, id);
    put16(out + 4, 1);
    const int n =
        ns_name_compress(name, out + HEAD, FIND_DNS_BYTES - HEAD - FOOT, NULL, NULL);
    if (n <= 0)
        return 0;
    put16(out + HEAD + n, (unsigned)type);
    put16(out + HEAD + n + 2, ns_c_in);
    return HEAD + (size_t)n + FOOT;
}

static find_service *of_instance(find_services *s, const char *instance)
{
    for (size_t i = 0; i < s->count; i++)
        if (strcasecmp(s->all[i].instance, instance) == 0)
            return &s->all[i];
    return NULL;
}

static bool is_rtsp(const char *instance)
{
    static const char OF[] = "._rtsp._tcp.local";
    const size_t n = strlen(instance), own = sizeof OF - 1;
    return n > own && strcasecmp(instance + n - own, OF) == 0;
}

/* What an instance is called: "Pond\032box._rtsp._tcp.local" -> "Pond box". */
static void label_of(const char *instance, char *out, size_t room)
{
    char label[256];
    size_t n = 0;
    for (const char *c = instance; *c && *c != '.' && n + 1 < sizeof label; c++) {
        if (c[0] == '\\' && isdigit((unsigned char)c[1]) &&
            isdigit((unsigned char)c[2]) && isdigit((unsigned char)c[3])) {
            const int code = (c[1] - '0') * 100 + (c[2] - '0') * 10 + (c[3] - '0');
            label[n++] = (char)(code > 0 ? code : '?');
            c += 3;
        } else {
            c += c[0] == '\\' && c[1];
            label[n++] = *c;
        }
    }
    label[n] = '\0';
    find_text(label, out, room);
}

static void take_pointer(find_services *s, const char *instance)
{
    if (!is_rtsp(instance) || of_instance(s, instance) || s->count >= FIND_SERVICES)
        return;
    find_service *one = &s->all[s->count++];
    memset(one, 0, sizeof *one);
    (void)snprintf(one->instance, sizeof one->instance, "%s", instance);
}

static void take_place(find_service *one, const uint8_t *data, size_t bytes,
                       const char *host)
{
    if (!one || bytes < 7)
        return;
    one->port = (uint16_t)(data[4] << 8 | data[5]);
    (void)snprintf(one->host, sizeof one->host, "%s", host);
    one->told = one->port > 0;
}

/* Of the strings only "path=..." (as the register of DNS-SD names it for rtsp). */
static void take_text(find_service *one, const uint8_t *data, size_t bytes)
{
    static const char KEY[] = "path=";
    const size_t key = sizeof KEY - 1;
    for (size_t i = 0; one && i < bytes; i += 1 + (size_t)data[i]) {
        const size_t n = data[i];
        const char *text = (const char *)data + i + 1;
        if (i + 1 + n <= bytes && n > key && strncasecmp(text, KEY, key) == 0)
            (void)snprintf(one->path, sizeof one->path, "%.*s", (int)(n - key),
                           text + key);
    }
}

static void take_address(find_services *s, const char *host, const uint8_t *data,
                         size_t bytes, const find_link *link)
{
    struct in_addr at;
    if (bytes != sizeof at)
        return;
    memcpy(&at, data, sizeof at);
    for (size_t i = 0; i < s->count && find_is_on(link, at); i++)
        if (strcasecmp(s->all[i].host, host) == 0)
            (void)inet_ntop(AF_INET, &at, s->all[i].address, sizeof s->all[i].address);
}

/* Records come in any order; each round takes what the one before made known: names, then
 * their places, then addresses. */
static void take_record(find_services *s, const ns_msg *m, const ns_rr *rr, int round,
                        const find_link *link)
{
    enum { NAMES, PLACES, ADDRESSES, PLACE_HEAD = 6 };
    char name[NS_MAXDNAME];
    const uint8_t *data = ns_rr_rdata(*rr);
    const size_t bytes = ns_rr_rdlen(*rr),
                 head = ns_rr_type(*rr) == ns_t_srv ? PLACE_HEAD : 0;
    const bool names = ns_rr_type(*rr) == ns_t_ptr || ns_rr_type(*rr) == ns_t_srv;
    if (names &&
        (bytes <= head || ns_name_uncompress(ns_msg_base(*m), ns_msg_end(*m), data + head,
                                             name, sizeof name) < 0))
        return;
    if (names && strlen(name) >= sizeof s->all[0].instance)
        return;
    if (round == NAMES && ns_rr_type(*rr) == ns_t_ptr)
        take_pointer(s, name);
    else if (round == PLACES && ns_rr_type(*rr) == ns_t_srv)
        take_place(of_instance(s, ns_rr_name(*rr)), data, bytes, name);
    else if (round == PLACES && ns_rr_type(*rr) == ns_t_txt)
        take_text(of_instance(s, ns_rr_name(*rr)), data, bytes);
    else if (round == ADDRESSES && ns_rr_type(*rr) == ns_t_a)
        take_address(s, ns_rr_name(*rr), data, bytes, link);
}

bool find_answer(find_services *s, const uint8_t *data, size_t bytes, uint16_t id,
                 const find_link *link)
{
    static const ns_sect sections[] = {ns_s_an, ns_s_ar};
    enum { ROUNDS = 3, MOST = 256 };
    ns_msg m;
    ns_rr rr;
    if (bytes > FIND_DATAGRAM || ns_initparse(data, (int)bytes, &m) != 0 ||
        ns_msg_id(m) != id || !ns_msg_getflag(m, ns_f_qr))
        return false;
    for (int round = 0; round < ROUNDS; round++)
        for (size_t k = 0; k < sizeof sections / sizeof *sections; k++)
            for (int i = 0; i < ns_msg_count(m, sections[k]) && i < MOST; i++)
                if (ns_parserr(&m, sections[k], i, &rr) == 0)
                    take_record(s, &m, &rr, round, link);
    return true;
}

bool find_service_camera(const find_service *s, twi_found_camera *camera)
{
    char url[2 * TWI_FOUND_URL];
    twi_found_stream *stream = &camera->streams[0];
    memset(camera, 0, sizeof *camera);
    if (!s->told || !s->address[0])
        return false;
    const int n = snprintf(url, sizeof url, "rtsp://%s:%u/%s", s->address, s->port,
                           s->path + (s->path[0] == '/'));
    if (n < 0 || (size_t)n >= sizeof url || !find_url(url, "rtsp", stream->url))
        return false;
    memcpy(camera->address, s->address, sizeof camera->address);
    label_of(s->instance, camera->name, sizeof camera->name);
    camera->named = true;
    camera->stream_count = 1;
    return true;
}
