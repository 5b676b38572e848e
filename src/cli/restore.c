/* tawny restore: a backup is taken in. Nothing of it is believed before it is looked at.
 */
#include <errno.h>
#include <fcntl.h>
#include <jansson.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "../base/sync.h"
#include "../core/naming.h"
#include "../media/zip.h"
#include "../settings/draft.h"
#include "../settings/sections.h"
#include "../station/backup.h"
#include "backup.h"
#include "control.h"
#include "output.h"
#include "tawny/settings.h"

static const char ABOUT[] =
    "Takes a backup in: its settings replace those that are there (the old file is kept "
    "as\n"
    "FILE.old), its accounts likewise; its sightings, and captures if it has them, are "
    "added\n"
    "to the store. A station that runs here goes on, with the settings of the backup.\n"
    "Nothing of the backup is sent anywhere.";
static const char EXAMPLE[] = "Examples:\n"
                              "  tawny restore hollin.zip\n"
                              "  tawny restore hollin.zip --store /srv/captures\n"
                              "  tawny restore hollin.zip --keep-settings";

typedef struct restoring {
    const char *path; /* of the backup */
    char *target;     /* settings file */
    char *store;
    gboolean keep_settings;
    const twi_zip_module *zips;
    twi_unzip *zip;
    char *settings, *accounts, *phones; /* texts of the backup; NULL: it has none */
    char *catalogue;                    /* its copy, beside the store's own */
    tw_settings *made;                  /* of the settings that will hold */
    twi_station_settings station;
    gboolean ready; /* what comes first has been looked at, and the store is there */
    guint captures, skipped;
} restoring;

/* ---- what is in it ----------------------------------------------------------------- */

/* A text of an entry. @return NULL: too large, or damaged, told. */
static char *read_text(restoring *r, const char *name)
{
    char part[4096];
    tw_error err = {0};
    GString *text = g_string_new(NULL);
    long n = 0;
    while ((n = r->zips->read_data(r->zip, part, sizeof part, &err)) > 0 &&
           text->len + (size_t)n <= BACKUP_TEXT_MOST)
        g_string_append_len(text, part, n);
    if (n == 0 && !memchr(text->str, 0, text->len))
        return g_string_free(text, FALSE);
    (void)cli_say(CLI_FAILED, "%s: %s in it is damaged", r->path, name);
    (void)g_string_free(text, TRUE);
    return NULL;
}

static int read_into(char **out, restoring *r, const char *name)
{
    g_free(*out);
    *out = read_text(r, name);
    return *out ? CLI_DONE : CLI_FAILED;
}

/* Names of the backup lead nowhere else. */
static gboolean is_below(const char *name)
{
    g_auto(GStrv) parts = g_strsplit(name, "/", 0);
    if (name[0] == '\0' || strlen(name) >= TWI_NAME_MAX || strchr(name, '\\'))
        return FALSE;
    for (char **part = parts; *part; part++)
        if ((*part)[0] == '\0' || strcmp(*part, ".") == 0 || strcmp(*part, "..") == 0)
            return FALSE;
    return g_utf8_validate(name, -1, NULL);
}

static int copy_out(restoring *r, int fd, const char *path)
{
    char part[65536];
    tw_error err = {0};
    long n = 0;
    while ((n = r->zips->read_data(r->zip, part, sizeof part, &err)) > 0)
        if (write(fd, part, (size_t)n) != n)
            return cli_say(CLI_FAILED, "%s: %s", path, g_strerror(errno));
    if (n < 0)
        return cli_say(CLI_FAILED, "%s: %s", r->path, err.text);
    return fsync(fd) == 0 ? CLI_DONE
                          : cli_say(CLI_FAILED, "%s: %s", path, g_strerror(errno));
}

/* An entry as a file that is new. @return CLI_DONE also where one of its name is there,
 * which stays. */
