/* Sightings and captures of the store. */
#include <errno.h>
#include <fcntl.h>
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "page.h"

enum { MOST = 2000 };

/* Under the lock of the store. */
static tw_catalogue *catalogue_of(tw_page *p)
{
    char path[PATH_BYTES];
    (void)snprintf(path, sizeof path, "%s/" TW_CATALOGUE_FILE, p->store);
    if (!p->catalogue)
        (void)tw_catalogue_open(path, false, &p->catalogue, NULL);
    return p->catalogue;
}

/* ---- lists ------------------------------------------------------------------------ */

static json_t *describe(const tw_sighting_record *r)
{
    char start[TW_UTC_MAX], end[TW_UTC_MAX];
    json_t *o = json_pack(
        "{sI ss si ss sf si ss sb sb si si sI si si}", "id", (json_int_t)r->id, "camera",
        r->camera, "number", (int)r->number, "start", tw_utc(r->start_us, start), "peak",
        r->peak_ppm / 1e4, "frames", (int)r->frames, "why", r->why, "starred", r->starred,
        "unsure", r->unsure, "stills", (int)r->stills, "clips", (int)r->clips, "bytes",
        (json_int_t)r->bytes, "sent", (int)r->sent, "unsent", (int)r->unsent);
    if (r->end_us > 0)
        (void)json_object_set_new(o, "end", json_string(tw_utc(r->end_us, end)));
    return o;
}

static bool add_sighting(void *ctx, const tw_sighting_record *r)
{
    (void)json_array_append_new(ctx, describe(r));
    return true;
}

/* Milliseconds since 1970, as browsers count. */
static int64_t time_of(tw_page *p, const tw_web_request *r, const char *name)
{
    const char *text = p->web->query(r->call, name);
    const long long ms = text ? strtoll(text, NULL, 10) : 0;
    return ms > 0 && ms < INT64_MAX / 1000 ? ms * 1000 : 0;
}

void tw_show_sightings(tw_page *p, const tw_web_request *r, tw_web_answer *out)
{
    const char *camera = p->web->query(r->call, "camera"),
               *starred = p->web->query(r->call, "starred"),
               *most = p->web->query(r->call, "most");
    const long n = most ? strtol(most, NULL, 10) : MOST;
    const tw_sighting_filter filter = {.camera = camera && camera[0] ? camera : NULL,
                                       .from_us = time_of(p, r, "from"),
                                       .until_us = time_of(p, r, "until"),
                                       .starred = starred && strcmp(starred, "1") == 0,
                                       .most = n > 0 && n < MOST ? (uint32_t)n : MOST};
    json_t *list = json_array();
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = catalogue_of(p);
    const tw_status st =
        c ? tw_catalogue_sightings(c, &filter, add_sighting, list, NULL) : TW_OK;
    (void)pthread_mutex_unlock(&p->store_lock);
    if (st == TW_OK)
        tw_answer_json(json_pack("{so}", "sightings", list), 200, out);
    else
        tw_answer_error(500, "the catalogue cannot be read", out);
    if (st != TW_OK)
        json_decref(list);
}

static bool add_capture(void *ctx, const tw_capture_record *r)
{
    char start[TW_UTC_MAX];
    (void)json_array_append_new(
        ctx, json_pack("{ss ss ss sI}", "kind", r->kind, "file", r->file, "start",
                       tw_utc(r->start_us, start), "bytes", (json_int_t)r->bytes));
    return true;
}

void tw_show_sighting(tw_page *p, int64_t id, tw_web_answer *out)
{
    const tw_sighting_filter filter = {.id = id};
    json_t *list = json_array(), *files = json_array();
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = catalogue_of(p);
    if (c && tw_catalogue_sightings(c, &filter, add_sighting, list, NULL) == TW_OK)
        (void)tw_catalogue_captures(c, id, add_capture, files, NULL);
    (void)pthread_mutex_unlock(&p->store_lock);
    json_t *one = json_array_get(list, 0);
    if (one) {
        (void)json_object_set(one, "captures", files);
        tw_answer_json(json_incref(one), 200, out);
    } else {
        tw_answer_error(404, "there is no such sighting", out);
    }
    json_decref(list);
    json_decref(files);
}

/* ---- captures --------------------------------------------------------------------- */

/* What the catalogue knows, and nothing else: so no spelling leads out of the store. */
static bool is_known(tw_page *p, const char *file)
{
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = catalogue_of(p);
    const bool known = c && tw_catalogue_knows(c, file);
    (void)pthread_mutex_unlock(&p->store_lock);
    return known;
}

/* @return -1: there is no such capture. */
static int open_capture(tw_page *p, const char *file, uint64_t *bytes)
{
    char path[PATH_BYTES];
    struct stat s;
    if (!is_known(p, file) ||
        snprintf(path, sizeof path, "%s/%s", p->store, file) >= (int)sizeof path)
        return -1;
    const int fd = open(path, O_RDONLY | O_CLOEXEC | O_NOFOLLOW);
    if (fd >= 0 && fstat(fd, &s) == 0 && S_ISREG(s.st_mode) && s.st_size > 0) {
        *bytes = (uint64_t)s.st_size;
        return fd;
    }
    if (fd >= 0)
        (void)close(fd);
    return -1;
}

void tw_show_capture(tw_page *p, const tw_web_request *r, const char *file,
                     tw_web_answer *out)
{
    uint64_t bytes = 0;
    const char *slash = strrchr(file, '/');
    const int fd = open_capture(p, file, &bytes);
    if (fd < 0) {
        tw_answer_error(404, "there is no such capture", out);
        return;
    }
    *out = (tw_web_answer){.kind = TW_ANSWER_FILE,
                           .status = 200,
                           .type = tw_media_type(file),
                           .cache = "private, max-age=3600",
                           .fd = fd,
                           .file_bytes = bytes};
    if (p->web->query(r->call, "save"))
        (void)snprintf(out->name, sizeof out->name, "%s", slash ? slash + 1 : file);
}

/* ---- changes ---------------------------------------------------------------------- */

void tw_change_sighting(tw_page *p, const tw_web_request *r, int64_t id,
                        tw_web_answer *out)
{
    json_t *o = json_loadb(r->body, r->bytes, JSON_REJECT_DUPLICATES, NULL);
    const json_t *star = json_object_get(o, "star");
    tw_status st = TW_EINVAL;
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = catalogue_of(p);
    if (c && json_is_boolean(star))
        st = tw_catalogue_star(c, id, json_is_true(star), NULL);
    (void)pthread_mutex_unlock(&p->store_lock);
    if (st == TW_OK)
        tw_answer_json(json_pack("{sb}", "done", true), 200, out);
    else if (st == TW_ENOENT)
        tw_answer_error(404, "there is no such sighting", out);
    else
        tw_answer_error(400, "star is true or false", out);
    json_decref(o);
}
