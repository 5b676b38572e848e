/* The settings: shown, changed, saved and restored as a whole. */
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "page_state.h"
#include "../json/changes.h"
#include "../settings/sections.h"
#include "tawny/zones.h"
#include "tawny/settings.h"

/* ---- showing ---------------------------------------------------------------------- */

static void add_row(void *ctx, const tw_setting *s)
{
    json_t *row = json_pack("{ss ss ss ss ss ss ss}", "group", s->group, "key", s->key,
                            "value", s->value, "preset", s->preset, "range", s->range,
                            "help", s->help, "origin", s->origin);
    if (s->in_file_alone)
        (void)json_object_set_new(row, "in_file_alone", json_true());
    if (s->choices)
        (void)json_object_set_new(row, "choices", json_string(s->choices));
    (void)json_array_append_new(ctx, row);
}

static void add_section(json_t *list, const char *head, const char *name)
{
    (void)json_array_append_new(list, json_pack("{ss ss}", "head", head, "name", name));
}

/* The file is replaced as a whole, beside itself. */
static bool can_be_written(const char *file)
{
    char folder[PATH_BYTES];
    const char *slash = file ? strrchr(file, '/') : NULL;
    if (!file)
        return false;
    (void)snprintf(folder, sizeof folder, "%.*s", slash ? (int)(slash - file) + 1 : 1,
                   slash ? file : ".");
    return access(file, W_OK) == 0 && access(folder, W_OK) == 0;
}

/* What holds at times: of all cameras, or, behind it, of one. @param camera  NULL: all.
 */
static void add_conditions(json_t *list, const tw_settings *s, const char *camera)
{
    const char *name = NULL;
    for (size_t i = 0; (name = twi_settings_condition_section(s, camera, i)); i++)
        add_section(list, camera ? "camera" : "cameras", name);
}

void *twi_settings_sections(tw_settings *s, const char *file, bool changeable)
{
    const char *name = NULL;
    json_t *list = json_array();
    add_section(list, "station", "");
    add_conditions(list, s, NULL);
    for (size_t i = 0; (name = tw_settings_camera_name(s, i)); i++) {
        add_section(list, "camera", name);
        add_conditions(list, s, name);
    }
    for (size_t i = 0; (name = twi_settings_destination_name(s, i)); i++)
        add_section(list, "destination", name);
    for (size_t i = 0; (name = twi_settings_sensor_name(s, i)); i++)
        add_section(list, "sensor", name);
    return json_pack("{so ss sb}", "sections", list, "file", file, "changeable",
                     changeable);
}

static void *list_sections(const twi_page *p, tw_settings *s)
{
    const char *file = p->settings_file ? p->settings_file : "",
               *slash = strrchr(file, '/');
    return twi_settings_sections(s, slash ? slash + 1 : file,
                                 can_be_written(p->settings_file));
}

tw_status twi_settings_rows(tw_settings *s, const char *head, const char *name,
                            void *rows)
{
    if (strcmp(head, "station") == 0)
        return tw_settings_walk(s, NULL, add_row, rows);
    if (strcmp(head, "cameras") == 0 && name && !name[0])
        return twi_settings_walk_cameras(s, add_row, rows);
    if (name && strcmp(head, "camera") == 0 &&
        tw_settings_walk(s, name, add_row, rows) == TW_OK)
        return TW_OK;
    if (name && (strcmp(head, "camera") == 0 || strcmp(head, "cameras") == 0))
        return twi_settings_walk_condition(s, name, add_row, rows);
    if (strcmp(head, "sensor") == 0)
        return name ? twi_settings_walk_sensor(s, name, add_row, rows) : TW_ENOENT;
    return strcmp(head, "destination") == 0 && name
               ? twi_settings_walk_destination(s, name, add_row, rows)
               : TW_ENOENT;
}

void twi_show_settings(twi_page *p, const twi_asked *r, const char *rest,
                       twi_web_answer *out)
{
    const char *head = p->web->query(r->call, "head"),
               *name = p->web->query(r->call, "name");
    tw_settings *s = twi_page_settings(p);
    json_t *rows = json_array();
    (void)rest;
    if (!s)
        twi_answer_error(500, "out of memory", out);
    else if (!head)
        twi_answer_json(list_sections(p, s), 200, out);
    else if (twi_settings_rows(s, head, name, rows) == TW_OK)
        twi_answer_json(json_pack("{sO}", "rows", rows), 200, out);
    else
        twi_answer_error(404, "there is no such section", out);
    json_decref(rows);
    tw_settings_free(s);
}