static int write_out(restoring *r, const char *path, mode_t mode)
{
    g_autofree char *folder = g_path_get_dirname(path),
                    *part = g_strconcat(path, ".part", NULL);
    if (g_file_test(path, G_FILE_TEST_EXISTS)) {
        r->skipped++;
        return CLI_DONE;
    }
    if (g_mkdir_with_parents(folder, 0755) != 0)
        return cli_say(CLI_FAILED, "%s: %s", folder, g_strerror(errno));
    (void)unlink(part);
    const int fd = open(part, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, mode);
    if (fd < 0)
        return cli_say(CLI_FAILED, "%s: %s", part, g_strerror(errno));
    int code = copy_out(r, fd, path);
    (void)close(fd);
    if (code == CLI_DONE && rename(part, path) != 0)
        code = cli_say(CLI_FAILED, "%s: %s", path, g_strerror(errno));
    if (code != CLI_DONE)
        (void)unlink(part);
    return code;
}

static int check_about(restoring *r)
{
    char name[TWI_ZIP_NAME];
    tw_error err = {0};
    if (r->zips->read_next(r->zip, name, &err) != TW_OK ||
        strcmp(name, BACKUP_ABOUT) != 0)
        return cli_say(CLI_FAILED, "%s is no backup of a station", r->path);
    g_autofree char *text = read_text(r, name);
    json_t *o = text ? json_loads(text, 0, NULL) : NULL;
    const json_int_t format = json_integer_value(json_object_get(o, "backup"));
    json_decref(o);
    if (format == BACKUP_FORMAT)
        return CLI_DONE;
    return cli_say(CLI_FAILED, "%s %s", r->path,
                   format > BACKUP_FORMAT ? "is of a newer version of tawny"
                                          : "is no backup of a station");
}

/* ---- what it becomes --------------------------------------------------------------- */

static int write_settings(restoring *r)
{
    twi_draft *draft = NULL;
    tw_error err = {0};
    tw_status st = twi_draft_open(r->target, &draft, &err);
    if (st == TW_ENOENT) { /* there is none yet */
        st = twi_write_private(r->target, r->settings, &err);
    } else {
        if (st == TW_OK)
            st = twi_draft_replace(draft, r->settings, strlen(r->settings), &err);
        if (st == TW_OK)
            st = twi_draft_write(draft, &err);
    }
    twi_draft_free(draft);
    return st == TW_OK ? CLI_DONE : cli_say(CLI_FAILED, "%s", err.text);
}

/* The settings of the backup have to be sound before anything changes. */
static int check_settings(restoring *r)
{
    tw_settings *own = tw_settings_new();
    tw_status st = TW_OK;
    if (!r->keep_settings && !r->settings)
        st = cli_say(TW_EDAMAGED, "%s has no settings in it", r->path);
    else if (!r->keep_settings)
        st = tw_settings_read_text(own, BACKUP_SETTINGS, r->settings, strlen(r->settings),
                                   cli_told, NULL);
    else
        st = tw_settings_read(own, r->target, cli_told, NULL);
    if (st == TW_OK)
        st = tw_settings_check(own, cli_told, NULL);
    r->made = own;
    twi_settings_station(own, &r->station);
    if (!r->store)
        r->store = g_strdup(r->station.store);
    return st == TW_OK ? CLI_DONE : CLI_FAILED;
}

/* What root wrote there a station of another user could neither drop nor read. */
static int check_owner(const restoring *r)
{
    struct stat st;
    if (stat(r->store, &st) != 0 || st.st_uid == geteuid())
        return CLI_DONE;
    g_autofree char *owner = control_user(st.st_uid);
    return cli_say(
        CLI_FAILED,
        "%s belongs to %s: do this as that user (sudo -u %s tawny restore ...)", r->store,
        owner, owner);
}

