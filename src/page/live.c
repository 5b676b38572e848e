/* Live pictures: taken from the camera's own thread while somebody looks, once however
 * many do. */
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "../json/json.h"
#include "page_state.h"
#include "../core/naming.h"
#include "tawny/draw.h"
#include "tawny/events.h"
#include "../base/thread.h"

#define ASK_AGAIN_US INT64_C(3000000)
#define BOUNDARY "tawny-picture"

enum {
    WAIT_S = 10,         /* for a picture that does not come */
    LINGER_US = 1500000, /* between two pictures that somebody asks for he still looks */
    STALE_US = 3000000   /* older than that it is not live any more */
};

/* ---- cameras ---------------------------------------------------------------------- */

void twi_live_init(live *l, int64_t every_us, tw_clock clock)
{
    memset(l, 0, sizeof *l);
    l->every_us = every_us;
    l->clock = clock;
    (void)pthread_mutex_init(&l->lock, NULL);
    twi_cond_init(&l->came);
}

void twi_live_pace(live *l, int64_t every_us)
{
    (void)pthread_mutex_lock(&l->lock);
    l->every_us = every_us;
    (void)pthread_mutex_unlock(&l->lock);
}

void twi_live_end(live *l)
{
    (void)pthread_mutex_lock(&l->lock);
    l->ending = true;
    (void)pthread_cond_broadcast(&l->came);
    (void)pthread_mutex_unlock(&l->lock);
}

void twi_live_free(live *l)
{
    for (size_t i = 0; i < l->count; i++) {
        free(l->all[i]->jpeg);
        free(l->all[i]);
    }
    (void)pthread_cond_destroy(&l->came);
    (void)pthread_mutex_destroy(&l->lock);
}

static int64_t now_of(const live *l)
{
    return l->clock.ops->now_us(l->clock.ctx);
}

/* Under the lock. */
static bool is_looked_at(const view *v, int64_t now_us)
{
    return v->watching > 0 || now_us < v->until_us;
}

/* Under the lock: a new one, or that of a camera at which nobody looks any more. */
static view *free_view(live *l)
{
    view *v = NULL;
    for (size_t i = 0; l->count == CAMERAS_MAX && i < l->count; i++)
        if (!is_looked_at(l->all[i], now_of(l)))
            v = l->all[i];
    if (v) {
        free(v->jpeg);
        memset(v, 0, sizeof *v);
    } else if (l->count < CAMERAS_MAX && (v = calloc(1, sizeof *v)))
        l->all[l->count++] = v;
    return v;
}

/* Under the lock. @return NULL: there is none. */
static view *find_view(live *l, const char *camera)
{
    for (size_t i = 0; i < l->count; i++)
        if (strcmp(l->all[i]->name, camera) == 0)
            return l->all[i];
    return NULL;
}

/* Under the lock. @return NULL: there are too many. */
static view *view_of(live *l, const char *camera)
{
    view *v = find_view(l, camera);
    if (v)
        return v;
    v = strlen(camera) < sizeof v->name ? free_view(l) : NULL;
    if (v)
        (void)snprintf(v->name, sizeof v->name, "%s", camera);
    return v;
}

/* Where nobody looks any more, the last one goes. */
bool twi_live_wants(live *l, const char *camera)
{
    bool wanted = false;
    const int64_t now_us = now_of(l);
    (void)pthread_mutex_lock(&l->lock);
    view *v = view_of(l, camera);
    if (v && is_looked_at(v, now_us)) {
        wanted = now_us >= v->next_us && !l->ending;
        if (wanted)
            v->next_us = now_us + l->every_us;
    } else if (v) {
        free(v->jpeg);
        v->jpeg = NULL;
    }
    (void)pthread_mutex_unlock(&l->lock);
    return wanted;
}

static void keep_reading(view *v, const tw_event *event)
{
    const tw_grid *g = &event->reading->grid;
    const size_t cells = (size_t)g->columns * g->rows;
    v->reading = *event->reading;
    v->reading.cells = v->cells;
    v->state = event->state;
    v->wall_us = event->wall_us;
    memset(v->cells, 0, sizeof v->cells);
    if (event->reading->cells && cells <= sizeof v->cells)
        memcpy(v->cells, event->reading->cells, cells);
}

