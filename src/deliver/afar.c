/* Settings from afar: who sends them is known by a signature, what they may change is as
 * over the page. */
#include "afar.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "../json/changes.h"
#include "../net/topic.h"
#include "../settings/sections.h"

enum { ORDER_BYTES = 200000, TOLD_BYTES = 100000, WAIT_S = 1 };

static void refuse(twi_draft_word *out, const char *why)
{
    out->taken = false;
    (void)snprintf(out->text, sizeof out->text, "%s", why);
}

/* ---- what a draft changes --------------------------------------------------------- */

static void keep_first(void *ctx, const char *line)
{
    twi_draft_word *out = ctx;
    if (!out->text[0])
        refuse(out, line);
}

/* @return TW_OK: made is what it would be. */
static tw_status try_changes(twi_draft *draft, const json_t *changes, tw_settings **made,
                             twi_draft_word *out, tw_error *err)
{
    tw_status st = twi_changes_take(draft, changes, err);
    if (st == TW_OK)
        st = twi_draft_check(draft, keep_first, out, made);
    if (st == TW_OK)
        st = twi_draft_allow(draft, *made, err);
    return st;
}

static void count_line(void *ctx, const char *file, unsigned line, const char *before,
                       const char *after)
{
    (void)file;
    (void)line;
    (void)before;
    (void)after;
    ++*(size_t *)ctx;
}

static void word_taken(const twi_draft *draft, const tw_settings *made,
                       twi_draft_word *out)
{
    size_t lines = 0;
    const bool restart =
        twi_settings_difference(twi_draft_had(draft), made, NULL) == TW_APPLIED_START;
    (void)twi_draft_lines(draft, count_line, &lines);
    out->taken = true;
    (void)snprintf(out->text, sizeof out->text, "changed in %zu line%s%s", lines,
                   lines == 1 ? "" : "s",
                   restart ? "; some of it holds from the next start on" : "");
}

/* With the file held. */
static void change(const twi_afar *to, const json_t *changes, twi_draft_word *out)
{
    twi_draft *draft = NULL;
    tw_settings *made = NULL;
    tw_error err = {0};
    tw_status st = twi_draft_open(to->file, &draft, &err);
    if (st == TW_OK)
        st = try_changes(draft, changes, &made, out, &err);
    if (st == TW_OK)
        word_taken(draft, made, out);
    if (st == TW_OK)
        st = twi_draft_write(draft, &err);
    if (st != TW_OK && err.text[0])
        refuse(out, err.text);
    else if (st != TW_OK && !out->text[0])
        refuse(out, "it is not right");
    out->taken = st == TW_OK;
    if (st == TW_OK)
        to->apply(to->ctx, made);
    else
        tw_settings_free(made);
    twi_draft_free(draft);
}

/* ---- whose it is ------------------------------------------------------------------ */

/* @return false: it is refused, out says why. */
static bool is_for_us(const twi_afar *to, const twi_afar_way *way, const json_t *draft,
                      const char *text, const char *signature, twi_draft_word *out)
{
    const char *station = json_string_value(json_object_get(draft, "station"));
    const char *why = NULL;
    if (!way->key[0])
        why = "settings_from is not set there: it takes settings of nobody";
    else if (!signature || !way->brokers->verify(way->key, text, signature))
        why = "its settings_from is another key";
    else if (!station || !twi_topic_is(station, way->station))
        why = "it is meant for another station";
    else if (!to->file || !to->apply || !way->catalogue)
        why = "the station runs without a settings file";
    if (why)
        refuse(out, why);
    return !why;
}

/* Not for long: who holds it may wait for somebody who waits for this thread. */
static bool hold_file(const twi_afar *to)
{
    struct timespec until;
    (void)clock_gettime(CLOCK_REALTIME, &until);
    until.tv_sec += WAIT_S;
    return pthread_mutex_timedlock(to->writing, &until) == 0;
}

static tw_status take(const twi_afar *to, const twi_afar_way *way, const json_t *draft,
                      twi_draft_word *out, tw_error *err)
{
    twi_draft_word last;
    tw_status st = twi_catalogue_draft(way->catalogue, &last, err);
    if (st != TW_OK)
        return st;
    if (out->id == last.id) { /* its answer was lost */
        *out = last;
        return TW_OK;
    }
    if (out->id < last.id) {
        refuse(out, "it is older than what the station had last");
        return TW_OK;
    }
    if (!hold_file(to))
        return tw_fail(err, TW_EAGAIN, "its file is being changed by somebody else");
    change(to, json_object_get(draft, "changes"), out);
    (void)pthread_mutex_unlock(to->writing);
    return twi_catalogue_note_draft(way->catalogue, out, err);
}

tw_status twi_afar_take(const twi_afar *to, const twi_afar_way *way, const void *text,
                        size_t bytes, twi_draft_word *out, tw_error *err)
{
    json_t *o = bytes <= ORDER_BYTES
                    ? json_loadb(text, bytes, JSON_REJECT_DUPLICATES, NULL)
                    : NULL;
    const char *what = json_string_value(json_object_get(o, "do")),
               *signed_text = json_string_value(json_object_get(o, "draft")),
               *signature = json_string_value(json_object_get(o, "signature"));
    json_t *draft =
        signed_text ? json_loads(signed_text, JSON_REJECT_DUPLICATES, NULL) : NULL;
    *out = (twi_draft_word){.id = json_integer_value(json_object_get(draft, "id"))};
    tw_status st = TW_ENOTSUP;
    if (what && strcmp(what, "settings") == 0)
        st = out->id > 0 ? TW_OK : TW_ESYNTAX;
    if (st == TW_OK && is_for_us(to, way, draft, signed_text, signature, out))
        st = take(to, way, draft, out, err);
    json_decref(draft);
    json_decref(o);
    return st;
}

char *twi_afar_text(const tw_settings *settings)
{
    char *text = twi_settings_plain(settings);
    if (text && strlen(text) <= TOLD_BYTES)
        return text;
    free(text);
    return NULL;
}
