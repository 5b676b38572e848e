/* The page as its server answers: who may what, what is refused, what it sends. Spoken to
 * byte by byte, as no browser would. */
#include <ifaddrs.h>
#include <jansson.h>
#include <net/if.h>
#include <netdb.h>
#include <netinet/in.h>
#include <pthread.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <time.h>
#include <unistd.h>

#include "../support/site.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

/* ---- who may ----------------------------------------------------------------------- */

static void test_without_accounts_it_is_for_this_machine(void **state)
{
    (void)state;
    site *w = open_site(false);
    tw_error err = {0};
    check(200, get(w, "/", ""));
    check(200, get(w, "/api/status", ""));
    assert_has(get(w, "/api/me", ""), "\"may\":\"run\"");
    /* a page elsewhere whose name was made to lead here */
    char host[64];
    memcpy(host, w->host, sizeof host);
    (void)snprintf(w->host, sizeof w->host, "evil.example:%d", w->port);
    check(403, get(w, "/api/status", ""));
    check(403, get(w, "/", ""));
    memcpy(w->host, host, sizeof host);
    /* and one that has its visitor's browser ask */
    check(403, post(w, "/api/sightings/1", "", "{\"star\":true}"));
    check(403, post(w, "/api/sightings/1",
                    "X-Tawny-Change: local\r\nOrigin: http://evil.example\r\n",
                    "{\"star\":true}"));
    check(403, post(w, "/api/sightings/1",
                    "X-Tawny-Change: local\r\nSec-Fetch-Site: cross-site\r\n",
                    "{\"star\":true}"));
    check(200,
          post(w, "/api/sightings/1", "X-Tawny-Change: local\r\n", "{\"star\":true}"));
    /* nor does it open to what a proxy on this machine passes on */
    check(401, get(w, "/api/status", "X-Forwarded-For: 192.0.2.66\r\n"));
    check(401, get(w, "/api/status", "Forwarded: for=192.0.2.66\r\n"));
    check(401, get(w, "/api/status", "Via: 1.1 lane\r\n"));
    /* the first account that is made shuts it, and the last that goes leaves it shut */
    assert_int_equal(
        twi_account_set(w->accounts, "ann", TWI_MAY_RUN, "", "frogspawn", NULL), TW_OK);
    check(401, get(w, "/api/status", ""));
    assert_int_equal(twi_account_remove(w->accounts, "ann", NULL), TW_OK);
    check(401, get(w, "/api/status", ""));
    write_text(w->accounts, "damaged\n"); /* nobody is let in by that */
    check(500, get(w, "/api/status", ""));
    assert_int_equal(unlink(w->accounts), 0);
    twi_page_free(w->page);
    w->page = NULL;
    static const char *const wide[] = {"0.0.0.0:0", "[::]:0"};
    for (size_t i = 0; i < 2; i++) {
        assert_int_equal(try_page(w, wide[i], &err), TW_EINVAL);
        assert_has(err.text,
                   "create an account first, by tawny account add NAME --may run");
    }
    static const char *const bad[] = {"8420", "localhost:", "127.0.0.1:99999",
                                      ":1",   "nowhere:80", "127.0.0.1:8x"};
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++)
        assert_int_equal(try_page(w, bad[i], &err), TW_EINVAL);
    assert_int_equal(try_page(w, "none", &err), TW_OK);
    assert_null(w->page);
    close_site(w);
}

