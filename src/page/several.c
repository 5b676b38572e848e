/* Several sightings at once: changing them, and saving what was captured of them. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../core/civil.h"
#include "../json/json.h"
#include "../station/pack.h"
#include "page_state.h"

enum { SEVERAL_MAX = 5000 };

/* ---- changing --------------------------------------------------------------------- */

/* What of a change is for one of them. */
static json_t *without_numbers(const json_t *asked)
{
    json_t *one = json_copy((json_t *)(uintptr_t)asked);
    (void)json_object_del(one, "numbers");
    return one;
}

static void note_removals(twi_page *p, const twi_asked *r, size_t count, bool removed)
{
    char line[64];
    (void)snprintf(line, sizeof line, "%zu sighting%s %s", count, count == 1 ? "" : "s",
                   removed ? "deleted" : "not deleted after all");
    twi_page_did(p, r, NULL, line);
}

/* One that is gone by now does not keep the others from it. */
static void change_all(twi_page *p, const twi_asked *r, const json_t *asked,
                       const json_t *numbers, twi_web_answer *out)
{
    json_t *one = without_numbers(asked), *failed = json_array();
    size_t changed = 0;
    tw_error err = {0}, first = {0};
    tw_status st = TW_OK;
    for (size_t i = 0; i < json_array_size(numbers) && st != TW_EINVAL; i++) {
        json_t *number = json_array_get(numbers, i);
        memset(&err, 0, sizeof err);
        st = json_is_integer(number)
                 ? twi_change_one(p, r, json_integer_value(number), one, &err)
                 : tw_fail(&err, TW_EINVAL, "numbers are those of sightings");
        changed += st == TW_OK;
        if (st != TW_OK)
            (void)json_array_append(failed, number);
        if (st != TW_OK && !first.text[0])
            (void)tw_fail(&first, st, "%s",
                          err.text[0] ? err.text : "there is no such sighting");
    }
    if (changed > 0 && json_is_boolean(json_object_get(one, "remove")))
        note_removals(p, r, changed, json_is_true(json_object_get(one, "remove")));
    if (st == TW_EINVAL)
        twi_answer_error(400, err.text, out);
    else
        twi_answer_json(json_pack("{sI sO ss*}", "changed", (json_int_t)changed, "failed",
                                  failed, "why", first.text[0] ? first.text : NULL),
                        200, out);
    json_decref(failed);
    json_decref(one);
}

void twi_change_sightings(twi_page *p, const twi_asked *r, const char *rest,
                          twi_web_answer *out)
{
    json_t *asked = twi_body_of(r);
    const json_t *numbers = json_object_get(asked, "numbers");
    const size_t count = json_array_size(numbers);
    (void)rest;
    if (count == 0 || count > SEVERAL_MAX)
        twi_answer_error(400, "numbers are 1 to 5000 of sightings", out);
    else
        change_all(p, r, asked, numbers, out);
    json_decref(asked);
}

/* ---- saving ----------------------------------------------------------------------- */

typedef struct gathering {
    twi_page *page;
    twi_pack *pack;
    tw_catalogue *catalogue;
    const char *cameras; /* that who asks may see */
    tw_status status;
    tw_error *err;
} gathering;

static bool gather(void *ctx, const tw_sighting_record *r)
{
    gathering *g = ctx;
    if (!twi_removals_has(g->page, r->id))
        g->status = twi_pack_add(g->pack, g->catalogue, r->id, g->err);
    return g->status == TW_OK;
}

static tw_status gather_found(gathering *g, const tw_sighting_filter *filter)
{
    const tw_status st = tw_catalogue_sightings(g->catalogue, filter, gather, g, g->err);
    return st == TW_OK ? g->status : st;
}

/* Those of a list, "12,15,19". @return TW_EINVAL: it is none. */
static tw_status gather_list(gathering *g, const char *numbers)
{
    const char *at = numbers;
    for (int i = 0; *at && i < SEVERAL_MAX && g->status == TW_OK; i++) {
        char *end = NULL;
        const tw_sighting_filter one = {.id = strtoll(at, &end, 10),
                                        .cameras = g->cameras};
        if (end == at || one.id <= 0 || (*end && *end != ','))
            return tw_fail(g->err, TW_EINVAL, "numbers are such as 12,15,19");
        g->status = gather_found(g, &one);
        at = end + (*end == ',');
    }
    return g->status;
}

static tw_status gather_all(twi_page *p, const twi_asked *r, twi_pack *pack,
                            tw_error *err)
{
    const char *numbers = p->web->query(r->call, "numbers");
    tw_sighting_filter filter;
    twi_filter_of(p, r, &filter);
    (void)pthread_mutex_lock(&p->store_lock);
    gathering g = {p, pack, twi_page_catalogue(p), r->cameras, TW_OK, err};
    const tw_status st = !g.catalogue ? TW_ENOENT
                         : numbers    ? gather_list(&g, numbers)
                                      : gather_found(&g, &filter);
    (void)pthread_mutex_unlock(&p->store_lock);
    return st == TW_OK && twi_pack_count(pack) == 0
               ? tw_fail(err, TW_ENOENT, "nothing was captured of them")
               : st;
}

static long read_pack(void *ctx, char *out, size_t room)
{
    const long n = twi_pack_read(ctx, out, room, NULL);
    return n > 0 ? n : n == 0 ? -1 : -2;
}

static void end_pack(void *ctx)
{
    twi_pack_free(ctx);
}

/* "hollin-2027-03-13.zip", of the day of now. */
static void name_pack(twi_page *p, char *out, size_t room)
{
    twi_civil t;
    twi_civil_split(twi_page_wall(p), 0, &t);
    (void)snprintf(out, room, "%.64s-%04d-%02u-%02u.zip", p->station_name, (int)t.year,
                   t.month, t.day);
}

void twi_show_packed(twi_page *p, const twi_asked *r, const char *rest,
                     twi_web_answer *out)
{
    twi_pack *pack = NULL;
    tw_error err = {0};
    tw_status st = twi_pack_new(p->store, &pack, &err);
    (void)rest;
    if (st == TW_OK)
        st = gather_all(p, r, pack, &err);
    if (st == TW_OK) {
        *out = (twi_web_answer){.kind = TWI_ANSWER_STREAM,
                                .status = 200,
                                .type = "application/zip",
                                .read = read_pack,
                                .end = end_pack,
                                .ctx = pack};
        name_pack(p, out->name, sizeof out->name);
        return;
    }
    twi_pack_free(pack);
    if (st == TW_EINVAL)
        twi_answer_error(400, err.text, out);
    else
        twi_answer_status(st, "there is no such sighting", &err, out);
}
