/* What the settings files said, and what follows from it for each camera. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "reader.h"
#include "state.h"
#include "sections.h"
#include "tawny/zones.h"
#include "tawny/settings.h"

/* ---- keeping --------------------------------------------------------------------- */

tw_settings *tw_settings_new(void)
{
    return calloc(1, sizeof(tw_settings));
}

void tw_settings_free(tw_settings *s)
{
    if (!s)
        return;
    for (size_t i = 0; i < s->section_count; i++) {
        free(s->sections[i].name);
        free(s->sections[i].file);
    }
    for (size_t i = 0; i < s->entry_count; i++) {
        free(s->entries[i].name);
        free(s->entries[i].value);
        free(s->entries[i].origin);
    }
    free(s->sections);
    free(s->entries);
    twi_forget_made(s);
    free(s);
}

tw_settings *tw_settings_copy(const tw_settings *from)
{
    tw_settings *s = from ? tw_settings_new() : NULL;
    tw_status st = s ? TW_OK : TW_ENOMEM;
    for (size_t i = 0; st == TW_OK && i < from->section_count; i++) {
        const section *x = &from->sections[i];
        st = twi_add_section(s, x->level, x->name, x->file, x->line);
        section *made = twi_find_section(s, x->level, x->name);
        if (made)
            made->wrong = x->wrong;
    }
    for (size_t i = 0; st == TW_OK && i < from->entry_count; i++) {
        const entry *e = &from->entries[i];
        st = twi_add_entry(s, e->level, e->name, e->row, e->value, e->origin);
    }
    if (st == TW_OK) {
        s->wrong = from->wrong;
        return s;
    }
    tw_settings_free(s);
    return NULL;
}

tw_status twi_settings_override(tw_settings *settings, const tw_settings *others)
{
    tw_status st = TW_OK;
    if (!settings)
        return TW_ENOMEM;
    for (size_t i = 0; others && st == TW_OK && i < others->entry_count; i++) {
        const entry *e = &others->entries[i];
        if (strcmp(e->origin, TWI_ORIGIN_SET) != 0 ||
            (e->level == SET_CAMERA && !twi_find_section(settings, IN_CAMERA, e->name)))
            continue;
        st = twi_add_entry(settings, e->level, e->name, e->row, e->value, e->origin);
    }
    if (st == TW_OK)
        (void)tw_settings_check(settings, NULL, NULL); /* what is wrong is marked */
    return st;
}

/* ---- what follows for one camera ------------------------------------------------- */

size_t tw_settings_camera_count(const tw_settings *settings)
{
    size_t count = 0;
    for (size_t i = 0; settings && i < settings->section_count; i++)
        count += settings->sections[i].level == IN_CAMERA;
    return count;
}

const char *tw_settings_camera_name(const tw_settings *settings, size_t index)
{
    for (size_t i = 0; settings && i < settings->section_count; i++)
        if (settings->sections[i].level == IN_CAMERA && index-- == 0)
            return settings->sections[i].name;
    return NULL;
}

/* Whether the sections that speak of a camera have no mistakes. */
static bool sound_sections(const tw_settings *s, const char *camera)
{
    const section *self = twi_find_section(s, IN_CAMERA, camera);
    if (!self || self->wrong)
        return false;
    for (size_t i = 0; i < s->section_count; i++)
        if (s->sections[i].wrong && (twi_zone_of(&s->sections[i], camera) ||
                                     twi_condition_of(&s->sections[i], camera)))
            return false;
    const entry *use = twi_used_profiles(s, camera);
    const char *list = use ? use->value : "";
    char profile[NAME_MAX_BYTES + 1];
    while (twi_next_name(&list, profile, sizeof profile)) {
        const section *used = twi_find_section(s, IN_PROFILE, profile);
        if (!used || used->wrong)
            return false;
    }
    return true;
}

bool twi_settings_sound(const tw_settings *settings, const char *camera)
{
    return settings && !settings->wrong && (!camera || sound_sections(settings, camera));
}

/* What decides a setting of a camera, or, NULL, of the station. */
static const entry *entry_of(const tw_settings *s, const char *camera, const twi_row *row)
{
    return camera ? twi_deciding(s, camera, row, NULL)
                  : twi_find_entry(s, IN_STATION, "", row);
}

#define BUILT_IN "built-in"

/* ---- looking ---------------------------------------------------------------------- */

static const char *choices_of(const twi_row *row)
{
    if (row->type == &twi_type_switch)
        return "yes no";
    return row->type == &twi_type_choice ? row->choices : NULL;
}

/* Headers may carry a secret of their own; {secret} is the way that shows none. */
const char *twi_value_shown(const twi_row *row, const char *value, char *out,
                            size_t capacity)
{
    twi_value field;
    memset(&field, 0, sizeof field);
    (void)row->type->parse(row, value, &field);
    row->type->print(row, &field, out, capacity);
    const bool bare =
        strcmp(row->key, "headers") == 0 && out[0] && strstr(out, "{secret}") == NULL;
    return bare ? "***" : out;
}

