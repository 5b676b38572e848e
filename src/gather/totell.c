/* A queue between the page's threads and the gatherer's. */
#include "totell.h"

#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct twi_to_tell {
    pthread_mutex_t lock;
    twi_word *first, **last; /* last: where the next one is hung */
    size_t count;
};

twi_to_tell *twi_to_tell_new(void)
{
    twi_to_tell *q = calloc(1, sizeof *q);
    if (!q)
        return NULL;
    (void)pthread_mutex_init(&q->lock, NULL);
    q->last = &q->first;
    return q;
}

void twi_to_tell_free(twi_to_tell *q)
{
    twi_word *w = NULL;
    if (!q)
        return;
    while ((w = twi_to_tell_take(q)))
        free(w);
    (void)pthread_mutex_destroy(&q->lock);
    free(q);
}

bool twi_to_tell_put(twi_to_tell *q, const char *station, const char *what,
                     const char *text)
{
    const size_t bytes = strlen(text) + 1;
    twi_word *w = calloc(1, sizeof *w + bytes);
    if (!w)
        return false;
    (void)snprintf(w->station, sizeof w->station, "%s", station);
    (void)snprintf(w->what, sizeof w->what, "%s", what);
    memcpy(w->text, text, bytes);
    (void)pthread_mutex_lock(&q->lock);
    const bool room = q->count < TWI_TO_TELL_MAX;
    if (room) {
        *q->last = w;
        q->last = &w->next;
        q->count++;
    }
    (void)pthread_mutex_unlock(&q->lock);
    if (!room)
        free(w);
    return room;
}

twi_word *twi_to_tell_take(twi_to_tell *q)
{
    (void)pthread_mutex_lock(&q->lock);
    twi_word *w = q->first;
    if (w) {
        q->first = w->next;
        q->count--;
        if (!q->first)
            q->last = &q->first;
    }
    (void)pthread_mutex_unlock(&q->lock);
    return w;
}
