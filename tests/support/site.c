/* A page that is served, and speaking to it. */
#include "site.h"
#include "tawny/settings.h"

#include <arpa/inet.h>
#include <jansson.h>
#include <netinet/in.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/time.h>
#include <unistd.h>

enum { ANSWER_MAX = 1 << 20 };

/* ---- speaking ---------------------------------------------------------------------- */

int dial(int port)
{
    struct sockaddr_in at = {.sin_family = AF_INET, .sin_port = htons((uint16_t)port)};
    const struct timeval patience = {30, 0};
    at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    const int s = socket(AF_INET, SOCK_STREAM, 0);
    assert_true(s >= 0);
    (void)setsockopt(s, SOL_SOCKET, SO_RCVTIMEO, &patience, sizeof patience);
    if (connect(s, (struct sockaddr *)&at, sizeof at) == 0)
        return s;
    (void)close(s);
    return -1;
}

const char *speak(int port, const char *text)
{
    static char answer[ANSWER_MAX];
    size_t used = 0;
    ssize_t n = 0;
    const int s = dial(port);
    assert_true(s >= 0);
    assert_int_equal(send(s, text, strlen(text), MSG_NOSIGNAL), (ssize_t)strlen(text));
    while (used + 1 < sizeof answer &&
           (n = recv(s, answer + used, sizeof answer - used - 1, 0)) > 0)
        used += (size_t)n;
    answer[used] = '\0';
    (void)close(s);
    return answer;
}

const char *get(const site *w, const char *path, const char *more)
{
    char text[4096];
    (void)snprintf(text, sizeof text,
                   "GET %s HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n%s\r\n", path,
                   w->host, more);
    return speak(w->port, text);
}

const char *post(const site *w, const char *path, const char *more, const char *body)
{
    char text[8192];
    (void)snprintf(text, sizeof text,
                   "POST %s HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n"
                   "Content-Length: %zu\r\n%s\r\n%s",
                   path, w->host, strlen(body), more, body);
    return speak(w->port, text);
}

int code_of(const char *answer)
{
    return strncmp(answer, "HTTP/1.1 ", 9) == 0 ? atoi(answer + 9) : 0;
}

void check(int code, const char *answer)
{
    if (code_of(answer) != code)
        fail_msg("not %d: %.300s", code, answer);
}

/* ---- a site ------------------------------------------------------------------------ */

/* ---- a clock that can be set forward ----------------------------------------------- */

static int64_t now_us(void *ctx)
{
    const tw_clock real = tw_linux_clock();
    return real.ops->now_us(real.ctx) + atomic_load(&((site *)ctx)->ahead_us);
}

static int64_t wall_us(void *ctx)
{
    const tw_clock real = tw_linux_clock();
    return real.ops->wall_us(real.ctx) + atomic_load(&((site *)ctx)->ahead_us);
}

static int32_t offset_s(void *ctx, int64_t wall)
{
    (void)ctx;
    (void)wall;
    return 0;
}

static bool trusted(void *ctx, int64_t wall)
{
    (void)ctx;
    (void)wall;
    return true;
}

static const tw_clock_ops AHEAD = {
    .now_us = now_us, .wall_us = wall_us, .offset_s = offset_s, .trusted = trusted};

static tw_status on_apply(void *ctx, tw_settings *settings)
{
    site *w = ctx;
    (void)atomic_fetch_add(&w->reloads, 1);
    tw_settings_free(settings);
    return TW_OK;
}

/* What tawny tune --marked --json would print, until it is stopped if it is to wait. */
static tw_status on_propose(void *ctx, const char *camera, const volatile int *stop,
                            char **out, tw_error *err)
{
    site *w = ctx;
    while (w->proposes_slowly && !__atomic_load_n(stop, __ATOMIC_RELAXED))
        (void)usleep(10000);
    if (__atomic_load_n(stop, __ATOMIC_RELAXED))
        return tw_fail(err, TW_EEND, "it was stopped");
    if (w->proposes_nothing)
        return tw_fail(err, TW_EINVAL, "no sighting of %s is marked yet", camera);
    *out =
        strdup("{\"type\":\"trial\",\"start_at\":1}\nno JSON\n"
               "{\"type\":\"mark\",\"number\":1,\"mark\":\"nothing\",\"now\":true,"
               "\"proposed\":false}\n"
               "{\"type\":\"proposed\",\"found\":3,\"events\":4,\"false\":0,\"changes\":["
               "{\"head\":\"camera\",\"name\":\"kerb\",\"key\":\"travel\",\"value\":"
               "\"9 %\"}]}");
    return TW_OK;
}