/* Under the lock. @param jpeg  Taken over. */
static void put_picture(live *l, view *v, uint8_t *jpeg, size_t bytes)
{
    free(v->jpeg);
    v->jpeg = jpeg;
    v->bytes = bytes;
    v->taken_us = now_of(l);
    v->number++;
    (void)pthread_cond_broadcast(&l->came);
}

void twi_page_show(twi_page *p, const char *camera, const void *jpeg, size_t bytes)
{
    live *l = &p->live;
    (void)pthread_mutex_lock(&l->lock);
    view *v = find_view(l, camera); /* where nobody looks there is none to make */
    uint8_t *copy = v && is_looked_at(v, now_of(l)) ? malloc(bytes) : NULL;
    if (copy) {
        memcpy(copy, jpeg, bytes);
        put_picture(l, v, copy, bytes);
    }
    (void)pthread_mutex_unlock(&l->lock);
}

size_t twi_page_looked_at(twi_page *p, char names[][TWI_PAGE_CAMERA], size_t most)
{
    live *l = &p->live;
    size_t count = 0;
    (void)pthread_mutex_lock(&l->lock);
    for (size_t i = 0; i < l->count && count < most; i++)
        if (is_looked_at(l->all[i], now_of(l)))
            (void)snprintf(names[count++], TWI_PAGE_CAMERA, "%s", l->all[i]->name);
    (void)pthread_mutex_unlock(&l->lock);
    return count;
}

void twi_live_event(live *l, const tw_event *event)
{
    uint8_t *jpeg = NULL;
    size_t bytes = 0;
    if (event->kind != TW_EVENT_READING || !event->frame ||
        tw_event_picture(event, &jpeg, &bytes, NULL) != TW_OK)
        return;
    (void)pthread_mutex_lock(&l->lock);
    view *v = view_of(l, event->camera);
    if (v) {
        keep_reading(v, event);
        put_picture(l, v, jpeg, bytes);
        jpeg = NULL;
    }
    (void)pthread_mutex_unlock(&l->lock);
    free(jpeg);
}

/* ---- those who look --------------------------------------------------------------- */

/* One of them: what it has of the picture that it is being sent. */
typedef struct viewer {
    live *live;
    view *view;
    uint64_t number; /* of the picture that it had last */
    char *part;      /* with its header; owned */
    size_t bytes, at;
    /* Of a stream, which goes on for as long as who asked for it may look: */
    twi_page *page;
    char token[TWI_TOKEN_BYTES]; /* of the session; "" none */
    int64_t asked_us;            /* when that was looked up last */
} viewer;

/* @return false: there is no such place. */
static bool begin_check(live *l, const char *camera, uint64_t after, viewer *k)
{
    memset(k, 0, sizeof *k);
    k->live = l;
    k->number = after;
    (void)pthread_mutex_lock(&l->lock);
    k->view = view_of(l, camera);
    if (k->view)
        k->view->watching++;
    (void)pthread_mutex_unlock(&l->lock);
    return k->view != NULL;
}

static void end_check(viewer *k)
{
    (void)pthread_mutex_lock(&k->live->lock);
    k->view->watching--;
    k->view->until_us = now_of(k->live) + LINGER_US;
    (void)pthread_mutex_unlock(&k->live->lock);
    free(k->part);
}

/* Under the lock. */
static bool has_come(const viewer *k)
{
    return k->view->jpeg && k->view->number != k->number &&
           now_of(k->live) - k->view->taken_us < STALE_US;
}

/* Under the lock: wait for a picture that it has not had. @return false: none came. */
static bool await_picture(viewer *k)
{
    const struct timespec until = twi_deadline(INT64_C(1000000) * WAIT_S);
    int code = 0;
    while (code == 0 && !k->live->ending && !has_come(k))
        code = pthread_cond_timedwait(&k->live->came, &k->live->lock, &until);
    return !k->live->ending && has_come(k);
}

/* Its next part: one who is slow misses pictures, and holds nobody up. */
static bool next_part(viewer *k)
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

/* Whether who looks on may still do so. */
static bool may_go_on(viewer *k)
{
    const int64_t now_us = now_of(k->live);
    if (now_us - k->asked_us < ASK_AGAIN_US)
        return true;
    k->asked_us = now_us;
    return twi_page_may_look(k->page, k->token);
}

