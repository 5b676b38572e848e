/* Copies of events, shared by the queues of all who take them. */
#include "feed.h"

#include <pthread.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>

#include "../base/thread.h"
#include "tawny/events.h"
#include "tawny/settings.h"

enum {
    SUBSCRIBERS_MAX = 16,
    READINGS_MAX = 64, /* that wait for a subscriber */
    OTHERS_MAX = 8192  /* what is not a reading: hours of it, for one who has hung up */
};

/* An event with all that it points to. */
typedef struct note {
    atomic_uint holders;
    tw_event event;
    tw_stream stream;
    tw_reading reading;
    tw_sighting sighting;
    tw_luma luma;
    struct tw_event_frame frame;
    tw_settings *settings; /* NULL: none came with it */
    twi_buffer *picture;   /* a JPEG; NULL: none was wanted, or there is none */
    uint8_t more[];        /* texts, cells and the luma plane */
} note;

typedef struct entry {
    struct entry *next;
    note *note;
} entry;

typedef struct subscriber {
    tw_subscriber who;
    pthread_t thread;
    bool started;
    pthread_mutex_t lock;
    pthread_cond_t came, went;
    entry *first, *last;
    size_t readings, others; /* that wait */
    uint64_t missed;         /* readings, so far */
    uint64_t refused;        /* of all else */
    bool inside;             /* it is being told something */
    bool gone;
    bool ending;
} subscriber;

struct twi_feed {
    subscriber all[SUBSCRIBERS_MAX];
    size_t count;
};

/* ---- notes ------------------------------------------------------------------------ */

static void release(note *n)
{
    if (atomic_fetch_sub(&n->holders, 1) > 1)
        return;
    tw_settings_free(n->settings);
    twi_buffer_unref(n->picture);
    free(n);
}

static size_t text_bytes(const char *text)
{
    return text ? strlen(text) + 1 : 0;
}

static const char *codec_of(const tw_event *e)
{
    return e->stream ? e->stream->codec_name : NULL;
}

static size_t cell_bytes(const tw_event *e)
{
    if (!e->reading || !e->reading->cells)
        return 0;
    return (size_t)e->reading->grid.columns * e->reading->grid.rows;
}

static size_t luma_bytes(const tw_event *e)
{
    return e->luma ? (size_t)e->luma->width * e->luma->height : 0;
}

/* Put bytes where there is room for them. @return where they are; NULL: there are none.
 */
static void *put(uint8_t **at, const void *from, size_t bytes)
{
    if (bytes == 0)
        return NULL;
    void *put_at = memcpy(*at, from, bytes);
    *at += bytes;
    return put_at;
}

static void put_luma(note *n, uint8_t **at, const tw_luma *from)
{
    uint8_t *px = *at;
    for (uint16_t y = 0; y < from->height; y++)
        (void)put(at, from->px + (size_t)y * from->stride, from->width);
    n->luma = (tw_luma){px, from->width, from->width, from->height};
    n->event.luma = &n->luma;
}

static twi_buffer *picture_of(void *ctx, tw_error *err)
{
    const note *n = ctx;
    (void)err;
    return twi_buffer_ref(n->picture);
}

static void put_structs(note *n, const tw_event *e)
{
    n->event = *e;
    if (e->stream) {
        n->stream = *e->stream;
        n->stream.extra = NULL; /* what decoders need is the camera's */
        n->stream.extra_size = 0;
        n->event.stream = &n->stream;
    }
    if (e->reading) {
        n->reading = *e->reading;
        n->event.reading = &n->reading;
    }
    if (e->sighting) {
        n->sighting = *e->sighting;
        n->event.sighting = &n->sighting;
    }
}

