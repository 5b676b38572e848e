/* Settings of stations, as those told them, and what is to be another. A change is tried
 * on what stations told, of very many on the first of them; whether it is taken is each
 * station's own to say. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../gather/words.h"
#include "../json/changes.h"
#include "many_state.h"

enum {
    SEEN_MAX = 1000, /* whose settings are looked at */
    LINES_MAX = 300,
    PROBLEMS_MAX = 20,
    WORDS_MAX = 200
};

/* Each station has its own: by it a station is known, and where it is stored. */
#define NAME_KEY "name"

/* ---- what they told ---------------------------------------------------------------- */

/* Settings of a station. */
typedef struct one_told {
    char name[TWI_HEARD_NAME];
    char *text; /* NULL: not looked at */
} one_told;

typedef struct all_told {
    one_told *all;
    size_t count, room;
    size_t seen;  /* the first of them are looked at */
    size_t asked; /* for so many stations */
    size_t at;    /* while texts are read */
} all_told;

static void take_name(void *ctx, const char *station)
{
    all_told *told = ctx;
    if (told->count == told->room)
        return;
    one_told *one = &told->all[told->count++];
    (void)snprintf(one->name, sizeof one->name, "%s", station);
}

/* They come in the order of the names. */
static void take_text(void *ctx, const char *station, const char *json)
{
    all_told *told = ctx;
    while (told->at < told->seen && strcmp(told->all[told->at].name, station) != 0)
        told->at++;
    if (told->at == told->seen)
        return;
    json_t *o = json_loads(json, 0, NULL);
    const char *text = json_string_value(json_object_get(o, "text"));
    told->all[told->at++].text = text ? strdup(text) : NULL;
    json_decref(o);
}

static void clear_told(all_told *told)
{
    for (size_t i = 0; i < told->count; i++)
        free(told->all[i].text);
    free(told->all);
}

/* The stations that are asked for. @return their number, or -1: err. */
static int list_asked(twi_many *m, const twi_asked *r, char **list, tw_error *err)
{
    size_t count = 0;
    const known *k = twi_known_take(m, err);
    if (!k)
        return -1;
    *list = twi_scope_list(m, r, k, &count);
    twi_known_done(m);
    return (int)count;
}

/* @return the names of the first of them as a list; NULL: out of memory. */
static char *names_of(const all_told *told, size_t count)
{
    const char **names = calloc(count + 1, sizeof *names);
    for (size_t i = 0; names && i < count; i++)
        names[i] = told->all[i].name;
    char *list = names ? twi_ledger_names(names, count) : NULL;
    free(names);
    return list;
}

/* Who told theirs, of those in the list, and what the first of them told. */
static tw_status look_up(const twi_many *m, twi_ledger *l, const char *list,
                         all_told *told, tw_error *err)
{
    tw_status st = twi_words_settable(m->kind, l, list, take_name, told, err);
    if (st != TW_OK)
        return st;
    told->seen = told->count < SEEN_MAX ? told->count : SEEN_MAX;
    char *first = names_of(told, told->seen);
    st = first ? twi_words_settings(m->kind, l, first, take_text, told, err)
               : tw_fail(err, TW_ENOMEM, "out of memory");
    free(first);
    return st;
}

/* @return false: what is wrong is answered. */
static bool read_told(twi_many *m, const twi_asked *r, all_told *told,
                      twi_web_answer *out)
{
    char *list = NULL;
    tw_error err = {0};
    const int count = list_asked(m, r, &list, &err);
    twi_ledger *l = NULL;
    *told = (all_told){.asked = count > 0 ? (size_t)count : 0};
    if (count < 0 || !list || !(l = twi_many_take(m, &err)))
        twi_answer_error(503, err.text[0] ? err.text : "out of memory", out);
    if (!l) {
        free(list);
        return false;
    }
    told->room = (size_t)count;
    told->all = calloc((size_t)count + 1, sizeof *told->all);
    const tw_status st = told->all ? look_up(m, l, list, told, &err)
                                   : tw_fail(&err, TW_ENOMEM, "out of memory");
    twi_many_give(m, l, st);
    free(list);
    const bool good = st == TW_OK && told->count > 0 && told->all[0].text;
    if (st != TW_OK)
        twi_answer_error(503, err.text, out);
    else if (!good)
        twi_answer_error(404,
                         count == 0 ? "there is no such station"
                                    : "no settings are known: stations show them to who "
                                      "is named by settings_from of their broker",
                         out);
    if (!good)
        clear_told(told);
    return good;
}

