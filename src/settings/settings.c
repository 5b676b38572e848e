/* What the settings files say, and what follows from it for each camera. */
#include "tawny/settings.h"

#include <errno.h>
#include <glob.h>
#include <stdarg.h>
#include <stdlib.h>
#include <string.h>

#include "reader.h"
#include "table.h"
#include "tawny/hours.h"

enum {
    NAME_MAX_BYTES = 32,
    ENTRIES_MAX = 100000,
    ZONES_MAX = 1000,
    INCLUDES_MAX = 8,
    PATH_BYTES = 4096
};

/* Where a value stands. Of two values for one key, the higher wins. */
typedef enum level {
    IN_STATION,
    IN_CAMERAS,
    IN_PROFILE,
    IN_CAMERA,
    IN_ZONE,
    SET_ALL,   /* --set key=value */
    SET_CAMERA /* --set NAME.key=value, or station.key */
} level;

typedef struct section {
    level level;
    char *name; /* "" where there is only one */
    char *file;
    unsigned line;
} section;

typedef struct entry {
    const tw_row *row;
    level level;
    char *name; /* of the section */
    char *value;
    char *origin; /* "station.ini:14" */
} entry;

/* A camera's zones, made when they are asked for. */
typedef struct camera_zones {
    char *camera;
    tw_zone *zones;
    const char **names;
    tw_point *points;
    size_t count;
} camera_zones;

struct tw_settings {
    section *sections;
    size_t section_count;
    entry *entries;
    size_t entry_count;
    camera_zones *made;
    size_t made_count;
    bool out_of_memory;
};

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

static const section *find_section(const tw_settings *s, level at, const char *name)
{
    for (size_t i = 0; i < s->section_count; i++)
        if (s->sections[i].level == at && strcmp(s->sections[i].name, name) == 0)
            return &s->sections[i];
    return NULL;
}

static tw_status add_section(tw_settings *s, level at, const char *name, const char *file,
                             unsigned line)
{
    if (find_section(s, at, name))
        return TW_OK;
    section *more = one_more(s->sections, s->section_count, sizeof *more);
    if (!more)
        return TW_ENOMEM;
    s->sections = more;
    const section added = {at, strdup(name), strdup(file), line};
    if (!added.name || !added.file) {
        free(added.name);
        free(added.file);
        return TW_ENOMEM;
    }
    s->sections[s->section_count++] = added;
    return TW_OK;
}

static entry *find_entry(const tw_settings *s, level at, const char *name,
                         const tw_row *row)
{
    for (size_t i = 0; i < s->entry_count; i++) {
        entry *e = &s->entries[i];
        if (e->row == row && e->level == at && strcmp(e->name, name) == 0)
            return e;
    }
    return NULL;
}