/* @param whole  With luma and picture. @return NULL: out of memory. */
static note *copy(const tw_event *e, bool whole)
{
    const size_t cells = cell_bytes(e), luma = whole ? luma_bytes(e) : 0;
    note *n = calloc(1, sizeof *n + text_bytes(e->camera) + text_bytes(e->file) +
                            text_bytes(e->text) + text_bytes(codec_of(e)) + cells + luma);
    if (!n)
        return NULL;
    atomic_init(&n->holders, 1);
    put_structs(n, e);
    uint8_t *at = n->more;
    n->event.camera = put(&at, e->camera, text_bytes(e->camera));
    n->event.file = put(&at, e->file, text_bytes(e->file));
    n->event.text = put(&at, e->text, text_bytes(e->text));
    n->stream.codec_name = put(&at, codec_of(e), text_bytes(codec_of(e)));
    if (e->reading)
        n->reading.cells = put(&at, e->reading->cells, cells);
    n->event.luma = NULL;
    n->event.frame = NULL;
    if (e->settings)
        n->event.settings = n->settings = tw_settings_copy(e->settings);
    if (luma > 0)
        put_luma(n, &at, e->luma);
    if (whole && e->frame)
        n->picture = e->frame->picture(e->frame->ctx, NULL);
    if (n->picture) {
        n->frame = (struct tw_event_frame){picture_of, n};
        n->event.frame = &n->frame;
    }
    return n;
}

tw_status tw_event_picture(const tw_event *event, uint8_t **out, size_t *bytes,
                           tw_error *err)
{
    if (!event || !event->frame || !out || !bytes)
        return tw_fail(err, TW_EINVAL, "this event has no picture");
    tw_error why = {0};
    twi_buffer *picture = event->frame->picture(event->frame->ctx, &why);
    if (!picture)
        return tw_fail(err, why.status != TW_OK ? why.status : TW_EDAMAGED, "%s",
                       why.text);
    *bytes = picture->size;
    *out = malloc(picture->size);
    if (*out)
        memcpy(*out, picture->data, picture->size);
    twi_buffer_unref(picture);
    return *out ? TW_OK : tw_fail(err, TW_ENOMEM, "out of memory");
}

/* ---- queues ------------------------------------------------------------------------ */

static bool is_reading(const note *n)
{
    return n->event.kind == TW_EVENT_READING;
}

/* Under the lock. */
static bool has_room(const subscriber *s, bool reading)
{
    return reading ? s->readings < READINGS_MAX : s->others < OTHERS_MAX;
}

static void append(subscriber *s, note *n, bool patient)
{
    const bool reading = is_reading(n);
    entry *made = malloc(sizeof *made);
    (void)pthread_mutex_lock(&s->lock);
    while (patient && !s->ending && !s->gone && !has_room(s, reading))
        (void)pthread_cond_wait(&s->went, &s->lock);
    if (made && !s->gone && has_room(s, reading)) {
        (void)atomic_fetch_add(&n->holders, 1);
        *made = (entry){NULL, n};
        *(s->last ? &s->last->next : &s->first) = made;
        s->last = made;
        s->readings += reading;
        s->others += !reading;
        made = NULL;
        (void)pthread_cond_signal(&s->came);
    } else if (!s->gone) {
        s->missed += reading;
        s->refused += !reading;
    }
    (void)pthread_mutex_unlock(&s->lock);
    free(made);
}

/* Under the lock. @return the oldest, NULL: there is none. */
static note *take(subscriber *s)
{
    entry *e = s->first;
    if (!e)
        return NULL;
    note *n = e->note;
    s->first = e->next;
    if (!s->first)
        s->last = NULL;
    s->readings -= is_reading(n);
    s->others -= !is_reading(n);
    free(e);
    (void)pthread_cond_broadcast(&s->went);
    return n;
}

static void tell(const subscriber *s, const note *n, uint64_t missed, uint64_t refused)
{
    tw_event event = n->event; /* others are handed the same note */
    event.missed_readings = missed;
    event.missed_others = refused;
    s->who.callback(s->who.ctx, &event);
}

/* Hand one out, under no lock. @return false: there is none, and none will come. */
static bool hand_out(subscriber *s, bool wait)
{
    (void)pthread_mutex_lock(&s->lock);
    while (wait && !s->first && !s->ending)
        (void)pthread_cond_wait(&s->came, &s->lock);
    note *n = take(s);
    const uint64_t missed = s->missed, refused = s->refused;
    s->inside = n != NULL;
    (void)pthread_mutex_unlock(&s->lock);
    if (!n)
        return false;
    tell(s, n, missed, refused);
    release(n);
    (void)pthread_mutex_lock(&s->lock);
    s->inside = false;
    (void)pthread_cond_broadcast(&s->went);
    (void)pthread_mutex_unlock(&s->lock);
    return true;
}

