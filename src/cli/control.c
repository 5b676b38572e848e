/* The socket of a running station: whoever connects asks one thing, a line of JSON, and
 * is answered in lines of JSON. Only the user it runs as can reach it; that of the
 * service its group, too. */
#include "control.h"
#include "notify.h"

#include "../json/json.h"

#include <errno.h>
#include <poll.h>
#include <pwd.h>
#include <signal.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/un.h>
#include <unistd.h>

enum {
    WAIT_MS = 200,
    STEP_MS = 100,
    ANSWER_MAX = 1 << 20,
    REQUEST_MAX = 1024,
    TIMEOUT_S = 2
};

struct control {
    struct sockaddr_un at;
    int socket;
    tw_station *station;
    volatile gint ending;
    gint64 every_us, fed_us; /* the watchdog, 0: there is none; when it was fed */
    GThread *thread;
};

/* Where the service that the unit starts has its socket. */
#define SERVICE_FOLDER "/run/tawny"

/* @return false: the path is too long for a socket. */
static gboolean address(const char *folder, const char *name, struct sockaddr_un *out)
{
    g_autofree char *safe = g_strdup(name);
    (void)g_strcanon(safe, G_CSET_A_2_Z G_CSET_a_2_z G_CSET_DIGITS "-_", '_');
    g_autofree char *file = g_strdup_printf("tawny-%s.sock", safe);
    g_autofree char *path = g_build_filename(folder, file, NULL);
    memset(out, 0, sizeof *out);
    out->sun_family = AF_UNIX;
    return g_strlcpy(out->sun_path, path, sizeof out->sun_path) < sizeof out->sun_path;
}

/* @return -1: nobody listens; errno is EAGAIN where somebody does who does not answer. */
static int connect_to(const struct sockaddr_un *at)
{
    const struct timeval timeout = {TIMEOUT_S, 0};
    const int s = socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0);
    if (s < 0)
        return -1;
    (void)setsockopt(s, SOL_SOCKET, SO_SNDTIMEO, &timeout, sizeof timeout);
    (void)setsockopt(s, SOL_SOCKET, SO_RCVTIMEO, &timeout, sizeof timeout);
    if (connect(s, (const struct sockaddr *)at, sizeof *at) == 0)
        return s;
    const int why = errno;
    (void)close(s);
    errno = why;
    return -1;
}

/* ---- answering ------------------------------------------------------------------- */

static void add_line(GString *out, json_t *object)
{
    char *text = twi_json_text(object);
    if (text)
        g_string_append_printf(out, "%s\n", text);
    free(text);
}

static void add_status(const control *c, GString *out)
{
    tw_camera_status camera;
    tw_sensor_status sensor;
    tw_store_status store;
    for (size_t i = 0; tw_station_camera(c->station, i, &camera) == TW_OK; i++)
        add_line(out, twi_json_camera(&camera, NULL));
    for (size_t i = 0; tw_station_sensor(c->station, i, &sensor) == TW_OK; i++)
        add_line(out, twi_json_sensor(&sensor));
    if (tw_station_store(c->station, &store) == TW_OK)
        add_line(out, twi_json_store(&store));
}

char *control_user(uid_t user)
{
    struct passwd entry, *found = NULL;
    char room[1024];
    (void)getpwuid_r(user, &entry, room, sizeof room, &found);
    return found ? g_strdup(found->pw_name) : g_strdup_printf("user %u", (unsigned)user);
}

/* Whose process is at the other end. @return FALSE: that is not known. */
static gboolean find_peer(int fd, struct ucred *peer)
{
    socklen_t bytes = sizeof *peer;
    return getsockopt(fd, SOL_SOCKET, SO_PEERCRED, peer, &bytes) == 0;
}

/* For the log. */
static char *name_peer(int fd)
{
    struct ucred peer = {0};
    return find_peer(fd, &peer) ? control_user(peer.uid) : NULL;
}

static void answer_request(const control *c, const char *request, const char *who,
                           GString *out)
{
    json_t *o = json_loads(request, JSON_REJECT_DUPLICATES, NULL);
    const char *what = json_string_value(json_object_get(o, "do"));
    tw_error err = {0};
    if (what && strcmp(what, "status") == 0 && json_object_size(o) == 1)
        add_status(c, out);
    else if (twi_deliver_order(c->station, request, strlen(request), who, &err) == TW_OK)
        add_line(out,
                 json_pack("{ss ss ss}", "type", "done", "do", what, "text", err.text));
    else
        add_line(out, json_pack("{ss ss}", "type", "error", "text", err.text));
    json_decref(o);
}

/* The watchdog hears of us as long as the station can be asked: a lock that is never let
 * go would hold us up. */
static void feed_watchdog(control *c)
{
    tw_camera_status unused;
    const gint64 now_us = g_get_monotonic_time();
    if (c->every_us == 0 || now_us - c->fed_us < c->every_us)
        return;
    (void)tw_station_camera(c->station, 0, &unused);
    c->fed_us = now_us;
    notify_state("WATCHDOG=1");
}

/* Wait for a socket to be ready. Nobody may hold up those who ask after him, the watchdog
 * or the end. @return FALSE: the request has had its time, or the station ends. */
static gboolean is_ready(control *c, int fd, short what, gint64 until_us)
{
    struct pollfd waiting = {.fd = fd, .events = what};
    while (!g_atomic_int_get(&c->ending) && g_get_monotonic_time() < until_us) {
        feed_watchdog(c);
        if (poll(&waiting, 1, STEP_MS) > 0)
            return TRUE;
    }
    return FALSE;
}