/* 0.0.0.0 opens on no phone: what is told can be typed in there. */
static void test_addresses_that_are_told_can_be_opened(void **state)
{
    (void)state;
    site *w = open_site(true);
    struct ifaddrs *all = NULL;
    char host[NI_MAXHOST];
    bool other = false;
    tw_error err = {0};
    twi_page_free(w->page);
    w->page = NULL;
    w->told[0] = '\0';
    assert_int_equal(try_page(w, "0.0.0.0:0", &err), TW_OK);
    assert_int_equal(getifaddrs(&all), 0);
    for (const struct ifaddrs *at = all; at; at = at->ifa_next) {
        if (!at->ifa_addr || at->ifa_addr->sa_family != AF_INET ||
            !(at->ifa_flags & IFF_UP) || at->ifa_flags & IFF_LOOPBACK)
            continue;
        assert_int_equal(getnameinfo(at->ifa_addr, sizeof(struct sockaddr_in), host,
                                     sizeof host, NULL, 0, NI_NUMERICHOST),
                         0);
        assert_has(w->told, host);
        other = true;
    }
    freeifaddrs(all);
    if (other)
        assert_null(strstr(w->told, "0.0.0.0"));
    else
        assert_has(w->told, "the page is at http://0.0.0.0:");
    close_site(w);
}

/* Packed only for those who ask for it. */
static void test_files_are_packed_for_who_asks(void **state)
{
    (void)state;
    static const struct {
        const char *header;
        bool packed;
    } all[] = {{"", false},
               {"Accept-Encoding: gzip, deflate\r\n", true},
               {"Accept-Encoding: br;q=1.0, gzip;q=0.8\r\n", true},
               {"Accept-Encoding: deflate\r\n", false},
               {"Accept-Encoding: identity, gzip;q=0\r\n", false},
               {"Accept-Encoding: gzip;q=0.0\r\n", false}};
    site *w = open_site(false);
    for (size_t i = 0; i < sizeof all / sizeof *all; i++) {
        const char *answer = get(w, "/", all[i].header);
        check(200, answer);
        const bool packed = strstr(answer, "Content-Encoding: gzip") != NULL;
        if (packed != all[i].packed || packed == (strstr(answer, "</html>") != NULL))
            fail_msg("%s: %.400s", all[i].header, answer);
        assert_has(answer, "Vary: Accept-Encoding");
    }
    close_site(w);
}

static void test_nothing_is_shown_without_logging_in(void **state)
{
    (void)state;
    static const char *const paths[] = {
        "/api/status",      "/api/sightings",
        "/api/sightings/1", "/api/missed",
        "/api/nights",      "/api/visit",
        "/live/kerb",       "/picture/kerb",
        "/api/nothing",     "/captures/2027-03-13/kerb+001-still.jpg"};
    site *w = open_site(true);
    check(200, get(w, "/", ""));
    check(200, get(w, "/page.js", ""));
    assert_has(get(w, "/api/me", ""), "\"may\":\"nothing\"");
    for (size_t i = 0; i < sizeof paths / sizeof *paths; i++) {
        check(401, get(w, paths[i], ""));
        check(401, get(w, paths[i], "Cookie: tawny=0000000000\r\n"));
        check(401, post(w, paths[i], "X-Tawny-Change: local\r\n", "{}"));
    }
    close_site(w);
}

