/* What the settings files said, and what follows from it for each camera. */
#include <stdlib.h>
#include <string.h>

#include "reader.h"
#include "state.h"
#include "sections.h"
#include "tawny/zones.h"
#include "tawny/settings.h"

enum { ENTRIES_MAX = 100000 };

/* ---- keeping --------------------------------------------------------------------- */

tw_settings *tw_settings_new(void)
{
    return calloc(1, sizeof(tw_settings));
}

static void forget_zones(tw_settings *s)
{
    for (size_t i = 0; i < s->made_count; i++) {
        free(s->made[i].camera);
        free(s->made[i].zones);
        free(s->made[i].names);
        free(s->made[i].points);
    }
    free(s->made);
    s->made = NULL;
    s->made_count = 0;
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
    forget_zones(s);
    free(s);
}

/* An array with room for one more element. @return it, NULL: out of memory, and the old
 * one still stands. */
static void *one_more(void *array, size_t count, size_t size)
{
    return count < ENTRIES_MAX ? realloc(array, (count + 1) * size) : NULL;
}

section *twi_find_section(const tw_settings *s, level at, const char *name)
{
    for (size_t i = 0; i < s->section_count; i++)
        if (s->sections[i].level == at && strcmp(s->sections[i].name, name) == 0)
            return &s->sections[i];
    return NULL;
}

tw_status twi_add_section(tw_settings *s, level at, const char *name, const char *file,
                          unsigned line)
{
    if (twi_find_section(s, at, name))
        return TW_OK;
    section *more = one_more(s->sections, s->section_count, sizeof *more);
    if (!more)
        return TW_ENOMEM;
    s->sections = more;
    const section added = {at, strdup(name), strdup(file), line, false};
    if (!added.name || !added.file) {
        free(added.name);
        free(added.file);
        return TW_ENOMEM;
    }
    s->sections[s->section_count++] = added;
    return TW_OK;
}

entry *twi_find_entry(const tw_settings *s, level at, const char *name,
                      const twi_row *row)
{
    for (size_t i = 0; i < s->entry_count; i++) {
        entry *e = &s->entries[i];
        if (e->row == row && e->level == at && strcmp(e->name, name) == 0)
            return e;
    }
    return NULL;
}

