/* Running a program of the user's. */
#include "program.h"

#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <spawn.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

#include "system_error.h"

enum {
    POLL_MS = 100,      /* between looks whether it has ended */
    GRACE_US = 2000000, /* between asking it to end and ending it */
    FIRST_FD = 3        /* the first that it does not get */
};

/* ---- words ------------------------------------------------------------------------ */

/* One word into itself. @return where the next begins; NULL: a quote or \ is left open.
 */
static char *take_word(char *from, bool *last)
{
    char *to = from;
    bool quoted = false;
    for (; *from && (quoted || (*from != ' ' && *from != '\t')); from++) {
        if (*from == '"') {
            quoted = !quoted;
            continue;
        }
        if (quoted && *from == '\\' && *++from == '\0')
            return NULL;
        *to++ = *from;
    }
    *last = *from == '\0';
    *to = '\0';
    return quoted ? NULL : from + 1;
}

tw_status twi_program_split(char *text, char *words[TWI_PROGRAM_ARGS_MAX + 1])
{
    size_t count = 0;
    bool last = false;
    for (char *at = text + strspn(text, " \t"); *at != '\0';) {
        if (count == TWI_PROGRAM_ARGS_MAX)
            return TW_ESYNTAX;
        words[count++] = at;
        at = take_word(at, &last);
        if (!at)
            return TW_ESYNTAX;
        if (last)
            break;
        at += strspn(at, " \t");
    }
    words[count] = NULL;
    return count > 0 ? TW_OK : TW_ESYNTAX;
}

/* ---- starting it ------------------------------------------------------------------ */

typedef struct child {
    pid_t pid;
    int in, out; /* our ends; -1: closed */
} child;

static void close_end(int *fd)
{
    if (*fd >= 0)
        (void)close(*fd);
    *fd = -1;
}

/* Errors by number. A group of its own, so that what it starts ends with it; no signal is
 * blocked or ignored, whatever our threads do. */
static int spawn(char *const argv[], char *const environment[], const int in[2],
                 const int out[2], pid_t *pid)
{
    posix_spawn_file_actions_t files;
    posix_spawnattr_t how;
    sigset_t none, all;
    (void)sigemptyset(&none);
    (void)sigfillset(&all);
    (void)posix_spawn_file_actions_init(&files);
    (void)posix_spawnattr_init(&how);
    int code = posix_spawn_file_actions_adddup2(&files, in[0], STDIN_FILENO);
    if (code == 0)
        code = posix_spawn_file_actions_adddup2(&files, out[1], STDOUT_FILENO);
    if (code == 0)
        code = posix_spawn_file_actions_adddup2(&files, out[1], STDERR_FILENO);
    if (code == 0)
        code = posix_spawn_file_actions_addclosefrom_np(&files, FIRST_FD);
    (void)posix_spawnattr_setsigmask(&how, &none);
    (void)posix_spawnattr_setsigdefault(&how, &all);
    (void)posix_spawnattr_setflags(&how, POSIX_SPAWN_SETSIGMASK | POSIX_SPAWN_SETSIGDEF |
                                             POSIX_SPAWN_SETPGROUP);
    if (code == 0)
        code = posix_spawnp(pid, argv[0], &files, &how, argv, environment);
    (void)posix_spawnattr_destroy(&how);
    (void)posix_spawn_file_actions_destroy(&files);
    return code;
}

static tw_status start(char *const argv[], char *const environment[], child *c,
                       tw_error *err)
{
    int in[2] = {-1, -1}, out[2] = {-1, -1};
    tw_status st = TW_OK;
    *c = (child){-1, -1, -1};
    if (pipe2(in, O_CLOEXEC) != 0 || pipe2(out, O_CLOEXEC) != 0) {
        st = tw_fail(err, TW_ENOMEM, "too many files are open");
    } else {
        const int code = spawn(argv, environment, in, out, &c->pid);
        if (code != 0)
            st = tw_fail(err, twi_status_of_errno(code), "%s: %s", argv[0],
                         strerror(code));
    }
    close_end(&in[0]);
    close_end(&out[1]);
    if (st != TW_OK) {
        close_end(&in[1]);
        close_end(&out[0]);
    }
    c->in = in[1];
    c->out = out[0];
    return st;
}

