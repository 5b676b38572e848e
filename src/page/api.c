/* What is asked of the page: who may, and who answers. */
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "assets.h"
#include "page_state.h"

#define US INT64_C(1000000)

/* ---- who asks --------------------------------------------------------------------- */

/* What is known of who asks. */
typedef struct visitor {
    session session;
    char cameras[TWI_ACCOUNT_CAMERAS_MAX]; /* that it may see; "": all */
    twi_may may;
    bool known; /* by a session */
    bool open;  /* there never was an account, and nobody else can ask */
} visitor;

/* Whether it was passed on by a proxy, so that anybody may have asked. */
static bool is_passed_on(twi_page *p, const twi_web_request *r)
{
    static const char *const headers[] = {
        "Forwarded", "Via", "X-Forwarded-For", "X-Forwarded-Host", "X-Real-IP", NULL};
    for (size_t i = 0; headers[i]; i++)
        if (p->web->header(r->call, headers[i]))
            return true;
    return false;
}

static bool is_this_machine(const char *peer)
{
    return strncmp(peer, "127.", 4) == 0 || strcmp(peer, "::1") == 0 ||
           strncmp(peer, "::ffff:127.", 11) == 0;
}

/* The first account that is made shuts the page to who has none; it stays shut when the
 * last one is gone. */
static void look_up(twi_page *p, const twi_web_request *r, const accounts *all,
                    visitor *out)
{
    memset(out, 0, sizeof *out);
    out->open =
        p->loopback && !all->made && is_this_machine(r->peer) && !is_passed_on(p, r);
    out->may = out->open ? TWI_MAY_RUN : TWI_MAY_NOTHING;
    const account *who =
        twi_page_account(p, p->web->cookie(r->call, TWI_COOKIE), all, &out->session);
    out->known = who != NULL;
    if (!who)
        return;
    out->may = who->may;
    memcpy(out->cameras, who->cameras, sizeof out->cameras);
}

/* By what the browser says of the page that asks. */
static bool is_same_origin(twi_page *p, const twi_web_request *r)
{
    const char *site = p->web->header(r->call, "Sec-Fetch-Site");
    const char *origin = p->web->header(r->call, "Origin"),
               *host = p->web->header(r->call, "Host");
    const char *at = origin ? strstr(origin, "://") : NULL;
    if (site && strcmp(site, "same-origin") != 0)
        return false;
    return !origin || (at && host && strcmp(at + 3, host) == 0);
}

/* A change must come from the page itself: with the token that only it can read, or,
 * where no account is needed, with a header that no other origin can set unasked. */
static bool is_own(twi_page *p, const twi_web_request *r, const visitor *v)
{
    const char *token = p->web->header(r->call, "X-Tawny-Change");
    if (!token || !is_same_origin(p, r))
        return false;
    return v->known ? p->web->same(token, v->session.change) : v->open;
}

/* Without accounts only who speaks to loopback by its name is heard: a page elsewhere
 * whose name is made to lead here has another. */
static bool is_local(twi_page *p, const twi_web_request *r)
{
    static const char *const hosts[] = {"127.0.0.1", "localhost", "[::1]", NULL};
    const char *host = p->web->header(r->call, "Host");
    for (size_t i = 0; host && hosts[i]; i++) {
        const size_t n = strlen(hosts[i]);
        if (strncmp(host, hosts[i], n) == 0 && (host[n] == '\0' || host[n] == ':'))
            return true;
    }
    return false;
}

/* ---- logging in ------------------------------------------------------------------- */

static void welcome(twi_page *p, const account *who, twi_web_answer *out)
{
    session s;
    twi_session_begin(&p->sessions, p->web, who, twi_page_now(p), &s);
    twi_answer_json(json_pack("{ss ss ss}", "name", s.name, "may",
                              who->may == TWI_MAY_RUN ? "run" : "look", "change",
                              s.change),
                    200, out);
    (void)snprintf(out->cookie, sizeof out->cookie,
                   TWI_COOKIE "=%s; Path=/; HttpOnly; SameSite=Strict; Max-Age=43200%s",
                   s.token, twi_page_is_tls(p) ? "; Secure" : "");
}

/* One that is not there takes as long as one that is. */
static bool is_right(twi_page *p, const account *who, const char *password)
{
    static const char NOBODY[] = "$argon2id$v=19$m=65536,t=2,p=1$c29tZXNhbHRzb21lc2FsdA$"
                                 "RdescudvJCsgt3ub+b4mpnIsPTJnSbYZ1rCAmLdO0Qo";
    return p->web->check(password, who ? who->hash : NOBODY) && who;
}

