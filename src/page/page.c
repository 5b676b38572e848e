/* The page: from its settings to its end. */
#include "page_state.h"
#include "../settings/sections.h"
#include "tawny/events.h"
#include "tawny/settings.h"
#include "../base/system_error.h"

#include <errno.h>
#include <ifaddrs.h>
#include <net/if.h>
#include <netdb.h>
#include <netinet/in.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { PEM_MAX = 1 << 20 };

static void tell(const twi_page *p, tw_status st, const char *line)
{
    if (p->host.callback)
        p->host.callback(p->host.ctx, st, line);
}

tw_status twi_page_reload(twi_page *p, const tw_settings *settings)
{
    twi_station_settings station;
    if (!p)
        return TW_OK;
    tw_settings *copy = tw_settings_copy(settings);
    if (!copy)
        return TW_ENOMEM;
    (void)pthread_mutex_lock(&p->station_lock);
    tw_settings *old = p->settings;
    p->settings = copy;
    (void)pthread_mutex_unlock(&p->station_lock);
    tw_settings_free(old);
    twi_settings_station(settings, &station);
    twi_live_pace(&p->live, INT64_C(1000000) / station.live_fps);
    return TW_OK;
}

/* ---- settings --------------------------------------------------------------------- */

static const char *listen_of(const twi_page_host *host, const twi_station_settings *set)
{
    return host->listen ? host->listen : set->listen;
}

/* "127.0.0.1:8420", "[::]:8420" */
static tw_status read_listen(const char *text, char address[64], int *port, tw_error *err)
{
    const char *colon = strrchr(text, ':');
    char *end = NULL;
    const long n = colon ? strtol(colon + 1, &end, 10) : -1;
    size_t length = colon ? (size_t)(colon - text) : 0;
    if (!colon || end == colon + 1 || *end || n < 0 || n > 65535 || length == 0 ||
        length >= 64)
        return tw_fail(err, TW_EINVAL,
                       "listen = %s: expected ADDRESS:PORT such as 127.0.0.1:8420, or "
                       "none",
                       text);
    const bool bracket = text[0] == '[' && text[length - 1] == ']';
    (void)snprintf(address, 64, "%.*s", (int)(bracket ? length - 2 : length),
                   bracket ? text + 1 : text);
    *port = (int)n;
    return TW_OK;
}

static bool is_loopback(const char *address)
{
    return strncmp(address, "127.", 4) == 0 || strcmp(address, "::1") == 0;
}

static tw_status read_pem(const char *path, char **out, tw_error *err)
{
    FILE *file = fopen(path, "re");
    char *text = file ? calloc(1, PEM_MAX + 1) : NULL;
    if (!file)
        return tw_fail(err, twi_status_of_errno(errno), "%s: %s", path, strerror(errno));
    if (text)
        (void)fread(text, 1, PEM_MAX, file);
    (void)fclose(file);
    *out = text;
    return text ? TW_OK : tw_fail(err, TW_ENOMEM, "out of memory");
}

static tw_status read_tls(twi_page *p, const twi_station_settings *set, tw_error *err)
{
    if (!set->certificate[0] && !set->certificate_key[0])
        return TW_OK;
    tw_status st = read_pem(set->certificate, &p->certificate, err);
    return st == TW_OK ? read_pem(set->certificate_key, &p->key, err) : st;
}

/* Without an account it is for who sits before it alone.
 * @param none  Set to whether there is none. */
static tw_status check_accounts(twi_page *p, const char *address, bool *none,
                                tw_error *err)
{
    accounts *all = calloc(1, sizeof *all);
    if (!all)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    const tw_status st = twi_accounts_read(p->accounts_file, all, err);
    *none = all->count == 0;
    const bool emptied = *none && all->made;
    free(all);
    if (st == TW_OK && *none && !p->loopback)
        return tw_fail(err, TW_EINVAL,
                       "create an account first, by tawny account add NAME --may run: "
                       "listen = %s would let others see and change everything",
                       address);
    if (st == TW_OK && emptied)
        tell(p, TW_OK,
             "the file of accounts is empty, so nobody can log in: make one by tawny "
             "account add NAME --may run, or remove the file");
    return st;
}