/* @return what a station told, read; NULL: out of memory. */
static tw_settings *settings_of(const one_told *one)
{
    twi_draft *draft = NULL;
    tw_settings *s = NULL;
    tw_error err = {0};
    if (one->text && twi_draft_open_text(one->name, one->text, &draft, &err) == TW_OK)
        (void)twi_draft_check(draft, NULL, NULL, &s);
    twi_draft_free(draft);
    return s;
}

/* ---- showing ---------------------------------------------------------------------- */

static void answer_sections(const twi_many *m, const all_told *told, twi_web_answer *out)
{
    tw_settings *s = told->asked == 1 ? settings_of(&told->all[0]) : NULL;
    json_t *o = s ? twi_settings_sections(s, told->all[0].name, m->spec.settable)
                  : json_pack("{s[{ss ss}{ss ss}] ss sb}", "sections", "head", "station",
                              "name", "", "head", "cameras", "name", "", "file", "",
                              "changeable", m->spec.settable);
    (void)json_object_set_new(o, "told", json_integer((json_int_t)told->count));
    (void)json_object_set_new(o, "seen", json_integer((json_int_t)told->seen));
    (void)json_object_set_new(o, "stations", json_integer((json_int_t)told->asked));
    tw_settings_free(s);
    twi_answer_json(o, 200, out);
}

/* What a station did not tell, as it is changed in the file alone, is not shown.
 * @param one_key  A key that is not either; NULL: none. */
static json_t *told_rows(tw_settings *s, const char *head, const char *name,
                         const char *one_key)
{
    json_t *rows = json_array();
    if (!s || twi_settings_rows(s, head, name, rows) != TW_OK) {
        json_decref(rows);
        return NULL;
    }
    for (size_t i = json_array_size(rows); i-- > 0;) {
        const json_t *row = json_array_get(rows, i);
        const char *key = json_string_value(json_object_get(row, "key"));
        if (json_is_true(json_object_get(row, "in_file_alone")) ||
            (one_key && strcmp(key, one_key) == 0))
            (void)json_array_remove(rows, i);
    }
    return rows;
}

/* How many have which value of a row: {"1 %": 3}. */
static json_t *count_values(const all_told *told, const char *head, const char *name,
                            json_t **first)
{
    json_t *counts = json_array();
    for (size_t i = 0; i < told->seen; i++) {
        tw_settings *s = settings_of(&told->all[i]);
        json_t *rows = told_rows(s, head, name, NAME_KEY), *row = NULL;
        size_t k = 0;
        json_array_foreach(rows, k, row)
        {
            const char *value = json_string_value(json_object_get(row, "value"));
            json_t *of = json_array_get(counts, k);
            if (!of && json_array_append_new(counts, of = json_object()) != 0)
                continue;
            (void)json_object_set_new(
                of, value,
                json_integer(json_integer_value(json_object_get(of, value)) + 1));
        }
        if (!*first)
            *first = json_incref(rows);
        json_decref(rows);
        tw_settings_free(s);
    }
    return counts;
}

/* The value that most of them have stands for all. */
static void merge_row(json_t *row, json_t *counts, size_t of)
{
    const char *value = NULL, *most = NULL;
    json_t *n = NULL;
    json_int_t best = 0;
    json_object_foreach(counts, value, n)
    {
        if (json_integer_value(n) > best) {
            best = json_integer_value(n);
            most = value;
        }
    }
    const char *preset = json_string_value(json_object_get(row, "preset"));
    const bool built_in =
        most && preset && strcmp(most, preset) == 0 && best == (json_int_t)of;
    if (most)
        (void)json_object_set_new(row, "value", json_string(most));
    (void)json_object_set_new(row, "origin",
                              json_string(built_in ? "built-in" : "stations"));
    (void)json_object_set_new(row, "same", json_integer(best));
    (void)json_object_set_new(row, "of", json_integer((json_int_t)of));
}

