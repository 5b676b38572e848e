/* Sightings and captures of the store. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "../deliver/deliver.h"
#include "../json/json.h"
#include "../media/jpeg.h"
#include "../station/catalogue_write.h"
#include "page_state.h"
#include "../core/hours.h"
#include "../core/naming.h"
#include "tawny/settings.h"

enum { MOST = 5000, THUMB_WIDTH = 240, THUMB_WIDTH_MAX = 1280, THUMB_QUALITY = 70 };

/* ---- lists ------------------------------------------------------------------------ */

/* What is being visited: sightings that are to be removed are not shown any more. */
typedef struct listing {
    twi_page *page;
    json_t *list;
    twi_hours hours; /* that it began within, where some are asked for */
    bool by_hours;
} listing;

static bool is_listed(const listing *l, const tw_sighting_record *r)
{
    const tw_clock *clock = &l->page->host.clock;
    return !twi_removals_has(l->page, r->id) &&
           (!l->by_hours ||
            twi_hours_within(&l->hours, r->start_us,
                             clock->ops->offset_s(clock->ctx, r->start_us), NULL));
}

/* By the clock alone. @return false: they are none. */
static bool read_hours(listing *l, const char *text)
{
    l->by_hours = text && text[0];
    return !l->by_hours || (twi_hours_parse(text, &l->hours, NULL) == TW_OK &&
                            !twi_hours_need_place(&l->hours));
}

static bool add_sighting(void *ctx, const tw_sighting_record *r)
{
    const listing *l = ctx;
    if (is_listed(l, r))
        (void)json_array_append_new(l->list, twi_json_sighting(r));
    return true;
}

/* As little as a strip needs: thousands of them are drawn. */
static bool add_brief(void *ctx, const tw_sighting_record *r)
{
    const listing *l = ctx;
    if (is_listed(l, r))
        (void)json_array_append_new(
            l->list, json_pack("[IsIIb]", (json_int_t)r->id, r->camera,
                               (json_int_t)(r->start_us / 1000),
                               (json_int_t)(r->end_us / 1000), r->starred));
    return true;
}

void twi_filter_of(twi_page *p, const twi_asked *r, tw_sighting_filter *out)
{
    const char *camera = p->web->query(r->call, "camera"),
               *starred = p->web->query(r->call, "starred"),
               *most = p->web->query(r->call, "most"),
               *name = p->web->query(r->call, "name");
    const char *marked = p->web->query(r->call, "mark");
    const long n = most ? strtol(most, NULL, 10) : MOST;
    tw_mark mark = TW_MARK_NONE;
    (void)tw_mark_find(marked ? marked : "", &mark);
    *out = (tw_sighting_filter){.camera = camera && camera[0] ? camera : NULL,
                                .from_us = twi_time_of(p, r, "from"),
                                .until_us = twi_time_of(p, r, "until"),
                                .starred = starred && strcmp(starred, "1") == 0,
                                .name = name && name[0] ? name : NULL,
                                .mark = mark,
                                .least_peak_ppm = twi_share_of(p, r, "larger"),
                                .most_peak_ppm = twi_share_of(p, r, "smaller"),
                                .cameras = r->cameras,
                                .most = n > 0 && n < MOST ? (uint32_t)n : MOST};
}

void twi_show_sightings(twi_page *p, const twi_asked *r, const char *rest,
                        twi_web_answer *out)
{
    (void)rest;
    const bool brief = p->web->query(r->call, "brief") != NULL;
    tw_sighting_filter filter;
    twi_filter_of(p, r, &filter);
    json_t *list = json_array();
    listing l = {.page = p, .list = list};
    if (!read_hours(&l, p->web->query(r->call, "hours"))) {
        json_decref(list);
        twi_answer_error(400, "hours are such as 22:00-05:00", out);
        return;
    }
    const size_t most = filter.most;
    if (l.by_hours) /* of these the newest so many are wanted */
        filter.most = MOST;
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    const tw_status st =
        c ? tw_catalogue_sightings(c, &filter, brief ? add_brief : add_sighting, &l, NULL)
          : TW_OK;
    (void)pthread_mutex_unlock(&p->store_lock);
    while (json_array_size(list) > most)
        (void)json_array_remove(list, 0);
    if (st == TW_OK)
        twi_answer_json(json_pack("{so}", "sightings", list), 200, out);
    else
        twi_answer_error(500, "the catalogue cannot be read", out);
    if (st != TW_OK)
        json_decref(list);
}

static bool note_seen(void *ctx, const tw_sighting_record *r)
{
    (void)r;
    *(bool *)ctx = true;
    return false;
}

/* Whether the catalogue has such a sighting, of a camera that who asks may see. */
static bool is_seen(twi_page *p, const twi_asked *r, int64_t id)
{
    const tw_sighting_filter filter = {.id = id, .cameras = r->cameras};
    bool seen = false;
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    if (c && id > 0)
        (void)tw_catalogue_sightings(c, &filter, note_seen, &seen, NULL);
    (void)pthread_mutex_unlock(&p->store_lock);
    return seen;
}

