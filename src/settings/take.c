/* Taking settings in: files with what they include, texts, and single values. */
#include <errno.h>
#include <glob.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "reader.h"
#include "state.h"
#include "tawny/settings.h"
#include "../base/system_error.h"

enum { INCLUDES_MAX = 8, PATH_BYTES = 4096 };

static void remember(const intake *in)
{
    const bool named = in->level >= IN_PROFILE && in->level <= IN_SENSOR;
    section *at = named ? twi_find_section(in->settings, in->level, in->name) : NULL;
    if (at)
        at->wrong = true;
    else if (!in->lone)
        in->settings->wrong = true;
}

void twi_intake_tell(intake *in, tw_status st, unsigned line, const char *format, ...)
{
    if (in->status == TW_OK || st == TW_ENOMEM)
        in->status = st;
    remember(in);
    if (!in->callback)
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
    in->callback(in->ctx, all);
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
             {"zone", IN_ZONE, "zone", "[zone CAMERA/NAME]"},
             {"hook", IN_HOOK, "hook", "[hook NAME]"},
             {"destination", IN_DESTINATION, "destination", "[destination NAME]"},
             {"sensor", IN_SENSOR, "sensor", "[sensor NAME]"},
             {"gather", IN_GATHER, "gather", NULL}};

enum { HEAD_COUNT = sizeof HEADS / sizeof *HEADS };

const char *twi_level_head(level at)
{
    for (size_t i = 0; i < HEAD_COUNT; i++)
        if (HEADS[i].level == at)
            return HEADS[i].head;
    return at == IN_CAMERAS_WHEN ? "cameras" : "camera";
}

static const char *rows_of(level at)
{
    for (size_t i = 0; i < HEAD_COUNT; i++)
        if (HEADS[i].level == at)
            return HEADS[i].rows;
    return "camera";
}

/* [camera kerb when dark], [cameras when 22:00-05:00]. */
static void take_condition(intake *in, unsigned line, const char *head, const char *name,
                           const char *condition, size_t before)
{
    const bool of_all = strcmp(head, "cameras") == 0;
    char camera[NAME_MAX_BYTES + 1];
    (void)snprintf(camera, sizeof camera, "%.*s", (int)before, name);
    in->lone = true;
    if (of_all != (before == 0) ||
        (!of_all && (before > NAME_MAX_BYTES || !good_name(camera)))) {
        twi_intake_tell(in, TW_ESYNTAX, line,
                        "[%s %s]: write [camera NAME when dark], or [cameras when dark]",
                        head, name);
        return;
    }
    if (strlen(condition) > WHEN_MAX_BYTES || !twi_condition_read(condition, NULL)) {
        twi_intake_tell(in, TW_ESYNTAX, line,
                        "[%s %s]: expected when dark, when light, or hours such as "
                        "when 22:00-05:00",
                        head, name);
        return;
    }
    in->lone = in->skip = false;
    in->level = of_all ? IN_CAMERAS_WHEN : IN_CAMERA_WHEN;
    (void)snprintf(in->name, sizeof in->name, "%s", name);
    if (twi_add_section(in->settings, in->level, name, in->file, line) != TW_OK)
        twi_intake_tell(in, TW_ENOMEM, line, "out of memory");
}