/* One line. @return false: whoever connected said nothing that is one. */
static gboolean read_request(control *c, int from, gint64 until_us, char *out,
                             size_t capacity)
{
    size_t used = 0;
    while (used + 1 < capacity && is_ready(c, from, POLLIN, until_us)) {
        const ssize_t n = recv(from, out + used, capacity - 1 - used, MSG_DONTWAIT);
        if (n <= 0)
            return FALSE;
        used += (size_t)n;
        out[used] = '\0';
        char *end = strchr(out, '\n');
        if (!end)
            continue;
        *end = '\0';
        return TRUE;
    }
    return FALSE;
}

static void answer(control *c, int to)
{
    const gint64 until_us = g_get_monotonic_time() + (gint64)TIMEOUT_S * G_USEC_PER_SEC;
    char request[REQUEST_MAX];
    g_autofree char *who = name_peer(to);
    GString *text = g_string_new(NULL);
    if (read_request(c, to, until_us, request, sizeof request))
        answer_request(c, request, who, text);
    gsize sent = 0;
    while (sent < text->len && is_ready(c, to, POLLOUT, until_us)) {
        const ssize_t n =
            send(to, text->str + sent, text->len - sent, MSG_NOSIGNAL | MSG_DONTWAIT);
        if (n <= 0)
            break; /* whoever asked has gone */
        sent += (gsize)n;
    }
    (void)g_string_free(text, TRUE);
}

static gpointer serve(gpointer data)
{
    control *c = data;
    while (!g_atomic_int_get(&c->ending)) {
        feed_watchdog(c);
        struct pollfd waiting = {.fd = c->socket, .events = POLLIN};
        if (poll(&waiting, 1, WAIT_MS) <= 0)
            continue;
        const int to = accept(c->socket, NULL, NULL);
        if (to < 0)
            continue;
        answer(c, to);
        (void)close(to);
    }
    return NULL;
}

static gboolean is_taken(const struct sockaddr_un *at)
{
    const int other = connect_to(at);
    if (other < 0)
        return errno == EAGAIN;
    (void)close(other);
    return TRUE;
}

/* @return -1: it cannot be made. */
static int listen_at(const struct sockaddr_un *at)
{
    (void)unlink(at->sun_path); /* left by one that died */
    (void)g_mkdir_with_parents(g_get_user_runtime_dir(), 0700);
    /* The service's is for its group as well, as its folder is. */
    const mode_t before =
        umask(g_str_has_prefix(at->sun_path, SERVICE_FOLDER "/") ? 0007 : 0077);
    int s = socket(AF_UNIX, SOCK_STREAM | SOCK_CLOEXEC, 0);
    if (s >= 0 &&
        (bind(s, (const struct sockaddr *)at, sizeof *at) != 0 || listen(s, 4) != 0)) {
        (void)close(s);
        s = -1;
    }
    (void)umask(before);
    return s;
}

control *control_begin(const char *station_name, tw_station *station)
{
    control *c = g_new0(control, 1);
    c->station = station;
    c->every_us = notify_every();
    c->socket = -1;
    const gboolean good = address(g_get_user_runtime_dir(), station_name, &c->at);
    if (good && is_taken(&c->at)) {
        (void)cli_say(CLI_FAILED,
                      "another station %s is running: tawny status will speak of that",
                      station_name);
    } else {
        c->socket = good ? listen_at(&c->at) : -1;
        if (c->socket < 0)
            (void)cli_say(CLI_FAILED, "%s cannot be made: tawny status will not work",
                          c->at.sun_path);
    }
    notify_state("READY=1"); /* before the thread, which feeds the watchdog at once */
    /* without a socket too: the watchdog wants feeding */
    c->thread = g_thread_new("control", serve, c);
    return c;
}

void control_end(control *c)
{
    g_atomic_int_set(&c->ending, 1);
    (void)g_thread_join(c->thread);
    if (c->socket >= 0) {
        (void)close(c->socket);
        (void)unlink(c->at.sun_path);
    }
    g_free(c);
}

/* ---- asking ---------------------------------------------------------------------- */

/* The user's own station, else the service. @return -1: none is running. */
static int connect_to_any(const char *station_name)
{
    struct sockaddr_un at;
    int s = -1;
    if (address(g_get_user_runtime_dir(), station_name, &at))
        s = connect_to(&at);
    if (s < 0 && address(SERVICE_FOLDER, station_name, &at))
        s = connect_to(&at);
    return s;
}

char *control_ask(const char *station_name, const char *request)
{
    char piece[4096];
    ssize_t n = 0;
    const int s = connect_to_any(station_name);
    if (s < 0)
        return NULL;
    GString *text = g_string_new(NULL);
    (void)send(s, request, strlen(request), MSG_NOSIGNAL);
    (void)send(s, "\n", 1, MSG_NOSIGNAL);
    while (text->len < ANSWER_MAX && (n = recv(s, piece, sizeof piece, 0)) > 0)
        g_string_append_len(text, piece, n);
    (void)close(s);
    return g_string_free(text, FALSE);
}

gboolean control_reload(const char *station_name)
{
    struct ucred peer = {0};
    const int s = connect_to_any(station_name);
    const gboolean good =
        s >= 0 && find_peer(s, &peer) && peer.pid > 1 && kill(peer.pid, SIGHUP) == 0;
    if (s >= 0)
        (void)close(s);
    return good;
}