/* Its folder with the mark of one, if it is new. */
static int ready_store(restoring *r)
{
    g_autofree char *mark = g_build_filename(r->store, TWI_STORE_MARK, NULL);
    GDir *folder = NULL;
    if (check_owner(r) != CLI_DONE)
        return CLI_FAILED;
    if (g_mkdir_with_parents(r->store, 0755) != 0 ||
        !(folder = g_dir_open(r->store, 0, NULL)))
        return cli_say(CLI_FAILED, "%s: %s", r->store, g_strerror(errno));
    const gboolean is_new = g_dir_read_name(folder) == NULL;
    g_dir_close(folder);
    if (is_new && !g_file_set_contents(mark, "", 0, NULL))
        return cli_say(CLI_FAILED, "%s: cannot be written", mark);
    if (!g_file_test(mark, G_FILE_TEST_EXISTS))
        return cli_say(CLI_FAILED, "%s is no store: name another with --store", r->store);
    return CLI_DONE;
}

static int get_ready(restoring *r)
{
    int code = r->ready ? CLI_DONE : check_settings(r);
    if (code == CLI_DONE && !r->ready)
        code = ready_store(r);
    r->ready = code == CLI_DONE;
    return code;
}

static int write_beside(restoring *r, const char *name)
{
    g_autofree char *folder = g_path_get_dirname(r->target),
                    *path = g_build_filename(folder, name, NULL);
    return is_below(name) ? write_out(r, path, 0644) : CLI_DONE;
}

static int write_capture(restoring *r, const char *name)
{
    g_autofree char *path = g_build_filename(r->store, name, NULL);
    if (!is_below(name) || strcmp(name, TWI_CATALOGUE_FILE) == 0)
        return cli_say(CLI_FAILED, "%s: a capture in it has a name that is none",
                       r->path);
    r->captures++;
    return write_out(r, path, 0644);
}

/* Entries come in the order of backup.h. What is not known is of a later version. */
static int take_entry(restoring *r, const char *name)
{
    if (strcmp(name, BACKUP_SETTINGS) == 0)
        return read_into(&r->settings, r, name);
    if (strcmp(name, BACKUP_ACCOUNTS) == 0)
        return read_into(&r->accounts, r, name);
    if (strcmp(name, BACKUP_PHONES) == 0)
        return read_into(&r->phones, r, name);
    const int code = get_ready(r);
    if (code != CLI_DONE)
        return code;
    if (g_str_has_prefix(name, BACKUP_BESIDE))
        return r->keep_settings ? CLI_DONE
                                : write_beside(r, name + strlen(BACKUP_BESIDE));
    if (g_str_has_prefix(name, BACKUP_CAPTURES))
        return write_capture(r, name + strlen(BACKUP_CAPTURES));
    if (strcmp(name, BACKUP_CATALOGUE) != 0 || r->catalogue)
        return CLI_DONE;
    r->catalogue = g_build_filename(r->store, "restored.db", NULL);
    (void)unlink(r->catalogue);
    return write_out(r, r->catalogue, 0600);
}

static int take_entries(restoring *r)
{
    char name[TWI_ZIP_NAME];
    tw_error err = {0};
    tw_status st = TW_OK;
    int code = check_about(r);
    while (code == CLI_DONE && (st = r->zips->read_next(r->zip, name, &err)) == TW_OK)
        code = take_entry(r, name);
    if (code == CLI_DONE && st != TW_EEND)
        code = cli_say(CLI_FAILED, "%s: %s", r->path, err.text);
    return code == CLI_DONE ? get_ready(r) : code;
}

/* The old ones are kept, as those of the settings are. */
static int write_private(const char *path, const char *text)
{
    g_autofree char *old = g_strconcat(path, ".old", NULL);
    tw_error err = {0};
    if (!text)
        return CLI_DONE;
    if (g_file_test(path, G_FILE_TEST_EXISTS) && rename(path, old) != 0)
        return cli_say(CLI_FAILED, "%s: %s", path, g_strerror(errno));
    return twi_write_private(path, text, &err) == TW_OK
               ? CLI_DONE
               : cli_say(CLI_FAILED, "%s", err.text);
}

static int write_accounts(restoring *r)
{
    g_autofree char *phones = g_strconcat(r->station.accounts_file, ".phones", NULL);
    const int code = write_private(r->station.accounts_file, r->accounts);
    return code == CLI_DONE ? write_private(phones, r->phones) : code;
}

