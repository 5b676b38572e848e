/* Orders to a camera, a station, a group, or all. Whether a station takes them is its own
 * to say. */
#include <stdlib.h>
#include <string.h>

#include "../gather/totell.h"
#include "../gather/words.h"
#include "many_state.h"

enum { FOR_MOST_S = 366 * 86400 };

static bool is_order(const char *word)
{
    static const char *const words[] = {"arm", "disarm", "as-set", "trigger", "snap"};
    for (size_t i = 0; word && i < sizeof words / sizeof *words; i++)
        if (strcmp(word, words[i]) == 0)
            return true;
    return false;
}

/* What a station is told; "north/kerb" is kerb there. @return NULL: out of memory. */
static char *word_order(const json_t *asked, const char *camera)
{
    const json_t *for_s = json_object_get(asked, "for_s");
    json_t *o = json_pack("{ss}", "do", json_string_value(json_object_get(asked, "do")));
    if (camera)
        (void)json_object_set_new(o, "camera", json_string(camera));
    if (json_is_number(for_s) && json_number_value(for_s) > 0 &&
        json_number_value(for_s) <= FOR_MOST_S)
        (void)json_object_set(o, "for_s", (json_t *)for_s);
    char *text = json_dumps(o, JSON_COMPACT);
    json_decref(o);
    return text;
}

/* Whether an order is worth something later: one that holds until another comes. */
static bool is_lasting(const json_t *asked)
{
    const char *what = json_string_value(json_object_get(asked, "do"));
    return strcmp(what, "trigger") != 0 && strcmp(what, "snap") != 0 &&
           json_number_value(json_object_get(asked, "for_s")) <= 0;
}

/* Who has it now, and who is away. */
typedef struct reached {
    int told; /* -1: too much waits already */
    const char **away;
    size_t away_count;
} reached;

/* To all that are asked for, and are there. */
static void tell_scope(twi_many *m, const twi_asked *r, const known *k, const char *one,
                       const char *text, reached *out)
{
    for (size_t i = 0; out->told >= 0 && i < k->count; i++) {
        const char *name = k->station[i].name;
        if (!twi_scope_has(m, r, name) || (one && strcmp(one, name) != 0))
            continue;
        if (twi_known_is_away(&k->station[i]))
            out->away[out->away_count++] = name;
        else
            out->told =
                m->spec.say(m->spec.ctx, name, "order", text) ? out->told + 1 : -1;
    }
}

static void answer_told(int told, int64_t kept, size_t away, twi_web_answer *out)
{
    if (told < 0)
        twi_answer_error(503, "too much waits to be told: try again later", out);
    else if (told == 0 && away == 0)
        twi_answer_error(404, "there is no such station", out);
    else
        twi_answer_json(json_pack("{si sI sI}", "told", told, "waits", (json_int_t)kept,
                                  "away", (json_int_t)away),
                        200, out);
}

/* @return for how many of those that are away it waits; -1: err. */
static int64_t keep_for(twi_many *m, const twi_asked *r, const reached *who,
                        const char *text, tw_error *err)
{
    int64_t kept = 0;
    char *names = twi_ledger_names(who->away, who->away_count);
    const tw_status st =
        names ? twi_many_keep(m, r, names, TWI_WORD_ORDER, text, &kept, err)
              : tw_fail(err, TW_ENOMEM, "out of memory");
    free(names);
    return st == TW_OK ? kept : -1;
}

static void give_order(twi_many *m, const twi_asked *r, const known *k, const char *one,
                       const json_t *asked, const char *text, twi_web_answer *out)
{
    tw_error err = {0};
    int64_t kept = 0;
    reached who = {.away = calloc(k->count + 1, sizeof *who.away)};
    if (who.away)
        tell_scope(m, r, k, one, text, &who);
    if (who.told >= 0 && who.away_count > 0 && is_lasting(asked))
        kept = keep_for(m, r, &who, text, &err);
    if (!who.away || kept < 0)
        twi_answer_error(503, err.text[0] ? err.text : "out of memory", out);
    else
        answer_told(who.told, kept, who.away_count, out);
    free(who.away);
}

