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
    tw_may may;
    bool known; /* by a session */
    bool open;  /* there never was an account, and nobody else can ask */
} visitor;

/* Whether it was passed on by a proxy, so that anybody may have asked. */
static bool is_passed_on(tw_page *p, const tw_web_request *r)
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

/* The session that a request belongs to. Accounts hold as they are now: one that is gone,
 * or has another password, ends its sessions.
 * @return its account; NULL: there is none. */
static const account *account_of(tw_page *p, const char *token, const accounts *all,
                                 session *out)
{
    if (!token || !tw_session_find(&p->sessions, p->web, token, tw_page_now(p), out))
        return NULL;
    const account *who = tw_accounts_find(all, out->name);
    if (who && p->web->same(who->hash, out->hash))
        return who;
    tw_session_end(&p->sessions, p->web, token);
    return NULL;
}

bool tw_page_may_look(tw_page *p, const char *token)
{
    session s;
    accounts *all = calloc(1, sizeof *all);
    bool may = all && tw_accounts_read(p->accounts_file, all, NULL) == TW_OK;
    may = may && (token[0] ? account_of(p, token, all, &s) != NULL : !all->made);
    free(all);
    return may;
}

/* The first account that is made shuts the page to who has none; it stays shut when the
 * last one is gone. */
static void look_up(tw_page *p, const tw_web_request *r, const accounts *all,
                    visitor *out)
{
    memset(out, 0, sizeof *out);
    out->open =
        p->loopback && !all->made && is_this_machine(r->peer) && !is_passed_on(p, r);
    out->may = out->open ? TW_MAY_RUN : TW_MAY_NOTHING;
    const account *who =
        account_of(p, p->web->cookie(r->call, TW_COOKIE), all, &out->session);
    out->known = who != NULL;
    if (who)
        out->may = who->may;
}

/* By what the browser says of the page that asks. */
static bool is_same_origin(tw_page *p, const tw_web_request *r)
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
static bool is_own(tw_page *p, const tw_web_request *r, const visitor *v)
{
    const char *token = p->web->header(r->call, "X-Tawny-Change");
    if (!token || !is_same_origin(p, r))
        return false;
    return v->known ? p->web->same(token, v->session.change) : v->open;
}

/* Without accounts only who speaks to loopback by its name is heard: a page elsewhere
 * whose name is made to lead here has another. */
static bool is_local(tw_page *p, const tw_web_request *r)
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

static void welcome(tw_page *p, const account *who, tw_web_answer *out)
{
    session s;
    tw_session_begin(&p->sessions, p->web, who, tw_page_now(p), &s);
    tw_answer_json(json_pack("{ss ss ss}", "name", s.name, "may",
                             who->may == TW_MAY_RUN ? "run" : "look", "change", s.change),
                   200, out);
    (void)snprintf(out->cookie, sizeof out->cookie,
                   TW_COOKIE "=%s; Path=/; HttpOnly; SameSite=Strict; Max-Age=43200%s",
                   s.token, tw_page_is_tls(p) ? "; Secure" : "");
}

/* One that is not there takes as long as one that is. */
static bool is_right(tw_page *p, const account *who, const char *password)
{
    static const char NOBODY[] = "$argon2id$v=19$m=65536,t=2,p=1$c29tZXNhbHRzb21lc2FsdA$"
                                 "RdescudvJCsgt3ub+b4mpnIsPTJnSbYZ1rCAmLdO0Qo";
    return p->web->check(password, who ? who->hash : NOBODY) && who;
}

static void try_login(tw_page *p, const tw_web_request *r, const accounts *all,
                      const char *name, const char *password, tw_web_answer *out)
{
    session own;
    const account *who = tw_accounts_find(all, name);
    const bool known =
        who && account_of(p, p->web->cookie(r->call, TW_COOKIE), all, &own) == who;
    const int64_t wait_us =
        tw_login_begin(&p->sessions, r->peer, name, known, tw_page_now(p));
    if (wait_us > 0) {
        tw_answer_error(429, "too many tries: wait a little", out);
        out->again_s = (unsigned)(wait_us / US) + 1;
        return;
    }
    const bool right = is_right(p, who, password);
    tw_login_end(&p->sessions, r->peer, name, right);
    if (right)
        welcome(p, who, out);
    else
        tw_answer_error(401, "name or password are wrong", out);
}

static void log_in(tw_page *p, const tw_web_request *r, const accounts *all,
                   tw_web_answer *out)
{
    json_t *o = tw_body_of(r);
    const char *name = json_string_value(json_object_get(o, "name")),
               *password = json_string_value(json_object_get(o, "password"));
    if (!is_same_origin(p, r))
        tw_answer_error(403, "this does not come from the page", out);
    else if (!name || !password)
        tw_answer_error(400, "name and password are wanted", out);
    else
        try_login(p, r, all, name, password, out);
    json_decref(o);
}

static void log_out(tw_page *p, const tw_web_request *r, tw_web_answer *out)
{
    const char *token = p->web->cookie(r->call, TW_COOKIE);
    if (token)
        tw_session_end(&p->sessions, p->web, token);
    tw_answer_json(json_pack("{sb}", "out", true), 200, out);
    (void)snprintf(out->cookie, sizeof out->cookie,
                   TW_COOKIE "=; Path=/; HttpOnly; SameSite=Strict; Max-Age=0");
}