static json_t *describe_zone(const twi_camera_settings *camera, size_t index)
{
    const tw_zone *zone = &camera->zones[index];
    json_t *points = json_array();
    for (uint16_t i = 0; i < zone->count; i++)
        (void)json_array_append_new(points, json_pack("[ff]", zone->points[i].x_ppm / 1e4,
                                                      zone->points[i].y_ppm / 1e4));
    return json_pack("{ss ss so sf sf}", "name", camera->zone_names[index], "kind",
                     zone->watched                        ? "watched"
                     : twi_zone_is_private(camera, index) ? "private"
                     : zone->start_ppm > 0                ? "own"
                                                          : "ignored",
                     "points", points, "start_at", zone->start_ppm / 1e4, "stay_at",
                     zone->stay_ppm / 1e4);
}

void *twi_settings_zones(tw_settings *settings, const char *camera)
{
    twi_camera_settings set;
    if (twi_settings_camera(settings, camera, &set) != TW_OK)
        return NULL;
    json_t *list = json_array();
    for (size_t i = 0; i < set.zone_count; i++)
        (void)json_array_append_new(list, describe_zone(&set, i));
    return json_pack("{so sb}", "zones", list, "masked", set.mask[0] != '\0');
}

void twi_show_zones(twi_page *p, const twi_asked *r, const char *camera,
                    twi_web_answer *out)
{
    tw_settings *s = twi_page_settings(p);
    json_t *zones = s ? twi_settings_zones(s, camera) : NULL;
    (void)r;
    if (zones)
        twi_answer_json(zones, 200, out);
    else
        twi_answer_error(404, "there is no such camera", out);
    tw_settings_free(s);
}

/* ---- changing --------------------------------------------------------------------- */

/* What a mistake says, one after another. */
static void add_problem(void *ctx, const char *line)
{
    (void)json_array_append_new(ctx, json_string(line));
}

static void answer_problems(json_t *problems, twi_web_answer *out)
{
    const char *first = json_string_value(json_array_get(problems, 0));
    twi_answer_json(json_pack("{ss sO}", "error", first ? first : "it is not right",
                              "problems", problems),
                    400, out);
}

static tw_status check_draft(twi_draft *draft, tw_settings **out_settings,
                             twi_web_answer *out)
{
    json_t *problems = json_array();
    tw_error err = {0};
    tw_status st = twi_draft_check(draft, add_problem, problems, out_settings);
    if (st != TW_OK) {
        answer_problems(problems, out);
    } else if ((st = twi_draft_allow(draft, *out_settings, &err)) != TW_OK) {
        twi_answer_error(403, err.text, out);
        tw_settings_free(*out_settings);
        *out_settings = NULL;
    }
    json_decref(problems);
    return st;
}

static tw_status open_draft(const twi_page *p, twi_draft **out_draft, twi_web_answer *out)
{
    tw_error err = {0};
    if (!p->settings_file) {
        twi_answer_error(409, "the station runs without a settings file", out);
        return TW_ENOENT;
    }
    const tw_status st = twi_draft_open(p->settings_file, out_draft, &err);
    if (st != TW_OK)
        twi_answer_error(500, err.text, out);
    return st;
}

tw_status twi_draft_of(twi_page *p, const void *changes, twi_draft **draft,
                       tw_settings **settings, twi_web_answer *out)
{
    tw_error err = {0};
    tw_status st = open_draft(p, draft, out);
    if (st != TW_OK)
        return st;
    st = twi_changes_take(*draft, changes, &err);
    if (st != TW_OK)
        twi_answer_error(400, err.text, out);
    return st == TW_OK ? check_draft(*draft, settings, out) : st;
}

/* ---- saving ----------------------------------------------------------------------- */

void twi_settings_line(void *list, const char *file, unsigned line, const char *before,
                       const char *after)
{
    (void)json_array_append_new(list,
                                json_pack("{ss si ss? ss?}", "file", file, "line",
                                          (int)line, "before", before, "after", after));
}

