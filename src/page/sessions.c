/* Who is logged in, and who must wait after failing. */
#include <stdio.h>
#include <string.h>

#include "page_state.h"

#define IDLE_US (INT64_C(12) * 3600 * 1000000) /* then a session is over */
#define FORGET_US (INT64_C(3600) * 1000000)    /* so long failures count */
#define FIRST_US INT64_C(1000000)              /* wait after the third failure ... */
#define MOST_US (INT64_C(900) * 1000000)       /* ... doubled each time, up to this */

enum { FREE_TRIES = 3, PEER_FREE_TRIES = 10, KEY_BYTES = 128 };

/* ---- sessions --------------------------------------------------------------------- */

/* Under the lock. */
static session *find(sessions *s, const twi_web_module *web, const char *token)
{
    session *found = NULL;
    for (size_t i = 0; token && i < SESSIONS_MAX; i++) /* all: the time tells nothing */
        if (s->all[i].seen_us != 0 && web->same(s->all[i].token, token))
            found = &s->all[i];
    return found;
}

/* Under the lock: the oldest of an account that has as many as it may have, else the
 * place that was not used for longest: a free one, as long as there are accounts to all.
 */
static session *place_for(sessions *s, const char *name)
{
    session *oldest = &s->all[0], *own = NULL;
    size_t count = 0;
    for (size_t i = 0; i < SESSIONS_MAX; i++) {
        session *at = &s->all[i];
        if (at->seen_us < oldest->seen_us)
            oldest = at;
        if (at->seen_us == 0 || strcmp(at->name, name) != 0)
            continue;
        count++;
        if (!own || at->seen_us < own->seen_us)
            own = at;
    }
    return count >= SESSIONS_OF_ONE ? own : oldest;
}

void twi_session_begin(sessions *s, const twi_web_module *web, const account *who,
                       int64_t now_us, session *out)
{
    session made = {.seen_us = now_us};
    web->token(made.token);
    web->token(made.change);
    (void)snprintf(made.name, sizeof made.name, "%s", who->name);
    (void)snprintf(made.hash, sizeof made.hash, "%s", who->hash);
    (void)pthread_mutex_lock(&s->lock);
    *place_for(s, who->name) = made;
    (void)pthread_mutex_unlock(&s->lock);
    *out = made;
}

bool twi_session_find(sessions *s, const twi_web_module *web, const char *token,
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

void twi_session_end(sessions *s, const twi_web_module *web, const char *token)
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

/* Where somebody is. One who has IPv6 has all the addresses of its network, which is the
 * first half. */
static void word_place(const char *peer, char out[64])
{
    unsigned groups = 0;
    size_t n = 0;
    const bool six = strchr(peer, ':') && !strchr(peer, '.');
    for (; peer[n] && n < 63 && !(six && groups == 4); n++)
        groups += peer[n] == ':';
    (void)snprintf(out, 64, "%.*s", (int)n, peer);
}

/* By name and address together: whoever guesses somebody's password shuts himself out,
 * and not him. */
static void word_keys(const char *peer, const char *name, char by[KEY_BYTES],
                      char of[KEY_BYTES])
{
    char place[64];
    word_place(peer, place);
    (void)snprintf(by, KEY_BYTES, "by %s", place);
    (void)snprintf(of, KEY_BYTES, "of %.40s by %s", name, place);
}

/* Under the lock. */
static int64_t wait_of(sessions *s, const char *key, int64_t now_us)
{
    const failure *f = failure_of(s, key, now_us);
    return f && f->until_us > now_us ? f->until_us - now_us : 0;
}

/* Under the lock: how long nothing is tried after so many. */
static void set_wait(failure *f, unsigned free_tries)
{
    int64_t wait_us = 0;
    if (f->count >= free_tries) {
        wait_us = FIRST_US;
        for (unsigned i = free_tries; i < f->count && wait_us < MOST_US; i++)
            wait_us *= 2;
    }
    f->until_us = f->last_us + (wait_us < MOST_US ? wait_us : MOST_US);
}

/* Under the lock. */
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
    set_wait(f, free_tries);
}

int64_t twi_login_begin(sessions *s, const char *peer, const char *name, bool known,
                        int64_t now_us)
{
    char by[KEY_BYTES], of[KEY_BYTES];
    word_keys(peer, name, by, of);
    (void)pthread_mutex_lock(&s->lock);
    const int64_t one_us = wait_of(s, by, now_us), other_us = wait_of(s, of, now_us);
    int64_t wait_us = known ? 0 : one_us > other_us ? one_us : other_us;
    if (wait_us == 0 && s->waiting == LOGINS_MAX)
        wait_us = FIRST_US;
    if (wait_us == 0) { /* before it is checked: others may ask at the same time */
        s->waiting++;
        add_failure(s, by, PEER_FREE_TRIES, now_us);
        add_failure(s, of, FREE_TRIES, now_us);
    }
    (void)pthread_mutex_unlock(&s->lock);
    if (wait_us == 0)
        (void)pthread_mutex_lock(&s->checking);
    return wait_us;
}

/* Under the lock: take back one failure, or all of a key. */
static void forgive(sessions *s, const char *key, unsigned free_tries, bool all)
{
    for (size_t i = 0; i < FAILURES_MAX; i++) {
        failure *f = &s->failed[i];
        if (f->count == 0 || strcmp(f->key, key) != 0)
            continue;
        if (all || --f->count == 0)
            memset(f, 0, sizeof *f);
        else
            set_wait(f, free_tries);
    }
}

void twi_login_end(sessions *s, const char *peer, const char *name, bool worked)
{
    char by[KEY_BYTES], of[KEY_BYTES];
    word_keys(peer, name, by, of);
    (void)pthread_mutex_unlock(&s->checking);
    (void)pthread_mutex_lock(&s->lock);
    s->waiting--;
    if (worked) {
        forgive(s, of, FREE_TRIES, true);
        forgive(s, by, PEER_FREE_TRIES, false);
    }
    (void)pthread_mutex_unlock(&s->lock);
}