static void test_those_who_may_look_and_those_who_may_change(void **state)
{
    (void)state;
    char ann[256], ann_change[256], bob[256], bob_change[256], both[512];
    site *w = open_site(true);
    log_in(w, "ann", "frogspawn", ann, ann_change);
    log_in(w, "bob", "tadpoles", bob, bob_change);
    check(200, get(w, "/api/status", bob));
    assert_has(get(w, "/api/sightings", bob), "\"camera\":\"kerb\"");
    check(200, get(w, "/captures/2027-03-13/kerb%2B001-still.jpg", bob));
    (void)snprintf(both, sizeof both, "%s%s", bob, bob_change);
    check(403, post(w, "/api/sightings/1", both, "{\"star\":true}"));
    check(403, post(w, "/api/order", both, "{\"do\":\"arm\"}"));
    check(403, post(w, "/api/sightings/1", ann, "{\"star\":true}")); /* no token */
    (void)snprintf(both, sizeof both, "%s%s", ann, bob_change);      /* another's */
    check(403, post(w, "/api/sightings/1", both, "{\"star\":true}"));
    (void)snprintf(both, sizeof both, "%s%sOrigin: http://evil.example\r\n", ann,
                   ann_change);
    check(403, post(w, "/api/sightings/1", both, "{\"star\":true}"));
    (void)snprintf(both, sizeof both, "%s%sOrigin: http://%s\r\n", ann, ann_change,
                   w->host);
    check(200, post(w, "/api/sightings/1", both, "{\"star\":true}"));
    assert_has(get(w, "/api/sightings/1", ann), "\"starred\":true");
    check(400, post(w, "/api/sightings/1", both, "{\"star\":1}"));
    check(404, post(w, "/api/sightings/99", both, "{\"star\":true}"));
    check(200, post(w, "/api/sightings/1", both, "{\"mark\":\"nothing\"}"));
    assert_has(get(w, "/api/sightings/1", ann), "\"mark\":\"nothing\"");
    check(400, post(w, "/api/sightings/1", both, "{\"mark\":\"perhaps\"}"));
    check(404, post(w, "/api/sightings/99", both, "{\"mark\":\"right\"}"));
    check(403, post(w, "/api/missed", bob, "{\"take_back\":1}"));
    check(400, post(w, "/api/order", both, "not JSON"));
    char deletion[512];
    (void)snprintf(
        deletion, sizeof deletion,
        "DELETE /api/status HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n%s\r\n", w->host,
        ann);
    check(405, speak(w->port, deletion));
    /* another password ends the sessions of the old one */
    assert_int_equal(
        twi_account_set(w->accounts, "bob", TWI_MAY_LOOK, "", "froglets", NULL), TW_OK);
    check(401, get(w, "/api/status", bob));
    log_in(w, "bob", "froglets", bob, bob_change);
    check(200, get(w, "/api/status", bob));
    /* one that is removed is out at once; one who logs out too */
    assert_int_equal(twi_account_remove(w->accounts, "bob", NULL), TW_OK);
    check(401, get(w, "/api/status", bob));
    check(200, post(w, "/api/logout", both, "{}"));
    check(401, get(w, "/api/status", ann));
    close_site(w);
}

/* ---- accounts of some cameras ------------------------------------------------------ */

static void add_account(const site *w, const char *name, twi_may may, const char *cameras)
{
    assert_int_equal(twi_account_set(w->accounts, name, may, cameras, "froglets", NULL),
                     TW_OK);
}

/* Of each address: what an account of another camera gets has nothing of kerb in it. */
static void test_an_account_of_other_cameras_sees_nothing(void **state)
{
    (void)state;
    static const struct {
        const char *path;
        int code;
    } all[] = {{"/api/status", 200},
               {"/api/sightings", 200},
               {"/api/sightings?brief=1", 200},
               {"/api/sightings?camera=kerb", 200},
               {"/api/sightings/1", 404},
               {"/api/missed", 200},
               {"/api/nights?from=1804900000000&until=1804980000000", 200},
               {"/api/names", 200},
               {"/captures/2027-03-13/kerb%2B001-still.jpg", 404},
               {"/captures/2027-03-13/kerb%2B001-clip.mp4", 404},
               {"/packed.zip?numbers=1", 404},
               {"/packed.zip", 404},
               {"/live/kerb", 404},
               {"/picture/kerb", 404},
               {"/api/readings/kerb", 404},
               {"/api/traces/kerb?from=1", 404},
               {"/api/zones/kerb", 404},
               {"/api/thumbs/1", 404},
               {"/api/settings", 403},
               {"/api/settings/file", 403},
               {"/api/outbox", 403},
               {"/api/phones", 403},
               {"/api/plan", 403},
               {"/api/sensors", 403},
               {"/api/log", 403}};
    static const char *const changes[][2] = {
        {"/api/order", "{\"do\":\"trigger\",\"camera\":\"kerb\"}"},
        {"/api/order", "{\"do\":\"disarm\"}"},
        {"/api/sightings/1", "{\"star\":true}"},
        {"/api/sightings/1", "{\"remove\":true}"},
        {"/api/sightings/1", "{\"name\":\"Bufo bufo\"}"},
        {"/api/missed", "{\"camera\":\"kerb\",\"at\":1804969800000}"},
        {"/api/settings", "{\"changes\":[]}"},
        {"/api/try", "{}"},
        {"/api/trial", "{\"destination\":\"shed\"}"},
        {"/api/finds", "{}"},
        {"/api/outbox", "{\"retry\":\"\"}"}};
    site *w = open_site(true);
    char cookie[256], change[256], both[512];
    add_account(w, "mia", TWI_MAY_RUN, "mere kerb-2");
    log_in(w, "mia", "froglets", cookie, change);
    (void)snprintf(both, sizeof both, "%s%s", cookie, change);
    for (size_t i = 0; i < sizeof all / sizeof *all; i++) {
        const char *answer = get(w, all[i].path, cookie);
        if (code_of(answer) != all[i].code || strstr(answer, "\"kerb\""))
            fail_msg("%s: %.300s", all[i].path, answer);
    }
    for (size_t i = 0; i < sizeof changes / sizeof *changes; i++) {
        const int code = code_of(post(w, changes[i][0], both, changes[i][1]));
        if (code != 403 && code != 404)
            fail_msg("%s %s: %d", changes[i][0], changes[i][1], code);
    }
    check(200, get(w, "/api/me", cookie));
    assert_has(get(w, "/api/me", cookie), "\"cameras\":\"mere kerb-2\"");
    assert_has(post(w, "/api/sightings", both, "{\"numbers\":[1],\"star\":true}"),
               "\"changed\":0");
    close_site(w);
}

