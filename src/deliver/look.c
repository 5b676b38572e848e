/* Live pictures by a broker. Where nobody looks, a frame costs one number that is read.
 */
#include "look.h"

#include <jansson.h>
#include <pthread.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../media/jpeg.h"

enum { QUALITY = 55, BYTES_MAX = 1024 };

#define SECOND_US INT64_C(1000000)

/* A camera that somebody looks at, by a destination. */
typedef struct looked {
    char camera[TWI_LOOK_NAME], who[TWI_LOOK_NAME];
    int64_t until_us, next_us; /* by the clock; none is taken before next_us */
    uint8_t *jpeg;             /* owned; NULL: none that nobody has had */
    size_t bytes;
} looked;

struct twi_looking {
    tw_clock clock;
    atomic_llong until_us; /* of all; by the clock */
    pthread_mutex_t lock;
    looked all[TWI_LOOKS_MAX];
};

static int64_t now_of(const twi_looking *l)
{
    return l->clock.ops->now_us(l->clock.ctx);
}

twi_looking *twi_looking_new(tw_clock clock)
{
    twi_looking *l = calloc(1, sizeof *l);
    if (!l)
        return NULL;
    l->clock = clock;
    (void)pthread_mutex_init(&l->lock, NULL);
    return l;
}

void twi_looking_free(twi_looking *l)
{
    if (!l)
        return;
    for (size_t i = 0; i < TWI_LOOKS_MAX; i++)
        free(l->all[i].jpeg);
    (void)pthread_mutex_destroy(&l->lock);
    free(l);
}

/* ---- who looks -------------------------------------------------------------------- */

/* Under the lock. @return NULL: there are too many. */
static looked *begin(twi_looking *l, const char *who, const char *camera, int64_t now_us)
{
    looked *free_one = NULL;
    for (size_t i = 0; i < TWI_LOOKS_MAX; i++) {
        looked *one = &l->all[i];
        if (one->until_us > now_us && strcmp(one->camera, camera) == 0 &&
            strcmp(one->who, who) == 0)
            return one;
        if (one->until_us <= now_us)
            free_one = one;
    }
    if (!free_one)
        return NULL;
    free(free_one->jpeg);
    *free_one = (looked){.until_us = 0};
    (void)snprintf(free_one->camera, sizeof free_one->camera, "%s", camera);
    (void)snprintf(free_one->who, sizeof free_one->who, "%s", who);
    return free_one;
}

static tw_status look_on(twi_looking *l, const char *who, const char *camera, double s)
{
    const int64_t now_us = now_of(l),
                  until_us =
                      now_us + (int64_t)((s < TWI_LOOK_MOST_S ? s : TWI_LOOK_MOST_S) *
                                         (double)SECOND_US);
    (void)pthread_mutex_lock(&l->lock);
    looked *one = begin(l, who, camera, now_us);
    if (one)
        one->until_us = until_us;
    if (one && until_us > atomic_load(&l->until_us))
        atomic_store(&l->until_us, until_us);
    (void)pthread_mutex_unlock(&l->lock);
    return one ? TW_OK : TW_ESIZE;
}

static json_t *read_question(const void *text, size_t bytes)
{
    return bytes <= BYTES_MAX ? json_loadb(text, bytes, JSON_REJECT_DUPLICATES, NULL)
                              : NULL;
}

bool twi_looking_is(const void *text, size_t bytes)
{
    json_t *o = read_question(text, bytes);
    const bool is = json_object_get(o, "look") != NULL;
    json_decref(o);
    return is;
}

tw_status twi_looking_take(twi_looking *l, const char *who, const void *text,
                           size_t bytes)
{
    json_t *o = read_question(text, bytes);
    const json_t *camera = json_object_get(o, "look");
    const double s = json_number_value(json_object_get(o, "for_s"));
    tw_status st = TW_ENOTSUP;
    if (camera)
        st = json_is_string(camera) && json_string_value(camera)[0] &&
                     json_string_length(camera) < TWI_LOOK_NAME && s > 0
                 ? TW_OK
                 : TW_ESYNTAX;
    if (st == TW_OK)
        st = look_on(l, who, json_string_value(camera), s);
    json_decref(o);
    return st;
}

/* ---- pictures --------------------------------------------------------------------- */

bool twi_looking_wants(twi_looking *l, const char *camera)
{
    bool wanted = false;
    const int64_t now_us = now_of(l);
    if (now_us >= atomic_load(&l->until_us))
        return false;
    (void)pthread_mutex_lock(&l->lock);
    for (size_t i = 0; i < TWI_LOOKS_MAX; i++) {
        looked *one = &l->all[i];
        if (one->until_us <= now_us || now_us < one->next_us ||
            strcmp(one->camera, camera) != 0)
            continue;
        one->next_us = now_us + SECOND_US;
        wanted = true;
    }
    (void)pthread_mutex_unlock(&l->lock);
    return wanted;
}

static tw_status reduce(const tw_event *event, uint8_t **out, size_t *bytes)
{
    uint8_t *whole = NULL, *pixels = NULL;
    uint16_t width = 0, height = 0;
    size_t n = 0;
    tw_status st = tw_event_picture(event, &whole, &n, NULL);
    if (st == TW_OK)
        st = twi_jpeg_pixels(whole, n, TWI_LOOK_WIDTH, &pixels, &width, &height, NULL);
    if (st == TW_OK)
        st = twi_jpeg_encode_pixels(pixels, width, height, QUALITY, out, bytes, NULL);
    free(pixels);
    free(whole);
    return st;
}

/* Under the lock. One that nobody had in time is old. */
static void keep(looked *one, const uint8_t *jpeg, size_t bytes)
{
    free(one->jpeg);
    one->jpeg = malloc(bytes);
    one->bytes = bytes;
    if (one->jpeg)
        memcpy(one->jpeg, jpeg, bytes);
}

void twi_looking_event(twi_looking *l, const tw_event *event)
{
    uint8_t *jpeg = NULL;
    size_t bytes = 0;
    if (event->kind != TW_EVENT_READING || !event->frame || !event->camera ||
        reduce(event, &jpeg, &bytes) != TW_OK)
        return;
    const int64_t now_us = now_of(l);
    (void)pthread_mutex_lock(&l->lock);
    for (size_t i = 0; i < TWI_LOOKS_MAX; i++)
        if (l->all[i].until_us > now_us && strcmp(l->all[i].camera, event->camera) == 0)
            keep(&l->all[i], jpeg, bytes);
    (void)pthread_mutex_unlock(&l->lock);
    free(jpeg);
}

bool twi_looking_next(twi_looking *l, const char *who, char camera[TWI_LOOK_NAME],
                      uint8_t **jpeg, size_t *bytes)
{
    bool some = false;
    (void)pthread_mutex_lock(&l->lock);
    for (size_t i = 0; i < TWI_LOOKS_MAX && !some; i++) {
        looked *one = &l->all[i];
        some = one->jpeg != NULL && strcmp(one->who, who) == 0;
        if (!some)
            continue;
        (void)snprintf(camera, TWI_LOOK_NAME, "%s", one->camera);
        *jpeg = one->jpeg;
        *bytes = one->bytes;
        one->jpeg = NULL;
    }
    (void)pthread_mutex_unlock(&l->lock);
    return some;
}
