/* What settings say, as C values. */
#include "sections.h"

#include <stdlib.h>
#include <string.h>

#include "dial.h"
#include "state.h"

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
const entry *twi_deciding(const tw_settings *s, const char *camera, const twi_row *row,
                          const twi_holding *now)
{
    const entry *found = twi_find_entry(s, IN_CAMERAS, "", row), *e = NULL;
    if ((e = twi_deciding_when(s, camera, IN_CAMERAS_WHEN, row, now)) != NULL)
        found = e;
    const entry *use = twi_used_profiles(s, camera);
    const char *list = use ? use->value : "";
    char profile[NAME_MAX_BYTES + 1];
    while (twi_next_name(&list, profile, sizeof profile))
        if ((e = twi_find_entry(s, IN_PROFILE, profile, row)) != NULL)
            found = e;
    if ((e = twi_find_entry(s, IN_CAMERA, camera, row)) != NULL)
        found = e;
    if ((e = twi_deciding_when(s, camera, IN_CAMERA_WHEN, row, now)) != NULL)
        found = e;
    if ((e = twi_find_entry(s, SET_ALL, "", row)) != NULL)
        found = e;
    if ((e = twi_find_entry(s, SET_CAMERA, camera, row)) != NULL)
        found = e;
    return found;
}

int64_t twi_dial_of(const tw_settings *s, const char *camera, const twi_holding *now)
{
    const twi_row *row = twi_table_find("camera", "sensitivity");
    const entry *e = twi_deciding(s, camera, row, now);
    int64_t step = TWI_DIAL_USUAL;
    (void)row->type->parse(row, e ? e->value : row->preset, &step);
    return step;
}

const char *twi_unset_value(const tw_settings *s, const char *camera, const twi_row *row,
                            const twi_holding *now)
{
    const char *turned = twi_dial_value(row, TWI_DIAL_USUAL)
                             ? twi_dial_value(row, twi_dial_of(s, camera, now))
                             : NULL;
    return turned ? turned : row->preset;
}

/* Both the presets and every value kept were tried before, so parsing cannot fail. */
static void fill(const twi_row *row, const char *value, void *record)
{
    (void)row->type->parse(row, value, (char *)record + row->offset);
}

/* All settings of a section that inherits from none. */
static void fill_section(const tw_settings *s, const char *rows_of, level at,
                         const char *name, void *out, size_t bytes)
{
    size_t count = 0;
    const twi_row *rows = twi_table(&count);
    memset(out, 0, bytes);
    for (size_t i = 0; i < count; i++) {
        const entry *e = twi_find_entry(s, at, name, &rows[i]);
        if (strcmp(rows[i].section, rows_of) == 0)
            fill(&rows[i], e ? e->value : rows[i].preset, out);
    }
}

void twi_settings_station(const tw_settings *settings, twi_station_settings *out)
{
    fill_section(settings, "station", IN_STATION, "", out, sizeof *out);
}