/* A value, and what it comes from. */
typedef struct standing {
    const char *value, *origin;
} standing;

static standing stands(const twi_row *row, const entry *e)
{
    return e ? (standing){e->value, e->origin} : (standing){row->preset, BUILT_IN};
}

/* The same of a camera's setting, which its sensitivity may have moved. */
static standing stands_for(const tw_settings *s, const char *camera, const twi_row *row,
                           char text[TWI_VALUE_MAX])
{
    const entry *e = entry_of(s, camera, row);
    const char *unset =
        e || !camera ? row->preset : twi_unset_value(s, camera, row, NULL);
    if (unset == row->preset || strcmp(unset, row->preset) == 0)
        return stands(row, e);
    (void)snprintf(text, TWI_VALUE_MAX, "sensitivity = %d",
                   (int)twi_dial_of(s, camera, NULL));
    return (standing){unset, text};
}

/* @param fixed  It cannot be changed over the page, whatever its row says. */
static void show_row(const twi_row *row, const standing *at, bool fixed,
                     void (*visit)(void *ctx, const tw_setting *setting), void *ctx)
{
    char value[TWI_LINE_MAX], range[TWI_VALUE_MAX];
    row->type->explain(row, range, sizeof range);
    const tw_setting setting = {.section = row->section,
                                .group = row->group,
                                .key = row->key,
                                .value =
                                    twi_value_shown(row, at->value, value, sizeof value),
                                .preset = row->preset,
                                .range = range,
                                .choices = choices_of(row),
                                .help = row->help,
                                .origin = at->origin,
                                .in_file_alone = fixed || row->reach == TWI_REACH_FILE,
                                .applied = twi_row_applied(row)};
    visit(ctx, &setting);
}

tw_status tw_settings_walk(tw_settings *settings, const char *camera,
                           void (*visit)(void *ctx, const tw_setting *setting), void *ctx)
{
    size_t count = 0;
    const twi_row *rows = twi_table(&count);
    if (!settings || !visit)
        return TW_EINVAL;
    if (camera && !twi_find_section(settings, IN_CAMERA, camera))
        return TW_ENOENT;
    for (size_t i = 0; i < count; i++) {
        char text[TWI_VALUE_MAX];
        if (strcmp(rows[i].section, camera ? "camera" : "station") != 0)
            continue;
        const standing at = stands_for(settings, camera, &rows[i], text);
        show_row(&rows[i], &at, false, visit, ctx);
    }
    return TW_OK;
}

/* A section that inherits from none. @param secret  It has one, that must not be seen. */
static tw_status walk_lone(tw_settings *settings, level at_level, const char *head,
                           const char *name, bool secret,
                           void (*visit)(void *ctx, const tw_setting *setting), void *ctx)
{
    size_t count = 0;
    const twi_row *rows = twi_table(&count);
    if (!twi_find_section(settings, at_level, name))
        return TW_ENOENT;
    for (size_t i = 0; i < count; i++) {
        if (strcmp(rows[i].section, head) != 0)
            continue;
        const standing at =
            stands(&rows[i], twi_find_entry(settings, at_level, name, &rows[i]));
        show_row(&rows[i], &at, secret && rows[i].reach == TWI_REACH_SECRET, visit, ctx);
    }
    return TW_OK;
}

tw_status twi_settings_walk_destination(tw_settings *settings, const char *name,
                                        void (*visit)(void *ctx,
                                                      const tw_setting *setting),
                                        void *ctx)
{
    if (!settings || !name || !visit)
        return TW_EINVAL;
    return walk_lone(settings, IN_DESTINATION, "destination", name,
                     twi_has_secret(settings, name), visit, ctx);
}

tw_status twi_settings_walk_sensor(tw_settings *settings, const char *name,
                                   void (*visit)(void *ctx, const tw_setting *setting),
                                   void *ctx)
{
    if (!settings || !name || !visit)
        return TW_EINVAL;
    return walk_lone(settings, IN_SENSOR, "sensor", name, false, visit, ctx);
}

tw_status twi_settings_walk_cameras(tw_settings *settings,
                                    void (*visit)(void *ctx, const tw_setting *setting),
                                    void *ctx)
{
    size_t count = 0;
    const twi_row *rows = twi_table(&count);
    if (!settings || !visit)
        return TW_EINVAL;
    for (size_t i = 0; i < count; i++) {
        const standing at =
            stands(&rows[i], twi_find_entry(settings, IN_CAMERAS, "", &rows[i]));
        if (strcmp(rows[i].section, "camera") == 0)
            show_row(&rows[i], &at, false, visit, ctx);
    }
    return TW_OK;
}