/* Who one is; without accounts, anybody. */
static void say_who(const tw_page *p, const visitor *v, tw_web_answer *out)
{
    tw_answer_json(json_pack("{ss ss ss ss}", "name", v->known ? v->session.name : "",
                             "may",
                             v->may == TW_MAY_RUN    ? "run"
                             : v->may == TW_MAY_LOOK ? "look"
                                                     : "nothing",
                             "change", v->known ? v->session.change : "local", "station",
                             p->station_name),
                   200, out);
}

/* ---- files of the page ------------------------------------------------------------ */

static bool serve_asset(const char *path, tw_web_answer *out)
{
    const tw_asset *a = tw_asset_find(path);
    if (!a)
        return false;
    *out = (tw_web_answer){.status = 200,
                           .type = a->type,
                           .data = a->data,
                           .bytes = (size_t)(a->end - a->data),
                           .cache = a->lasting ? "private, max-age=86400" : "no-cache",
                           .zipped = true};
    return true;
}

/* ---- what is asked ---------------------------------------------------------------- */

/* Who answers what. A path that ends in "/" stands for all below it. */
typedef struct route {
    const char *path;
    tw_may may; /* at least */
    tw_answer_fn *answer;
} route;

static const route READ[] = {{"/api/status", TW_MAY_LOOK, tw_show_status},
                             {"/api/sightings", TW_MAY_LOOK, tw_show_sightings},
                             {"/api/sightings/", TW_MAY_LOOK, tw_show_sighting},
                             {"/api/thumbs/", TW_MAY_LOOK, tw_show_thumb},
                             {"/api/readings/", TW_MAY_LOOK, tw_show_reading},
                             {"/api/traces/", TW_MAY_LOOK, tw_show_trace},
                             {"/api/zones/", TW_MAY_LOOK, tw_show_zones},
                             {"/api/plan", TW_MAY_LOOK, tw_show_plan},
                             {"/api/happenings", TW_MAY_LOOK, tw_show_happenings},
                             {"/api/outbox", TW_MAY_LOOK, tw_show_outbox},
                             {"/api/settings", TW_MAY_RUN, tw_show_settings},
                             {"/api/settings/file", TW_MAY_RUN, tw_show_file},
                             {"/captures/", TW_MAY_LOOK, tw_show_capture},
                             {"/live/", TW_MAY_LOOK, tw_show_stream},
                             {"/picture/", TW_MAY_LOOK, tw_show_picture},
                             {NULL, TW_MAY_NOTHING, NULL}};

static const route CHANGE[] = {{"/api/order", TW_MAY_RUN, tw_do_order},
                               {"/api/sightings/", TW_MAY_RUN, tw_change_sighting},
                               {"/api/settings", TW_MAY_RUN, tw_change_settings},
                               {"/api/settings/file", TW_MAY_RUN, tw_change_file},
                               {"/api/try", TW_MAY_RUN, tw_try_changes},
                               {"/api/outbox", TW_MAY_RUN, tw_change_outbox},
                               {"/api/trial", TW_MAY_RUN, tw_try_destination},
                               {NULL, TW_MAY_NOTHING, NULL}};

/* @param rest  Set to what follows a path that ends in "/". */
static const route *find_route(const route *all, const char *path, const char **rest)
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

static void follow(tw_page *p, const tw_web_request *r, const visitor *v,
                   const route *all, tw_web_answer *out)
{
    const char *rest = "";
    const route *found = find_route(all, r->path, &rest);
    if (!found || (found->path[strlen(found->path) - 1] == '/' && !rest[0]))
        tw_answer_error(404, "there is no such thing", out);
    else if (v->may < found->may)
        tw_answer_error(403, "this account may only look", out);
    else
        found->answer(p, r, rest, out);
}

/* What needs to be known of who asks. */
static void serve_known(tw_page *p, const tw_web_request *r, const visitor *v,
                        tw_web_answer *out)
{
    const bool get = strcmp(r->method, "GET") == 0 || strcmp(r->method, "HEAD") == 0;
    if (strcmp(r->path, "/api/me") == 0 && get)
        say_who(p, v, out);
    else if (v->may == TW_MAY_NOTHING)
        tw_answer_error(401, "log in first", out);
    else if (get)
        follow(p, r, v, READ, out);
    else if (strcmp(r->method, "POST") != 0)
        tw_answer_error(405, "GET or POST", out);
    else if (!is_own(p, r, v))
        tw_answer_error(403, "this does not come from the page", out);
    else if (strcmp(r->path, "/api/logout") == 0)
        log_out(p, r, out);
    else if (v->may != TW_MAY_RUN)
        tw_answer_error(403, "this account may only look", out);
    else
        follow(p, r, v, CHANGE, out);
}

static void serve(tw_page *p, const tw_web_request *r, const accounts *all,
                  tw_web_answer *out)
{
    visitor v;
    const bool get = strcmp(r->method, "GET") == 0 || strcmp(r->method, "HEAD") == 0;
    look_up(p, r, all, &v);
    if (v.open && !is_local(p, r))
        tw_answer_error(403, "without an account this page is for 127.0.0.1 alone", out);
    else if (strcmp(r->path, "/api/login") == 0 && strcmp(r->method, "POST") == 0)
        log_in(p, r, all, out);
    else if (!get || !serve_asset(r->path, out))
        serve_known(p, r, &v, out);
    out->known = v.known || v.open;
}

void tw_page_handle(void *ctx, const tw_web_request *r, tw_web_answer *out)
{
    tw_page *p = ctx;
    accounts *all = calloc(1, sizeof *all);
    if (all && tw_accounts_read(p->accounts_file, all, NULL) == TW_OK)
        serve(p, r, all, out);
    else
        tw_answer_error(500, "the accounts cannot be read", out);
    free(all);
}