/* When this returns it is told nothing any more. */
static void let_go(subscriber *s)
{
    note *n;
    (void)pthread_mutex_lock(&s->lock);
    s->gone = true;
    while ((n = take(s)) != NULL)
        release(n);
    while (s->inside)
        (void)pthread_cond_wait(&s->went, &s->lock);
    (void)pthread_cond_broadcast(&s->went);
    (void)pthread_mutex_unlock(&s->lock);
}

static void *work(void *ctx)
{
    while (hand_out(ctx, true))
        continue;
    return NULL;
}

/* ---- the feed ---------------------------------------------------------------------- */

twi_feed *twi_feed_new(void)
{
    return calloc(1, sizeof(twi_feed));
}

tw_status twi_feed_add(twi_feed *feed, const tw_subscriber *who)
{
    if (!feed || !who || !who->callback)
        return TW_EINVAL;
    if (feed->count == SUBSCRIBERS_MAX)
        return TW_ESIZE;
    subscriber *s = &feed->all[feed->count++];
    *s = (subscriber){.who = *who};
    (void)pthread_mutex_init(&s->lock, NULL);
    (void)pthread_cond_init(&s->came, NULL);
    (void)pthread_cond_init(&s->went, NULL);
    return TW_OK;
}

void twi_feed_remove(twi_feed *feed, const void *ctx)
{
    for (size_t i = 0; i < feed->count; i++)
        if (feed->all[i].who.ctx == ctx)
            let_go(&feed->all[i]);
}

tw_status twi_feed_start(twi_feed *feed)
{
    for (size_t i = 0; i < feed->count; i++) {
        subscriber *s = &feed->all[i];
        s->started = twi_thread_start(&s->thread, work, s);
        if (!s->started)
            return TW_ENOMEM;
    }
    return TW_OK;
}

/* Whether a subscriber takes an event. @param whole  Set where it wants its picture. */
static bool takes(subscriber *s, const tw_event *e, bool *whole)
{
    (void)pthread_mutex_lock(&s->lock);
    const bool gone = s->gone;
    (void)pthread_mutex_unlock(&s->lock);
    if (gone)
        return false;
    if (e->kind != TW_EVENT_READING)
        return true;
    const bool wanted = s->who.wants && s->who.wants(s->who.ctx, e->camera);
    *whole = *whole || wanted;
    return wanted || s->who.readings;
}

void twi_feed_give(twi_feed *feed, const tw_event *event, bool patient)
{
    bool taken[SUBSCRIBERS_MAX] = {false}, any = false, whole = false;
    for (size_t i = 0; i < feed->count; i++) {
        taken[i] = takes(&feed->all[i], event, &whole);
        any = any || taken[i];
    }
    note *n = any ? copy(event, whole) : NULL;
    if (!n)
        return;
    for (size_t i = 0; i < feed->count; i++)
        if (taken[i])
            append(&feed->all[i], n, patient);
    release(n);
}

void twi_feed_finish(twi_feed *feed)
{
    for (size_t i = 0; i < feed->count; i++) {
        subscriber *s = &feed->all[i];
        (void)pthread_mutex_lock(&s->lock);
        s->ending = true;
        (void)pthread_cond_signal(&s->came);
        (void)pthread_cond_broadcast(&s->went);
        (void)pthread_mutex_unlock(&s->lock);
    }
    for (size_t i = 0; i < feed->count; i++) {
        if (feed->all[i].started)
            (void)pthread_join(feed->all[i].thread, NULL);
        feed->all[i].started = false;
    }
}

void twi_feed_free(twi_feed *feed)
{
    for (size_t i = 0; feed && i < feed->count; i++) {
        subscriber *s = &feed->all[i];
        while (hand_out(s, false))
            continue;
        (void)pthread_cond_destroy(&s->came);
        (void)pthread_cond_destroy(&s->went);
        (void)pthread_mutex_destroy(&s->lock);
    }
    free(feed);
}