static json_t *merge_rows(const all_told *told, const char *head, const char *name)
{
    json_t *first = NULL, *counts = count_values(told, head, name, &first), *row = NULL;
    size_t i = 0;
    json_array_foreach(first, i, row)
        merge_row(row, json_array_get(counts, i), told->seen);
    json_decref(counts);
    return first;
}

/* @return NULL: there is no such section. */
static json_t *rows_of_one(const one_told *one, const char *head, const char *name)
{
    tw_settings *s = settings_of(one);
    json_t *rows = told_rows(s, head, name, NULL);
    tw_settings_free(s);
    return rows;
}

void twi_many_settings(twi_page *p, const twi_asked *r, const char *rest,
                       twi_web_answer *out)
{
    twi_many *m = twi_page_ctx(p);
    const char *head = twi_query_of(p, r, "head"), *name = twi_query_of(p, r, "name");
    all_told told;
    (void)rest;
    if (!read_told(m, r, &told, out))
        return;
    json_t *rows = NULL;
    if (head && told.asked == 1)
        rows = rows_of_one(&told.all[0], head, name ? name : "");
    else if (head)
        rows = merge_rows(&told, head, name ? name : "");
    if (!head)
        answer_sections(m, &told, out);
    else if (rows)
        twi_answer_json(json_pack("{so}", "rows", rows), 200, out);
    else
        twi_answer_error(404, "there is no such section", out);
    clear_told(&told);
}

/* Zones are of one station's camera. */
void twi_many_zones(twi_page *p, const twi_asked *r, const char *camera,
                    twi_web_answer *out)
{
    all_told told;
    if (!read_told(twi_page_ctx(p), r, &told, out))
        return;
    tw_settings *s = told.asked == 1 ? settings_of(&told.all[0]) : NULL;
    json_t *zones = s ? twi_settings_zones(s, camera) : NULL;
    if (zones)
        twi_answer_json(zones, 200, out);
    else if (told.asked > 1)
        twi_answer_error(400, "zones are one station's: choose one", out);
    else
        twi_answer_error(404, "there is no such camera", out);
    tw_settings_free(s);
    clear_told(&told);
}

/* ---- changing --------------------------------------------------------------------- */

/* What a change would be, over all of them. */
typedef struct trial {
    json_t *lines, *problems;
    const char *station; /* that is tried */
} trial;

static void add_problem(void *ctx, const char *line)
{
    const trial *t = ctx;
    if (json_array_size(t->problems) < PROBLEMS_MAX)
        (void)json_array_append_new(t->problems,
                                    json_sprintf("%s: %s", t->station, line));
}

static void add_line(void *ctx, const char *file, unsigned line, const char *before,
                     const char *after)
{
    const trial *t = ctx;
    if (json_array_size(t->lines) < LINES_MAX)
        twi_settings_line(t->lines, file, line, before, after);
}

static void try_one(trial *t, const one_told *one, const json_t *changes)
{
    twi_draft *draft = NULL;
    tw_settings *made = NULL;
    tw_error err = {0};
    if (!one->text)
        return; /* it was taken away meanwhile */
    t->station = one->name;
    tw_status st = twi_draft_open_text(one->name, one->text, &draft, &err);
    if (st == TW_OK)
        st = twi_changes_take(draft, changes, &err);
    if (st == TW_OK)
        st = twi_draft_check(draft, add_problem, t, &made);
    if (st == TW_OK)
        st = twi_draft_allow(draft, made, &err);
    if (st == TW_OK)
        (void)twi_draft_lines(draft, add_line, t);
    else if (err.text[0])
        add_problem(t, err.text);
    tw_settings_free(made);
    twi_draft_free(draft);
}

/* Whether all of a few would be given one name. */
static bool names_many(const all_told *told, const json_t *changes)
{
    size_t i = 0;
    json_t *change = NULL;
    bool found = false;
    json_array_foreach(changes, i, change)
    {
        const char *key = json_string_value(json_object_get(change, "key"));
        found = found || (key && strcmp(key, NAME_KEY) == 0);
    }
    return told->asked > 1 && found;
}