static int merge(restoring *r, twi_merged *merged)
{
    g_autofree char *path = g_build_filename(r->store, TWI_CATALOGUE_FILE, NULL);
    tw_catalogue *into = NULL;
    tw_error err = {0};
    if (!r->catalogue)
        return cli_say(CLI_FAILED, "%s has no catalogue in it", r->path);
    tw_status st = tw_catalogue_open(path, true, &into, &err);
    if (st == TW_OK)
        st = twi_catalogue_merge(into, r->catalogue, r->captures > 0, merged, &err);
    tw_catalogue_close(into);
    return st == TW_OK ? CLI_DONE : cli_say(CLI_FAILED, "%s: %s", r->path, err.text);
}

static void drop_copy(const restoring *r)
{
    static const char *const ends[] = {"", "-wal", "-shm", "-journal", ".part"};
    for (gsize i = 0; r->catalogue && i < G_N_ELEMENTS(ends); i++) {
        g_autofree char *path = g_strconcat(r->catalogue, ends[i], NULL);
        (void)unlink(path);
    }
}

static void say_done(const restoring *r, const twi_merged *m)
{
    (void)printf("%lld sighting%s", (long long)m->sightings,
                 out_s((unsigned)m->sightings));
    if (r->captures > 0)
        (void)printf(" and %lld capture%s", (long long)m->captures,
                     out_s((unsigned)m->captures));
    (void)printf(" are in %s.\n", r->store);
    if (m->shift > 0)
        (void)printf("There were others already: the numbers of these are higher by %lld "
                     "here.\n",
                     (long long)m->shift);
    if (r->keep_settings)
        return;
    (void)printf("%s is as in the backup.\n", r->target);
    if (control_reload(r->station.name))
        (void)printf("The station that runs here reads it now; what concerns the station "
                     "itself holds from its next start on.\n");
}

/* Settings last: a station that runs is to find all the rest. */
static int restore(restoring *r)
{
    twi_merged merged = {0};
    int code = take_entries(r);
    if (code == CLI_DONE)
        code = merge(r, &merged);
    if (code == CLI_DONE && !r->keep_settings)
        code = write_accounts(r);
    if (code == CLI_DONE && !r->keep_settings)
        code = write_settings(r);
    drop_copy(r);
    if (code == CLI_DONE)
        say_done(r, &merged);
    return code;
}

static void clear(restoring *r)
{
    if (r->zips)
        r->zips->read_free(r->zip);
    tw_settings_free(r->made);
    g_free(r->target);
    g_free(r->store);
    g_free(r->settings);
    g_free(r->accounts);
    g_free(r->phones);
    g_free(r->catalogue);
}

int cli_restore(int argc, char **argv)
{
    CLI_COMMON common = {0};
    tw_error err = {0};
    restoring r = {0};
    const GOptionEntry own[] = {{"store", 'd', 0, G_OPTION_ARG_FILENAME, &r.store,
                                 "The store (else that of its settings)", "DIR"},
                                {"keep-settings", 0, 0, G_OPTION_ARG_NONE,
                                 &r.keep_settings,
                                 "Settings and accounts stay as they are here", NULL},
                                {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    int code = cli_parse(&argc, &argv, "FILE", ABOUT, EXAMPLE, own, &common);
    if (code == CLI_DONE && argc != 2)
        code = cli_say(CLI_USAGE, "name the backup: tawny restore hollin.zip");
    if (code == CLI_DONE) {
        r.path = argv[1];
        r.target = cli_settings_file(&common);
        if (!r.target)
            r.target = g_strdup("station.ini");
        r.zips = twi_zip_load(&err);
        if (r.zips && r.zips->read_open(r.path, &r.zip, &err) == TW_OK)
            code = restore(&r);
        else
            code = cli_say(CLI_FAILED, "%s: %s", r.path, err.text);
    }
    clear(&r);
    return code;
}
