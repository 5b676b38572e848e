/* How long connections may take. */
#include "guests.h"

#include <string.h>
#include <sys/socket.h>
#include <time.h>

#define S INT64_C(1000000)

static int64_t now_us(void)
{
    struct timespec t;
    (void)clock_gettime(CLOCK_MONOTONIC, &t);
    return (int64_t)t.tv_sec * S + t.tv_nsec / 1000;
}

/* Under the lock, as all that follows. Its own thread sees the end, and closes it. */
static void show_out(tw_guest *guest)
{
    (void)shutdown(guest->socket, SHUT_RDWR);
}

static bool is_late(const tw_guest *g, int64_t now)
{
    if (!g->used || (g->answering && g->known)) /* a film, or a live picture */
        return false;
    return now - g->since_us > (g->answering ? STRANGER_S : REQUEST_S) * S;
}

static void show_out_the_late(tw_guests *g)
{
    const int64_t now = now_us();
    for (size_t i = 0; i < TW_WEB_CONNECTIONS; i++)
        if (is_late(&g->all[i], now))
            show_out(&g->all[i]);
}

static void make_room(tw_guests *g)
{
    tw_guest *oldest = NULL;
    size_t strangers = 0;
    for (size_t i = 0; i < TW_WEB_CONNECTIONS; i++) {
        tw_guest *at = &g->all[i];
        if (!at->used || at->known)
            continue;
        strangers++;
        if (!oldest || at->since_us < oldest->since_us)
            oldest = at;
    }
    if (strangers >= STRANGERS_MAX)
        show_out(oldest);
}

static void *watch(void *ctx)
{
    tw_guests *g = ctx;
    (void)pthread_mutex_lock(&g->lock);
    while (!g->ending) {
        struct timespec until;
        (void)clock_gettime(CLOCK_MONOTONIC, &until);
        until.tv_sec++;
        (void)pthread_cond_timedwait(&g->changed, &g->lock, &until);
        show_out_the_late(g);
    }
    (void)pthread_mutex_unlock(&g->lock);
    return NULL;
}

tw_status tw_guests_begin(tw_guests *g, tw_error *err)
{
    pthread_condattr_t monotonic;
    (void)pthread_mutex_init(&g->lock, NULL);
    (void)pthread_condattr_init(&monotonic);
    (void)pthread_condattr_setclock(&monotonic, CLOCK_MONOTONIC);
    (void)pthread_cond_init(&g->changed, &monotonic);
    (void)pthread_condattr_destroy(&monotonic);
    g->running = pthread_create(&g->thread, NULL, watch, g) == 0;
    return g->running ? TW_OK : tw_fail(err, TW_ENOMEM, "no thread for the page");
}

void tw_guests_end(tw_guests *g)
{
    if (g->running) {
        (void)pthread_mutex_lock(&g->lock);
        g->ending = true;
        (void)pthread_cond_broadcast(&g->changed);
        (void)pthread_mutex_unlock(&g->lock);
        (void)pthread_join(g->thread, NULL);
        (void)pthread_cond_destroy(&g->changed);
        (void)pthread_mutex_destroy(&g->lock);
    }
    memset(g, 0, sizeof *g);
}

tw_guest *tw_guests_come(tw_guests *g, int socket)
{
    tw_guest *place = NULL;
    (void)pthread_mutex_lock(&g->lock);
    make_room(g);
    for (size_t i = 0; i < TW_WEB_CONNECTIONS && !place; i++)
        if (!g->all[i].used)
            place = &g->all[i];
    if (place)
        *place = (tw_guest){.used = true, .socket = socket, .since_us = now_us()};
    (void)pthread_mutex_unlock(&g->lock);
    return place;
}

void tw_guests_leave(tw_guests *g, tw_guest *guest)
{
    if (!guest)
        return;
    (void)pthread_mutex_lock(&g->lock);
    memset(guest, 0, sizeof *guest);
    (void)pthread_mutex_unlock(&g->lock);
}

void tw_guests_answer(tw_guests *g, tw_guest *guest, bool known)
{
    if (!guest)
        return;
    (void)pthread_mutex_lock(&g->lock);
    guest->answering = true;
    guest->known = guest->known || known;
    guest->since_us = now_us();
    (void)pthread_mutex_unlock(&g->lock);
}

void tw_guests_wait(tw_guests *g, tw_guest *guest)
{
    if (!guest)
        return;
    (void)pthread_mutex_lock(&g->lock);
    guest->answering = false;
    guest->since_us = now_us();
    (void)pthread_mutex_unlock(&g->lock);
}