/* ---- while it runs ---------------------------------------------------------------- */

int64_t twi_program_now(void)
{
    struct timespec t;
    (void)clock_gettime(CLOCK_MONOTONIC, &t);
    return (int64_t)t.tv_sec * 1000000 + t.tv_nsec / 1000;
}

/* A pipe holds more than we ever write: who does not read it does not hold us up. A
 * program that has closed it gives SIGPIPE, which our threads block. */
static void give_input(child *c, const char *input)
{
    (void)fcntl(c->in, F_SETFL, O_NONBLOCK);
    ssize_t n = 0;
    for (size_t left = strlen(input); left > 0 && n >= 0; left -= (size_t)n, input += n)
        n = write(c->in, input, left);
    close_end(&c->in);
}

/* Of what it prints, keep the newest line that is not empty. */
static void take_output(twi_program_outcome *out, const char *text, size_t bytes,
                        bool *ended)
{
    size_t used = *ended ? 0 : strlen(out->last);
    for (size_t i = 0; i < bytes; i++) {
        const char ch = text[i];
        if (ch == '\n' || ch == '\r') {
            *ended = true;
            continue;
        }
        if (*ended)
            used = 0;
        *ended = false;
        if (used + 1 < sizeof out->last)
            out->last[used++] = (char)((unsigned char)ch < ' ' ? ' ' : ch);
        out->last[used] = '\0';
    }
}

/* Wait for output, or a little. */
static void poll_child(child *c, twi_program_outcome *out, bool *ended)
{
    char piece[512];
    struct pollfd in = {.fd = c->out, .events = POLLIN};
    if (poll(&in, 1, POLL_MS) <= 0)
        return;
    const ssize_t n = read(c->out, piece, sizeof piece);
    if (n > 0)
        take_output(out, piece, (size_t)n, ended);
    else if (n == 0)
        close_end(&c->out); /* poll sleeps from now on */
}

/* End it, and what it has started: first by asking. */
static void end_late(const child *c, int64_t over_us, twi_program_outcome *out)
{
    if (over_us < 0)
        return;
    (void)kill(-c->pid, over_us < GRACE_US ? SIGTERM : SIGKILL);
    out->late = true;
}

/* How long its time is up; negative: it is not. */
static int64_t over(int64_t own_us, int64_t until_us)
{
    const int64_t end_us = until_us != 0 && until_us < own_us ? until_us : own_us;
    return twi_program_now() - end_us;
}

tw_status twi_program_run(char *const argv[], char *const environment[],
                          const char *input, int64_t timeout_us,
                          const _Atomic int64_t *until_us, twi_program_outcome *out,
                          tw_error *err)
{
    child c;
    int status = 0;
    bool ended = true;
    *out = (twi_program_outcome){.code = 0};
    const int64_t begun_us = twi_program_now();
    const tw_status st = start(argv, environment ? environment : environ, &c, err);
    if (st != TW_OK)
        return st;
    give_input(&c, input);
    while (waitpid(c.pid, &status, WNOHANG) == 0) {
        poll_child(&c, out, &ended);
        end_late(&c, over(begun_us + timeout_us, until_us ? atomic_load(until_us) : 0),
                 out);
    }
    (void)kill(-c.pid, SIGKILL); /* what it has left behind */
    if (c.out >= 0)
        poll_child(&c, out, &ended);
    close_end(&c.out);
    out->us = twi_program_now() - begun_us;
    out->code = WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status);
    return TW_OK;
}

/* As posix_spawnp looks for it. */
bool twi_program_is_there(const char *program)
{
    char path[4096];
    const char *folder = getenv("PATH");
    if (strchr(program, '/'))
        return access(program, X_OK) == 0;
    for (; folder && *folder; folder += strspn(folder, ":")) {
        const size_t n = strcspn(folder, ":");
        if (snprintf(path, sizeof path, "%.*s/%s", (int)n, folder, program) <
                (int)sizeof path &&
            access(path, X_OK) == 0)
            return true;
        folder += n;
    }
    return false;
}
