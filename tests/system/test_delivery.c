/* Nothing lost, nothing doubled: a station that is killed at random, servers that are
 * killed and a network that is torn, until all is quiet; then every capture is at every
 * destination, once where the protocol can tell. $TAWNY_SIGHTINGS says how many there are
 * to be (60), $TAWNY_SEED where chance begins. */
#include <jansson.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include "../support/servers.h"
#include "../../src/core/naming.h"

enum { EACH_LIFE = 15, ROADS = 3 /* mail, web, hub */ };

typedef struct world {
    char *folder, *gates[ROADS];
    server mail, web, hub, proxies[ROADS];
    pid_t listener;
    uint32_t seed;
} world;

static uint32_t chance(world *w, uint32_t below)
{
    w->seed = w->seed * 1664525U + 1013904223U;
    return (w->seed >> 16) % below;
}

/* ---- making it --------------------------------------------------------------------- */

static server start_proxy(const char *gate, int port)
{
    char number[16];
    (void)snprintf(number, sizeof number, "%d", port);
    return start_stand_in("odd_server.py", "proxy", number, gate, NULL);
}

static pid_t listen_to(const world *w)
{
    char number[16];
    char *path = join(w->folder, "heard");
    (void)snprintf(number, sizeof number, "%d", w->hub.port);
    const pid_t pid = fork();
    assert_true(pid >= 0);
    if (pid == 0) {
        (void)prctl(PR_SET_PDEATHSIG, SIGKILL);
        if (!freopen(path, "wb", stdout))
            _exit(1);
        execlp("mosquitto_sub", "mosquitto_sub", "-h", "127.0.0.1", "-p", number, "-t",
               "lane/hollin/kerb/sighting", "-q", "1", (char *)NULL);
        _exit(127);
    }
    free(path);
    return pid;
}

/* Footage in which something passes every four seconds, for so many sightings. */
static void make_footage(const char *folder)
{
    char length[64];
    (void)snprintf(length, sizeof length, "color=gray:size=160x120:rate=10:duration=%d",
                   4 * EACH_LIFE + 1);
    outcome o =
        run_program(folder, FFMPEG, "-v", "error", "-f", "lavfi", "-i", length, "-f",
                    "lavfi", "-i", "color=white:size=24x24:rate=10", "-filter_complex",
                    "[0][1]overlay=x='(mod(t,4)-1)*80':y=50:enable='between("
                    "mod(t,4),1,2.5)':shortest=1",
                    "-c:v", "mjpeg", "-q:v", "4", "passing.avi", NULL);
    if (o.code != 0)
        fail_msg("%s", o.err);
    free_outcome(&o);
}

static void write_station(const world *w, const char *name, const char *source)
{
    char text[4096];
    (void)snprintf(
        text, sizeof text,
        "[station]\nname = hollin\nstore = store\n"
        "[camera kerb]\nsource = %s\npace = no\nsettle = 1 s\ntravel = 0 %%\n"
        "start_at = 0.5 %%\nstay_at = 0.3 %%\n"
        "pre_event = 0.2 s\npost_event = 1 s\nstills = first\nclip_video = copy\n"
        "send_to = mail, shed, hub\n"
        "[destination mail]\nurl = smtp://toad@localhost:%d\n"
        "secret_file = %s/good.secret\ntrust = %s/cert.pem\nto = a@lane.example\n"
        "from = b@lane.example\nlimit = none\ntimeout = 3 s\n"
        "[destination shed]\nurl = http://127.0.0.1:%d/lane\ntimeout = 3 s\n"
        "[destination hub]\nurl = mqtt://127.0.0.1:%d/lane\ntimeout = 3 s\n",
        source, w->proxies[0].port, w->folder, w->folder, w->proxies[1].port,
        w->proxies[2].port);
    char *path = join(w->folder, name);
    write_text(path, text);
    free(path);
}

static world make_world(void)
{
    const char *seed = getenv("TAWNY_SEED");
    world w = {.folder = make_folder(), .seed = seed ? (uint32_t)atoi(seed) : 7U};
    make_credentials(w.folder);
    make_footage(w.folder);
    w.mail = start_mail(w.folder);
    w.web = start_webdav(w.folder, false);
    w.hub = start_broker(w.folder, false, false);
    const int ports[ROADS] = {w.mail.port, w.web.port, w.hub.port};
    for (int i = 0; i < ROADS; i++) {
        char name[16];
        (void)snprintf(name, sizeof name, "gate-%d", i);
        w.gates[i] = join(w.folder, name);
        w.proxies[i] = start_proxy(w.gates[i], ports[i]);
    }
    w.listener = listen_to(&w);
    char *inbox = join(w.folder, "inbox");
    (void)mkdir(inbox, 0755);
    free(inbox);
    write_station(&w, "life.ini", "file:passing.avi");
    write_station(&w, "after.ini", "inbox:inbox"); /* nothing comes, and it goes on */
    return w;
}