static void try_login(twi_page *p, const twi_web_request *r, const accounts *all,
                      const char *name, const char *password, twi_web_answer *out)
{
    session own;
    const account *who = twi_accounts_find(all, name);
    const bool known =
        who && twi_page_account(p, p->web->cookie(r->call, TWI_COOKIE), all, &own) == who;
    const int64_t wait_us =
        twi_login_begin(&p->sessions, r->peer, name, known, twi_page_now(p));
    if (wait_us > 0) {
        twi_answer_error(429, "too many tries: wait a little", out);
        out->again_s = (unsigned)(wait_us / US) + 1;
        return;
    }
    const bool right = is_right(p, who, password);
    twi_login_end(&p->sessions, r->peer, name, right);
    if (right)
        welcome(p, who, out);
    else
        twi_answer_error(401, "name or password are wrong", out);
}

static void log_in(twi_page *p, const twi_web_request *r, const accounts *all,
                   twi_web_answer *out)
{
    json_t *o = json_loadb(r->body, r->bytes, JSON_REJECT_DUPLICATES, NULL);
    const char *name = json_string_value(json_object_get(o, "name")),
               *password = json_string_value(json_object_get(o, "password"));
    if (!is_same_origin(p, r))
        twi_answer_error(403, "this does not come from the page", out);
    else if (!name || !password)
        twi_answer_error(400, "name and password are wanted", out);
    else
        try_login(p, r, all, name, password, out);
    json_decref(o);
}

static void log_out(twi_page *p, const twi_web_request *r, twi_web_answer *out)
{
    const char *token = p->web->cookie(r->call, TWI_COOKIE);
    if (token)
        twi_session_end(&p->sessions, p->web, token);
    twi_answer_json(json_pack("{sb}", "out", true), 200, out);
    (void)snprintf(out->cookie, sizeof out->cookie,
                   TWI_COOKIE "=; Path=/; HttpOnly; SameSite=Strict; Max-Age=0");
}

/* Who one is; without accounts, anybody. */
static void say_who(const twi_page *p, const visitor *v, twi_web_answer *out)
{
    json_t *o = json_pack("{ss ss ss ss ss}", "name", v->known ? v->session.name : "",
                          "cameras", v->cameras, "may",
                          v->may == TWI_MAY_RUN    ? "run"
                          : v->may == TWI_MAY_LOOK ? "look"
                                                   : "nothing",
                          "change", v->known ? v->session.change : "local", "station",
                          p->station_name);
    if (p->host.read) /* it is the page of many */
        (void)json_object_set_new(o, "many", json_true());
    twi_answer_json(o, 200, out);
}

/* ---- files of the page ------------------------------------------------------------ */

static bool serve_asset(const char *path, twi_web_answer *out)
{
    const twi_asset *a = twi_asset_find(path);
    if (!a)
        return false;
    *out = (twi_web_answer){.status = 200,
                            .type = a->type,
                            .data = a->data,
                            .bytes = (size_t)(a->end - a->data),
                            .cache = a->lasting ? "private, max-age=86400" : "no-cache",
                            .zipped = true};
    return true;
}

/* ---- what is asked ---------------------------------------------------------------- */

static const twi_answerer READ[] = {
    {"/api/status", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_show_status},
    {"/api/sightings", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_show_sightings},
    {"/api/sightings/", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_show_sighting},
    {"/api/missed", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_show_missed},
    {"/api/nights", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_show_nights},
    {"/api/names", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_show_names},
    {"/api/proposals", TWI_MAY_RUN, TWI_SOME_NOTHING, twi_show_proposal},
    {"/api/thumbs/", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_show_thumb},
    {"/api/readings/", TWI_MAY_LOOK, TWI_SOME_NAMED, twi_show_reading},
    {"/api/traces/", TWI_MAY_LOOK, TWI_SOME_NAMED, twi_show_trace},
    {"/api/zones/", TWI_MAY_LOOK, TWI_SOME_NAMED, twi_show_zones},
    {"/api/plan", TWI_MAY_LOOK, TWI_SOME_NOTHING, twi_show_plan},
    {"/api/sensors", TWI_MAY_LOOK, TWI_SOME_NOTHING, twi_show_sensors},
    {"/api/log", TWI_MAY_LOOK, TWI_SOME_NOTHING, twi_show_log},
    {"/api/outbox", TWI_MAY_LOOK, TWI_SOME_NOTHING, twi_show_outbox},
    {"/api/settings", TWI_MAY_RUN, TWI_SOME_NOTHING, twi_show_settings},
    {"/api/settings/file", TWI_MAY_RUN, TWI_SOME_NOTHING, twi_show_file},
    {"/api/phones", TWI_MAY_LOOK, TWI_SOME_NOTHING, twi_show_phones},
    {"/packed.zip", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_show_packed},
    {"/captures/", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_show_capture},
    {"/live/", TWI_MAY_LOOK, TWI_SOME_NAMED, twi_show_stream},
    {"/picture/", TWI_MAY_LOOK, TWI_SOME_NAMED, twi_show_picture},
    {NULL, TWI_MAY_NOTHING, TWI_SOME_NOTHING, NULL}};