/* The same, and it is not to be removed. */
static bool is_there(twi_page *p, const twi_asked *r, int64_t id)
{
    return is_seen(p, r, id) && !twi_removals_has(p, id);
}

/* A number that is all of a text. @return 0: it is none. */
static int64_t number_of(const char *text)
{
    char *end = NULL;
    const long long n = strtoll(text, &end, 10);
    return end != text && *end == '\0' && n > 0 ? n : 0;
}

void twi_show_sighting(twi_page *p, const twi_asked *r, const char *rest,
                       twi_web_answer *out)
{
    const int64_t id = number_of(rest);
    const bool there = is_there(p, r, id);
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    json_t *one = c && there ? twi_json_record(c, id, NULL) : NULL;
    (void)pthread_mutex_unlock(&p->store_lock);
    if (one)
        twi_answer_json(one, 200, out);
    else
        twi_answer_error(404, "there is no such sighting", out);
}

/* ---- captures --------------------------------------------------------------------- */

/* What the catalogue knows, and nothing else: so no spelling leads out of the store. */
static bool is_known(twi_page *p, const twi_asked *r, const char *file)
{
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    const bool known = c && twi_catalogue_knows(c, file, r->cameras);
    (void)pthread_mutex_unlock(&p->store_lock);
    return known;
}

/* @return -1: there is no such file. */
static int open_file(const char *path, uint64_t *bytes)
{
    struct stat s;
    const int fd = open(path, O_RDONLY | O_CLOEXEC | O_NOFOLLOW);
    if (fd >= 0 && fstat(fd, &s) == 0 && S_ISREG(s.st_mode) && s.st_size > 0) {
        *bytes = (uint64_t)s.st_size;
        return fd;
    }
    if (fd >= 0)
        (void)close(fd);
    return -1;
}

void twi_answer_file(twi_page *p, const twi_asked *r, const char *path,
                     twi_web_answer *out)
{
    uint64_t bytes = 0;
    const char *slash = strrchr(path, '/');
    const int fd = open_file(path, &bytes);
    if (fd < 0) {
        twi_answer_error(404, "there is no such capture", out);
        return;
    }
    *out = (twi_web_answer){.kind = TWI_ANSWER_FILE,
                            .status = 200,
                            .type = twi_media_type(path),
                            .cache = "private, max-age=3600",
                            .fd = fd,
                            .file_bytes = bytes};
    if (p->web->query(r->call, "save"))
        (void)snprintf(out->name, sizeof out->name, "%s", slash ? slash + 1 : path);
}

void twi_show_capture(twi_page *p, const twi_asked *r, const char *file,
                      twi_web_answer *out)
{
    char path[PATH_BYTES];
    if (is_known(p, r, file) &&
        snprintf(path, sizeof path, "%s/%s", p->store, file) < (int)sizeof path)
        twi_answer_file(p, r, path, out);
    else
        twi_answer_error(404, "there is no such capture", out);
}

/* ---- thumbnails ------------------------------------------------------------------- */

/* The first still of a sighting. */
static bool take_still(void *ctx, const tw_capture_record *r)
{
    char *out = ctx;
    const twi_kind kind = twi_kind_find(r->kind);
    if (kind == TWI_KIND_COUNT || twi_kind_is_video(kind))
        return true;
    (void)snprintf(out, PATH_BYTES, "%s", r->file);
    return false;
}

/* @return TW_ENOENT: it has no still. */
static tw_status find_still(twi_page *p, int64_t id, char path[PATH_BYTES])
{
    char file[PATH_BYTES] = "";
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    if (c && id > 0)
        (void)tw_catalogue_captures(c, id, take_still, file, NULL);
    (void)pthread_mutex_unlock(&p->store_lock);
    return file[0] && snprintf(path, PATH_BYTES, "%s/%s", p->store, file) < PATH_BYTES
               ? TW_OK
               : TW_ENOENT;
}

/* Reduced as far as the decoder does it by the way, which costs little. */
static tw_status reduce(const char *path, uint16_t least, uint8_t **out, size_t *bytes)
{
    uint8_t *data = NULL, *pixels = NULL;
    size_t capacity = 0, n = 0;
    uint16_t width = 0, height = 0;
    tw_status st = twi_jpeg_read_file(path, &data, &capacity, &n, NULL);
    if (st == TW_OK)
        st = twi_jpeg_pixels(data, n, least, &pixels, &width, &height, NULL);
    if (st == TW_OK)
        st = twi_jpeg_encode_pixels(pixels, width, height, THUMB_QUALITY, out, bytes,
                                    NULL);
    free(pixels);
    free(data);
    return st;
}

/* How wide it is to be at least, pixels: a small one, unless a larger is asked for. */
static uint16_t width_of(twi_page *p, const twi_asked *r)
{
    const char *text = p->web->query(r->call, "width");
    const long width = text ? strtol(text, NULL, 10) : THUMB_WIDTH;
    return width < THUMB_WIDTH       ? THUMB_WIDTH
           : width > THUMB_WIDTH_MAX ? THUMB_WIDTH_MAX
                                     : (uint16_t)width;
}

