/* Who is logged in, and who must wait after failing. */
#include <stdio.h>
#include <string.h>

#include "page.h"

#define IDLE_US (INT64_C(12) * 3600 * 1000000) /* then a session is over */
#define FORGET_US (INT64_C(3600) * 1000000)    /* so long failures count */
#define FIRST_US INT64_C(1000000)              /* wait after the third failure ... */
#define MOST_US (INT64_C(900) * 1000000)       /* ... doubled each time, up to this */

enum { FREE_TRIES = 3, PEER_FREE_TRIES = 10 };

/* ---- sessions --------------------------------------------------------------------- */

/* Under the lock. */
static session *find(sessions *s, const tw_web_module *web, const char *token)
{
    session *found = NULL;
    for (size_t i = 0; token && i < SESSIONS_MAX; i++) /* all: the time tells nothing */
        if (s->all[i].seen_us != 0 && web->same(s->all[i].token, token))
            found = &s->all[i];
    return found;
}

void tw_session_begin(sessions *s, const tw_web_module *web, const account *who,
                      int64_t now_us, session *out)
{
    session made = {.may = who->may, .seen_us = now_us};
    web->token(made.token);
    web->token(made.change);
    (void)snprintf(made.name, sizeof made.name, "%s", who->name);
    (void)pthread_mutex_lock(&s->lock);
    session *place = &s->all[0];
    for (size_t i = 1; i < SESSIONS_MAX; i++)
        if (s->all[i].seen_us < place->seen_us)
            place = &s->all[i];
    *place = made;
    (void)pthread_mutex_unlock(&s->lock);
    *out = made;
}

bool tw_session_find(sessions *s, const tw_web_module *web, const char *token,
                     int64_t now_us, session *out)
{
    (void)pthread_mutex_lock(&s->lock);
    session *found = find(s, web, token);
    if (found && now_us - found->seen_us > IDLE_US) {
        memset(found, 0, sizeof *found);
        found = NULL;
    }
    if (found) {
        found->seen_us = now_us;
        *out = *found;
    }
    (void)pthread_mutex_unlock(&s->lock);
    return found != NULL;
}

void tw_session_end(sessions *s, const tw_web_module *web, const char *token)
{
    (void)pthread_mutex_lock(&s->lock);
    session *found = find(s, web, token);
    if (found)
        memset(found, 0, sizeof *found);
    (void)pthread_mutex_unlock(&s->lock);
}

/* ---- failures --------------------------------------------------------------------- */

/* Under the lock. @return the place of a key; NULL: it has none. */
static failure *failure_of(sessions *s, const char *key, int64_t now_us)
{
    for (size_t i = 0; i < FAILURES_MAX; i++) {
        failure *f = &s->failed[i];
        if (f->count > 0 && now_us - f->last_us > FORGET_US)
            memset(f, 0, sizeof *f);
        if (f->count > 0 && strcmp(f->key, key) == 0)
            return f;
    }
    return NULL;
}

static void word_keys(const char *peer, const char *name, char by[96], char of[96])
{
    (void)snprintf(by, 96, "by %.80s", peer);
    (void)snprintf(of, 96, "of %.80s", name);
}

int64_t tw_login_wait(sessions *s, const char *peer, const char *name, int64_t now_us)
{
    char keys[2][96];
    int64_t wait_us = 0;
    word_keys(peer, name, keys[0], keys[1]);
    (void)pthread_mutex_lock(&s->lock);
    for (int i = 0; i < 2; i++) {
        const failure *f = failure_of(s, keys[i], now_us);
        if (f && f->until_us - now_us > wait_us)
            wait_us = f->until_us - now_us;
    }
    (void)pthread_mutex_unlock(&s->lock);
    return wait_us;
}

/* Under the lock: one more, and how long nothing is tried then. */
static void add_failure(sessions *s, const char *key, unsigned free_tries, int64_t now_us)
{
    failure *f = failure_of(s, key, now_us);
    if (!f) { /* in the place that has been quiet for longest */
        f = &s->failed[0];
        for (size_t i = 1; i < FAILURES_MAX; i++)
            if (s->failed[i].last_us < f->last_us)
                f = &s->failed[i];
        memset(f, 0, sizeof *f);
        (void)snprintf(f->key, sizeof f->key, "%s", key);
    }
    f->count++;
    f->last_us = now_us;
    int64_t wait_us = 0;
    if (f->count >= free_tries) {
        wait_us = FIRST_US;
        for (unsigned i = free_tries; i < f->count && wait_us < MOST_US; i++)
            wait_us *= 2;
    }
    f->until_us = now_us + (wait_us < MOST_US ? wait_us : MOST_US);
}

void tw_login_failed(sessions *s, const char *peer, const char *name, int64_t now_us)
{
    char by[96], of[96];
    word_keys(peer, name, by, of);
    (void)pthread_mutex_lock(&s->lock);
    add_failure(s, by, PEER_FREE_TRIES, now_us);
    add_failure(s, of, FREE_TRIES, now_us);
    (void)pthread_mutex_unlock(&s->lock);
}

void tw_login_worked(sessions *s, const char *peer, const char *name)
{
    char by[96], of[96];
    word_keys(peer, name, by, of);
    (void)pthread_mutex_lock(&s->lock);
    for (size_t i = 0; i < FAILURES_MAX; i++)
        if (strcmp(s->failed[i].key, of) == 0)
            memset(&s->failed[i], 0, sizeof s->failed[i]);
    (void)pthread_mutex_unlock(&s->lock);
}