static void leave_world(world *w)
{
    (void)kill(w->listener, SIGKILL);
    (void)waitpid(w->listener, NULL, 0);
    for (int i = 0; i < ROADS; i++) {
        end_server(&w->proxies[i]);
        free(w->gates[i]);
    }
    end_server(&w->mail);
    end_server(&w->web);
    end_server(&w->hub);
    remove_folder(w->folder);
}

static pid_t start_station(const world *w, const char *settings)
{
    const pid_t pid = fork();
    assert_true(pid >= 0);
    if (pid > 0)
        return pid;
    (void)prctl(PR_SET_PDEATHSIG, SIGKILL);
    if (chdir(w->folder) != 0 || !freopen("watch.log", "ab", stdout) ||
        !freopen("watch.log", "ab", stderr))
        _exit(1);
    (void)setenv("XDG_RUNTIME_DIR", w->folder, 1);
    execl(TOOL, TOOL, "watch", "--settings", settings, (char *)NULL);
    _exit(127);
}

/* ---- troubling it ------------------------------------------------------------------ */

static void set_gate(const char *gate, bool shut)
{
    if (shut)
        write_text(gate, "");
    else
        (void)unlink(gate);
}

static void make_well(world *w)
{
    for (int i = 0; i < ROADS; i++)
        set_gate(w->gates[i], false);
    start_again(&w->mail);
    start_again(&w->web);
}

/* The broker itself is left alone: what it has taken and not yet passed on would be lost
 * to the subscriber, and that is not ours to prevent. */
static void trouble(world *w)
{
    const uint32_t what = chance(w, 8);
    if (what < ROADS)
        set_gate(w->gates[what], true);
    else if (what == 3)
        stop_server(&w->mail, SIGKILL);
    else if (what == 4)
        stop_server(&w->web, SIGKILL);
    else
        make_well(w);
}

/* One life of the station: killed somewhere in its footage, or in what it sends after. */
static void live(world *w)
{
    const pid_t pid = start_station(w, "life.ini");
    for (uint32_t left_ms = 200 + chance(w, 2500); left_ms > 0;) {
        const uint32_t nap = left_ms < 250 ? left_ms : 250;
        (void)usleep(nap * 1000);
        left_ms -= nap;
        if (chance(w, 3) == 0)
            trouble(w);
    }
    (void)kill(pid, SIGKILL);
    (void)waitpid(pid, NULL, 0);
}

/* ---- what came of it --------------------------------------------------------------- */

typedef struct counts {
    world *w;
    char *heard, *mails;
    size_t sightings, captures;
} counts;

static tw_catalogue *open_catalogue(const world *w)
{
    tw_catalogue *c = NULL;
    char *path = join(w->folder, "store/" TWI_CATALOGUE_FILE);
    (void)tw_catalogue_open(path, false, &c, NULL);
    free(path);
    return c;
}

static bool count_one(void *ctx, const tw_sighting_record *r)
{
    (*(size_t *)ctx) += r->end_us > 0;
    return true;
}

static size_t sightings_so_far(const world *w)
{
    const tw_sighting_filter all = {0};
    size_t count = 0;
    tw_catalogue *c = open_catalogue(w);
    if (c)
        (void)tw_catalogue_sightings(c, &all, count_one, &count, NULL);
    tw_catalogue_close(c);
    return count;
}

static bool is_drained(const world *w)
{
    static const char *const names[] = {"mail", "shed", "hub"};
    twi_outbox_fill fill = {.waiting = 1};
    tw_catalogue *c = open_catalogue(w);
    bool drained = c != NULL;
    for (int i = 0; i < 3 && drained; i++) {
        if (twi_outbox_inspect(c, names[i], false, 0, &fill, NULL) != TW_OK)
            fill.waiting = 1;
        if (fill.given_up > 0 || fill.stopped_us > 0)
            fail_msg("%s: %s", names[i], fill.why);
        drained = fill.waiting == 0;
    }
    tw_catalogue_close(c);
    return drained;
}

