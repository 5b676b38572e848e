/* The finding module: asking all networks, and waiting for answers. */
#include <arpa/inet.h>
#include <arpa/nameser.h>
#include <curl/curl.h>
#include <libxml/parser.h>
#include <poll.h>
#include <stdlib.h>
#include <string.h>
#include <sys/random.h>
#include <time.h>
#include <unistd.h>

#include "parts.h"
#include "tawny/version.h"

enum {
    TIMES = 3, /* that is asked: datagrams get lost */
    PROBES = 4,
    IDS = TIMES * PROBES, /* a name that was seen before is not answered again */
    SOURCES = 256,        /* hosts that are heard, at most */
    OF_ONE_MOST = 32,     /* answers of one, so that none drowns the others */
    SOCKETS = 2 * FIND_LINKS
};

/* How often a host has answered. */
typedef struct source {
    struct in_addr host;
    unsigned answers;
} source;

/* A search. */
typedef struct search {
    const twi_seeking *how;
    twi_finds *out;
    find_link links[FIND_LINKS];
    struct pollfd sockets[SOCKETS]; /* of each link: for probes, for DNS */
    char ids[IDS][FIND_ID];
    uint16_t dns_id;
    find_services services;
    source sources[SOURCES];
    size_t source_count;
} search;

static int64_t now_ms(void)
{
    struct timespec t;
    (void)clock_gettime(CLOCK_MONOTONIC, &t);
    return (int64_t)t.tv_sec * 1000 + t.tv_nsec / 1000000;
}

/* ---- what came --------------------------------------------------------------------- */

/* One address is one camera; what is better known stays. */
static void take_camera(void *ctx, const twi_found_camera *camera)
{
    search *s = ctx;
    twi_found_camera *one = NULL;
    if (s->how->only && strcmp(s->how->only, camera->address) != 0)
        return;
    for (size_t i = 0; i < s->out->count && !one; i++)
        if (strcmp(s->out->all[i].address, camera->address) == 0)
            one = &s->out->all[i];
    if (!one && s->out->count >= TWI_FOUND_MOST) {
        s->out->dropped++;
        return;
    }
    if (!one) {
        s->out->all[s->out->count++] = *camera;
        return;
    }
    one->probed |= camera->probed;
    if (!one->at[0])
        memcpy(one->at, camera->at, sizeof one->at);
    for (size_t i = 0; i < camera->stream_count; i++)
        if (!one->named && one->stream_count < TWI_FOUND_STREAMS)
            one->streams[one->stream_count++] = camera->streams[i];
    one->named |= camera->named;
}

/* @return whether a host is heard once more. */
static bool may_answer(search *s, struct in_addr host)
{
    size_t i = 0;
    while (i < s->source_count && s->sources[i].host.s_addr != host.s_addr)
        i++;
    if (i == SOURCES)
        return false;
    if (i == s->source_count)
        s->sources[s->source_count++] = (source){.host = host};
    return s->sources[i].answers++ < OF_ONE_MOST;
}

static void take_datagram(search *s, size_t i, const uint8_t *data, size_t bytes,
                          struct in_addr from)
{
    const find_link *link = &s->links[i / 2];
    char address[TWI_FOUND_ADDRESS];
    bool good = find_is_on(link, from) && may_answer(s, from) &&
                inet_ntop(AF_INET, &from, address, sizeof address);
    if (good && i % 2 == 0)
        good = find_probe_read((const char *)data, bytes, s->ids, IDS, address,
                               take_camera, s);
    else if (good)
        good = find_answer(&s->services, data, bytes, s->dns_id, link);
    s->out->dropped += !good;
}

/* What waits in a socket; the rest has its turn after the others. */
static void receive(search *s, size_t i)
{
    enum { AT_ONCE = 64 };
    uint8_t data[FIND_DATAGRAM];
    struct sockaddr_in from = {0};
    socklen_t room = sizeof from;
    ssize_t n = 0;
    for (int k = 0; k < AT_ONCE && (n = recvfrom(s->sockets[i].fd, data, sizeof data, 0,
                                                 (struct sockaddr *)&from, &room)) >= 0;
         k++) {
        if (room == sizeof from && from.sin_family == AF_INET)
            take_datagram(s, i, data, (size_t)n, from.sin_addr);
        room = sizeof from;
    }
}

/* ---- asking ------------------------------------------------------------------------ */

static void probe(search *s, int fd, int turn)
{
    static const find_type types[] = {
        {"n", "http://www.onvif.org/ver10/network/wsdl", "NetworkVideoTransmitter"},
        {"n", "http://www.onvif.org/ver10/device/wsdl", "Device"}};
    for (size_t i = 0; i < PROBES; i++) {
        char text[FIND_PROBE_BYTES], *id = s->ids[(size_t)turn * PROBES + i];
        const size_t n = find_probe_write(&types[i / 2], i % 2, id, text);
        (void)find_send(fd, FIND_PROBE_GROUP, FIND_PROBE_PORT, text, n);
    }
}