static void test_an_account_of_a_camera_sees_that_one(void **state)
{
    (void)state;
    static const char *const all[] = {"/api/sightings/1", "/packed.zip?numbers=1",
                                      "/captures/2027-03-13/kerb%2B001-clip.mp4",
                                      "/api/zones/kerb", "/packed.zip"};
    site *w = open_site(true);
    char cookie[256], change[256], both[512];
    add_account(w, "kim", TWI_MAY_RUN, "kerb");
    log_in(w, "kim", "froglets", cookie, change);
    (void)snprintf(both, sizeof both, "%s%s", cookie, change);
    for (size_t i = 0; i < sizeof all / sizeof *all; i++)
        check(200, get(w, all[i], cookie));
    assert_has(get(w, "/api/sightings", cookie), "\"kerb\"");
    check(200, post(w, "/api/sightings/1", both, "{\"star\":true}"));
    assert_has(post(w, "/api/sightings", both, "{\"numbers\":[1],\"remove\":true}"),
               "\"changed\":1");
    check(404, get(w, "/api/sightings/1", cookie));
    check(200, post(w, "/api/sightings/1", both, "{\"remove\":false}"));
    check(200, get(w, "/api/sightings/1", cookie));
    close_site(w);
}

static void test_guessing_takes_longer_and_longer(void **state)
{
    (void)state;
    site *w = open_site(true);
    static const char WRONG[] = "{\"name\":\"ann\",\"password\":\"wrong wrong\"}",
                      NOBODY[] = "{\"name\":\"eve\",\"password\":\"wrong wrong\"}",
                      RIGHT[] = "{\"name\":\"ann\",\"password\":\"frogspawn\"}";
    check(400, post(w, "/api/login", "", "{}"));
    check(403, post(w, "/api/login", "Origin: http://evil.example\r\n", RIGHT));
    check(401, post(w, "/api/login", "", NOBODY));
    const char *answer = "";
    for (int i = 0; i < 10 && code_of(answer) != 429; i++) {
        answer = post(w, "/api/login", "", WRONG);
        assert_true(code_of(answer) == 401 || code_of(answer) == 429);
    }
    check(429, answer);
    assert_has(answer, "Retry-After: ");
    check(401, post(w, "/api/login", "", NOBODY)); /* others are not held up by that */
    for (int i = 0; i < 200; i++) {                /* how long exactly: test_sessions.c */
        answer = post(w, "/api/login", "", RIGHT);
        if (code_of(answer) == 200)
            break;
        check(429, answer);
        (void)usleep(200000);
    }
    check(200, answer);
    close_site(w);
}