void twi_many_order(twi_page *p, const twi_asked *r, const char *rest,
                    twi_web_answer *out)
{
    twi_many *m = twi_page_ctx(p);
    tw_error err = {0};
    (void)rest;
    json_t *o = twi_body_of(r);
    const char *camera = json_string_value(json_object_get(o, "camera")),
               *slash = camera ? strrchr(camera, '/') : NULL;
    char *station = slash ? strndup(camera, (size_t)(slash - camera)) : NULL;
    const bool good = is_order(json_string_value(json_object_get(o, "do"))) &&
                      (!camera || !camera[0] || slash);
    char *text = good ? word_order(o, slash ? slash + 1 : NULL) : NULL;
    const known *k = text && m->spec.say ? twi_known_take(m, &err) : NULL;
    if (k) {
        give_order(m, r, k, station, o, text, out);
        twi_known_done(m);
    } else if (!good)
        twi_answer_error(400, "do is arm, disarm, as-set, trigger or snap", out);
    else
        twi_answer_error(503, err.text[0] ? err.text : "nothing can be told", out);
    free(text);
    free(station);
    json_decref(o);
}

/* ---- what waits until it is answered ----------------------------------------------- */

tw_status twi_many_keep(twi_many *m, const twi_asked *r, const char *stations,
                        const char *what, const char *text, int64_t *kept, tw_error *err)
{
    twi_ledger *l = twi_many_take(m, err);
    if (!l)
        return TW_EAGAIN;
    const tw_status st = twi_words_keep(m->kind, l, stations, what, r->who, text,
                                        twi_page_wall(m->page), kept, err);
    twi_many_give(m, l, st == TW_ESIZE ? TW_OK : st); /* the ledger is well */
    if (st == TW_OK && *kept > 0 && m->spec.say)      /* else it is found by and by */
        (void)m->spec.say(m->spec.ctx, "", TWI_TO_TELL_DUE, "");
    return st;
}

static tw_status keep_for_one(twi_many *m, const twi_asked *r, const char *station,
                              const char *text, tw_error *err)
{
    int64_t kept = 0;
    char *names = twi_ledger_names(&station, 1);
    tw_status st = names ? twi_many_keep(m, r, names, TWI_WORD_SAY, text, &kept, err)
                         : tw_fail(err, TW_ENOMEM, "out of memory");
    free(names);
    if (st == TW_OK && kept == 0)
        st = tw_fail(err, TW_ESIZE, "too much waits for %s", station);
    return st;
}

/* ---- what is said of a sighting --------------------------------------------------- */

/* @return NULL: nothing of it can be said. */
static json_t *word_said(const json_t *asked, const json_t *record)
{
    static const struct {
        const char *key;
        json_type type;
    } said[] = {{"star", JSON_TRUE},
                {"mark", JSON_STRING},
                {"name", JSON_STRING},
                {"count", JSON_INTEGER},
                {"note", JSON_STRING}};
    json_t *o = json_pack("{ss}", "do", "say");
    for (size_t i = 0; i < sizeof said / sizeof *said; i++)
        twi_copy_told(o, asked, said[i].key, said[i].type);
    const bool some = json_object_size(o) > 1;
    (void)json_object_set(o, "series", json_object_get(record, "series"));
    (void)json_object_set(o, "number", json_object_get(record, "own_number"));
    if (some)
        return o;
    json_decref(o);
    return NULL;
}

void twi_many_say(twi_page *p, const twi_asked *r, const char *rest, twi_web_answer *out)
{
    twi_many *m = twi_page_ctx(p);
    const char *more = "";
    tw_error err = {0};
    json_t *record = twi_many_record(m, r, rest, &more, &err), *asked = twi_body_of(r),
           *o = record && !more[0] ? word_said(asked, record) : NULL;
    char *text = o ? json_dumps(o, JSON_COMPACT) : NULL;
    const char *station = json_string_value(json_object_get(record, "station"));
    if (!record || more[0])
        twi_answer_error(err.text[0] ? 503 : 404,
                         err.text[0] ? err.text : "there is no such sighting", out);
    else if (!text)
        twi_answer_error(400,
                         "star is true or false, mark is right, nothing or none, or "
                         "name is a text",
                         out);
    else if (keep_for_one(m, r, station, text, &err) == TW_OK)
        answer_told(1, 0, 0, out);
    else
        twi_answer_error(503, err.text, out);
    free(text);
    json_decref(o);
    json_decref(asked);
    json_decref(record);
}
