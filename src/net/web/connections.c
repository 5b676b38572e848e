/* How long connections may take. */
#include "connections.h"
#include "../../base/thread.h"

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
static void show_out(twi_connection *connection)
{
    (void)shutdown(connection->socket, SHUT_RDWR);
}

static bool is_late(const twi_connection *g, int64_t now)
{
    if (!g->used || (g->answering && g->known)) /* a film, or a live picture */
        return false;
    return now - g->since_us > (g->answering ? STRANGER_S : REQUEST_S) * S;
}

static void show_out_the_late(twi_connections *g)
{
    const int64_t now = now_us();
    for (size_t i = 0; i < TWI_WEB_CONNECTIONS; i++)
        if (is_late(&g->all[i], now))
            show_out(&g->all[i]);
}

static void make_room(twi_connections *g)
{
    twi_connection *oldest = NULL;
    size_t strangers = 0;
    for (size_t i = 0; i < TWI_WEB_CONNECTIONS; i++) {
        twi_connection *at = &g->all[i];
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
    twi_connections *g = ctx;
    (void)pthread_mutex_lock(&g->lock);
    while (!g->ending) {
        const struct timespec until = twi_deadline(1000000);
        (void)pthread_cond_timedwait(&g->changed, &g->lock, &until);
        show_out_the_late(g);
    }
    (void)pthread_mutex_unlock(&g->lock);
    return NULL;
}

tw_status twi_connections_begin(twi_connections *g, tw_error *err)
{
    (void)pthread_mutex_init(&g->lock, NULL);
    twi_cond_init(&g->changed);
    g->running = pthread_create(&g->thread, NULL, watch, g) == 0;
    return g->running ? TW_OK : tw_fail(err, TW_ENOMEM, "no thread for the page");
}

void twi_connections_end(twi_connections *g)
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

twi_connection *twi_connections_open(twi_connections *g, int socket)
{
    twi_connection *place = NULL;
    (void)pthread_mutex_lock(&g->lock);
    make_room(g);
    for (size_t i = 0; i < TWI_WEB_CONNECTIONS && !place; i++)
        if (!g->all[i].used)
            place = &g->all[i];
    if (place)
        *place = (twi_connection){.used = true, .socket = socket, .since_us = now_us()};
    (void)pthread_mutex_unlock(&g->lock);
    return place;
}

void twi_connections_close(twi_connections *g, twi_connection *connection)
{
    if (!connection)
        return;
    (void)pthread_mutex_lock(&g->lock);
    memset(connection, 0, sizeof *connection);
    (void)pthread_mutex_unlock(&g->lock);
}

void twi_connections_answer(twi_connections *g, twi_connection *connection, bool known)
{
    if (!connection)
        return;
    (void)pthread_mutex_lock(&g->lock);
    connection->answering = true;
    connection->known = connection->known || known;
    connection->since_us = now_us();
    (void)pthread_mutex_unlock(&g->lock);
}

void twi_connections_wait(twi_connections *g, twi_connection *connection)
{
    if (!connection)
        return;
    (void)pthread_mutex_lock(&g->lock);
    connection->answering = false;
    connection->since_us = now_us();
    (void)pthread_mutex_unlock(&g->lock);
}