tw_status twi_add_entry(tw_settings *s, level at, const char *name, const twi_row *row,
                        const char *value, const char *origin)
{
    forget_zones(s);
    entry made = {row, at, strdup(name), strdup(value), strdup(origin)};
    if (!made.name || !made.value || !made.origin)
        goto fail;
    entry *old = twi_find_entry(s, at, name, row);
    if (old) { /* a later --set of the same key */
        free(old->name);
        free(old->value);
        free(old->origin);
        *old = made;
        return TW_OK;
    }
    entry *more = one_more(s->entries, s->entry_count, sizeof *more);
    if (!more)
        goto fail;
    s->entries = more;
    s->entries[s->entry_count++] = made;
    return TW_OK;
fail:
    free(made.name);
    free(made.value);
    free(made.origin);
    return TW_ENOMEM;
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

/* Take the next name off a list. @return false: there is none. */
bool twi_next_name(const char **list, char *name, size_t capacity)
{
    *list += strspn(*list, " \t,");
    const size_t n = strcspn(*list, " \t,");
    if (n == 0 || n >= capacity)
        return false;
    memcpy(name, *list, n);
    name[n] = '\0';
    *list += n;
    return true;
}

const entry *twi_used_profiles(const tw_settings *s, const char *camera)
{
    const twi_row *use = twi_table_find("camera", "use");
    const entry *e = twi_find_entry(s, SET_CAMERA, camera, use);
    return e ? e : twi_find_entry(s, IN_CAMERA, camera, use);
}

/* The entry that decides a camera's setting, NULL: the built-in value does. */
const entry *twi_deciding(const tw_settings *s, const char *camera, const twi_row *row)
{
    const entry *found = twi_find_entry(s, IN_CAMERAS, "", row), *e = NULL;
    const entry *use = twi_used_profiles(s, camera);
    const char *list = use ? use->value : "";
    char profile[NAME_MAX_BYTES + 1];
    while (twi_next_name(&list, profile, sizeof profile))
        if ((e = twi_find_entry(s, IN_PROFILE, profile, row)) != NULL)
            found = e;
    if ((e = twi_find_entry(s, IN_CAMERA, camera, row)) != NULL)
        found = e;
    if ((e = twi_find_entry(s, SET_ALL, "", row)) != NULL)
        found = e;
    if ((e = twi_find_entry(s, SET_CAMERA, camera, row)) != NULL)
        found = e;
    return found;
}

/* Whether the sections that speak of a camera have no mistakes. */
static bool sound_sections(const tw_settings *s, const char *camera)
{
    const section *self = twi_find_section(s, IN_CAMERA, camera);
    if (!self || self->wrong)
        return false;
    for (size_t i = 0; i < s->section_count; i++)
        if (s->sections[i].wrong && twi_zone_of(&s->sections[i], camera))
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

/* Both the presets and every value kept were tried before, so parsing cannot fail. */
static void fill(const twi_row *row, const entry *from, void *record)
{
    (void)row->type->parse(row, from ? from->value : row->preset,
                           (char *)record + row->offset);
}

/* All settings of a section that inherits from none. */
static void fill_section(const tw_settings *s, const char *rows_of, level at,
                         const char *name, void *out, size_t bytes)
{
    size_t count = 0;
    const twi_row *rows = twi_table(&count);
    memset(out, 0, bytes);
    for (size_t i = 0; i < count; i++)
        if (strcmp(rows[i].section, rows_of) == 0)
            fill(&rows[i], twi_find_entry(s, at, name, &rows[i]), out);
}

void twi_settings_station(const tw_settings *settings, twi_station_settings *out)
{
    fill_section(settings, "station", IN_STATION, "", out, sizeof *out);
}

/* The name of a sound section of a level. */
static const char *name_of(const tw_settings *settings, level at, size_t index)
{
    for (size_t i = 0; settings && i < settings->section_count; i++) {
        const section *s = &settings->sections[i];
        if (s->level == at && !s->wrong && index-- == 0)
            return s->name;
    }
    return NULL;
}

const char *twi_settings_hook_name(const tw_settings *settings, size_t index)
{
    return name_of(settings, IN_HOOK, index);
}

tw_status twi_settings_hook(const tw_settings *settings, const char *name,
                            twi_hook_settings *out)
{
    if (!settings || !name || !out)
        return TW_EINVAL;
    const section *self = twi_find_section(settings, IN_HOOK, name);
    if (!self)
        return TW_ENOENT;
    fill_section(settings, "hook", IN_HOOK, name, out, sizeof *out);
    out->name = self->name;
    return TW_OK;
}

const char *twi_settings_destination_name(const tw_settings *settings, size_t index)
{
    return name_of(settings, IN_DESTINATION, index);
}

tw_status twi_settings_destination(const tw_settings *settings, const char *name,
                                   twi_destination_settings *out)
{
    if (!settings || !name || !out)
        return TW_EINVAL;
    const section *self = twi_find_section(settings, IN_DESTINATION, name);
    if (!self)
        return TW_ENOENT;
    fill_section(settings, "destination", IN_DESTINATION, name, out, sizeof *out);
    out->name = self->name;
    return TW_OK;
}

bool twi_settings_names(const char *list, const char *name)
{
    char item[NAME_MAX_BYTES + 1];
    while (list && twi_next_name(&list, item, sizeof item))
        if (strcmp(item, name) == 0)
            return true;
    return false;
}

/* @return the zone's own name if it is one of this camera's, else NULL. */
const char *twi_zone_of(const section *s, const char *camera)
{
    const size_t n = strlen(camera);
    if (s->level != IN_ZONE || strncmp(s->name, camera, n) != 0 || s->name[n] != '/')
        return NULL;
    return s->name + n + 1;
}

void twi_read_zone(const tw_settings *s, const char *name, twi_zone_settings *out)
{
    fill_section(s, "zone", IN_ZONE, name, out, sizeof *out);
}

static bool make_zones(const tw_settings *s, camera_zones *made)
{
    size_t most = 0;
    for (size_t i = 0; i < s->section_count; i++)
        most += twi_zone_of(&s->sections[i], made->camera) != NULL;
    made->zones = calloc(most + 1, sizeof *made->zones);
    made->names = calloc(most + 1, sizeof *made->names);
    made->points = calloc(most * TWI_AREA_MAX + 1, sizeof *made->points);
    if (!made->zones || !made->names || !made->points)
        return false;
    for (size_t i = 0; i < s->section_count; i++) {
        const char *name = twi_zone_of(&s->sections[i], made->camera);
        if (!name)
            continue;
        twi_zone_settings read;
        twi_read_zone(s, s->sections[i].name, &read);
        tw_point *points = made->points + made->count * TWI_AREA_MAX;
        const size_t corners = read.area ? twi_area_parse(read.area, points) : 0;
        if (corners == 0)
            continue; /* tw_settings_check has told */
        made->zones[made->count] = (tw_zone){
            .points = points,
            .count = (uint16_t)corners,
            .watched = read.kind == TWI_ZONE_WATCHED,
            .start_ppm = (uint32_t)read.start_ppm,
            .stay_ppm = (uint32_t)(read.stay_ppm > 0 ? read.stay_ppm : read.start_ppm)};
        made->names[made->count] = name;
        made->count++;
    }
    return true;
}

static const camera_zones *zones_for(tw_settings *s, const char *camera)
{
    for (size_t i = 0; i < s->made_count; i++)
        if (strcmp(s->made[i].camera, camera) == 0)
            return &s->made[i];
    camera_zones *more = one_more(s->made, s->made_count, sizeof *more);
    if (!more)
        return NULL;
    s->made = more;
    camera_zones *made = &s->made[s->made_count++];
    memset(made, 0, sizeof *made);
    made->camera = strdup(camera);
    if (made->camera && make_zones(s, made))
        return made;
    forget_zones(s);
    return NULL;
}

tw_status twi_settings_camera(tw_settings *settings, const char *name,
                              twi_camera_settings *out)
{
    if (!settings || !name || !out)
        return TW_EINVAL;
    const section *self = twi_find_section(settings, IN_CAMERA, name);
    if (!self)
        return TW_ENOENT;
    size_t count = 0;
    const twi_row *rows = twi_table(&count);
    memset(out, 0, sizeof *out);
    out->name = self->name;
    for (size_t i = 0; i < count; i++)
        if (strcmp(rows[i].section, "camera") == 0)
            fill(&rows[i], twi_deciding(settings, name, &rows[i]), out);
    const camera_zones *zones = zones_for(settings, name);
    if (!zones)
        return TW_ENOMEM;
    out->zones = zones->zones;
    out->zone_names = zones->names;
    out->zone_count = zones->count;
    return TW_OK;
}

/* What decides a setting of a camera, or, NULL, of the station. */
static const entry *entry_of(const tw_settings *s, const char *camera, const twi_row *row)
{
    return camera ? twi_deciding(s, camera, row) : twi_find_entry(s, IN_STATION, "", row);
}

/* ---- looking ---------------------------------------------------------------------- */

static const char *choices_of(const twi_row *row)
{
    if (row->type == &twi_type_switch)
        return "yes no";
    return row->type == &twi_type_choice ? row->choices : NULL;
}

/* Headers may carry a secret of their own; {secret} is the way that shows none. */
static const char *shown(const twi_row *row, const char *value)
{
    const bool bare =
        strcmp(row->key, "headers") == 0 && value[0] && strstr(value, "{secret}") == NULL;
    return bare ? "***" : value;
}

static tw_applied applied_of(const twi_row *row)
{
    return (tw_applied)(row->applied & ~(unsigned)TWI_SENDING);
}

/* @param fixed  It cannot be changed over the page, whatever its row says. */
static void show_row(const twi_row *row, const entry *e, bool fixed,
                     void (*visit)(void *ctx, const tw_setting *setting), void *ctx)
{
    twi_value field;
    char value[TWI_LINE_MAX], range[TWI_VALUE_MAX];
    memset(&field, 0, sizeof field);
    (void)row->type->parse(row, e ? e->value : row->preset, &field);
    row->type->print(row, &field, value, sizeof value);
    row->type->explain(row, range, sizeof range);
    const tw_setting setting = {.section = row->section,
                                .group = row->group,
                                .key = row->key,
                                .value = shown(row, value),
                                .preset = row->preset,
                                .range = range,
                                .choices = choices_of(row),
                                .help = row->help,
                                .origin = e ? e->origin : "built-in",
                                .in_file_alone = fixed || row->reach == TWI_REACH_FILE,
                                .applied = applied_of(row)};
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
    for (size_t i = 0; i < count; i++)
        if (strcmp(rows[i].section, camera ? "camera" : "station") == 0)
            show_row(&rows[i], entry_of(settings, camera, &rows[i]), false, visit, ctx);
    return TW_OK;
}

tw_status twi_settings_walk_destination(tw_settings *settings, const char *name,
                                        void (*visit)(void *ctx,
                                                      const tw_setting *setting),
                                        void *ctx)
{
    size_t count = 0;
    const twi_row *rows = twi_table(&count);
    if (!settings || !name || !visit)
        return TW_EINVAL;
    if (!twi_find_section(settings, IN_DESTINATION, name))
        return TW_ENOENT;
    const bool secret = twi_has_secret(settings, name);
    for (size_t i = 0; i < count; i++)
        if (strcmp(rows[i].section, "destination") == 0)
            show_row(&rows[i], twi_find_entry(settings, IN_DESTINATION, name, &rows[i]),
                     secret && rows[i].reach == TWI_REACH_SECRET, visit, ctx);
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

/* Whether b has the zones of a camera that a has. */
static bool has_zones(const tw_settings *a, const tw_settings *b, const char *camera)
{
    for (size_t i = 0; i < a->section_count; i++)
        if (twi_zone_of(&a->sections[i], camera) &&
            !same_section(a, b, IN_ZONE, "zone", a->sections[i].name))
            return false;
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
        const tw_applied applied = applied_of(&rows[i]);
        if (strcmp(rows[i].section, camera ? "camera" : "station") == 0 &&
            applied > most &&
            !same_value(entry_of(a, camera, &rows[i]), entry_of(b, camera, &rows[i]),
                        &rows[i]))
            most = applied;
    }
    if (most == TW_APPLIED_NOT && camera &&
        !(has_zones(a, b, camera) && has_zones(b, a, camera)))
        most = TW_APPLIED_LIVE;
    return most;
}

bool twi_settings_same_hooks(const tw_settings *a, const tw_settings *b)
{
    return a && b && has_sections(a, b, IN_HOOK, "hook") &&
           has_sections(b, a, IN_HOOK, "hook");
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
                same = same_value(twi_deciding(a, name, &rows[k]),
                                  twi_deciding(b, name, &rows[k]), &rows[k]);
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