/* ---- what is refused --------------------------------------------------------------- */

static void test_no_path_leads_out_of_the_store(void **state)
{
    (void)state;
    static const char *const spellings[] = {
        "/captures/../catalogue.db",
        "/captures/catalogue.db",
        "/captures/%2e%2e/accounts",
        "/captures/..%2faccounts",
        "/captures/%2e%2e%2faccounts",
        "/captures/%252e%252e%252faccounts",
        "/captures/....//accounts",
        "/captures/..\\accounts",
        "/captures/..%5caccounts",
        "/captures/%c0%ae%c0%ae/accounts",
        "/captures//etc/passwd",
        "/captures/%2fetc%2fpasswd",
        "/captures/./2027-03-13/kerb+001-still.jpg",
        "/captures/2027-03-13/../2027-03-13/kerb+001-still.jpg",
        "/captures/2027-03-13/%00kerb+001-still.jpg",
        "/captures/2027-03-13/kerb%2B001-still.jpg%00.txt",
        "/captures/2027-03-13",
        "/captures/2027-03-13/",
        "/captures/",
        "/captures/file:///etc/passwd",
        "/../accounts",
        "/page.css/../../accounts",
        "//accounts",
    };
    site *w = open_site(false);
    for (size_t i = 0; i < sizeof spellings / sizeof *spellings; i++) {
        const char *answer = get(w, spellings[i], "");
        /* a zero ends a name: what is left of it may be a capture */
        if (code_of(answer) != 404 && code_of(answer) != 400 &&
            !strstr(spellings[i], "%00"))
            fail_msg("%s: %.200s", spellings[i], answer);
        assert_null(strstr(answer, "root:"));
        assert_null(strstr(answer, "SQLite format"));
    }
    close_site(w);
}

static void test_nothing_is_put_into_a_header(void **state)
{
    (void)state;
    site *w = open_site(false);
    const char *answer =
        get(w, "/captures/2027-03-13/kerb%2B001-still.jpg?save=1%0d%0aX-Evil:%201", "");
    check(200, answer);
    assert_has(answer,
               "Content-Disposition: attachment; filename=\"kerb+001-still.jpg\"");
    assert_null(strstr(answer, "X-Evil"));
    answer = get(w, "/api/sightings?camera=%0d%0aX-Evil:%201", "");
    check(200, answer);
    assert_null(strstr(answer, "\nX-Evil"));
    assert_has(answer, "Content-Security-Policy: default-src 'none'; script-src 'self';");
    assert_null(strstr(answer, "unsafe-inline"));
    assert_has(answer, "X-Content-Type-Options: nosniff");
    assert_has(answer, "Cache-Control: no-store");
    close_site(w);
}

static double now_s(void)
{
    struct timespec t;
    (void)clock_gettime(CLOCK_MONOTONIC, &t);
    return (double)t.tv_sec + (double)t.tv_nsec / 1e9;
}

static void test_the_oversized_and_the_slow_are_dropped(void **state)
{
    (void)state;
    char more[64];
    site *w = open_site(false);
    char text[512];
    (void)snprintf(text, sizeof text,
                   "POST /api/login HTTP/1.1\r\nHost: %s\r\nContent-Length: "
                   "104857600\r\nConnection: close\r\n\r\n",
                   w->host);
    check(413, speak(w->port, text)); /* before any of it has come */
    char *long_line = calloc(1, 60000);
    memset(long_line, 'a', 50000);
    (void)snprintf(text, sizeof text, "GET /");
    char *all = calloc(1, 60000);
    (void)snprintf(all, 60000, "GET /%s HTTP/1.1\r\n\r\n", long_line);
    const char *answer = speak(w->port, all);
    assert_true(code_of(answer) == 0 || code_of(answer) >= 400);
    free(long_line);
    free(all);
    const double begun = now_s(); /* half a request, and then nothing */
    assert_string_equal(speak(w->port, "GET / HTTP/1.1\r\nHost: x\r\nX-Slow: "), "");
    assert_true(now_s() - begun < 25);
    (void)snprintf(more, sizeof more, "Range: bytes=5-9\r\n");
    answer = get(w, "/captures/2027-03-13/kerb%2B001-clip.mp4", more);
    check(206, answer);
    assert_has(answer, "Content-Range: bytes 5-9/50000\r\n");
    assert_has(answer, "Content-Length: 5\r\n");
    check(416,
          get(w, "/captures/2027-03-13/kerb%2B001-clip.mp4", "Range: bytes=50000-\r\n"));
    assert_has(get(w, "/captures/2027-03-13/kerb%2B001-clip.mp4", "Range: bytes=-10\r\n"),
               "Content-Range: bytes 49990-49999/50000\r\n");
    close_site(w);
}

