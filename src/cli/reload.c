/* A thread waits for SIGHUP, so that reading files is nothing for a signal handler. */
#include "reload.h"
#include "tawny/settings.h"

#include <errno.h>
#include <poll.h>
#include <pthread.h>
#include <signal.h>
#include <sys/eventfd.h>
#include <sys/signalfd.h>
#include <unistd.h>

struct reloading {
    const cli_common *common;
    tw_station *station;
    reload_turn_fn turn;
    void *ctx;
    gboolean in_terminal;
    int hangups, end; /* file descriptors: SIGHUP has come, the thread is to end */
    sigset_t before;
    GThread *thread;
};

/* Whether it was the terminal that hung up: nobody is there who could have asked. */
static gboolean terminal_gone(const reloading *r)
{
    return r->in_terminal && tcgetpgrp(STDIN_FILENO) < 0 && errno != EINTR;
}

static void read_again(const reloading *r)
{
    tw_settings *settings = NULL;
    if (cli_load_sound(r->common, &settings, NULL) != TW_OK)
        (void)cli_say(CLI_FAILED, "the old settings hold");
    else if (tw_station_apply(r->station, settings) != TW_OK)
        (void)cli_say(CLI_FAILED, "there is no camera: the old cameras go on");
}

static void on_hangup(const reloading *r)
{
    struct signalfd_siginfo unused;
    if (read(r->hangups, &unused, sizeof unused) != (ssize_t)sizeof unused)
        return;
    if (terminal_gone(r))
        tw_station_stop(r->station);
    else
        read_again(r);
}

static gpointer wait_for_hangup(gpointer data)
{
    const reloading *r = data;
    struct pollfd what[] = {{.fd = r->end, .events = POLLIN},
                            {.fd = r->hangups, .events = POLLIN}};
    while (what[0].revents == 0) {
        const int ready = poll(what, 2, r->turn(r->ctx));
        if (ready < 0 && errno != EINTR)
            break;
        if (ready > 0 && (what[1].revents & POLLIN))
            on_hangup(r);
    }
    return NULL;
}

static void drop(reloading *r)
{
    if (r->hangups >= 0)
        (void)close(r->hangups);
    if (r->end >= 0)
        (void)close(r->end);
    (void)pthread_sigmask(SIG_SETMASK, &r->before, NULL);
    g_free(r);
}

reloading *reload_begin(const cli_common *common, tw_station *station,
                        reload_turn_fn turn, void *ctx)
{
    reloading *r = g_new0(reloading, 1);
    sigset_t hangup;
    r->common = common;
    r->station = station;
    r->turn = turn;
    r->ctx = ctx;
    r->in_terminal = isatty(STDIN_FILENO) == 1;
    (void)sigemptyset(&hangup);
    (void)sigaddset(&hangup, SIGHUP);
    (void)pthread_sigmask(SIG_BLOCK, &hangup, &r->before); /* all threads from here on */
    r->hangups = signalfd(-1, &hangup, SFD_CLOEXEC | SFD_NONBLOCK);
    r->end = eventfd(0, EFD_CLOEXEC);
    if (r->hangups >= 0 && r->end >= 0) {
        r->thread = g_thread_new("reload", wait_for_hangup, r);
        return r;
    }
    (void)cli_say(CLI_FAILED, "SIGHUP cannot be waited for: the settings stay");
    drop(r);
    return NULL;
}

void reload_end(reloading *r)
{
    const guint64 one = 1;
    if (!r)
        return;
    if (write(r->end, &one, sizeof one) == (ssize_t)sizeof one)
        (void)g_thread_join(r->thread);
    drop(r);
}
