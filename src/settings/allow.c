/* What may be changed over the page. Somebody who has come by an account there must not
 * come by the machine: by a program that is started, a file that is read, a secret that
 * goes to another server, a folder in which captures are dropped. */
#include <limits.h>
#include <stdlib.h>
#include <string.h>

#include "state.h"
#include "tawny/error.h"
#include "sections.h"
#include "tawny/settings.h"

bool twi_has_secret(const tw_settings *s, const char *destination)
{
    static const char *const keys[] = {"secret_file", "secret_env", "key_file"};
    for (size_t i = 0; i < sizeof keys / sizeof *keys; i++) {
        const twi_row *row = twi_table_find("destination", keys[i]);
        const entry *e = twi_find_entry(s, IN_DESTINATION, destination, row);
        if (e && e->value[0])
            return true;
    }
    return false;
}

static bool same_entry(const tw_settings *in, const entry *e)
{
    const entry *other = twi_find_entry(in, e->level, e->name, e->row);
    return strcmp(other ? other->value : e->row->preset, e->value) == 0;
}

/* ---- paths ------------------------------------------------------------------------ */

/* Whether a text begins like a source of files. @return the path, NULL: it is none. */
static const char *path_of(const entry *e)
{
    static const char *const kinds[] = {"file:", "inbox:", NULL};
    if (strcmp(e->row->key, "mask") == 0)
        return e->value[0] ? e->value : NULL;
    for (size_t i = 0; kinds[i]; i++)
        if (strncmp(e->value, kinds[i], strlen(kinds[i])) == 0)
            return e->value + strlen(kinds[i]);
    return NULL;
}

/* Whether a value is used for that key already, by whatever section. */
static bool is_used(const tw_settings *in, const entry *e)
{
    for (size_t i = 0; i < in->entry_count; i++)
        if (in->entries[i].row == e->row && strcmp(in->entries[i].value, e->value) == 0)
            return true;
    return false;
}

/* Links are followed: what lies below by its name may lie elsewhere. */
static bool lies_below(const char *path, const char *folder)
{
    char *whole = realpath(path, NULL),
         *above = folder[0] ? realpath(folder, NULL) : NULL;
    const size_t n = above ? strlen(above) : 0;
    const bool below = whole && above && strncmp(whole, above, n) == 0 &&
                       (whole[n] == '/' || whole[n] == '\0' || n == 1);
    free(whole);
    free(above);
    return below;
}

static tw_status allow_path(const tw_settings *had, const entry *e, tw_error *err)
{
    const char *path = path_of(e);
    twi_station_settings station;
    twi_settings_station(had, &station);
    if (!path || is_used(had, e) || lies_below(path, station.footage))
        return TW_OK;
    return tw_fail(err, TW_EACCES,
                   "%s = %s: the page chooses files below the folder that footage in "
                   "[station] names, which %s",
                   e->row->key, e->value,
                   station.footage[0] ? "this is not" : "is changed in the file itself");
}

/* ---- all of it -------------------------------------------------------------------- */

static tw_status refuse(const entry *e, const char *why, tw_error *err)
{
    return tw_fail(err, TW_EACCES, "%s of [%s%s%s] is changed in the file itself%s",
                   e->row->key, e->row->section, e->name[0] ? " " : "", e->name, why);
}

/* Whether a value of one may be there, of which other is what it was made from, or what
 * was made from it. */
static tw_status allow_entry(const tw_settings *other, const entry *e, bool secret,
                             tw_error *err)
{
    if (same_entry(other, e))
        return TW_OK;
    if (e->row->reach == TWI_REACH_FILE)
        return refuse(e, "", err);
    if (e->row->reach == TWI_REACH_SECRET && secret)
        return refuse(e, ": there is a secret that would go along", err);
    return TW_OK;
}

/* A folder of this machine that captures are put into is no business of a page. */
static tw_status allow_folder(const tw_settings *had, const entry *e, tw_error *err)
{
    const bool folder = strcmp(e->row->section, "destination") == 0 &&
                        strcmp(e->row->key, "url") == 0 &&
                        strncmp(e->value, "file:", 5) == 0;
    if (!folder || is_used(had, e))
        return TW_OK;
    return refuse(e, ": it names a folder of this machine", err);
}

/* What is new, or another than before. */
static tw_status allow_new(const tw_settings *had, const tw_settings *made,
                           const entry *e, tw_error *err)
{
    const bool secret = e->level == IN_DESTINATION && twi_has_secret(made, e->name);
    tw_status st = allow_entry(had, e, secret, err);
    if (st == TW_OK && e->row->reach == TWI_REACH_PATH)
        st = allow_path(had, e, err);
    return st == TW_OK ? allow_folder(had, e, err) : st;
}

/* What is no longer there. A destination may go as a whole. */
static tw_status allow_gone(const tw_settings *made, const entry *e, tw_error *err)
{
    if (e->level == IN_DESTINATION && !twi_find_section(made, IN_DESTINATION, e->name))
        return TW_OK;
    const bool secret = e->level == IN_DESTINATION && twi_has_secret(made, e->name);
    return allow_entry(made, e, secret, err);
}

tw_status twi_settings_allow(const tw_settings *had, const tw_settings *made,
                             tw_error *err)
{
    tw_status st = TW_OK;
    for (size_t i = 0; st == TW_OK && i < made->entry_count; i++)
        st = allow_new(had, made, &made->entries[i], err);
    for (size_t i = 0; st == TW_OK && i < had->entry_count; i++)
        st = allow_gone(made, &had->entries[i], err);
    return st;
}