/* Ten thousand connections, one behind another and many at once: it still answers. */
static void test_many_connections(void **state)
{
    (void)state;
    enum { ALL = 10000, AT_ONCE = 200 };
    int open[AT_ONCE];
    site *w = open_site(false);
    for (int i = 0; i < ALL; i++) {
        const int s = dial(w->port);
        if (i >= AT_ONCE && open[i % AT_ONCE] >= 0)
            (void)close(open[i % AT_ONCE]);
        open[i % AT_ONCE] = s;
    }
    for (int i = 0; i < AT_ONCE; i++)
        if (open[i] >= 0)
            (void)close(open[i]);
    for (int i = 0;; i++) {
        (void)usleep(100000);
        const int s = dial(w->port);
        (void)close(s);
        if (code_of(get(w, "/api/status", "")) == 200)
            break;
        if (i > 200)
            fail_msg("it does not answer any more");
    }
    close_site(w);
}

/* ---- as it is described ------------------------------------------------------------ */

/* Put what a place stands for into a path. */
static void fill_path(const char *path, bool there, char out[256])
{
    static const struct {
        const char *field, *there, *none;
    } fields[] = {{"{number}", "1", "99"},
                  {"{file}", "2027-03-13/kerb%2B001-still.jpg", "none.jpg"},
                  {"{camera}", "kerb", "none"}};
    (void)snprintf(out, 256, "%s", path);
    for (size_t i = 0; i < sizeof fields / sizeof *fields; i++) {
        const char *at = strstr(path, fields[i].field);
        if (at)
            (void)snprintf(out, 256, "%.*s%s", (int)(at - path), path,
                           there ? fields[i].there : fields[i].none);
    }
}

static bool lists(const json_t *operation, int code)
{
    char number[8];
    (void)snprintf(number, sizeof number, "%d", code);
    return json_object_get(json_object_get(operation, "responses"), number) != NULL;
}

/* Asks as the description says, and holds each answer against it. */
static void check_operation(const site *w, const char *path, const char *method,
                            const json_t *operation)
{
    char at[256], cookie[256], change[256], both[512];
    const bool open = json_array_size(json_object_get(operation, "security")) == 0 &&
                      json_object_get(operation, "security");
    const bool is_get = strcmp(method, "get") == 0;
    for (int there = 0; there < 2; there++) {
        fill_path(path, there, at);
        const int without = code_of(is_get ? get(w, at, "") : post(w, at, "", "{}"));
        if (!lists(operation, without) || (!open && without != 401))
            fail_msg("%s %s without a login: %d is not described", method, at, without);
        if (strncmp(path, "/live/", 6) == 0 || strncmp(path, "/picture/", 9) == 0 ||
            strncmp(path, "/api/readings/", 14) == 0)
            continue;                                  /* no station runs */
        log_in(w, "ann", "frogspawn", cookie, change); /* one of them logs out */
        (void)snprintf(both, sizeof both, "%s%s", cookie, change);
        const int with = code_of(is_get ? get(w, at, cookie) : post(w, at, both, "{}"));
        if (!lists(operation, with) || with == 401)
            if (strcmp(path, "/api/login") != 0)
                fail_msg("%s %s: %d is not described", method, at, with);
    }
}