void twi_settings_gather(const tw_settings *settings, twi_gather_settings *out)
{
    fill_section(settings, "gather", IN_GATHER, "", out, sizeof *out);
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

const char *twi_settings_sensor_name(const tw_settings *settings, size_t index)
{
    return name_of(settings, IN_SENSOR, index);
}

tw_status twi_settings_sensor(const tw_settings *settings, const char *name,
                              twi_sensor_settings *out)
{
    if (!settings || !name || !out)
        return TW_EINVAL;
    const section *self = twi_find_section(settings, IN_SENSOR, name);
    if (!self)
        return TW_ENOENT;
    fill_section(settings, "sensor", IN_SENSOR, name, out, sizeof *out);
    out->name = self->name;
    return TW_OK;
}

const char *twi_settings_destination_name(const tw_settings *settings, size_t index)
{
    return name_of(settings, IN_DESTINATION, index);
}

bool twi_url_is_phones(const char *url)
{
    return url && strcmp(url, "push:") == 0;
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

static int64_t dialled(const char *key, int64_t step)
{
    const twi_row *row = twi_table_find("camera", key);
    int64_t value = 0;
    (void)row->type->parse(row, twi_dial_value(row, step), &value);
    return value;
}

/* A zone with a sensitivity of its own asks for evidence of its own. Its limits are the
 * camera's unless it has some. */
static void turn_zone(const tw_settings *s, const char *camera, const twi_holding *now,
                      twi_zone_settings *zone, uint16_t *evidence_pct)
{
    const twi_row *row = twi_table_find("camera", "start_at");
    const entry *e = twi_deciding(s, camera, row, now);
    if (zone->sensitivity == 0 || !twi_zone_is_watched(zone))
        return;
    *evidence_pct = (uint16_t)dialled("evidence", zone->sensitivity);
    if (zone->start_ppm == 0)
        (void)row->type->parse(row, e ? e->value : row->preset, &zone->start_ppm);
}

static bool make_zones(const tw_settings *s, const twi_holding *now, camera_zones *made)
{
    size_t most = 0;
    for (size_t i = 0; i < s->section_count; i++)
        most += twi_zone_of(&s->sections[i], made->camera) != NULL;
    made->zones = calloc(most + 1, sizeof *made->zones);
    made->names = calloc(most + 1, sizeof *made->names);
    made->points = calloc(most * TWI_AREA_MAX + 1, sizeof *made->points);
    made->evidence_pct = calloc(most + 1, sizeof *made->evidence_pct);
    made->hidden = calloc(most + 1, sizeof *made->hidden);
    if (!made->zones || !made->names || !made->points || !made->evidence_pct ||
        !made->hidden)
        return false;
    for (size_t i = 0; i < s->section_count; i++) {
        const char *name = twi_zone_of(&s->sections[i], made->camera);
        if (!name)
            continue;
        twi_zone_settings read;
        twi_read_zone(s, s->sections[i].name, &read);
        turn_zone(s, made->camera, now, &read, &made->evidence_pct[made->count]);
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
        if (read.kind == TWI_ZONE_PRIVATE)
            made->hidden[made->hidden_count++] = made->zones[made->count];
        made->count++;
    }
    return true;
}

static const camera_zones *zones_for(tw_settings *s, const char *camera,
                                     const twi_holding *now)
{
    for (size_t i = 0; i < s->made_count; i++)
        if (strcmp(s->made[i].camera, camera) == 0 && s->made[i].bits == now->bits)
            return &s->made[i];
    camera_zones *more = twi_one_more(s->made, s->made_count, sizeof *more);
    if (!more)
        return NULL;
    s->made = more;
    camera_zones *made = &s->made[s->made_count++];
    memset(made, 0, sizeof *made);
    made->camera = strdup(camera);
    made->bits = now->bits;
    if (made->camera && make_zones(s, now, made))
        return made;
    twi_free_zones(made);
    s->made_count--;
    return NULL;
}

/* All settings of a camera, by what holds. */
static tw_status fill_camera(tw_settings *s, const section *self, const twi_holding *now,
                             twi_camera_settings *out)
{
    size_t count = 0;
    const twi_row *rows = twi_table(&count);
    memset(out, 0, sizeof *out);
    out->name = self->name;
    for (size_t i = 0; i < count; i++) {
        if (strcmp(rows[i].section, "camera") != 0)
            continue;
        const entry *e = twi_deciding(s, self->name, &rows[i], now);
        fill(&rows[i], e ? e->value : twi_unset_value(s, self->name, &rows[i], now), out);
    }
    const camera_zones *zones = zones_for(s, self->name, now);
    if (!zones)
        return TW_ENOMEM;
    out->zones = zones->zones;
    out->zone_names = zones->names;
    out->zone_evidence_pct = zones->evidence_pct;
    out->zone_count = zones->count;
    out->private_zones = zones->hidden;
    out->private_count = zones->hidden_count;
    out->conditions = now->conditions->count > 0 ? now->conditions : NULL;
    return TW_OK;
}

static bool make_times(tw_settings *s, const section *self, camera_times *made)
{
    twi_conditions *all = calloc(1, sizeof *all);
    bool good = all != NULL;
    made->conditions = all;
    if (all)
        (void)twi_gather_conditions(s, self->name, all);
    const unsigned count = all ? 1U << all->count : 1U;
    made->by = calloc(count, sizeof *made->by);
    for (unsigned bits = 0; good && made->by && bits < count; bits++)
        good = fill_camera(s, self, &(twi_holding){all, bits}, &made->by[bits]) == TW_OK;
    if (good)
        all->by = made->by;
    return good && made->by;
}

/* A camera's settings, by each set of its conditions. */
static const twi_conditions *times_for(tw_settings *s, const section *self)
{
    for (size_t i = 0; i < s->times_count; i++)
        if (strcmp(s->times[i].camera, self->name) == 0)
            return s->times[i].conditions;
    camera_times *more = twi_one_more(s->times, s->times_count, sizeof *more);
    if (!more)
        return NULL;
    s->times = more;
    s->times[s->times_count++] = (camera_times){.camera = strdup(self->name)};
    camera_times *made = &s->times[s->times_count - 1];
    if (made->camera && make_times(s, self, made))
        return made->conditions;
    twi_free_times(made);
    s->times_count--;
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
    const twi_conditions *times = times_for(settings, self);
    if (!times)
        return TW_ENOMEM;
    *out = times->by[0];
    return TW_OK;
}