void twi_answer_thumb(twi_page *p, const twi_asked *r, const char *path,
                      twi_web_answer *out)
{
    uint8_t *jpeg = NULL;
    size_t bytes = 0;
    if (reduce(path, width_of(p, r), &jpeg, &bytes) == TW_OK)
        *out = (twi_web_answer){.status = 200,
                                .type = "image/jpeg",
                                .cache = "private, max-age=3600",
                                .data = jpeg,
                                .bytes = bytes,
                                .owned = true};
    else
        twi_answer_error(404, "it has no still", out);
}

void twi_show_thumb(twi_page *p, const twi_asked *r, const char *rest,
                    twi_web_answer *out)
{
    char path[PATH_BYTES];
    if (is_there(p, r, number_of(rest)) && find_still(p, number_of(rest), path) == TW_OK)
        twi_answer_thumb(p, r, path, out);
    else
        twi_answer_error(404, "it has no still", out);
}

/* ---- changes ---------------------------------------------------------------------- */

static tw_status star(twi_page *p, int64_t id, bool on, tw_error *err)
{
    tw_status st = TW_ENOENT;
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    if (c)
        st = tw_catalogue_star(c, id, on, err);
    (void)pthread_mutex_unlock(&p->store_lock);
    return st;
}

static tw_status mark(twi_page *p, int64_t id, const char *name, tw_error *err)
{
    tw_mark which = TW_MARK_NONE;
    tw_status st = tw_mark_find(name, &which) ? TW_ENOENT : TW_EINVAL;
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    if (c && st == TW_ENOENT)
        st = tw_catalogue_mark(c, id, which, err);
    (void)pthread_mutex_unlock(&p->store_lock);
    return st;
}

static tw_status send_again(twi_page *p, int64_t id, const char *destination,
                            tw_error *err)
{
    tw_settings *settings = twi_page_settings(p);
    tw_status st = settings ? TW_ENOENT : TW_ENOMEM;
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    if (c && settings)
        st = twi_deliver_again(settings, destination, c, id, NULL, err);
    (void)pthread_mutex_unlock(&p->store_lock);
    tw_settings_free(settings);
    return st;
}

/* It is there: for removing, and, as long as it is to be removed, for undoing that. */
static tw_status remove_later(twi_page *p, int64_t id, bool on, tw_error *err)
{
    if (!p->host.card)
        return tw_fail(err, TW_ENOTSUP, "nothing can be removed from this store");
    if (!on)
        return twi_removals_undo(p, id)
                   ? TW_OK
                   : tw_fail(err, TW_ENOENT, "it is too late to undo that");
    return twi_removals_add(p, id);
}

/* One that is to be removed is there for undoing that alone. */
static bool may_change(twi_page *p, const twi_asked *r, int64_t id, const json_t *removed)
{
    return json_is_false(removed) ? is_seen(p, r, id) : is_there(p, r, id);
}

tw_status twi_change_one(twi_page *p, const twi_asked *r, int64_t id, const void *asked,
                         tw_error *err)
{
    const json_t *o = asked, *starred = json_object_get(o, "star"),
                 *removed = json_object_get(o, "remove"),
                 *sent = json_object_get(o, "send"), *marked = json_object_get(o, "mark");
    tw_status st = TW_EINVAL;
    if (id > 0 && !may_change(p, r, id, removed))
        return TW_ENOENT;
    if (id > 0 && json_is_boolean(starred))
        st = star(p, id, json_is_true(starred), err);
    else if (id > 0 && json_is_boolean(removed))
        st = remove_later(p, id, json_is_true(removed), err);
    else if (id > 0 && json_is_string(sent))
        st = send_again(p, id, json_string_value(sent), err);
    else if (id > 0 && json_is_string(marked))
        st = mark(p, id, json_string_value(marked), err);
    else if (id > 0 && json_is_string(json_object_get(o, "name")))
        st = twi_name_sighting(p, id, o, err);
    if (st == TW_EINVAL && !err->text[0])
        (void)tw_fail(err, st,
                      "star or remove is true or false, mark is right, nothing or none, "
                      "name a text, or send a destination");
    return st;
}

static void note_removal(twi_page *p, const twi_asked *r, int64_t id,
                         const json_t *removed)
{
    char line[64];
    (void)snprintf(line, sizeof line, "sighting %lld %s", (long long)id,
                   json_is_true(removed) ? "deleted" : "not deleted after all");
    if (json_is_boolean(removed))
        twi_page_did(p, r, NULL, line);
}

void twi_change_sighting(twi_page *p, const twi_asked *r, const char *rest,
                         twi_web_answer *out)
{
    json_t *o = twi_body_of(r);
    tw_error err = {0};
    const int64_t id = number_of(rest);
    const tw_status st = twi_change_one(p, r, id, o, &err);
    if (st == TW_OK)
        note_removal(p, r, id, json_object_get(o, "remove"));
    if (st == TW_EINVAL)
        twi_answer_error(400, err.text, out);
    else
        twi_answer_status(st, "there is no such sighting", &err, out);
    json_decref(o);
}
