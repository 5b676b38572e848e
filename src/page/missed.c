/* What was there while no sighting was: said by the user, and learnt from with the marks.
 */
#include "../json/json.h"
#include "page_state.h"

/* What is listed, for whom. */
typedef struct listing {
    const twi_asked *asked;
    json_t *list;
} listing;

static bool add_missed(void *ctx, const tw_missed_record *r)
{
    const listing *l = ctx;
    return !twi_may_see(l->asked, r->camera) ||
           json_array_append_new(l->list, twi_json_missed(r)) == 0;
}

void twi_show_missed(twi_page *p, const twi_asked *r, const char *rest,
                     twi_web_answer *out)
{
    (void)rest;
    const char *camera = p->web->query(r->call, "camera");
    const int64_t from_us = twi_time_of(p, r, "from"),
                  until_us = twi_time_of(p, r, "until");
    json_t *list = json_array();
    listing l = {r, list};
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    const tw_status st = c ? tw_catalogue_missed(c, camera && camera[0] ? camera : NULL,
                                                 from_us, until_us, add_missed, &l, NULL)
                           : TW_OK;
    (void)pthread_mutex_unlock(&p->store_lock);
    if (st == TW_OK)
        twi_answer_json(json_pack("{so}", "missed", list), 200, out);
    else
        twi_answer_error(500, "the catalogue cannot be read", out);
    if (st != TW_OK)
        json_decref(list);
}

/* A browser's clock may be ahead of the station's by as much. */
#define AHEAD_US INT64_C(60000000)

/* What was missed is past: a time to come is a slip of the hand. */
static tw_status say_missed(twi_page *p, const twi_asked *r, const char *camera,
                            int64_t at_us, int64_t *id, tw_error *err)
{
    tw_status st = TW_ENOENT;
    if (!twi_page_has_camera(p, camera) || !twi_may_see(r, camera))
        return tw_fail(err, TW_ENOENT, "there is no camera %.60s", camera);
    if (at_us <= 0 || at_us > twi_page_wall(p) + AHEAD_US)
        return tw_fail(err, TW_EINVAL, "at is when it was there, and is past");
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    if (c)
        st = tw_catalogue_add_missed(c, camera, at_us, id, err);
    (void)pthread_mutex_unlock(&p->store_lock);
    return st;
}

typedef struct looking {
    const twi_asked *asked;
    int64_t id;
    bool found;
} looking;

static bool look_at(void *ctx, const tw_missed_record *r)
{
    looking *l = ctx;
    l->found = r->id == l->id && twi_may_see(l->asked, r->camera);
    return !l->found;
}

static tw_status take_back(twi_page *p, const twi_asked *r, int64_t id, tw_error *err)
{
    tw_status st = TW_ENOENT;
    looking l = {r, id, false};
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    if (c)
        (void)tw_catalogue_missed(c, NULL, 0, 0, look_at, &l, NULL);
    if (l.found)
        st = tw_catalogue_remove_missed(c, id, err);
    (void)pthread_mutex_unlock(&p->store_lock);
    return st;
}

void twi_change_missed(twi_page *p, const twi_asked *r, const char *rest,
                       twi_web_answer *out)
{
    (void)rest;
    json_t *o = twi_body_of(r);
    const json_t *camera = json_object_get(o, "camera"), *at = json_object_get(o, "at"),
                 *gone = json_object_get(o, "take_back");
    int64_t id = json_integer_value(gone);
    tw_error err = {0};
    tw_status st = TW_EINVAL;
    if (json_is_string(camera) && json_is_integer(at))
        st = say_missed(p, r, json_string_value(camera),
                        twi_us_of(json_integer_value(at)), &id, &err);
    else if (id > 0)
        st = take_back(p, r, id, &err);
    if (st == TW_OK)
        twi_answer_json(json_pack("{sI}", "number", (json_int_t)id), 200, out);
    else if (st == TW_EINVAL)
        twi_answer_error(
            400, err.text[0] ? err.text : "say camera and at, or take_back and a number",
            out);
    else
        twi_answer_status(st, "there is no such record", &err, out);
    json_decref(o);
}