static void take_section(void *ctx, unsigned line, const char *head, const char *name)
{
    intake *in = ctx;
    in->in_section = true;
    in->skip = true;
    in->lone = false;
    in->level = IN_STATION;
    const char *heads[HEAD_COUNT + 1] = {NULL};
    size_t i = 0;
    for (; i < HEAD_COUNT && strcmp(HEADS[i].head, head) != 0; i++)
        heads[i] = HEADS[i].head;
    if (i == HEAD_COUNT) {
        const char *near = twi_nearest(head, heads);
        twi_intake_tell(
            in, TW_ESYNTAX, line, "unknown section [%s]%s%s%s", head,
            near ? ": did you mean ["
                 : ": sections are station, cameras, profile, camera, zone, hook, "
                   "destination, sensor, gather",
            near ? near : "", near ? "]?" : "");
        return;
    }
    size_t before = 0;
    const bool of_cameras = HEADS[i].level == IN_CAMERA || HEADS[i].level == IN_CAMERAS;
    const char *condition = of_cameras ? twi_condition_in(name, &before) : NULL;
    if (condition) {
        take_condition(in, line, head, name, condition, before);
        return;
    }
    const bool named = HEADS[i].form != NULL;
    if (!named && *name) {
        twi_intake_tell(in, TW_ESYNTAX, line,
                        "[%s %s]: this section has no name, write [%s]", head, name,
                        head);
        return;
    }
    if (named && !(HEADS[i].level == IN_ZONE ? good_zone_name(name) : good_name(name))) {
        in->lone = true; /* it makes no camera and no zone */
        twi_intake_tell(in, TW_ESYNTAX, line,
                        "[%s %s]: write %s, names being 1 to %d letters, digits, - or _",
                        head, name, HEADS[i].form, NAME_MAX_BYTES);
        return;
    }
    in->skip = false;
    in->level = HEADS[i].level;
    (void)snprintf(in->name, sizeof in->name, "%s", name);
    if (twi_add_section(in->settings, in->level, name, in->file, line) != TW_OK)
        twi_intake_tell(in, TW_ENOMEM, line, "out of memory");
}

/* @return the row of a key; says why there is none. */
static const twi_row *row_for(intake *in, unsigned line, level at, const char *key)
{
    const char *rows = rows_of(at);
    const twi_row *row = twi_table_find(rows, key);
    if (row && strcmp(key, "use") == 0 && at != IN_CAMERA && at != SET_CAMERA) {
        twi_intake_tell(in, TW_ESYNTAX, line, "use belongs in a [camera NAME] section");
        return NULL;
    }
    if (row && (at == IN_CAMERA_WHEN || at == IN_CAMERAS_WHEN) && !twi_row_changes(row)) {
        twi_intake_tell(in, TW_ESYNTAX, line,
                        "%s is the same at all times: it belongs in a [camera NAME] "
                        "section",
                        key);
        return NULL;
    }
    if (row)
        return row;
    for (size_t i = 0; i < HEAD_COUNT; i++) {
        if (twi_table_find(HEADS[i].rows, key)) {
            twi_intake_tell(in, TW_ESYNTAX, line,
                            "%s is no setting of a %s, it belongs in a [%s] section", key,
                            rows, HEADS[i].head);
            return NULL;
        }
    }
    const char *near = twi_table_nearest(rows, key);
    twi_intake_tell(in, TW_ESYNTAX, line, "unknown setting %s%s%s%s", key,
                    near ? ": did you mean " : "", near ? near : "", near ? "?" : "");
    return NULL;
}

static void take_checked(intake *in, unsigned line, level at, const char *name,
                         const char *key, const char *value, const char *origin)
{
    const twi_row *row = row_for(in, line, at, key);
    if (!row)
        return;
    twi_value tried;
    memset(&tried, 0, sizeof tried);
    if (!row->type->parse(row, value, &tried)) {
        char expected[TWI_VALUE_MAX];
        row->type->explain(row, expected, sizeof expected);
        twi_intake_tell(in, TW_ESYNTAX, line, "%s = %s: expected %s", key, value,
                        expected);
        return;
    }
    if (twi_add_entry(in->settings, at, name, row, value, origin) != TW_OK)
        twi_intake_tell(in, TW_ENOMEM, line, "out of memory");
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
        twi_intake_tell(in, TW_ESYNTAX, line,
                        "%s stands before any section; begin with [cameras]", key);
        return;
    }
    if (in->skip)
        return;
    char origin[TW_ERROR_MAX];
    (void)snprintf(origin, sizeof origin, "%s:%u", in->file, line);
    const twi_row *row = twi_table_find(rows_of(in->level), key);
    const entry *old =
        row ? twi_find_entry(in->settings, in->level, in->name, row) : NULL;
    if (old) {
        twi_intake_tell(in, TW_ESYNTAX, line,
                        "%s is set already, at %s: remove one of the two", key,
                        old->origin);
        return;
    }
    take_checked(in, line, in->level, in->name, key, value, origin);
}

