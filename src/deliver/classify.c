/* Answers of programs that classify. */
#include "classify.h"

#include <jansson.h>
#include <stdbool.h>
#include <stdio.h>
#include <string.h>

#include "../core/naming.h"
#include "tawny/catalogue.h"

enum { PATH_BYTES = 4096 };

/* An answer, taken apart. */
typedef struct answer {
    json_t *of;
    const char *name; /* NULL: it says none */
    double score;
    json_int_t count;
    bool star, drop;
} answer;

static tw_status read_answer(const char *text, answer *a, tw_error *err)
{
    json_error_t why;
    *a = (answer){.of = json_loads(text, JSON_REJECT_DUPLICATES, &why)};
    if (!json_is_object(a->of))
        return tw_fail(err, TW_ESYNTAX,
                       "its last line is no JSON object such as {\"name\": \"Bufo "
                       "bufo\", \"score\": 0.9}");
    const json_t *name = json_object_get(a->of, "name"),
                 *score = json_object_get(a->of, "score"),
                 *number = json_object_get(a->of, "count");
    a->name = json_string_value(name);
    a->score = json_number_value(score);
    a->count = json_integer_value(number);
    a->star = json_is_true(json_object_get(a->of, "star"));
    a->drop = json_is_true(json_object_get(a->of, "drop"));
    if ((name && !a->name) ||
        (score && (!json_is_number(score) || a->score < 0 || a->score > 1)) ||
        (number && (!json_is_integer(number) || a->count < 0 || a->count > TW_COUNT_MAX)))
        return tw_fail(err, TW_ESYNTAX,
                       "its answer is wrong: name is a text, score is from 0 to 1, count "
                       "is from 0 to %d",
                       TW_COUNT_MAX);
    return TW_OK;
}

/* What must be known of a sighting before it may be dropped. */
typedef struct standing {
    bool found, over, wanted;
} standing;

static bool look(void *ctx, const tw_sighting_record *r)
{
    const bool by_somebody = r->named_us > 0 && r->named_by[0] == '\0';
    *(standing *)ctx = (standing){
        .found = true,
        .over = r->end_us > 0,
        .wanted = r->starred || by_somebody || r->mark == TW_MARK_RIGHT,
    };
    return false;
}

static tw_status drop(tw_catalogue *c, const twi_classified *who, char *said,
                      size_t capacity, tw_error *err)
{
    const tw_sighting_filter filter = {.id = who->sighting};
    standing s = {0};
    tw_status st = tw_catalogue_sightings(c, &filter, look, &s, err);
    if (st == TW_OK && !s.found)
        return tw_fail(err, TW_ENOENT, "there is no sighting %lld",
                       (long long)who->sighting);
    if (st == TW_OK && s.wanted) {
        (void)snprintf(said, capacity, "sighting %lld stays: somebody wants it",
                       (long long)who->sighting);
        return TW_OK;
    }
    if (st == TW_OK && (!s.over || !who->card))
        return tw_fail(err, TW_EAGAIN,
                       "sighting %lld is not over, so it cannot be dropped: on = ended",
                       (long long)who->sighting);
    if (st == TW_OK)
        st = tw_catalogue_remove(c, who->card, who->sighting, err);
    if (st == TW_OK)
        (void)snprintf(said, capacity, "sighting %lld dropped", (long long)who->sighting);
    return st;
}

static tw_status name(tw_catalogue *c, const twi_classified *who, const answer *a,
                      char *said, size_t capacity, tw_error *err)
{
    const tw_naming n = {.size = sizeof n,
                         .name = a->name,
                         .count = (uint32_t)a->count,
                         .by = who->program,
                         .sure_ppm = (uint32_t)(a->score * 1e6 + 0.5),
                         .at_us = who->at_us};
    const tw_status st = tw_catalogue_name(c, who->sighting, &n, err);
    if (st == TW_OK)
        (void)snprintf(said, capacity, "sighting %lld is %s", (long long)who->sighting,
                       a->name);
    return st;
}

static tw_status apply(tw_catalogue *c, const twi_classified *who, const answer *a,
                       char *said, size_t capacity, tw_error *err)
{
    tw_status st = TW_OK;
    if (a->drop)
        return drop(c, who, said, capacity, err);
    if (a->star)
        st = tw_catalogue_star(c, who->sighting, true, err);
    if (st == TW_OK && a->name)
        st = name(c, who, a, said, capacity, err);
    return st;
}

tw_status twi_classify(const twi_classified *who, const char *text, char *said,
                       size_t capacity, tw_error *err)
{
    char path[PATH_BYTES];
    tw_catalogue *c = NULL;
    answer a;
    (void)snprintf(said, capacity, "it says nothing of sighting %lld",
                   (long long)who->sighting);
    (void)snprintf(path, sizeof path, "%s/" TWI_CATALOGUE_FILE, who->store);
    tw_status st = read_answer(text, &a, err);
    if (st == TW_OK)
        st = tw_catalogue_open(path, true, &c, err);
    if (st == TW_OK)
        st = apply(c, who, &a, said, capacity, err);
    tw_catalogue_close(c);
    json_decref(a.of);
    return st;
}