tw_status twi_settings_walk_condition(tw_settings *settings, const char *name,
                                      void (*visit)(void *ctx, const tw_setting *setting),
                                      void *ctx)
{
    size_t count = 0;
    const twi_row *rows = twi_table(&count);
    if (!settings || !name || !visit)
        return TW_EINVAL;
    level at;
    if (!twi_condition_section_read(settings, name, &at))
        return TW_ENOENT;
    for (size_t i = 0; i < count; i++) {
        const entry *e = twi_find_entry(settings, at, name, &rows[i]);
        const standing stands_as =
            e ? stands(&rows[i], e) : (standing){rows[i].preset, TWI_NOT_SET};
        if (twi_row_changes(&rows[i]))
            show_row(&rows[i], &stands_as, false, visit, ctx);
    }
    return TW_OK;
}

/* ---- comparing ------------------------------------------------------------------- */

static bool same_value(const entry *a, const entry *b, const twi_row *row)
{
    return strcmp(a ? a->value : row->preset, b ? b->value : row->preset) == 0;
}

/* Whether a section that a has says the same in b. */
static bool same_section(const tw_settings *a, const tw_settings *b, level at,
                         const char *rows_of, const char *name)
{
    size_t count = 0;
    const twi_row *rows = twi_table(&count);
    bool same = twi_find_section(b, at, name) != NULL;
    for (size_t i = 0; i < count && same; i++)
        if (strcmp(rows[i].section, rows_of) == 0)
            same = same_value(twi_find_entry(a, at, name, &rows[i]),
                              twi_find_entry(b, at, name, &rows[i]), &rows[i]);
    return same;
}

/* Whether b has all sections of a level that a has, and the same in them. */
static bool has_sections(const tw_settings *a, const tw_settings *b, level at,
                         const char *rows_of)
{
    for (size_t i = 0; i < a->section_count; i++)
        if (a->sections[i].level == at &&
            !same_section(a, b, at, rows_of, a->sections[i].name))
            return false;
    return true;
}

/* Whether b has the zones of a camera that a has, and what holds for it at times. */
static bool has_parts(const tw_settings *a, const tw_settings *b, const char *camera)
{
    for (size_t i = 0; i < a->section_count; i++) {
        const section *s = &a->sections[i];
        const char *rows_of = twi_zone_of(s, camera)        ? "zone"
                              : twi_condition_of(s, camera) ? "camera"
                                                            : NULL;
        if (rows_of && !same_section(a, b, s->level, rows_of, s->name))
            return false;
    }
    return true;
}

tw_applied twi_settings_difference(const tw_settings *a, const tw_settings *b,
                                   const char *camera)
{
    size_t count = 0;
    const twi_row *rows = twi_table(&count);
    tw_applied most = TW_APPLIED_NOT;
    if (!a || !b)
        return TW_APPLIED_START;
    for (size_t i = 0; i < count; i++) {
        const tw_applied applied = twi_row_applied(&rows[i]);
        if (strcmp(rows[i].section, camera ? "camera" : "station") == 0 &&
            applied > most &&
            !same_value(entry_of(a, camera, &rows[i]), entry_of(b, camera, &rows[i]),
                        &rows[i]))
            most = applied;
    }
    if (most == TW_APPLIED_NOT && camera &&
        !(has_parts(a, b, camera) && has_parts(b, a, camera)))
        most = TW_APPLIED_LIVE;
    return most;
}

bool twi_settings_same_hooks(const tw_settings *a, const tw_settings *b)
{
    return a && b && has_sections(a, b, IN_HOOK, "hook") &&
           has_sections(b, a, IN_HOOK, "hook");
}

bool twi_settings_same_sensors(const tw_settings *a, const tw_settings *b)
{
    return a && b && has_sections(a, b, IN_SENSOR, "sensor") &&
           has_sections(b, a, IN_SENSOR, "sensor");
}

/* Whether b has the cameras that a has, and the same goes from them. */
static bool sends_alike(const tw_settings *a, const tw_settings *b)
{
    size_t count = 0;
    const twi_row *rows = twi_table(&count);
    for (size_t i = 0; i < a->section_count; i++) {
        const char *name = a->sections[i].name;
        if (a->sections[i].level != IN_CAMERA)
            continue;
        bool same = twi_find_section(b, IN_CAMERA, name) != NULL;
        for (size_t k = 0; same && k < count; k++)
            if ((rows[k].applied & TWI_SENDING) && strcmp(rows[k].section, "camera") == 0)
                same = same_value(twi_deciding(a, name, &rows[k], NULL),
                                  twi_deciding(b, name, &rows[k], NULL), &rows[k]);
        if (!same)
            return false;
    }
    return true;
}

bool twi_settings_same_sending(const tw_settings *a, const tw_settings *b)
{
    const twi_row *name = twi_table_find("station", "name");
    return a && b && has_sections(a, b, IN_DESTINATION, "destination") &&
           has_sections(b, a, IN_DESTINATION, "destination") && sends_alike(a, b) &&
           sends_alike(b, a) &&
           same_value(entry_of(a, NULL, name), entry_of(b, NULL, name), name);
}
