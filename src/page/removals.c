/* Removing sightings, a little later than it is asked for, so that it can be undone. */
#include <stdio.h>
#include <string.h>
#include <time.h>

#include "../base/thread.h"
#include "page_state.h"

void twi_removals_init(removals *r)
{
    memset(r, 0, sizeof *r);
    (void)pthread_mutex_init(&r->lock, NULL);
    twi_cond_init(&r->changed);
}

static void remove_one(twi_page *p, int64_t id)
{
    char line[TW_ERROR_MAX + 64];
    tw_error err = {0};
    tw_status st = TW_OK;
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    if (c)
        st = tw_catalogue_remove(c, p->host.card, id, &err);
    (void)pthread_mutex_unlock(&p->store_lock);
    if (st == TW_OK || st == TW_ENOENT || !p->host.callback)
        return; /* gone already is fine */
    (void)snprintf(line, sizeof line, "sighting %lld could not be removed: %s",
                   (long long)id, err.text);
    p->host.callback(p->host.ctx, st, line);
}

/* Under the lock. @return 0: none is due. */
static int64_t take_due(removals *r, int64_t now_us)
{
    for (size_t i = 0; i < r->count; i++) {
        if (r->all[i].due_us > now_us && !r->ending)
            continue;
        const int64_t id = r->all[i].id;
        r->all[i] = r->all[--r->count];
        return id;
    }
    return 0;
}

/* A second is short enough for what takes ten. */
static void wait_a_little(removals *r)
{
    const struct timespec until = twi_deadline(1000000);
    (void)pthread_cond_timedwait(&r->changed, &r->lock, &until);
}

static void *work(void *ctx)
{
    twi_page *p = ctx;
    removals *r = &p->removals;
    (void)pthread_mutex_lock(&r->lock);
    while (!r->ending || r->count > 0) {
        const int64_t id = take_due(r, twi_page_now(p));
        if (id > 0) {
            (void)pthread_mutex_unlock(&r->lock); /* the card may be slow */
            remove_one(p, id);
            (void)pthread_mutex_lock(&r->lock);
        } else if (r->count > 0) {
            wait_a_little(r);
        } else {
            (void)pthread_cond_wait(&r->changed, &r->lock);
        }
    }
    (void)pthread_mutex_unlock(&r->lock);
    return NULL;
}

/* Under the lock. @return REMOVALS_MAX: it is not there. */
static size_t place_of(const removals *r, int64_t id)
{
    for (size_t i = 0; i < r->count; i++)
        if (r->all[i].id == id)
            return i;
    return REMOVALS_MAX;
}

tw_status twi_removals_add(twi_page *p, int64_t id)
{
    removals *r = &p->removals;
    tw_status st = TW_OK;
    (void)pthread_mutex_lock(&r->lock);
    if (!r->started)
        r->started = twi_thread_start(&r->thread, work, p);
    if (!r->started)
        st = TW_ENOMEM;
    else if (place_of(r, id) == REMOVALS_MAX && r->count == REMOVALS_MAX)
        st = TW_ESIZE;
    if (st == TW_OK && place_of(r, id) == REMOVALS_MAX) {
        r->all[r->count].id = id;
        r->all[r->count++].due_us = twi_page_now(p) + UNDO_S * INT64_C(1000000);
        (void)pthread_cond_signal(&r->changed);
    }
    (void)pthread_mutex_unlock(&r->lock);
    return st;
}

bool twi_removals_undo(twi_page *p, int64_t id)
{
    removals *r = &p->removals;
    (void)pthread_mutex_lock(&r->lock);
    const size_t at = place_of(r, id);
    if (at < REMOVALS_MAX)
        r->all[at] = r->all[--r->count];
    (void)pthread_mutex_unlock(&r->lock);
    return at < REMOVALS_MAX;
}

bool twi_removals_has(twi_page *p, int64_t id)
{
    (void)pthread_mutex_lock(&p->removals.lock);
    const bool has = place_of(&p->removals, id) < REMOVALS_MAX;
    (void)pthread_mutex_unlock(&p->removals.lock);
    return has;
}

void twi_removals_end(twi_page *p)
{
    removals *r = &p->removals;
    (void)pthread_mutex_lock(&r->lock);
    r->ending = true;
    (void)pthread_cond_signal(&r->changed);
    (void)pthread_mutex_unlock(&r->lock);
    if (r->started)
        (void)pthread_join(r->thread, NULL);
    (void)pthread_cond_destroy(&r->changed);
    (void)pthread_mutex_destroy(&r->lock);
}