/* ---- where it answers ------------------------------------------------------------- */

static void add_place(const twi_page *p, const char *host, char *out, size_t capacity)
{
    const size_t n = strlen(out);
    const bool six = strchr(host, ':') != NULL;
    (void)snprintf(out + n, capacity - n, "%shttp%s://%s%s%s:%d/", n > 0 ? " and " : "",
                   twi_page_is_tls(p) ? "s" : "", six ? "[" : "", host, six ? "]" : "",
                   p->web->port(p->server));
}

/* An address of this machine that others can reach; not those of a link alone. */
static bool host_of(const struct ifaddrs *at, bool six, char out[64])
{
    if (!at->ifa_addr || !(at->ifa_flags & IFF_UP) || (at->ifa_flags & IFF_LOOPBACK))
        return false;
    const int family = at->ifa_addr->sa_family;
    const bool good = family == AF_INET || (family == AF_INET6 && six);
    const socklen_t bytes =
        family == AF_INET ? sizeof(struct sockaddr_in) : sizeof(struct sockaddr_in6);
    return good &&
           getnameinfo(at->ifa_addr, bytes, out, 64, NULL, 0, NI_NUMERICHOST) == 0 &&
           !strchr(out, '%');
}

/* Where it can be entered: 0.0.0.0 opens on no phone. */
static void word_addresses(const twi_page *p, const char *address, char *out,
                           size_t capacity)
{
    struct ifaddrs *all = NULL;
    char host[64];
    const bool six = strcmp(address, "::") == 0;
    out[0] = '\0';
    if ((six || strcmp(address, "0.0.0.0") == 0) && getifaddrs(&all) == 0) {
        for (const struct ifaddrs *at = all; at; at = at->ifa_next)
            if (host_of(at, six, host))
                add_place(p, host, out, capacity);
        freeifaddrs(all);
    }
    if (!out[0]) /* one address, or a machine that has no other now */
        add_place(p, address, out, capacity);
}

/* ---- making ----------------------------------------------------------------------- */

static tw_status start(twi_page *p, const twi_station_settings *set, tw_error *err)
{
    char address[64], line[1024], places[768];
    int port = 0;
    bool none = false;
    tw_status st = read_listen(listen_of(&p->host, set), address, &port, err);
    p->loopback = st == TW_OK && is_loopback(address);
    if (st == TW_OK)
        st = check_accounts(p, address, &none, err);
    if (st == TW_OK)
        st = read_tls(p, set, err);
    if (st != TW_OK)
        return st;
    const twi_web_spec spec = {.address = address,
                               .port = port,
                               .certificate = p->certificate,
                               .key = p->key,
                               .handle = twi_page_handle,
                               .ctx = p};
    st = p->web->start(&spec, &p->server, err);
    if (st != TW_OK)
        return st;
    word_addresses(p, address, places, sizeof places);
    (void)snprintf(line, sizeof line, "the page is at %s%s", places,
                   none ? ", for this machine alone: an account is made by tawny "
                          "account add NAME --may run"
                        : "");
    tell(p, TW_OK, line);
    return TW_OK;
}

/* Texts are the page's own. @return false: out of memory. */
static bool take_host(twi_page *p, const twi_page_host *host,
                      const twi_station_settings *set)
{
    p->host = *host;
    p->store = strdup(host->store);
    p->station_name = strdup(set->name);
    p->accounts_file = strdup(set->accounts_file);
    p->settings_file = host->settings_file ? strdup(host->settings_file) : NULL;
    p->host.store = p->store;
    p->host.settings_file = p->settings_file;
    return p->store && p->station_name && p->accounts_file &&
           (p->settings_file || !host->settings_file);
}