static long read_viewer(void *ctx, char *out, size_t room)
{
    viewer *k = ctx;
    if (!may_go_on(k))
        return -1;
    if ((!k->part || k->at == k->bytes) && !next_part(k))
        return -1;
    size_t n = k->bytes - k->at;
    if (n > room)
        n = room;
    memcpy(out, k->part + k->at, n);
    k->at += n;
    return (long)n;
}

static void end_viewer(void *ctx)
{
    end_check(ctx);
    free(ctx);
}

static void answer_stream(twi_page *p, const char *camera, const char *token,
                          twi_web_answer *out)
{
    viewer *k = malloc(sizeof *k);
    if (!k || !begin_check(&p->live, camera, 0, k)) {
        free(k);
        out->status = 503;
        return;
    }
    k->page = p;
    k->asked_us = now_of(&p->live);
    (void)snprintf(k->token, sizeof k->token, "%s", token ? token : "");
    *out = (twi_web_answer){.kind = TWI_ANSWER_STREAM,
                            .status = 200,
                            .type = "multipart/x-mixed-replace; boundary=" BOUNDARY,
                            .read = read_viewer,
                            .end = end_viewer,
                            .ctx = k};
}

/* The picture that is newer, and what was read in it. @param what  May be NULL.
 * @return a copy, the caller's; NULL: none came. */
static uint8_t *copy_picture(live *l, const char *camera, uint64_t after, size_t *bytes,
                             uint64_t *number, view *what)
{
    viewer k;
    uint8_t *copy = NULL;
    if (!begin_check(l, camera, after, &k))
        return NULL;
    (void)pthread_mutex_lock(&l->lock);
    if (await_picture(&k) && (copy = malloc(k.view->bytes)) != NULL) {
        *bytes = k.view->bytes;
        *number = k.view->number;
        memcpy(copy, k.view->jpeg, *bytes);
        if (what)
            *what = *k.view;
    }
    (void)pthread_mutex_unlock(&l->lock);
    end_check(&k);
    return copy;
}

static void answer_picture(live *l, const char *camera, uint64_t after,
                           twi_web_answer *out)
{
    size_t bytes = 0;
    uint64_t number = 0;
    uint8_t *copy = copy_picture(l, camera, after, &bytes, &number, NULL);
    if (!copy) {
        twi_answer_error(503, "no picture has come", out);
        return;
    }
    *out = (twi_web_answer){
        .status = 200, .type = "image/jpeg", .data = copy, .bytes = bytes, .owned = true};
    (void)snprintf(out->tag, sizeof out->tag, "%llu", (unsigned long long)number);
}

/* ---- what was read ---------------------------------------------------------------- */

/* One letter for each cell, row by row: what it showed, or what took it away. */
static char message_of(uint8_t cell)
{
    static const struct {
        uint8_t bit;
        char letter;
    } all[] = {{TW_CELL_COUNTED, 'm'}, {TW_CELL_TRAVEL, 't'}, {TW_CELL_SIZE, 's'},
               {TW_CELL_MOVING, 'i'},  {TW_CELL_LIGHT, 'l'},  {TW_CELL_SWAY, 'w'},
               {TW_CELL_SHAKE, 'k'}};
    for (size_t i = 0; i < sizeof all / sizeof *all; i++)
        if (cell & all[i].bit)
            return all[i].letter;
    return cell & TW_CELL_WATCHED ? '.' : 'x';
}

static json_t *describe_cells(const view *v)
{
    char text[CELLS_MAX + 1];
    const size_t cells = (size_t)v->reading.grid.columns * v->reading.grid.rows;
    size_t n = 0;
    for (; n < cells && n < CELLS_MAX; n++)
        text[n] = message_of(v->cells[n]);
    text[n] = '\0';
    return json_string(text);
}

static json_t *describe_blob(const tw_blob *b)
{
    return json_pack("{sf sf sf sf sf sf sb}", "left", b->left_ppm / 1e4, "top",
                     b->top_ppm / 1e4, "right", b->right_ppm / 1e4, "bottom",
                     b->bottom_ppm / 1e4, "size", b->size_ppm / 1e4, "travel",
                     b->travel_ppm / 1e4, "counted", b->counted);
}