/* @return how many have it waiting for them; -1: out says why it cannot be kept. */
static int64_t keep_for_all(twi_many *m, const twi_asked *r, const all_told *told,
                            const json_t *changes, twi_web_answer *out)
{
    char *text = json_dumps(changes, JSON_COMPACT), *list = names_of(told, told->count);
    tw_error err = {0};
    int64_t kept = 0;
    const tw_status st =
        text && list ? twi_many_keep(m, r, list, TWI_WORD_SETTINGS, text, &kept, &err)
                     : tw_fail(&err, TW_ENOMEM, "out of memory");
    free(text);
    free(list);
    if (st == TW_OK)
        return kept;
    twi_answer_error(503, err.text, out);
    return -1;
}

static void finish(twi_many *m, const twi_asked *r, const all_told *told,
                   const json_t *asked, const trial *t, twi_web_answer *out)
{
    const json_t *changes = json_object_get(asked, "changes");
    const bool write = json_is_true(json_object_get(asked, "write"));
    const char *first = json_string_value(json_array_get(t->problems, 0));
    if (first) {
        twi_answer_json(json_pack("{ss sO}", "error", first, "problems", t->problems),
                        400, out);
        return;
    }
    const int64_t told_to = write ? keep_for_all(m, r, told, changes, out) : 0;
    if (told_to >= 0)
        twi_answer_json(json_pack("{sO sb sb sI}", "lines", t->lines, "written", write,
                                  "restart", false, "told", (json_int_t)told_to),
                        200, out);
}

void twi_many_change(twi_page *p, const twi_asked *r, const char *rest,
                     twi_web_answer *out)
{
    twi_many *m = twi_page_ctx(p);
    all_told told;
    (void)rest;
    if (!m->spec.settable) {
        twi_answer_error(409, "settings are not sent: write settings_key below [gather]",
                         out);
        return;
    }
    json_t *asked = twi_body_of(r);
    trial t = {.lines = json_array(), .problems = json_array()};
    if (read_told(m, r, &told, out)) {
        const json_t *changes = json_object_get(asked, "changes");
        t.station = "all of them";
        if (names_many(&told, changes))
            add_problem(&t, "stations need a name each: choose one station");
        for (size_t i = 0; i < told.seen; i++)
            try_one(&t, &told.all[i], changes);
        finish(m, r, &told, asked, &t, out);
        clear_told(&told);
    }
    json_decref(t.lines);
    json_decref(t.problems);
    json_decref(asked);
}

/* ---- what became of it ------------------------------------------------------------- */

static void add_word(void *ctx, const twi_kept_word *w)
{
    json_t *answer = json_loads(w->answer, 0, NULL),
           *changes = json_loads(w->text, 0, NULL);
    const char *text = json_string_value(json_object_get(answer, "text"));
    json_t *o = json_pack("{ss ss ss ss so*}", "station", w->station, "state", w->state,
                          "who", w->who, "text", text ? text : "", "changes", changes);
    twi_put_time(o, "made", w->made_us);
    twi_put_time(o, "told", w->told_us);
    twi_put_time(o, "answered", w->answered_us);
    (void)json_array_append_new(ctx, o);
    json_decref(answer);
}

void twi_many_words(twi_page *p, const twi_asked *r, const char *rest,
                    twi_web_answer *out)
{
    twi_many *m = twi_page_ctx(p);
    char *names = NULL;
    tw_error err = {0};
    (void)rest;
    const known *k = twi_known_take(m, &err);
    const bool listed = k && twi_scope_names(m, r, k, &names);
    if (k)
        twi_known_done(m);
    twi_ledger *l = listed ? twi_many_take(m, &err) : NULL;
    json_t *list = json_array();
    tw_status st = TW_EAGAIN;
    if (l) {
        st = twi_words_list(m->kind, l, names, TWI_WORD_SETTINGS, WORDS_MAX, add_word,
                            list, &err);
        twi_many_give(m, l, st);
    }
    if (st == TW_OK)
        twi_answer_json(json_pack("{sO}", "words", list), 200, out);
    else
        twi_answer_error(503, err.text[0] ? err.text : "out of memory", out);
    json_decref(list);
    free(names);
}