static void question(const search *s, int fd, const char *name, int type)
{
    uint8_t data[FIND_DNS_BYTES];
    const size_t n = find_question(s->dns_id, name, type, data);
    if (n > 0)
        (void)find_send(fd, FIND_DNS_GROUP, FIND_DNS_PORT, data, n);
}

/* What was named, and not told where. */
static void ask_places(const search *s, int fd)
{
    for (size_t i = 0; i < s->services.count; i++) {
        const find_service *one = &s->services.all[i];
        if (!one->told) {
            question(s, fd, one->instance, ns_t_srv);
            question(s, fd, one->instance, ns_t_txt);
        } else if (!one->address[0]) {
            question(s, fd, one->host, ns_t_a);
        }
    }
}

static void ask_all(search *s, int turn)
{
    for (size_t i = 0; i < 2 * s->out->links; i++) {
        const int fd = s->sockets[i].fd;
        if (i % 2 == 0) {
            probe(s, fd, turn);
        } else {
            question(s, fd, "_rtsp._tcp.local", ns_t_ptr);
            ask_places(s, fd);
        }
    }
}

/* ---- a search ---------------------------------------------------------------------- */

static bool is_done(const search *s)
{
    if (s->how->stop && atomic_load(s->how->stop))
        return true;
    return s->how->only && s->out->count > 0 && s->out->all[0].probed;
}

static void listen_on(search *s)
{
    enum { TURN_MS = 100 };
    const int64_t begin = now_ms(), step = s->how->wait_ms / TIMES;
    for (int asked = 0; now_ms() - begin < s->how->wait_ms && !is_done(s);) {
        if (asked < TIMES && now_ms() - begin >= asked * step)
            ask_all(s, asked++);
        if (poll(s->sockets, 2 * s->out->links, TURN_MS) > 0)
            for (size_t i = 0; i < 2 * s->out->links; i++)
                if (s->sockets[i].revents & POLLIN)
                    receive(s, i);
    }
    for (size_t i = 0; i < s->services.count; i++) {
        twi_found_camera camera;
        if (find_service_camera(&s->services.all[i], &camera))
            take_camera(s, &camera);
    }
}

static int by_address(const void *a, const void *b)
{
    struct in_addr x = {0}, y = {0};
    (void)inet_pton(AF_INET, ((const twi_found_camera *)a)->address, &x);
    (void)inet_pton(AF_INET, ((const twi_found_camera *)b)->address, &y);
    return (ntohl(x.s_addr) > ntohl(y.s_addr)) - (ntohl(x.s_addr) < ntohl(y.s_addr));
}

static tw_status open_all(search *s, tw_error *err)
{
    enum { NO_ROUTER = 1, DNS_TTL = 255 }; /* RFC 6762, 11: it may be looked at */
    struct in_addr only = {0};
    bool near = false;
    tw_status st = find_links(s->links, &s->out->links, err);
    if (s->how->only && inet_pton(AF_INET, s->how->only, &only) != 1)
        return tw_fail(err, TW_EINVAL, "%.40s is no address such as 192.168.1.20",
                       s->how->only);
    for (size_t i = 0; st == TW_OK && i < s->out->links; i++)
        near = near || find_is_on(&s->links[i], only);
    if (st == TW_OK && s->how->only && !near)
        return tw_fail(err, TW_ENOENT,
                       "%s is not on a network of this machine: only what is near is "
                       "asked",
                       s->how->only);
    for (size_t i = 0; st == TW_OK && i < 2 * s->out->links; i++) {
        s->sockets[i].events = POLLIN;
        s->sockets[i].fd = find_socket(&s->links[i / 2], i % 2 ? DNS_TTL : NO_ROUTER);
        if (s->sockets[i].fd < 0)
            st = tw_fail(err, TW_EIO, "this machine's network cannot be asked");
    }
    return st;
}

static tw_status seek(const twi_seeking *how, twi_finds *out, tw_error *err)
{
    search *s = calloc(1, sizeof *s);
    memset(out, 0, sizeof *out);
    if (!s)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    s->how = how;
    s->out = out;
    for (size_t i = 0; i < SOCKETS; i++)
        s->sockets[i].fd = -1;
    for (size_t i = 0; i < IDS; i++)
        find_id(s->ids[i]);
    (void)!getrandom(&s->dns_id, sizeof s->dns_id, 0);
    const tw_status st = open_all(s, err);
    if (st == TW_OK)
        listen_on(s);
    for (size_t i = 0; i < SOCKETS; i++)
        if (s->sockets[i].fd >= 0)
            (void)close(s->sockets[i].fd);
    free(s);
    qsort(out->all, out->count, sizeof *out->all, by_address);
    if (st == TW_OK && how->only && out->count > 0 && out->all[0].probed)
        find_streams(&out->all[0], how);
    return st;
}

/* Before any thread uses them. */
__attribute__((constructor)) static void begin(void)
{
    (void)curl_global_init(CURL_GLOBAL_DEFAULT);
    xmlInitParser();
}

TW_API const twi_finding twi_finding_table = {TWI_FINDING_ABI, seek};