tw_status twi_page_new(const tw_settings *settings, const twi_page_host *host,
                       twi_page **out, tw_error *err)
{
    twi_station_settings set;
    if (!settings || !host || !host->store || !out)
        return tw_fail(err, TW_EINVAL, "no settings or no store");
    *out = NULL;
    twi_settings_station(settings, &set);
    if (strcmp(listen_of(host, &set), "none") == 0)
        return TW_OK;
    twi_page *p = calloc(1, sizeof *p);
    if (!p)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    (void)pthread_mutex_init(&p->sessions.lock, NULL);
    (void)pthread_mutex_init(&p->sessions.checking, NULL);
    (void)pthread_mutex_init(&p->station_lock, NULL);
    (void)pthread_mutex_init(&p->store_lock, NULL);
    (void)pthread_mutex_init(&p->own_writing, NULL);
    p->writing = host->writing ? host->writing : &p->own_writing;
    twi_live_init(&p->live, 1000000 / set.live_fps, host->clock);
    twi_moments_init(&p->moments);
    twi_removals_init(&p->removals);
    twi_proposals_init(&p->proposing);
    p->settings = tw_settings_copy(settings);
    const bool taken = take_host(p, host, &set);
    p->web = twi_web_load(err);
    tw_status st = p->web ? TW_OK : TW_ENOTSUP;
    if (st == TW_OK && (!p->settings || !taken))
        st = tw_fail(err, TW_ENOMEM, "out of memory");
    if (st == TW_OK)
        st = start(p, &set, err);
    if (st == TW_OK)
        *out = p;
    else
        twi_page_free(p);
    return st;
}

int twi_page_port(const twi_page *p)
{
    return p ? p->web->port(p->server) : 0;
}

static void on_event(void *ctx, const tw_event *event)
{
    if (event->kind == TW_EVENT_RELOADED && event->settings)
        (void)twi_page_reload(ctx, event->settings);
    twi_page_event(ctx, event);
}

/* In a camera's thread. */
static bool wants_picture(void *ctx, const char *camera)
{
    twi_page *p = ctx;
    return twi_live_wants(&p->live, camera);
}

tw_status twi_page_station(twi_page *p, tw_station *station)
{
    if (!p)
        return TW_OK;
    (void)pthread_mutex_lock(&p->station_lock);
    tw_station *had = p->station;
    p->station = station;
    (void)pthread_mutex_unlock(&p->station_lock);
    if (had)
        tw_station_unsubscribe(had, p);
    const tw_subscriber who = {
        .callback = on_event, .readings = true, .wants = wants_picture, .ctx = p};
    return station ? tw_station_subscribe(station, &who) : TW_OK;
}

void twi_page_event(twi_page *p, const tw_event *event)
{
    if (!p || !event->camera)
        return;
    twi_moments_event(&p->moments, event);
    twi_live_event(&p->live, event);
}

void twi_page_free(twi_page *p)
{
    if (!p)
        return;
    atomic_store(&p->ending, true);
    twi_live_end(&p->live);
    if (p->server)
        p->web->stop(p->server);
    twi_removals_end(p);
    twi_proposals_end(p);
    twi_live_free(&p->live);
    twi_moments_free(&p->moments);
    tw_catalogue_close(p->catalogue);
    (void)pthread_mutex_destroy(&p->sessions.lock);
    (void)pthread_mutex_destroy(&p->sessions.checking);
    (void)pthread_mutex_destroy(&p->station_lock);
    (void)pthread_mutex_destroy(&p->store_lock);
    (void)pthread_mutex_destroy(&p->own_writing);
    free(p->certificate);
    free(p->key);
    free(p->store);
    free(p->settings_file);
    free(p->station_name);
    free(p->accounts_file);
    tw_settings_free(p->settings);
    free(p);
}
