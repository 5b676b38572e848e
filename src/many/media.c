/* Captures, where stations have sent them. Their names come from boards: none leads out
 * of the folder of its own station, by whatever spelling or link. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "many_state.h"

/* @return whether a name has no part that leads elsewhere. */
static bool is_plain(const char *name)
{
    const char *at = name;
    if (!name[0] || name[0] == '/')
        return false;
    for (const char *c = name; *c; c++)
        if ((unsigned char)*c < ' ')
            return false;
    while (*at) {
        const size_t n = strcspn(at, "/");
        if (n == 0 || (n == 1 && at[0] == '.') ||
            (n == 2 && at[0] == '.' && at[1] == '.'))
            return false;
        at += n + (at[n] == '/');
    }
    return true;
}

/* The setting with the names put in.
 * @param folder  Set to what comes before {file}: the station's own.
 * @return false: they do not fit. */
static bool fill_in(const char *media, const char *station, const char *file,
                    char folder[MANY_PATH], char path[MANY_PATH])
{
    const char *a = strstr(media, "{station}"), *b = strstr(media, "{file}");
    const char *between = a + strlen("{station}");
    const int n = snprintf(folder, MANY_PATH, "%.*s%s%.*s", (int)(a - media), media,
                           station, (int)(b - between), between);
    const int all =
        snprintf(path, MANY_PATH, "%s%s%s", folder, file, b + strlen("{file}"));
    char *slash = strrchr(folder, '/');
    if (slash)
        *slash = '\0'; /* of "north/kerb-", what is before it */
    return n > 0 && n < MANY_PATH && all < MANY_PATH && slash;
}

/* @param out  Set to where it lies. */
static bool find_file(const twi_many *m, const char *station, const char *file,
                      char out[MANY_PATH])
{
    char folder[MANY_PATH], path[MANY_PATH];
    if (!is_plain(station) || strchr(station, '/') || !is_plain(file) ||
        !fill_in(m->media, station, file, folder, path))
        return false;
    char *home = realpath(folder, NULL), *real = realpath(path, NULL);
    const size_t n = home ? strlen(home) : 0;
    const bool inside = real && n > 0 && strncmp(real, home, n) == 0 && real[n] == '/';
    if (inside)
        (void)snprintf(out, MANY_PATH, "%s", real);
    free(home);
    free(real);
    return inside;
}

/* From the store, to where find_file looks. */
static bool fetch(const twi_many *m, const char *station, const char *file)
{
    char folder[MANY_PATH], there[MANY_PATH], here[MANY_PATH];
    return m->store && is_plain(station) && !strchr(station, '/') && is_plain(file) &&
           fill_in(twi_many_store_names(m->store), station, file, folder, there) &&
           fill_in(m->media, station, file, folder, here) &&
           twi_many_store_fetch(m->store, there + strspn(there, "/"), here);
}

/* The name that a capture has in the store of its station. */
static const char *name_of(const json_t *capture)
{
    const char *file = json_string_value(json_object_get(capture, "file"));
    for (int i = 0; i < 3 && file; i++) {
        file = strchr(file, '/');
        file = file ? file + 1 : NULL;
    }
    return file ? file : "";
}

/* The one of a name; of "" the first still.
 * @return false: the sighting has no such capture. */
static bool find_capture(const json_t *record, const char *name, const char **out)
{
    size_t i = 0;
    json_t *one = NULL;
    json_array_foreach(json_object_get(record, "captures"), i, one)
    {
        const char *file = name_of(one), *dot = strrchr(file, '.');
        if (name[0] ? strcmp(file, name) == 0 : dot && strcmp(dot, ".jpg") == 0) {
            *out = file;
            return true;
        }
    }
    return false;
}

/* @return whether path is set to where the capture of a request lies. */
static bool look_up(twi_many *m, const twi_asked *r, const char *asked, bool still,
                    char path[MANY_PATH])
{
    const char *name = "", *file = NULL;
    tw_error err = {0};
    json_t *record = m->media[0] ? twi_many_record(m, r, asked, &name, &err) : NULL;
    const char *station = json_string_value(json_object_get(record, "station"));
    const bool found = record && (still ? name[0] == '\0' : name[0] != '\0') &&
                       find_capture(record, name, &file) &&
                       (find_file(m, station, file, path) ||
                        (fetch(m, station, file) && find_file(m, station, file, path)));
    json_decref(record);
    return found;
}

void twi_many_thumb(twi_page *p, const twi_asked *r, const char *rest,
                    twi_web_answer *out)
{
    char path[MANY_PATH];
    if (look_up(twi_page_ctx(p), r, rest, true, path))
        twi_answer_thumb(p, r, path, out);
    else
        twi_answer_error(404, "it has no still", out);
}

void twi_many_capture(twi_page *p, const twi_asked *r, const char *rest,
                      twi_web_answer *out)
{
    char path[MANY_PATH];
    if (look_up(twi_page_ctx(p), r, rest, false, path))
        twi_answer_file(p, r, path, out);
    else
        twi_answer_error(404, "there is no such capture", out);
}
