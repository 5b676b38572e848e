/* A thread waits for SIGHUP, so that reading files is nothing for a signal handler. */
#include "reload.h"

#include <errno.h>
#include <pthread.h>
#include <signal.h>
#include <time.h>
#include <unistd.h>

enum { LOOK_NS = 200000000 };

struct reloading {
    const cli_common *common;
    tw_station *station;
    reload_calls calls;
    gboolean in_terminal;
    volatile gint ending;
    sigset_t hangup, before;
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
    if (cli_load_sound(r->common, &settings, NULL) != TW_OK) {
        (void)cli_say(CLI_FAILED, "the old settings hold");
        return;
    }
    r->calls.read(r->calls.ctx, settings);
    if (tw_station_apply(r->station, settings) != TW_OK)
        (void)cli_say(CLI_FAILED, "there is no camera: the old cameras go on");
}

static gpointer wait_for_hangup(gpointer data)
{
    reloading *r = data;
    const struct timespec look = {0, LOOK_NS};
    while (!g_atomic_int_get(&r->ending)) {
        const int signal = sigtimedwait(&r->hangup, NULL, &look);
        const gboolean asked = r->calls.asked(r->calls.ctx);
        r->calls.turn(r->calls.ctx);
        if (signal == SIGHUP && terminal_gone(r))
            tw_station_stop(r->station);
        else if (signal == SIGHUP || asked)
            read_again(r);
    }
    return NULL;
}

reloading *reload_begin(const cli_common *common, tw_station *station, reload_calls calls)
{
    reloading *r = g_new0(reloading, 1);
    r->common = common;
    r->station = station;
    r->calls = calls;
    r->in_terminal = isatty(STDIN_FILENO) == 1;
    (void)sigemptyset(&r->hangup);
    (void)sigaddset(&r->hangup, SIGHUP);
    (void)pthread_sigmask(SIG_BLOCK, &r->hangup,
                          &r->before); /* all threads from here on */
    r->thread = g_thread_new("reload", wait_for_hangup, r);
    return r;
}

void reload_end(reloading *r)
{
    g_atomic_int_set(&r->ending, 1);
    (void)g_thread_join(r->thread);
    (void)pthread_sigmask(SIG_SETMASK, &r->before, NULL);
    g_free(r);
}
