/* Live pictures: taken from the camera's own thread while somebody looks, once however
 * many do. */
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "page.h"

#define BOUNDARY "tawny-picture"

enum { WAIT_S = 10 /* for a picture that does not come */ };

/* ---- cameras ---------------------------------------------------------------------- */

void tw_live_init(live *l, int64_t every_us)
{
    pthread_condattr_t attr;
    memset(l, 0, sizeof *l);
    l->every_us = every_us;
    (void)pthread_condattr_init(&attr);
    (void)pthread_condattr_setclock(&attr, CLOCK_MONOTONIC);
    (void)pthread_mutex_init(&l->lock, NULL);
    (void)pthread_cond_init(&l->came, &attr);
    (void)pthread_condattr_destroy(&attr);
}

void tw_live_end(live *l)
{
    (void)pthread_mutex_lock(&l->lock);
    l->ending = true;
    (void)pthread_cond_broadcast(&l->came);
    (void)pthread_mutex_unlock(&l->lock);
}

void tw_live_free(live *l)
{
    for (size_t i = 0; i < l->count; i++)
        free(l->all[i].jpeg);
    (void)pthread_cond_destroy(&l->came);
    (void)pthread_mutex_destroy(&l->lock);
}

/* Under the lock. @return NULL: there are too many. */
static view *view_of(live *l, const char *camera)
{
    for (size_t i = 0; i < l->count; i++)
        if (strcmp(l->all[i].name, camera) == 0)
            return &l->all[i];
    if (l->count == CAMERAS_MAX)
        return NULL;
    view *v = &l->all[l->count++];
    (void)snprintf(v->name, sizeof v->name, "%s", camera);
    return v;
}

/* Whether a frame is wanted now. */
static bool is_wanted(live *l, const char *camera, int64_t now_us)
{
    (void)pthread_mutex_lock(&l->lock);
    view *v = view_of(l, camera);
    const bool wanted = v && v->watching > 0 && now_us >= v->next_us && !l->ending;
    if (wanted)
        v->next_us = now_us + l->every_us;
    (void)pthread_mutex_unlock(&l->lock);
    return wanted;
}

void tw_live_event(live *l, const tw_event *event, int64_t now_us)
{
    uint8_t *jpeg = NULL;
    size_t bytes = 0;
    if (event->kind != TW_EVENT_READING || !is_wanted(l, event->camera, now_us) ||
        tw_event_picture(event, &jpeg, &bytes, NULL) != TW_OK)
        return;
    (void)pthread_mutex_lock(&l->lock);
    view *v = view_of(l, event->camera);
    if (v) {
        free(v->jpeg);
        v->jpeg = jpeg;
        v->bytes = bytes;
        v->number++;
        jpeg = NULL;
        (void)pthread_cond_broadcast(&l->came);
    }
    (void)pthread_mutex_unlock(&l->lock);
    free(jpeg);
}

/* ---- those who look --------------------------------------------------------------- */

/* One of them: what it has of the picture that it is being sent. */
typedef struct looker {
    live *live;
    view *view;
    uint64_t number; /* of the picture that it had last */
    char *part;      /* with its header; owned */
    size_t bytes, at;
} looker;

static void watch(view *v, int by)
{
    v->watching = (unsigned)((int)v->watching + by);
    if (v->watching == 0) { /* it would be old for the next one */
        free(v->jpeg);
        v->jpeg = NULL;
        v->next_us = 0;
    }
}

static void end_looker(void *ctx)
{
    looker *k = ctx;
    (void)pthread_mutex_lock(&k->live->lock);
    watch(k->view, -1);
    (void)pthread_mutex_unlock(&k->live->lock);
    free(k->part);
    free(k);
}

/* Under the lock: wait for a picture that it has not had. @return false: none came. */
static bool await_picture(looker *k)
{
    struct timespec until;
    (void)clock_gettime(CLOCK_MONOTONIC, &until);
    until.tv_sec += WAIT_S;
    int code = 0;
    while (code == 0 && !k->live->ending &&
           (!k->view->jpeg || k->view->number == k->number))
        code = pthread_cond_timedwait(&k->live->came, &k->live->lock, &until);
    return !k->live->ending && k->view->jpeg && k->view->number != k->number;
}

/* Its next part: one who is slow misses pictures, and holds nobody up. */
static bool next_part(looker *k)
{
    char head[128];
    free(k->part);
    k->part = NULL;
    (void)pthread_mutex_lock(&k->live->lock);
    const bool came = await_picture(k);
    if (came) {
        const int n = snprintf(head, sizeof head,
                               "--" BOUNDARY "\r\nContent-Type: image/jpeg\r\n"
                               "Content-Length: %zu\r\n\r\n",
                               k->view->bytes);
        k->bytes = (size_t)n + k->view->bytes + 2;
        k->part = malloc(k->bytes);
        if (k->part) {
            memcpy(k->part, head, (size_t)n);
            memcpy(k->part + n, k->view->jpeg, k->view->bytes);
            memcpy(k->part + k->bytes - 2, "\r\n", 2);
        }
        k->number = k->view->number;
        k->at = 0;
    }
    (void)pthread_mutex_unlock(&k->live->lock);
    return k->part != NULL;
}

static long read_looker(void *ctx, char *out, size_t room)
{
    looker *k = ctx;
    if ((!k->part || k->at == k->bytes) && !next_part(k))
        return -1;
    size_t n = k->bytes - k->at;
    if (n > room)
        n = room;
    memcpy(out, k->part + k->at, n);
    k->at += n;
    return (long)n;
}

/* @return NULL: there is no such place. */
static looker *begin_looker(live *l, const char *camera)
{
    looker *k = calloc(1, sizeof *k);
    if (!k)
        return NULL;
    k->live = l;
    (void)pthread_mutex_lock(&l->lock);
    k->view = view_of(l, camera);
    if (k->view)
        watch(k->view, 1);
    (void)pthread_mutex_unlock(&l->lock);
    if (k->view)
        return k;
    free(k);
    return NULL;
}

void tw_live_stream(live *l, const char *camera, tw_web_answer *out)
{
    looker *k = begin_looker(l, camera);
    if (!k) {
        out->status = 503;
        return;
    }
    *out = (tw_web_answer){.kind = TW_ANSWER_STREAM,
                           .status = 200,
                           .type = "multipart/x-mixed-replace; boundary=" BOUNDARY,
                           .read = read_looker,
                           .end = end_looker,
                           .ctx = k};
}

void tw_live_picture(live *l, const char *camera, tw_web_answer *out)
{
    looker *k = begin_looker(l, camera);
    uint8_t *copy = NULL;
    size_t bytes = 0;
    out->status = 503;
    if (!k)
        return;
    (void)pthread_mutex_lock(&l->lock);
    if (await_picture(k) && (copy = malloc(k->view->bytes)) != NULL) {
        bytes = k->view->bytes;
        memcpy(copy, k->view->jpeg, bytes);
    }
    (void)pthread_mutex_unlock(&l->lock);
    end_looker(k);
    if (copy)
        *out = (tw_web_answer){.status = 200,
                               .type = "image/jpeg",
                               .data = copy,
                               .bytes = bytes,
                               .owned = true};
}