static void take_problem(void *ctx, unsigned line, const char *what)
{
    twi_intake_tell(ctx, TW_ESYNTAX, line, "%s", what);
}

static void read_text(intake *in, const char *text, size_t bytes)
{
    if (bytes > TWI_FILE_MAX) {
        twi_intake_tell(in, TW_ESIZE, 0, "a settings file has at most 1 MB");
        return;
    }
    const twi_reader reader = {in, take_section, take_value, take_problem};
    twi_reader_run(&reader, text, bytes);
}

/* @return what a file holds, to be freed; NULL: told. */
static char *read_file(intake *in, const char *path, size_t *bytes)
{
    FILE *file = fopen(path, "rb");
    char *text = file ? malloc(TWI_FILE_MAX + 1) : NULL;
    if (!file) {
        twi_intake_tell(in, twi_status_of_errno(errno), 0, "cannot read the settings: %s",
                        strerror(errno));
        return NULL;
    }
    if (text) {
        *bytes = fread(text, 1, TWI_FILE_MAX + 1, file);
        if (ferror(file)) { /* a folder, for one, can be opened but not read */
            twi_intake_tell(in, TW_EIO, 0, "cannot read the settings: %s",
                            strerror(errno));
            free(text);
            text = NULL;
        }
    } else {
        twi_intake_tell(in, TW_ENOMEM, 0, "out of memory");
    }
    (void)fclose(file);
    return text;
}

/* The same of the text that stands for it, where there is one. */
static char *read_whole(intake *in, const char *path, size_t *bytes)
{
    size_t n = 0;
    const char *known = in->texts ? twi_texts_find(in->texts, path, &n) : NULL;
    if (!known && in->texts && in->texts->sealed) {
        twi_intake_tell(in, TW_EACCES, 0,
                        "is none of the files that were there: include it in the file "
                        "itself");
        return NULL;
    }
    char *text = known ? malloc(n + 1) : read_file(in, path, bytes);
    if (known && text) {
        memcpy(text, known, n);
        *bytes = n;
    } else if (known) {
        twi_intake_tell(in, TW_ENOMEM, 0, "out of memory");
    } else if (text && in->texts) {
        const tw_status st = twi_texts_add(in->texts, path, in->file, text, *bytes);
        if (st != TW_OK)
            twi_intake_tell(in, st, 0, "too many files");
    }
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
                    .texts = in->texts,
                    .callback = in->callback,
                    .ctx = in->ctx};
    size_t bytes = 0;
    char *text = read_whole(&inner, path, &bytes);
    if (text)
        read_text(&inner, text, bytes);
    if (in->status == TW_OK)
        in->status = inner.status;
    free(text);
}

/* Files of a pattern, in the order of their names. */
static void include_files(intake *in, unsigned line, const char *value)
{
    char pattern[PATH_BYTES];
    glob_t found;
    memset(&found, 0, sizeof found);
    const bool absolute = value[0] == '/';
    const int n = absolute
                      ? snprintf(pattern, sizeof pattern, "%s", value)
                      : snprintf(pattern, sizeof pattern, "%s/%s", in->folder, value);
    const int code =
        n < (int)sizeof pattern ? glob(pattern, 0, NULL, &found) : GLOB_ABORTED;
    const bool wild = strpbrk(value, "*?[") != NULL;
    if (code != 0 && !(code == GLOB_NOMATCH && wild)) /* none of many is fine */
        twi_intake_tell(in, TW_ENOENT, line, "include = %s: there is no such file",
                        value);
    for (size_t i = 0; code == 0 && i < found.gl_pathc; i++) {
        const char *path = found.gl_pathv[i];
        const size_t above = absolute ? 0 : strlen(in->folder) + 1;
        include_file(in, path, path + above);
    }
    globfree(&found);
}