static tw_status add_entry(tw_settings *s, level at, const char *name, const tw_row *row,
                           const char *value, const char *origin)
{
    forget_zones(s);
    entry made = {row, at, strdup(name), strdup(value), strdup(origin)};
    if (!made.name || !made.value || !made.origin)
        goto fail;
    entry *old = find_entry(s, at, name, row);
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

/* ---- taking in ------------------------------------------------------------------- */

/* One reading of a file: where it stands, and what it has found. */
typedef struct intake {
    tw_settings *settings;
    const char *file;
    tw_problem_fn told;
    void *ctx;
    bool in_section;
    bool skip; /* the section is not known, and that has been said */
    level level;
    char name[2 * NAME_MAX_BYTES + 2];
    tw_status status;
    const char *folder; /* of the file; NULL: it is none, and cannot include others */
    int depth;          /* of files that include each other */
} intake;

static void tell(intake *in, tw_status st, unsigned line, const char *format, ...)
    TW_PRINTF(4, 5);

static void tell(intake *in, tw_status st, unsigned line, const char *format, ...)
{
    if (in->status == TW_OK || st == TW_ENOMEM)
        in->status = st;
    if (!in->told)
        return;
    char what[TW_ERROR_MAX], all[2 * TW_ERROR_MAX];
    va_list args;
    va_start(args, format);
    (void)vsnprintf(what, sizeof what, format, args);
    va_end(args);
    if (line > 0)
        (void)snprintf(all, sizeof all, "%s:%u: %s", in->file, line, what);
    else
        (void)snprintf(all, sizeof all, "%s: %s", in->file, what);
    in->told(in->ctx, all);
}

static bool good_name(const char *name)
{
    const size_t n = strlen(name);
    if (n == 0 || n > NAME_MAX_BYTES)
        return false;
    for (size_t i = 0; i < n; i++) {
        const char c = name[i];
        if (!(c >= 'a' && c <= 'z') && !(c >= 'A' && c <= 'Z') &&
            !(c >= '0' && c <= '9') && c != '-' && c != '_')
            return false;
    }
    return strcmp(name, "station") != 0;
}

static bool good_zone_name(const char *name)
{
    char camera[NAME_MAX_BYTES + 1];
    const char *slash = strchr(name, '/');
    if (!slash || (size_t)(slash - name) > NAME_MAX_BYTES)
        return false;
    memcpy(camera, name, (size_t)(slash - name));
    camera[slash - name] = '\0';
    return good_name(camera) && good_name(slash + 1);
}

static const struct {
    const char *head;
    level level;
    const char *rows; /* section of the table */
    const char *form;
} HEADS[] = {{"station", IN_STATION, "station", NULL},
             {"cameras", IN_CAMERAS, "camera", NULL},
             {"profile", IN_PROFILE, "camera", "[profile NAME]"},
             {"camera", IN_CAMERA, "camera", "[camera NAME]"},
             {"zone", IN_ZONE, "zone", "[zone CAMERA/NAME]"}};

enum { HEAD_COUNT = sizeof HEADS / sizeof *HEADS };

static const char *rows_of(level at)
{
    for (size_t i = 0; i < HEAD_COUNT; i++)
        if (HEADS[i].level == at)
            return HEADS[i].rows;
    return "camera";
}

static void take_section(void *ctx, unsigned line, const char *head, const char *name)
{
    intake *in = ctx;
    in->in_section = true;
    in->skip = true;
    const char *heads[HEAD_COUNT + 1] = {NULL};
    size_t i = 0;
    for (; i < HEAD_COUNT && strcmp(HEADS[i].head, head) != 0; i++)
        heads[i] = HEADS[i].head;
    if (i == HEAD_COUNT) {
        const char *near = tw_nearest(head, heads);
        tell(in, TW_ESYNTAX, line, "unknown section [%s]%s%s%s", head,
             near ? ": did you mean ["
                  : ": sections are station, cameras, profile, camera, zone",
             near ? near : "", near ? "]?" : "");
        return;
    }
    const bool named = HEADS[i].form != NULL;
    if (!named && *name) {
        tell(in, TW_ESYNTAX, line, "[%s %s]: this section has no name, write [%s]", head,
             name, head);
        return;
    }
    if (named && !(HEADS[i].level == IN_ZONE ? good_zone_name(name) : good_name(name))) {
        tell(in, TW_ESYNTAX, line,
             "[%s %s]: write %s, names being 1 to %d letters, digits, - or _", head, name,
             HEADS[i].form, NAME_MAX_BYTES);
        return;
    }
    in->skip = false;
    in->level = HEADS[i].level;
    (void)snprintf(in->name, sizeof in->name, "%s", name);
    if (add_section(in->settings, in->level, name, in->file, line) != TW_OK)
        tell(in, TW_ENOMEM, line, "out of memory");
}

/* @return the row of a key; says why there is none. */
static const tw_row *row_for(intake *in, unsigned line, level at, const char *key)
{
    const char *rows = rows_of(at);
    const tw_row *row = tw_table_find(rows, key);
    if (row && strcmp(key, "use") == 0 && at != IN_CAMERA && at != SET_CAMERA) {
        tell(in, TW_ESYNTAX, line, "use belongs in a [camera NAME] section");
        return NULL;
    }
    if (row)
        return row;
    for (size_t i = 0; i < HEAD_COUNT; i++) {
        if (tw_table_find(HEADS[i].rows, key)) {
            tell(in, TW_ESYNTAX, line,
                 "%s is no setting of a %s, it belongs in a [%s] section", key, rows,
                 HEADS[i].head);
            return NULL;
        }
    }
    const char *near = tw_table_nearest(rows, key);
    tell(in, TW_ESYNTAX, line, "unknown setting %s%s%s%s", key,
         near ? ": did you mean " : "", near ? near : "", near ? "?" : "");
    return NULL;
}

static void take_checked(intake *in, unsigned line, level at, const char *name,
                         const char *key, const char *value, const char *origin)
{
    const tw_row *row = row_for(in, line, at, key);
    if (!row)
        return;
    tw_value tried;
    memset(&tried, 0, sizeof tried);
    if (!row->type->parse(row, value, &tried)) {
        char expected[TW_VALUE_MAX];
        row->type->explain(row, expected, sizeof expected);
        tell(in, TW_ESYNTAX, line, "%s = %s: expected %s", key, value, expected);
        return;
    }
    if (add_entry(in->settings, at, name, row, value, origin) != TW_OK)
        tell(in, TW_ENOMEM, line, "out of memory");
}

static void take_include(intake *in, unsigned line, const char *value);

static void take_value(void *ctx, unsigned line, const char *key, const char *value)
{
    intake *in = ctx;
    if (strcmp(key, "include") == 0) {
        take_include(in, line, value);
        return;
    }
    if (!in->in_section) {
        tell(in, TW_ESYNTAX, line, "%s stands before any section; begin with [cameras]",
             key);
        return;
    }
    if (in->skip)
        return;
    char origin[TW_ERROR_MAX];
    (void)snprintf(origin, sizeof origin, "%s:%u", in->file, line);
    const tw_row *row = tw_table_find(rows_of(in->level), key);
    const entry *old = row ? find_entry(in->settings, in->level, in->name, row) : NULL;
    if (old) {
        tell(in, TW_ESYNTAX, line, "%s is set already, at %s: remove one of the two", key,
             old->origin);
        return;
    }
    take_checked(in, line, in->level, in->name, key, value, origin);
}

static void take_problem(void *ctx, unsigned line, const char *what)
{
    tell(ctx, TW_ESYNTAX, line, "%s", what);
}

static void read_text(intake *in, const char *text, size_t bytes)
{
    if (bytes > TW_FILE_MAX) {
        tell(in, TW_ESIZE, 0, "a settings file has at most 1 MB");
        return;
    }
    const tw_reader reader = {in, take_section, take_value, take_problem};
    tw_reader_run(&reader, text, bytes);
}

/* @return what a file holds, to be freed; NULL: told. */
static char *read_whole(intake *in, const char *path, size_t *bytes)
{
    FILE *file = fopen(path, "rb");
    char *text = file ? malloc(TW_FILE_MAX + 1) : NULL;
    if (!file) {
        tell(in, tw_status_of_errno(errno), 0, "cannot read the settings: %s",
             strerror(errno));
        return NULL;
    }
    if (text) {
        *bytes = fread(text, 1, TW_FILE_MAX + 1, file);
        if (ferror(file)) { /* a folder, for one, can be opened but not read */
            tell(in, TW_EIO, 0, "cannot read the settings: %s", strerror(errno));
            free(text);
            text = NULL;
        }
    } else {
        tell(in, TW_ENOMEM, 0, "out of memory");
    }
    (void)fclose(file);
    return text;
}

/* The folder of a path: "." for a name alone. */
static void folder_of(const char *path, char out[PATH_BYTES])
{
    const char *slash = strrchr(path, '/');
    if (slash)
        (void)snprintf(out, PATH_BYTES, "%.*s", slash == path ? 1 : (int)(slash - path),
                       path);
    else
        (void)snprintf(out, PATH_BYTES, ".");
}

/* A file in place of the line that includes it. */
static void include_file(intake *in, const char *path, const char *shown)
{
    char folder[PATH_BYTES];
    folder_of(path, folder);
    intake inner = {.settings = in->settings,
                    .file = shown,
                    .folder = folder,
                    .depth = in->depth + 1,
                    .told = in->told,
                    .ctx = in->ctx};
    size_t bytes = 0;
    char *text = read_whole(&inner, path, &bytes);
    if (text)
        read_text(&inner, text, bytes);
    if (in->status == TW_OK)
        in->status = inner.status;
    free(text);
}

static void take_include(intake *in, unsigned line, const char *value)
{
    char pattern[PATH_BYTES];
    glob_t found;
    memset(&found, 0, sizeof found);
    if (!in->folder) {
        tell(in, TW_ESYNTAX, line, "include = %s: only a file can include others", value);
        return;
    }
    if (in->depth == INCLUDES_MAX) {
        tell(in, TW_ESYNTAX, line, "include = %s: files include each other, %d deep",
             value, INCLUDES_MAX);
        return;
    }
    const bool absolute = value[0] == '/';
    const int n = absolute
                      ? snprintf(pattern, sizeof pattern, "%s", value)
                      : snprintf(pattern, sizeof pattern, "%s/%s", in->folder, value);
    const int code =
        n < (int)sizeof pattern ? glob(pattern, 0, NULL, &found) : GLOB_ABORTED;
    const bool wild = strpbrk(value, "*?[") != NULL;
    if (code != 0 && !(code == GLOB_NOMATCH && wild)) /* none of many is fine */
        tell(in, TW_ENOENT, line, "include = %s: there is no such file", value);
    for (size_t i = 0; code == 0 && i < found.gl_pathc; i++) {
        const char *path = found.gl_pathv[i];
        const size_t above = absolute ? 0 : strlen(in->folder) + 1;
        include_file(in, path, path + above);
    }
    globfree(&found);
}

tw_status tw_settings_read_text(tw_settings *settings, const char *name, const char *text,
                                size_t bytes, tw_problem_fn told, void *ctx)
{
    if (!settings || !name || (!text && bytes > 0))
        return TW_EINVAL;
    intake in = {.settings = settings, .file = name, .told = told, .ctx = ctx};
    read_text(&in, text, bytes);
    return in.status;
}

tw_status tw_settings_read(tw_settings *settings, const char *path, tw_problem_fn told,
                           void *ctx)
{
    if (!settings || !path)
        return TW_EINVAL;
    char folder[PATH_BYTES];
    size_t bytes = 0;
    folder_of(path, folder);
    intake in = {
        .settings = settings, .file = path, .folder = folder, .told = told, .ctx = ctx};
    char *text = read_whole(&in, path, &bytes);
    const char *slash = strrchr(path, '/');
    in.file = slash ? slash + 1 : path;
    if (text)
        read_text(&in, text, bytes);
    free(text);
    return in.status;
}

tw_status tw_settings_set(tw_settings *settings, const char *assignment,
                          tw_problem_fn told, void *ctx)
{
    if (!settings || !assignment)
        return TW_EINVAL;
    intake in = {.settings = settings, .file = "--set", .told = told, .ctx = ctx};
    char text[TW_LINE_MAX];
    if (strlen(assignment) >= sizeof text) {
        tell(&in, TW_ESYNTAX, 0, "too long");
        return in.status;
    }
    memcpy(text, assignment, strlen(assignment) + 1);
    char *equals = strchr(text, '=');
    if (!equals) {
        tell(&in, TW_ESYNTAX, 0,
             "%s: write CAMERA.key=value, or key=value for every camera", assignment);
        return in.status;
    }
    char *value = equals + 1 + strspn(equals + 1, " ");
    while (equals > text && equals[-1] == ' ')
        equals--;
    *equals = '\0';
    char *dot = strchr(text, '.');
    const char *key = dot ? dot + 1 : text;
    if (dot)
        *dot = '\0';
    level at = SET_ALL;
    if (dot)
        at = strcmp(text, "station") == 0 ? IN_STATION : SET_CAMERA;
    if (at == SET_CAMERA && !find_section(settings, IN_CAMERA, text)) {
        tell(&in, TW_ESYNTAX, 0, "%s: there is no camera %s", assignment, text);
        return in.status;
    }
    take_checked(&in, 0, at, at == SET_CAMERA ? text : "", key, value, "--set");
    return in.status;
}

tw_status tw_settings_add_camera(tw_settings *settings, const char *name,
                                 const char *source, tw_problem_fn told, void *ctx)
{
    if (!settings || !name || !source)
        return TW_EINVAL;
    intake in = {.settings = settings, .file = "command line", .told = told, .ctx = ctx};
    if (!good_name(name)) {
        tell(&in, TW_ESYNTAX, 0, "%s: a camera's name is 1 to %d letters, digits, - or _",
             name, NAME_MAX_BYTES);
        return in.status;
    }
    if (add_section(settings, IN_CAMERA, name, in.file, 0) != TW_OK)
        return TW_ENOMEM;
    take_checked(&in, 0, SET_CAMERA, name, "source", source, in.file);
    return in.status;
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
static bool next_name(const char **list, char *name, size_t capacity)
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

static const entry *used_profiles(const tw_settings *s, const char *camera)
{
    const tw_row *use = tw_table_find("camera", "use");
    const entry *e = find_entry(s, SET_CAMERA, camera, use);
    return e ? e : find_entry(s, IN_CAMERA, camera, use);
}

/* The entry that decides a camera's setting, NULL: the built-in value does. */
static const entry *deciding(const tw_settings *s, const char *camera, const tw_row *row)
{
    const entry *found = find_entry(s, IN_CAMERAS, "", row), *e = NULL;
    const entry *use = used_profiles(s, camera);
    const char *list = use ? use->value : "";
    char profile[NAME_MAX_BYTES + 1];
    while (next_name(&list, profile, sizeof profile))
        if ((e = find_entry(s, IN_PROFILE, profile, row)) != NULL)
            found = e;
    if ((e = find_entry(s, IN_CAMERA, camera, row)) != NULL)
        found = e;
    if ((e = find_entry(s, SET_ALL, "", row)) != NULL)
        found = e;
    if ((e = find_entry(s, SET_CAMERA, camera, row)) != NULL)
        found = e;
    return found;
}

/* Both the presets and every value kept were tried before, so parsing cannot fail. */
static void fill(const tw_row *row, const entry *from, void *record)
{
    (void)row->type->parse(row, from ? from->value : row->preset,
                           (char *)record + row->offset);
}

void tw_settings_station(const tw_settings *settings, tw_station_settings *out)
{
    size_t count = 0;
    const tw_row *rows = tw_table(&count);
    memset(out, 0, sizeof *out);
    for (size_t i = 0; i < count; i++)
        if (strcmp(rows[i].section, "station") == 0)
            fill(&rows[i], find_entry(settings, IN_STATION, "", &rows[i]), out);
}

/* @return the zone's own name if it is one of this camera's, else NULL. */
static const char *zone_of(const section *s, const char *camera)
{
    const size_t n = strlen(camera);
    if (s->level != IN_ZONE || strncmp(s->name, camera, n) != 0 || s->name[n] != '/')
        return NULL;
    return s->name + n + 1;
}

static void read_zone(const tw_settings *s, const char *name, tw_zone_settings *out)
{
    size_t count = 0;
    const tw_row *rows = tw_table(&count);
    memset(out, 0, sizeof *out);
    for (size_t i = 0; i < count; i++)
        if (strcmp(rows[i].section, "zone") == 0)
            (void)fill(&rows[i], find_entry(s, IN_ZONE, name, &rows[i]), out);
}

static bool make_zones(const tw_settings *s, camera_zones *made)
{
    size_t most = 0;
    for (size_t i = 0; i < s->section_count; i++)
        most += zone_of(&s->sections[i], made->camera) != NULL;
    made->zones = calloc(most + 1, sizeof *made->zones);
    made->names = calloc(most + 1, sizeof *made->names);
    made->points = calloc(most * TW_AREA_MAX + 1, sizeof *made->points);
    if (!made->zones || !made->names || !made->points)
        return false;
    for (size_t i = 0; i < s->section_count; i++) {
        const char *name = zone_of(&s->sections[i], made->camera);
        if (!name)
            continue;
        tw_zone_settings read;
        read_zone(s, s->sections[i].name, &read);
        tw_point *points = made->points + made->count * TW_AREA_MAX;
        const size_t corners = read.area ? tw_area_parse(read.area, points) : 0;
        if (corners == 0)
            continue; /* tw_settings_check has told */
        made->zones[made->count] = (tw_zone){
            .points = points,
            .count = (uint16_t)corners,
            .watched = read.kind == TW_ZONE_WATCHED,
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

tw_status tw_settings_camera(tw_settings *settings, const char *name,
                             tw_camera_settings *out)
{
    if (!settings || !name || !out)
        return TW_EINVAL;
    const section *self = find_section(settings, IN_CAMERA, name);
    if (!self)
        return TW_ENOENT;
    size_t count = 0;
    const tw_row *rows = tw_table(&count);
    memset(out, 0, sizeof *out);
    out->name = self->name;
    for (size_t i = 0; i < count; i++)
        if (strcmp(rows[i].section, "camera") == 0)
            fill(&rows[i], deciding(settings, name, &rows[i]), out);
    const camera_zones *zones = zones_for(settings, name);
    if (!zones)
        return TW_ENOMEM;
    out->zones = zones->zones;
    out->zone_names = zones->names;
    out->zone_count = zones->count;
    return TW_OK;
}

/* ---- checking -------------------------------------------------------------------- */

/* The line that a check should point at: the deciding one of two settings. */
static const char *origin_of(const tw_settings *s, const char *camera, const char *key)
{
    const entry *e = deciding(s, camera, tw_table_find("camera", key));
    return e ? e->origin : NULL;
}

static void check_pair(intake *in, const char *camera, const char *low, int64_t low_ppm,
                       const char *high, int64_t high_ppm)
{
    if (low_ppm <= high_ppm)
        return;
    const char *at = origin_of(in->settings, camera, low);
    in->file = at ? at : origin_of(in->settings, camera, high);
    tell(in, TW_ESYNTAX, 0, "camera %s: %s is over %s: lower it or raise the other",
         camera, low, high);
}

static void check_profiles(intake *in, const char *camera)
{
    const entry *use = used_profiles(in->settings, camera);
    if (!use)
        return;
    const char *list = use->value;
    char profile[NAME_MAX_BYTES + 1];
    while (next_name(&list, profile, sizeof profile)) {
        if (find_section(in->settings, IN_PROFILE, profile))
            continue;
        in->file = use->origin;
        tell(in, TW_ESYNTAX, 0, "camera %s uses profile %s, which is not there", camera,
             profile);
    }
    if (*list) {
        in->file = use->origin;
        tell(in, TW_ESYNTAX, 0, "use = %s: expected names of profiles", use->value);
    }
}

/* Hours by the sun need a place. */
static void check_place(intake *in, const section *self, const tw_camera_settings *camera)
{
    tw_hours hours;
    const bool known = camera->latitude != TW_NOWHERE && camera->longitude != TW_NOWHERE;
    if (known || !camera->hours || tw_hours_parse(camera->hours, &hours, NULL) != TW_OK ||
        !tw_hours_need_place(&hours))
        return;
    in->file = self->file;
    tell(in, TW_ESYNTAX, self->line,
         "camera %s: hours = %s needs its latitude and longitude", self->name,
         camera->hours);
}

static void check_camera(intake *in, const section *self)
{
    tw_camera_settings camera;
    if (tw_settings_camera(in->settings, self->name, &camera) != TW_OK) {
        tell(in, TW_ENOMEM, 0, "out of memory");
        return;
    }
    check_pair(in, self->name, "stay_at", camera.stay_ppm, "start_at", camera.start_ppm);
    check_pair(in, self->name, "smallest", camera.smallest_ppm, "largest",
               camera.largest_ppm);
    check_profiles(in, self->name);
    check_place(in, self, &camera);
    size_t own = 0;
    for (size_t i = 0; i < camera.zone_count; i++)
        own += camera.zones[i].start_ppm > 0;
    if (own > TW_OWN_LIMITS_MAX) {
        in->file = self->file;
        tell(in, TW_ESYNTAX, self->line,
             "camera %s has %zu zones with limits of their own, at most %d are possible",
             self->name, own, TW_OWN_LIMITS_MAX);
    }
    if (camera.source && camera.source[0] != '\0')
        return;
    in->file = self->file;
    tell(in, TW_ESYNTAX, self->line,
         "camera %s has no source: write source = file:PATH or sim:SCENE", self->name);
}

static void check_zone(intake *in, const section *self)
{
    char camera[2 * NAME_MAX_BYTES + 2];
    (void)snprintf(camera, sizeof camera, "%s", self->name);
    *strchr(camera, '/') = '\0';
    in->file = self->file;
    if (!find_section(in->settings, IN_CAMERA, camera))
        tell(in, TW_ESYNTAX, self->line, "zone %s: there is no camera %s", self->name,
             camera);
    if (!find_entry(in->settings, IN_ZONE, self->name, tw_table_find("zone", "area")))
        tell(in, TW_ESYNTAX, self->line, "zone %s has no area", self->name);
    tw_zone_settings zone;
    read_zone(in->settings, self->name, &zone);
    if (zone.kind == TW_ZONE_OWN && zone.start_ppm == 0)
        tell(in, TW_ESYNTAX, self->line,
             "zone %s is watched by its own limits: write its start_at", self->name);
    if (zone.kind == TW_ZONE_IGNORED && (zone.start_ppm > 0 || zone.stay_ppm > 0))
        tell(in, TW_ESYNTAX, self->line,
             "zone %s is ignored, so it can have no limits: write kind = own to watch it "
             "by them",
             self->name);
    if (zone.stay_ppm > zone.start_ppm)
        tell(in, TW_ESYNTAX, self->line, "zone %s: stay_at is above start_at",
             self->name);
}

tw_status tw_settings_check(tw_settings *settings, tw_problem_fn told, void *ctx)
{
    if (!settings)
        return TW_EINVAL;
    intake in = {.settings = settings, .told = told, .ctx = ctx};
    for (size_t i = 0; i < settings->section_count; i++) {
        const section *self = &settings->sections[i];
        in.file = self->file;
        if (self->level == IN_CAMERA)
            check_camera(&in, self);
        else if (self->level == IN_ZONE)
            check_zone(&in, self);
    }
    return in.status;
}

/* ---- looking ---------------------------------------------------------------------- */

tw_status tw_settings_walk(tw_settings *settings, const char *camera,
                           void (*visit)(void *ctx, const tw_setting *setting), void *ctx)
{
    if (!settings || !visit)
        return TW_EINVAL;
    if (camera && !find_section(settings, IN_CAMERA, camera))
        return TW_ENOENT;
    size_t count = 0;
    const tw_row *rows = tw_table(&count);
    for (size_t i = 0; i < count; i++) {
        if (strcmp(rows[i].section, camera ? "camera" : "station") != 0)
            continue;
        const entry *e = camera ? deciding(settings, camera, &rows[i])
                                : find_entry(settings, IN_STATION, "", &rows[i]);
        tw_value field;
        memset(&field, 0, sizeof field);
        char value[TW_LINE_MAX], range[TW_VALUE_MAX];
        (void)rows[i].type->parse(&rows[i], e ? e->value : rows[i].preset, &field);
        rows[i].type->print(&rows[i], &field, value, sizeof value);
        rows[i].type->explain(&rows[i], range, sizeof range);
        const tw_setting setting = {
            rows[i].section, rows[i].group, rows[i].key,  value,
            rows[i].preset,  range,         rows[i].help, e ? e->origin : "built-in"};
        visit(ctx, &setting);
    }
    return TW_OK;
}