static json_t *describe_grid(const tw_grid *g)
{
    return json_pack("{si si si si si}", "columns", g->columns, "rows", g->rows,
                     "cell_px", g->cell_px, "width", g->width, "height", g->height);
}

static json_t *describe_reading(const view *v)
{
    const tw_reading *r = &v->reading;
    char time[TWI_UTC_MAX];
    json_t *o = twi_json_reading(r, v->state, NULL), *seen = json_array();
    for (uint16_t i = 0; i < r->blob_count; i++)
        (void)json_array_append_new(seen, describe_blob(&r->blob[i]));
    (void)json_object_set_new(o, "picture", json_integer((json_int_t)v->number));
    (void)json_object_set_new(o, "time", json_string(twi_utc(v->wall_us, time)));
    (void)json_object_set_new(o, "whole_picture", json_boolean(r->whole_picture));
    (void)json_object_set_new(o, "seen", seen);
    (void)json_object_set_new(o, "grid", describe_grid(&r->grid));
    (void)json_object_set_new(o, "cells", describe_cells(v));
    return o;
}

/* Of a part of the full picture; -1: it cannot be told. */
static double sharpness_of(const uint8_t *jpeg, size_t bytes, const tw_blob *box)
{
    uint32_t q8 = 0;
    return tw_picture_sharpness(jpeg, bytes, box, &q8, NULL) == TW_OK ? q8 / 256.0 : -1;
}

static void answer_reading(live *l, const char *camera, const tw_blob *box,
                           twi_web_answer *out)
{
    size_t bytes = 0;
    uint64_t number = 0;
    view *v = malloc(sizeof *v);
    uint8_t *jpeg = v ? copy_picture(l, camera, 0, &bytes, &number, v) : NULL;
    if (jpeg) {
        json_t *o = describe_reading(v);
        if (box)
            (void)json_object_set_new(o, "sharpness",
                                      json_real(sharpness_of(jpeg, bytes, box)));
        twi_answer_json(o, 200, out);
    } else {
        twi_answer_error(503, "no picture has come", out);
    }
    free(jpeg);
    free(v);
}

/* ---- what is asked ---------------------------------------------------------------- */

void twi_show_stream(twi_page *p, const twi_asked *r, const char *camera,
                     twi_web_answer *out)
{
    if (twi_page_has_camera(p, camera))
        answer_stream(p, camera, p->web->cookie(r->call, TWI_COOKIE), out);
    else
        twi_answer_error(404, "there is no such camera", out);
}

void twi_answer_picture(twi_page *p, const twi_asked *r, const char *camera,
                        twi_web_answer *out)
{
    const char *after = p->web->query(r->call, "after");
    answer_picture(&p->live, camera, after ? strtoull(after, NULL, 10) : 0, out);
}

void twi_show_picture(twi_page *p, const twi_asked *r, const char *camera,
                      twi_web_answer *out)
{
    if (twi_page_has_camera(p, camera))
        twi_answer_picture(p, r, camera, out);
    else
        twi_answer_error(404, "there is no such camera", out);
}

/* "left,top,right,bottom" in percent. */
static bool read_box(const char *text, tw_blob *box)
{
    double side[4] = {0};
    memset(box, 0, sizeof *box);
    if (!text ||
        sscanf(text, "%lf,%lf,%lf,%lf", &side[0], &side[1], &side[2], &side[3]) != 4)
        return false;
    for (int i = 0; i < 4; i++)
        if (!(side[i] >= 0 && side[i] <= 100))
            return false;
    box->left_ppm = (int32_t)(side[0] * 1e4);
    box->top_ppm = (int32_t)(side[1] * 1e4);
    box->right_ppm = (int32_t)(side[2] * 1e4);
    box->bottom_ppm = (int32_t)(side[3] * 1e4);
    return true;
}

void twi_show_reading(twi_page *p, const twi_asked *r, const char *camera,
                      twi_web_answer *out)
{
    tw_blob box;
    const char *text = p->web->query(r->call, "sharp");
    const bool boxed = read_box(text, &box);
    if (!twi_page_has_camera(p, camera))
        twi_answer_error(404, "there is no such camera", out);
    else if (text && !boxed)
        twi_answer_error(400, "sharp is left,top,right,bottom in percent", out);
    else
        answer_reading(&p->live, camera, boxed ? &box : NULL, out);
}