static void test_the_description_holds(void **state)
{
    (void)state;
    const char *path = NULL, *method = NULL;
    json_t *item = NULL, *operation = NULL;
    size_t count = 0;
    site *w = open_site(true);
    json_t *api = json_load_file(SOURCE_DIR "/docs/page-api.json", 0, NULL);
    assert_non_null(api);
    json_object_foreach(json_object_get(api, "paths"), path, item)
    {
        json_object_foreach(item, method, operation)
        {
            if (strcmp(method, "get") != 0 && strcmp(method, "post") != 0)
                continue;
            check_operation(w, path, method, operation);
            count++;
        }
    }
    assert_int_equal(count, 39);
    json_decref(api);
    close_site(w);
}

/* ---- live -------------------------------------------------------------------------- */

typedef struct running {
    tw_station *station;
    size_t frames;
} running;

static void on_event(void *ctx, const tw_event *e)
{
    running *r = ctx;
    r->frames += e->kind == TW_EVENT_READING;
}

static void *run_station(void *ctx)
{
    (void)tw_station_run(((running *)ctx)->station);
    return NULL;
}

/* Read until so many pictures have begun. @return their number. */
static int read_pictures(int s, int wanted)
{
    static const char WORDS[] = "Content-Type: image/jpeg";
    char piece[8192];
    int found = 0;
    size_t matched = 0;
    ssize_t n = 0;
    while (found < wanted && (n = recv(s, piece, sizeof piece, 0)) > 0)
        for (ssize_t i = 0; i < n; i++) {
            matched = piece[i] == WORDS[matched] ? matched + 1 : piece[i] == WORDS[0];
            if (matched == sizeof WORDS - 1) {
                found++;
                matched = 0;
            }
        }
    return found;
}

static int poll_on(const site *w)
{
    char text[256];
    const int s = dial(w->port);
    assert_true(s >= 0);
    (void)snprintf(text, sizeof text, "GET /live/kerb HTTP/1.1\r\nHost: %s\r\n\r\n",
                   w->host);
    (void)send(s, text, strlen(text), MSG_NOSIGNAL);
    return s;
}

static unsigned long number_of(const char *answer)
{
    const char *tag = strstr(answer, "ETag: \"");
    check(200, answer);
    assert_non_null(tag);
    return strtoul(tag + 7, NULL, 10);
}

/* One after another; and none is taken any more where nobody looks. */
static void check_pictures(const site *w)
{
    enum { FPS = 5, AWAY_S = 5 };
    char path[64];
    const unsigned long first = number_of(get(w, "/picture/kerb", ""));
    (void)snprintf(path, sizeof path, "/picture/kerb?after=%lu", first);
    assert_true(number_of(get(w, path, "")) > first);
    const unsigned long before = number_of(get(w, "/picture/kerb", ""));
    (void)sleep(AWAY_S);
    const unsigned long now = number_of(get(w, "/picture/kerb", ""));
    assert_true(now > before);
    assert_true(now - before <= (unsigned long)FPS * (AWAY_S - 2));
}

static void check_readings(const site *w)
{
    json_t *o = body_of(200, get(w, "/api/readings/kerb?sharp=10,10,90,90", ""));
    const json_t *grid = json_object_get(o, "grid");
    assert_int_equal(json_string_length(json_object_get(o, "cells")),
                     json_integer_value(json_object_get(grid, "columns")) *
                         json_integer_value(json_object_get(grid, "rows")));
    assert_true(json_number_value(json_object_get(o, "sharpness")) > 0.5);
    json_decref(o);
    o = body_of(200, get(w, "/api/readings/kerb", ""));
    assert_null(json_object_get(o, "sharpness"));
    json_decref(o);
    static const char *const bad[] = {"x", "1,2,3", "-1,0,10,10", "0,0,101,10",
                                      "nan,0,10,10"};
    for (size_t i = 0; i < sizeof bad / sizeof *bad; i++) {
        char path[64];
        (void)snprintf(path, sizeof path, "/api/readings/kerb?sharp=%s", bad[i]);
        check(400, get(w, path, ""));
    }
    check(404, get(w, "/api/readings/nobody", ""));
}