/* All mails behind each other. */
static char *read_mails(const world *w)
{
    char *folder = join(w->folder, "mail"), **files = list_files(folder);
    size_t used = 0;
    char *all = calloc(1, 1);
    for (size_t i = 0; files[i]; i++) {
        size_t bytes = 0;
        char *path = join(folder, files[i]), *text = read_file(path, &bytes);
        all = realloc(all, used + bytes + 1);
        memcpy(all + used, text, bytes);
        used += bytes;
        all[used] = '\0';
        free(path);
        free(text);
    }
    free_list(files);
    free(folder);
    return all;
}

/* The Message-ID of the mail that a place lies in. */
static void id_before(const char *mails, const char *at, char out[64])
{
    static const char HEADER[] = "Message-ID: <";
    const char *last = NULL;
    for (const char *s = strstr(mails, HEADER); s && s < at; s = strstr(s + 1, HEADER))
        last = s;
    assert_non_null(last);
    (void)snprintf(out, 64, "%.60s", last + strlen(HEADER));
    out[strcspn(out, ">")] = '\0';
}

/* Mailed once, or more than once under the same id, by which a reader can tell. */
static void check_mailed(const counts *n, const char *file)
{
    char first[64], other[64], name[512];
    (void)snprintf(name, sizeof name, "%s", strrchr(file, '/') + 1);
    const char *at = strstr(n->mails, name);
    if (!at)
        fail_msg("%s is in no mail", file);
    id_before(n->mails, at, first);
    for (at = strstr(at + 1, name); at; at = strstr(at + 1, name)) {
        id_before(n->mails, at, other);
        assert_string_equal(other, first);
    }
}

static void check_uploaded(const counts *n, const char *file)
{
    char there[1024];
    size_t kept = 0, bytes = 0;
    char *store = join(n->w->folder, "store"), *path = join(store, file),
         *had = read_file(path, &kept);
    (void)snprintf(there, sizeof there, "%s/www/lane/%s", n->w->folder, file);
    if (access(there, R_OK) != 0)
        fail_msg("%s is not on the server", file);
    char *got = read_file(there, &bytes);
    assert_int_equal(bytes, kept);
    assert_memory_equal(got, had, kept);
    free(got);
    free(had);
    free(path);
    free(store);
}

static bool check_capture(void *ctx, const tw_capture_record *r)
{
    counts *n = ctx;
    n->captures++;
    check_uploaded(n, r->file);
    check_mailed(n, r->file);
    return true;
}

static bool check_sighting(void *ctx, const tw_sighting_record *r)
{
    counts *n = ctx;
    char words[64];
    n->sightings++;
    (void)snprintf(words, sizeof words, "\"number\":%lld,", (long long)r->id);
    if (!strstr(n->heard, words))
        fail_msg("sighting %lld was not told to the broker", (long long)r->id);
    return true;
}

static void check_all(world *w)
{
    const tw_sighting_filter all = {0};
    tw_error err = {0};
    counts *n = calloc(1, sizeof *n);
    char *heard = join(w->folder, "heard"), *www = join(w->folder, "www");
    n->w = w;
    n->heard = read_file(heard, NULL);
    n->mails = read_mails(w);
    tw_catalogue *c = open_catalogue(w);
    assert_int_equal(tw_catalogue_captures(c, 0, check_capture, n, &err), TW_OK);
    assert_int_equal(tw_catalogue_sightings(c, &all, check_sighting, n, &err), TW_OK);
    tw_catalogue_close(c);
    char **files = list_files(www); /* each once, and nothing that is half there */
    assert_int_equal(list_length(files), n->captures);
    print_message("%zu sightings, %zu captures, each at each destination; %zu mails\n",
                  n->sightings, n->captures, count_lines(n->mails, "Message-ID: <"));
    free_list(files);
    free(heard);
    free(www);
    free(n->heard);
    free(n->mails);
    free(n);
}

static void test_nothing_is_lost_and_nothing_doubled(void **state)
{
    (void)state;
    const char *wanted = getenv("TAWNY_SIGHTINGS");
    const size_t most = wanted ? (size_t)atoi(wanted) : 60;
    world w = make_world();
    while (sightings_so_far(&w) < most)
        live(&w);
    make_well(&w);
    const pid_t last = start_station(&w, "after.ini");
    const time_t until = time(NULL) + 60 + (time_t)most;
    while (!is_drained(&w)) {
        if (time(NULL) > until)
            fail_msg("it does not end");
        (void)usleep(200000);
    }
    (void)usleep(300000); /* what was published is on its way to the subscriber */
    (void)kill(last, SIGTERM);
    (void)waitpid(last, NULL, 0);
    check_all(&w);
    leave_world(&w);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_nothing_is_lost_and_nothing_doubled),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