static void on_told(void *ctx, tw_status st, const char *text)
{
    site *w = ctx;
    (void)st;
    if (!w->page) /* it is being made, in this thread */
        (void)snprintf(w->told, sizeof w->told, "%s", text);
}

tw_status try_page(site *w, const char *listen, tw_error *err)
{
    char text[2048];
    problems p = {0};
    tw_settings *settings = tw_settings_new();
    (void)snprintf(text, sizeof text,
                   "# Hollin Lane\n[station]\nname = hollin\nlisten = %s\n"
                   "accounts_file = %s\n\n[camera kerb] # at the lane\n"
                   "source = sim:kerb,size=320x180\nloop = yes\n"
                   "start_at = 0.5 %%   # after the storm\nstay_at = 0.5 %%\n"
                   "send_to = shed\n\n[destination shed]\nurl = file://%s/shed\n",
                   listen, w->accounts, w->s->folder);
    write_text(w->file, text);
    (void)tw_settings_read(settings, w->file, collect_problem, &p);
    if (p.count > 0)
        fail_msg("%s", p.text);
    const twi_page_host host = {.store = w->s->store,
                                .card = &w->card,
                                .settings_file = w->file,
                                .clock = {&AHEAD, w},
                                .callback = on_told,
                                .apply = on_apply,
                                .propose = on_propose,
                                .ctx = w};
    const tw_status st = twi_page_new(settings, &host, &w->page, err);
    tw_settings_free(settings);
    if (st == TW_OK) {
        w->port = twi_page_port(w->page);
        (void)snprintf(w->host, sizeof w->host, "127.0.0.1:%d", w->port);
    }
    return st;
}

site *open_site(bool accounts)
{
    site *w = calloc(1, sizeof *w);
    tw_error err = {0};
    w->s = make_stored();
    w->accounts = join(w->s->folder, "accounts");
    w->file = join(w->s->folder, "station.ini");
    assert_int_equal(tw_linux_card(w->s->store, &w->card, &err), TW_OK);
    (void)sight(w->s, 50000);
    if (accounts) {
        assert_int_equal(
            twi_account_set(w->accounts, "ann", TWI_MAY_RUN, "", "frogspawn", NULL),
            TW_OK);
        assert_int_equal(
            twi_account_set(w->accounts, "bob", TWI_MAY_LOOK, "", "tadpoles", NULL),
            TW_OK);
    }
    if (try_page(w, "127.0.0.1:0", &err) != TW_OK)
        fail_msg("%s", err.text);
    return w;
}

void close_site(site *w)
{
    twi_page_free(w->page);
    w->card.ops->destroy(w->card.ctx);
    free(w->accounts);
    free(w->file);
    leave_stored(w->s);
    free(w);
}

void text_of(const char *answer, const char *key, char out[64])
{
    char words[64];
    (void)snprintf(words, sizeof words, "\"%s\":\"", key);
    const char *at = strstr(answer, words);
    if (!at)
        fail_msg("no %s in %.300s", key, answer);
    (void)snprintf(out, 64, "%.*s", (int)strcspn(at + strlen(words), "\""),
                   at + strlen(words));
}

void log_in(const site *w, const char *name, const char *password, char cookie[256],
            char change[256])
{
    char body[256], token[64];
    (void)snprintf(body, sizeof body, "{\"name\":\"%s\",\"password\":\"%s\"}", name,
                   password);
    const char *answer = post(w, "/api/login", "", body);
    check(200, answer);
    const char *at = strstr(answer, "Set-Cookie: tawny=");
    assert_non_null(at);
    assert_has(answer, "; HttpOnly; SameSite=Strict");
    text_of(answer, "change", token);
    at += strlen("Set-Cookie: ");
    (void)snprintf(cookie, 256, "Cookie: %.*s\r\n", (int)strcspn(at, ";"), at);
    (void)snprintf(change, 256, "X-Tawny-Change: %s\r\n", token);
}

void *body_of(int code, const char *answer)
{
    check(code, answer);
    const char *body = strstr(answer, "\r\n\r\n");
    assert_non_null(body);
    json_t *o = json_loads(body + 4, 0, NULL);
    if (!o)
        fail_msg("no JSON: %.300s", body);
    return o;
}