/* Twenty look on, five of whom read nothing: the others get their pictures, and the
 * camera goes on as before. */
static void test_live_pictures(void **state)
{
    (void)state;
    enum { LOOKERS = 20, STALLED = 5 };
    int lookers[LOOKERS];
    pthread_t thread;
    tw_error err = {0};
    tw_card card;
    site *w = open_site(false);
    running r = {0};
    char *captures = join(w->s->folder, "captures");
    tw_settings *settings = sending_settings("", "");
    assert_int_equal(tw_settings_set(settings, "kerb.loop=yes", NULL, NULL), TW_OK);
    assert_int_equal(tw_linux_card(captures, &card, &err), TW_OK);
    const tw_platform platform = {
        .makers = TEST_MAKERS, .clock = tw_linux_clock(), .card = &card};
    assert_int_equal(tw_station_new(&platform, settings, on_event, &r, &r.station, &err),
                     TW_OK);
    assert_int_equal(twi_page_station(w->page, r.station), TW_OK);
    assert_int_equal(pthread_create(&thread, NULL, run_station, &r), 0);
    for (int i = 0; i < LOOKERS; i++)
        lookers[i] = poll_on(w);
    for (int i = STALLED; i < LOOKERS; i++)
        assert_int_equal(read_pictures(lookers[i], 3), 3);
    assert_has(get(w, "/api/status", ""), "\"camera\":\"kerb\"");
    check(200, post(w, "/api/order", "X-Tawny-Change: local\r\n",
                    "{\"do\":\"disarm\",\"camera\":\"kerb\",\"for_s\":60}"));
    check(404, post(w, "/api/order", "X-Tawny-Change: local\r\n",
                    "{\"do\":\"arm\",\"camera\":\"none\"}"));
    check(404, get(w, "/live/none", ""));
    tw_settings *more = tw_settings_copy(settings); /* as after SIGHUP */
    assert_int_equal(tw_settings_add_camera(more, "none", "sim:mere", NULL, NULL), TW_OK);
    assert_int_equal(twi_page_reload(w->page, more), TW_OK);
    tw_settings_free(more);
    check(503, get(w, "/picture/none", "")); /* it is there, and gives nothing yet */
    const char *picture = get(w, "/picture/kerb", "");
    check(200, picture);
    assert_has(picture, "Content-Type: image/jpeg");
    for (int i = 0; i < LOOKERS; i++)
        (void)close(lookers[i]);
    check_pictures(w);
    check_readings(w);
    assert_int_equal(twi_page_station(w->page, NULL), TW_OK);
    assert_has(get(w, "/api/status", ""), "\"state\":\"down\"");
    tw_station_stop(r.station);
    (void)pthread_join(thread, NULL);
    assert_true(r.frames > 5);
    tw_station_free(r.station);
    card.ops->destroy(card.ctx);
    tw_settings_free(settings);
    free(captures);
    close_site(w);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_addresses_that_are_told_can_be_opened),
        cmocka_unit_test(test_without_accounts_it_is_for_this_machine),
        cmocka_unit_test(test_files_are_packed_for_who_asks),
        cmocka_unit_test(test_nothing_is_shown_without_logging_in),
        cmocka_unit_test(test_those_who_may_look_and_those_who_may_change),
        cmocka_unit_test(test_an_account_of_other_cameras_sees_nothing),
        cmocka_unit_test(test_an_account_of_a_camera_sees_that_one),
        cmocka_unit_test(test_guessing_takes_longer_and_longer),
        cmocka_unit_test(test_no_path_leads_out_of_the_store),
        cmocka_unit_test(test_nothing_is_put_into_a_header),
        cmocka_unit_test(test_the_oversized_and_the_slow_are_dropped),
        cmocka_unit_test(test_the_description_holds),
        cmocka_unit_test(test_many_connections),
        cmocka_unit_test(test_live_pictures),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