/* What holds from the next start on only. */
static bool needs_restart(twi_page *p, const tw_settings *made)
{
    tw_settings *now = twi_page_settings(p);
    const bool needed =
        now && twi_settings_difference(now, made, NULL) == TW_APPLIED_START;
    tw_settings_free(now);
    return needed;
}

/* What was written holds at once. */
static void apply(twi_page *p, const tw_settings *made)
{
    tw_settings *copy = p->host.apply ? tw_settings_copy(made) : NULL;
    if (copy && p->host.apply(p->host.ctx, copy) != TW_OK && p->host.callback)
        p->host.callback(p->host.ctx, TW_EINVAL,
                         "what was written does not hold: there are mistakes in what "
                         "concerns all cameras, or none is left");
}

/* Say what would change, or change it. */
static void note_change(twi_page *p, const twi_asked *r, size_t lines)
{
    char line[64];
    (void)snprintf(line, sizeof line, "settings changed in %zu line%s", lines,
                   lines == 1 ? "" : "s");
    twi_page_did(p, r, NULL, line);
}

static void finish(twi_page *p, const twi_asked *r, twi_draft *draft,
                   const tw_settings *made, bool write, twi_web_answer *out)
{
    json_t *lines = json_array();
    tw_error err = {0};
    tw_status st = twi_draft_lines(draft, twi_settings_line, lines);
    const bool restart = needs_restart(p, made);
    if (st == TW_OK && write)
        st = twi_draft_write(draft, &err);
    if (st == TW_OK && write) {
        apply(p, made);
        note_change(p, r, json_array_size(lines));
    }
    if (st == TW_OK)
        twi_answer_json(
            json_pack("{sO sb sb}", "lines", lines, "written", write, "restart", restart),
            200, out);
    else
        twi_answer_error(500, err.text[0] ? err.text : "out of memory", out);
    json_decref(lines);
}

void twi_change_settings(twi_page *p, const twi_asked *r, const char *rest,
                         twi_web_answer *out)
{
    json_t *asked = twi_body_of(r);
    twi_draft *draft = NULL;
    tw_settings *made = NULL;
    (void)rest;
    (void)pthread_mutex_lock(p->writing);
    if (twi_draft_of(p, json_object_get(asked, "changes"), &draft, &made, out) == TW_OK)
        finish(p, r, draft, made, json_is_true(json_object_get(asked, "write")), out);
    (void)pthread_mutex_unlock(p->writing);
    twi_draft_free(draft);
    tw_settings_free(made);
    json_decref(asked);
}

void twi_show_file(twi_page *p, const twi_asked *r, const char *rest, twi_web_answer *out)
{
    twi_draft *draft = NULL;
    size_t bytes = 0;
    (void)r;
    (void)rest;
    if (open_draft(p, &draft, out) != TW_OK)
        return;
    char *text = twi_draft_whole(draft, &bytes);
    twi_draft_free(draft);
    if (!text) {
        twi_answer_error(500, "out of memory", out);
        return;
    }
    *out = (twi_web_answer){.status = 200,
                            .type = "text/plain; charset=utf-8",
                            .data = text,
                            .bytes = bytes,
                            .owned = true,
                            .name = "station.ini"};
}

void twi_change_file(twi_page *p, const twi_asked *r, const char *rest,
                     twi_web_answer *out)
{
    json_t *asked = twi_body_of(r);
    const char *text = json_string_value(json_object_get(asked, "text"));
    twi_draft *draft = NULL;
    tw_settings *made = NULL;
    tw_error err = {0};
    (void)rest;
    (void)pthread_mutex_lock(p->writing);
    if (!text)
        twi_answer_error(400, "text is a settings file", out);
    else if (open_draft(p, &draft, out) == TW_OK) {
        if (twi_draft_replace(draft, text, strlen(text), &err) != TW_OK)
            twi_answer_error(400, err.text, out);
        else if (check_draft(draft, &made, out) == TW_OK)
            finish(p, r, draft, made, json_is_true(json_object_get(asked, "write")), out);
    }
    (void)pthread_mutex_unlock(p->writing);
    twi_draft_free(draft);
    tw_settings_free(made);
    json_decref(asked);
}