static const twi_answerer CHANGE[] = {
    {"/api/order", TWI_MAY_RUN, TWI_SOME_HEEDED, twi_do_order},
    {"/api/sightings", TWI_MAY_RUN, TWI_SOME_HEEDED, twi_change_sightings},
    {"/api/sightings/", TWI_MAY_RUN, TWI_SOME_HEEDED, twi_change_sighting},
    {"/api/missed", TWI_MAY_RUN, TWI_SOME_HEEDED, twi_change_missed},
    {"/api/visit", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_note_visit},
    {"/api/settings", TWI_MAY_RUN, TWI_SOME_NOTHING, twi_change_settings},
    {"/api/settings/file", TWI_MAY_RUN, TWI_SOME_NOTHING, twi_change_file},
    {"/api/try", TWI_MAY_RUN, TWI_SOME_NOTHING, twi_try_changes},
    {"/api/proposals", TWI_MAY_RUN, TWI_SOME_NOTHING, twi_make_proposal},
    {"/api/outbox", TWI_MAY_RUN, TWI_SOME_NOTHING, twi_change_outbox},
    {"/api/phones", TWI_MAY_LOOK, TWI_SOME_NOTHING, twi_change_phones},
    {"/api/finds", TWI_MAY_RUN, TWI_SOME_NOTHING, twi_find_cameras},
    {"/api/trial", TWI_MAY_RUN, TWI_SOME_NOTHING, twi_try_destination},
    {NULL, TWI_MAY_NOTHING, TWI_SOME_NOTHING, NULL}};

/* @param rest  Set to what follows a path that ends in "/". */
static const twi_answerer *find_route(const twi_answerer *all, const char *path,
                                      const char **rest)
{
    for (; all->path; all++) {
        const size_t n = strlen(all->path);
        const bool below = all->path[n - 1] == '/' && strncmp(path, all->path, n) == 0 &&
                           path[n] != '\0';
        *rest = below ? path + n : "";
        if (below || strcmp(path, all->path) == 0)
            return all;
    }
    return NULL;
}

static void follow(twi_page *p, const twi_web_request *r, const visitor *v,
                   const twi_answerer *all, twi_web_answer *out)
{
    const char *rest = "";
    const twi_asked asked = {.path = r->path,
                             .body = r->body,
                             .bytes = r->bytes,
                             .call = r->call,
                             .who = v->known ? v->session.name : "",
                             .cameras = v->cameras};
    const twi_answerer *found = find_route(all, r->path, &rest);
    if (!found || (found->path[strlen(found->path) - 1] == '/' && !rest[0]))
        twi_answer_error(404, "there is no such thing", out);
    else if (v->may < found->may)
        twi_answer_error(403, "this account may only look", out);
    else if (v->cameras[0] && found->some == TWI_SOME_NOTHING)
        twi_answer_error(403, "this account is for some cameras alone", out);
    else if (found->some == TWI_SOME_NAMED && !twi_may_see(&asked, rest))
        twi_answer_error(404, "there is no such camera", out);
    else
        found->answer(p, &asked, rest, out);
}

/* What needs to be known of who asks. */
static void serve_known(twi_page *p, const twi_web_request *r, const visitor *v,
                        twi_web_answer *out)
{
    const bool get = strcmp(r->method, "GET") == 0 || strcmp(r->method, "HEAD") == 0;
    if (strcmp(r->path, "/api/me") == 0 && get)
        say_who(p, v, out);
    else if (v->may == TWI_MAY_NOTHING)
        twi_answer_error(401, "log in first", out);
    else if (get)
        follow(p, r, v, p->host.read ? p->host.read : READ, out);
    else if (strcmp(r->method, "POST") != 0)
        twi_answer_error(405, "GET or POST", out);
    else if (!is_own(p, r, v))
        twi_answer_error(403, "this does not come from the page", out);
    else if (strcmp(r->path, "/api/logout") == 0)
        log_out(p, r, out);
    else
        follow(p, r, v, p->host.change ? p->host.change : CHANGE, out);
}

static void serve(twi_page *p, const twi_web_request *r, const accounts *all,
                  twi_web_answer *out)
{
    visitor v;
    const bool get = strcmp(r->method, "GET") == 0 || strcmp(r->method, "HEAD") == 0;
    look_up(p, r, all, &v);
    if (v.open && !is_local(p, r))
        twi_answer_error(403, "without an account this page is for 127.0.0.1 alone", out);
    else if (strcmp(r->path, "/api/login") == 0 && strcmp(r->method, "POST") == 0)
        log_in(p, r, all, out);
    else if (!get || !serve_asset(r->path, out))
        serve_known(p, r, &v, out);
    out->known = v.known || v.open;
}

void twi_page_handle(void *ctx, const twi_web_request *r, twi_web_answer *out)
{
    twi_page *p = ctx;
    accounts *all = calloc(1, sizeof *all);
    if (all && twi_accounts_read(p->accounts_file, all, NULL) == TW_OK)
        serve(p, r, all, out);
    else
        twi_answer_error(500, "the accounts cannot be read", out);
    free(all);
}