static void take_include(intake *in, unsigned line, const char *value)
{
    intake outside = *in; /* what is wrong with files concerns no single camera */
    outside.level = IN_STATION;
    if (!in->folder)
        twi_intake_tell(&outside, TW_ESYNTAX, line,
                        "include = %s: only a file can include others", value);
    else if (in->depth == INCLUDES_MAX)
        twi_intake_tell(&outside, TW_ESYNTAX, line,
                        "include = %s: files include each other, %d deep", value,
                        INCLUDES_MAX);
    else
        include_files(&outside, line, value);
    in->status = outside.status;
}

tw_status tw_settings_read_text(tw_settings *settings, const char *name, const char *text,
                                size_t bytes, tw_problem_fn callback, void *ctx)
{
    if (!settings || !name || (!text && bytes > 0))
        return TW_EINVAL;
    intake in = {.settings = settings, .file = name, .callback = callback, .ctx = ctx};
    read_text(&in, text, bytes);
    return in.status;
}

tw_status twi_settings_read_texts(tw_settings *settings, const char *path,
                                  twi_texts *texts, tw_problem_fn callback, void *ctx)
{
    char folder[PATH_BYTES];
    size_t bytes = 0;
    const char *slash = strrchr(path, '/');
    folder_of(path, folder);
    intake in = {.settings = settings,
                 .file = path,
                 .folder = folder,
                 .texts = texts,
                 .callback = callback,
                 .ctx = ctx};
    char *text = read_whole(&in, path, &bytes);
    in.file = slash ? slash + 1 : path;
    if (text)
        read_text(&in, text, bytes);
    free(text);
    return in.status;
}

tw_status tw_settings_read(tw_settings *settings, const char *path,
                           tw_problem_fn callback, void *ctx)
{
    if (!settings || !path)
        return TW_EINVAL;
    return twi_settings_read_texts(settings, path, NULL, callback, ctx);
}

tw_status tw_settings_set(tw_settings *settings, const char *assignment,
                          tw_problem_fn callback, void *ctx)
{
    if (!settings || !assignment)
        return TW_EINVAL;
    intake in = {.settings = settings, .file = "--set", .callback = callback, .ctx = ctx};
    char text[TWI_LINE_MAX];
    if (strlen(assignment) >= sizeof text) {
        twi_intake_tell(&in, TW_ESYNTAX, 0, "too long");
        return in.status;
    }
    memcpy(text, assignment, strlen(assignment) + 1);
    char *equals = strchr(text, '=');
    if (!equals) {
        twi_intake_tell(&in, TW_ESYNTAX, 0,
                        "%s: write CAMERA.key=value, or key=value for every camera",
                        assignment);
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
    if (at == SET_CAMERA && strcmp(text, "gather") == 0 &&
        !twi_find_section(settings, IN_CAMERA, text))
        at = IN_GATHER;
    if (at == SET_CAMERA && !twi_find_section(settings, IN_CAMERA, text)) {
        twi_intake_tell(&in, TW_ESYNTAX, 0, "%s: there is no camera %s", assignment,
                        text);
        return in.status;
    }
    take_checked(&in, 0, at, at == SET_CAMERA ? text : "", key, value, TWI_ORIGIN_SET);
    return in.status;
}

tw_status tw_settings_add_camera(tw_settings *settings, const char *name,
                                 const char *source, tw_problem_fn callback, void *ctx)
{
    if (!settings || !name || !source)
        return TW_EINVAL;
    intake in = {
        .settings = settings, .file = "command line", .callback = callback, .ctx = ctx};
    if (!good_name(name)) {
        twi_intake_tell(&in, TW_ESYNTAX, 0,
                        "%s: a camera's name is 1 to %d letters, digits, - or _", name,
                        NAME_MAX_BYTES);
        return in.status;
    }
    if (twi_add_section(settings, IN_CAMERA, name, in.file, 0) != TW_OK)
        return TW_ENOMEM;
    take_checked(&in, 0, SET_CAMERA, name, "source", source, in.file);
    return in.status;
}
