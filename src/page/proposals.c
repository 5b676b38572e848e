/* What marks tell of the settings: learnt by the program that the page is part of. */
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../base/thread.h"
#include "page_state.h"

enum { LINE_MAX = 65536, LINES_MAX = 20000 };

void twi_proposals_init(proposing *p)
{
    (void)pthread_mutex_init(&p->lock, NULL);
}

/* ---- in the thread ----------------------------------------------------------------- */

static void *learn(void *ctx)
{
    twi_page *page = ctx;
    proposing *p = &page->proposing;
    char *lines = NULL;
    tw_error err = {0};
    const tw_status st =
        page->host.propose(page->host.ctx, p->camera, &p->stop, &lines, &err);
    (void)pthread_mutex_lock(&p->lock);
    if (st != TW_OK && err.text[0] == '\0')
        (void)tw_fail(&err, st, "there is no proposal");
    p->lines = lines;
    p->err = err;
    p->running = false;
    (void)pthread_mutex_unlock(&p->lock);
    return NULL;
}

/* Under the lock; the thread has ended, or never began. */
static void forget(proposing *p)
{
    if (p->started)
        (void)pthread_join(p->thread, NULL);
    p->started = false;
    free(p->lines);
    p->lines = NULL;
    p->err = (tw_error){0};
    __atomic_store_n(&p->stop, 0, __ATOMIC_RELAXED);
}

/* @return TW_OK; TW_EAGAIN: one is being made. */
static tw_status begin(twi_page *page, const char *camera)
{
    proposing *p = &page->proposing;
    tw_status st = TW_EAGAIN;
    (void)pthread_mutex_lock(&p->lock);
    if (!p->running) {
        forget(p);
        (void)snprintf(p->camera, sizeof p->camera, "%s", camera);
        p->begun_us = twi_page_now(page);
        p->running = p->started = twi_thread_start(&p->thread, learn, page);
        st = p->started ? TW_OK : TW_ENOMEM;
    }
    (void)pthread_mutex_unlock(&p->lock);
    return st;
}

void twi_proposals_end(twi_page *page)
{
    proposing *p = &page->proposing;
    __atomic_store_n(&p->stop, 1, __ATOMIC_RELAXED);
    if (p->started)
        (void)pthread_join(p->thread, NULL);
    p->started = false;
    free(p->lines);
    (void)pthread_mutex_destroy(&p->lock);
}

/* ---- what is told ------------------------------------------------------------------ */

/* One object of what came of it: marks, and what is proposed. */
static void take_object(json_t *o, json_t *answer, json_t *marks)
{
    static const char *const counts[] = {"found", "events", "false"};
    const char *type = json_string_value(json_object_get(o, "type"));
    const bool proposed = type && strcmp(type, "proposed") == 0;
    if (type && strcmp(type, "mark") == 0) {
        (void)json_object_del(o, "type");
        (void)json_array_append(marks, o);
    }
    for (size_t i = 0; proposed && i < sizeof counts / sizeof *counts; i++)
        (void)json_object_set(answer, counts[i], json_object_get(o, counts[i]));
    if (proposed)
        (void)json_object_set(answer, "changes", json_object_get(o, "changes"));
}

static void take_lines(const char *text, json_t *answer)
{
    json_t *marks = json_array();
    for (int i = 0; text && *text && i < LINES_MAX; i++) {
        const size_t n = strcspn(text, "\n");
        json_t *o = n < LINE_MAX ? json_loadb(text, n, 0, NULL) : NULL;
        take_object(o, answer, marks);
        json_decref(o);
        text += n + (text[n] == '\n');
    }
    (void)json_object_set_new(answer, "marks", marks);
}

void twi_show_proposal(twi_page *p, const twi_asked *r, const char *rest,
                       twi_web_answer *out)
{
    proposing *g = &p->proposing;
    json_t *o = json_object();
    (void)r;
    (void)rest;
    (void)pthread_mutex_lock(&g->lock);
    const char *state = g->running      ? "running"
                        : !g->camera[0] ? "none"
                        : g->lines      ? "done"
                                        : "failed";
    (void)json_object_set_new(o, "able", json_boolean(p->host.propose != NULL));
    (void)json_object_set_new(o, "state", json_string(state));
    (void)json_object_set_new(o, "camera", json_string(g->camera));
    if (g->running)
        (void)json_object_set_new(
            o, "seconds", json_integer((twi_page_now(p) - g->begun_us) / 1000000));
    else if (g->lines)
        take_lines(g->lines, o);
    else if (g->err.text[0])
        (void)json_object_set_new(o, "why", json_string(g->err.text));
    (void)pthread_mutex_unlock(&g->lock);
    twi_answer_json(o, 200, out);
}

void twi_make_proposal(twi_page *p, const twi_asked *r, const char *rest,
                       twi_web_answer *out)
{
    json_t *asked = twi_body_of(r);
    const char *camera = json_string_value(json_object_get(asked, "camera"));
    (void)rest;
    if (json_is_true(json_object_get(asked, "stop"))) {
        __atomic_store_n(&p->proposing.stop, 1, __ATOMIC_RELAXED);
        twi_answer_json(json_pack("{sb}", "done", true), 200, out);
    } else if (!p->host.propose) {
        twi_answer_error(404, "this station proposes nothing", out);
    } else if (!camera || !twi_page_has_camera(p, camera)) {
        twi_answer_error(404, "there is no such camera", out);
    } else {
        const tw_status st = begin(p, camera);
        if (st == TW_EAGAIN)
            twi_answer_error(429, "a proposal is being made: wait for it, or stop it",
                             out);
        else
            twi_answer_status(st, "", &(tw_error){0}, out);
    }
    json_decref(asked);
}
