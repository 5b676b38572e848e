/* tawny backup: what a station is, as one file. */
#include <errno.h>
#include <fcntl.h>
#include <jansson.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "../media/zip.h"
#include "../settings/draft.h"
#include "../settings/sections.h"
#include "../station/backup.h"
#include "backup.h"
#include "output.h"
#include "store.h"
#include "tawny/settings.h"

static const char ABOUT[] =
    "Writes settings, accounts, phones and the catalogue (sightings with marks, names "
    "and\n"
    "stars, the log, the trace) into one ZIP file that only its owner may read; with\n"
    "--captures also what was captured. The station may run meanwhile. Secrets of\n"
    "destinations and certificates are not in it.";
static const char EXAMPLE[] = "Examples:\n"
                              "  tawny backup hollin.zip\n"
                              "  tawny backup hollin.zip --captures\n"
                              "  tawny restore hollin.zip    # on the other board";

typedef struct backing {
    const cli_common *common;
    const char *path; /* of the backup */
    char *settings_path;
    tw_settings *settings;
    twi_station_settings station;
    tw_clock clock;
    const twi_zip_module *zips;
    twi_zip *zip;
    FILE *to;
    GPtrArray *missing; /* lines of what is to be brought by hand */
    guint captures;
} backing;

static bool write_part(void *ctx, const void *data, size_t bytes)
{
    return fwrite(data, 1, bytes, ((backing *)ctx)->to) == bytes;
}

/* ---- entries ----------------------------------------------------------------------- */

static int put_text(backing *b, const char *name, const char *text, size_t bytes)
{
    tw_error err = {0};
    tw_status st =
        b->zips->begin(b->zip, name, bytes, b->clock.ops->wall_us(b->clock.ctx), &err);
    if (st == TW_OK && bytes > 0)
        st = b->zips->data(b->zip, text, bytes, &err);
    return st == TW_OK ? CLI_DONE : cli_say(CLI_FAILED, "%s: %s", b->path, err.text);
}

static int put_open(backing *b, const char *name, FILE *from, guint64 bytes)
{
    char part[65536];
    tw_error err = {0};
    size_t n = 0;
    tw_status st =
        b->zips->begin(b->zip, name, bytes, b->clock.ops->wall_us(b->clock.ctx), &err);
    while (st == TW_OK && (n = fread(part, 1, sizeof part, from)) > 0)
        st = b->zips->data(b->zip, part, n, &err);
    return st == TW_OK ? CLI_DONE : cli_say(CLI_FAILED, "%s: %s", b->path, err.text);
}

/* @param needed  That it is missing is told; else it is none of this station. */
static int put_file(backing *b, const char *name, const char *path, gboolean needed)
{
    struct stat st;
    FILE *from = fopen(path, "rbe");
    int code = CLI_DONE;
    if (from && fstat(fileno(from), &st) == 0 && S_ISREG(st.st_mode))
        code = put_open(b, name, from, (guint64)st.st_size);
    else if (needed)
        code = cli_say(CLI_FAILED, "%s: %s", path, g_strerror(errno));
    if (from)
        (void)fclose(from);
    return code;
}

static int put_about(backing *b, gboolean captures)
{
    g_autoptr(GDateTime) now = g_date_time_new_now_utc();
    g_autofree char *made = g_date_time_format_iso8601(now);
    json_t *o =
        json_pack("{si ss ss sb ss}", "backup", BACKUP_FORMAT, "station", b->station.name,
                  "made", made, "captures", captures, "by", tw_version());
    char *text = json_dumps(o, JSON_COMPACT);
    const int code = put_text(b, BACKUP_ABOUT, text, strlen(text));
    free(text);
    json_decref(o);
    return code;
}

static int put_settings(backing *b)
{
    twi_draft *draft = NULL;
    tw_error err = {0};
    size_t bytes = 0;
    if (twi_draft_open(b->settings_path, &draft, &err) != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    char *text = twi_draft_whole(draft, &bytes);
    const int code = text ? put_text(b, BACKUP_SETTINGS, text, bytes)
                          : cli_say(CLI_FAILED, "out of memory");
    free(text);
    twi_draft_free(draft);
    return code;
}

static void miss(backing *b, const char *what, const char *path)
{
    g_ptr_array_add(b->missing, g_strdup_printf("%s %s", what, path));
}

/* A file that the settings name: relative ones go along, others lie where the other board
 * may have something else. */
static int put_beside(backing *b, const char *what, const char *path)
{
    if (path[0] == '\0')
        return CLI_DONE;
    if (g_path_is_absolute(path) || strstr(path, "..")) {
        miss(b, what, path);
        return CLI_DONE;
    }
    g_autofree char *name = g_strconcat(BACKUP_BESIDE, path, NULL);
    return put_file(b, name, path, FALSE);
}

static int put_named(backing *b)
{
    twi_camera_settings camera;
    twi_destination_settings d;
    const char *name = NULL;
    int code = put_beside(b, "names:", b->station.species);
    for (size_t i = 0;
         code == CLI_DONE && (name = tw_settings_camera_name(b->settings, i)); i++)
        if (twi_settings_camera(b->settings, name, &camera) == TW_OK)
            code = put_beside(b, "mask:", camera.mask);
    for (size_t i = 0; (name = twi_settings_destination_name(b->settings, i)); i++)
        if (twi_settings_destination(b->settings, name, &d) == TW_OK && d.secret_file[0])
            miss(b, "secret:", d.secret_file);
    if (b->station.certificate[0])
        miss(b, "certificate:", b->station.certificate);
    if (b->station.certificate_key[0])
        miss(b, "its key:", b->station.certificate_key);
    return code;
}

static int put_accounts(backing *b)
{
    g_autofree char *phones = g_strconcat(b->station.accounts_file, ".phones", NULL);
    const int code = put_file(b, BACKUP_ACCOUNTS, b->station.accounts_file, FALSE);
    return code == CLI_DONE ? put_file(b, BACKUP_PHONES, phones, FALSE) : code;
}

/* As it is at one moment, whatever the station writes meanwhile. */
static int put_catalogue(backing *b, tw_catalogue *catalogue)
{
    g_autofree char *copy = g_strconcat(b->path, ".catalogue", NULL);
    tw_error err = {0};
    (void)unlink(copy);
    int code = twi_catalogue_copy(catalogue, copy, &err) == TW_OK
                   ? CLI_DONE
                   : cli_say(CLI_FAILED, "%s", err.text);
    if (code == CLI_DONE)
        code = put_file(b, BACKUP_CATALOGUE, copy, TRUE);
    (void)unlink(copy);
    return code;
}

typedef struct capturing {
    backing *backing;
    int code;
} capturing;

/* One that is dropped meanwhile is none of the backup. */
static bool put_capture(void *ctx, const tw_capture_record *r)
{
    capturing *c = ctx;
    g_autofree char *path = g_build_filename(c->backing->station.store, r->file, NULL),
                    *name = g_strconcat(BACKUP_CAPTURES, r->file, NULL);
    c->code = put_file(c->backing, name, path, FALSE);
    c->backing->captures++;
    return c->code == CLI_DONE;
}

static int put_captures(backing *b, tw_catalogue *catalogue)
{
    capturing c = {b, CLI_DONE};
    tw_error err = {0};
    if (tw_catalogue_captures(catalogue, 0, put_capture, &c, &err) != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    return c.code;
}

/* ---- the file ---------------------------------------------------------------------- */

static int put_all(backing *b, gboolean captures)
{
    tw_catalogue *catalogue = NULL;
    tw_error err = {0};
    int code = store_open(b->station.store, &catalogue);
    if (code == CLI_DONE)
        code = put_about(b, captures);
    if (code == CLI_DONE)
        code = put_settings(b);
    if (code == CLI_DONE)
        code = put_accounts(b);
    if (code == CLI_DONE)
        code = put_named(b);
    if (code == CLI_DONE)
        code = put_catalogue(b, catalogue);
    if (code == CLI_DONE && captures)
        code = put_captures(b, catalogue);
    tw_catalogue_close(catalogue);
    if (code == CLI_DONE && b->zips->finish(b->zip, &err) != TW_OK)
        code = cli_say(CLI_FAILED, "%s: %s", b->path, err.text);
    return code;
}

/* Beside its place first, so that an older one is not lost to half a new one. */
static int write_backup(backing *b, gboolean captures)
{
    g_autofree char *part = g_strconcat(b->path, ".part", NULL);
    tw_error err = {0};
    (void)unlink(part);
    const int fd = open(part, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600);
    b->to = fd >= 0 ? fdopen(fd, "wb") : NULL;
    if (!b->to)
        return cli_say(CLI_FAILED, "%s: %s", part, g_strerror(errno));
    int code = b->zips->open(write_part, b, &b->zip, &err) == TW_OK
                   ? put_all(b, captures)
                   : cli_say(CLI_FAILED, "%s", err.text);
    b->zips->free(b->zip);
    if ((fflush(b->to) != 0 || fsync(fd) != 0) && code == CLI_DONE)
        code = cli_say(CLI_FAILED, "%s: %s", part, g_strerror(errno));
    (void)fclose(b->to);
    if (code == CLI_DONE && rename(part, b->path) != 0)
        code = cli_say(CLI_FAILED, "%s: %s", b->path, g_strerror(errno));
    if (code != CLI_DONE)
        (void)unlink(part);
    return code;
}

static void say_done(const backing *b)
{
    struct stat st;
    char size[24];
    if (stat(b->path, &st) == 0)
        (void)printf("%s: settings, accounts and catalogue of %s", b->path,
                     b->station.name);
    if (b->captures > 0)
        (void)printf(", %u capture%s", b->captures, out_s(b->captures));
    (void)printf(", %s. It has hashes of passwords in it: keep it to yourself.\n",
                 out_bytes((guint64)st.st_size, size));
    for (guint i = 0; i < b->missing->len; i++)
        (void)printf("Not in it, bring it by hand: %s\n",
                     (const char *)g_ptr_array_index(b->missing, i));
}

int cli_backup(int argc, char **argv)
{
    CLI_COMMON common = {0};
    gboolean captures = FALSE;
    tw_error err = {0};
    backing b = {.common = &common, .clock = tw_linux_clock()};
    const GOptionEntry own[] = {
        {"captures", 0, 0, G_OPTION_ARG_NONE, &captures, "Also what was captured", NULL},
        {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    int code = cli_parse(&argc, &argv, "FILE", ABOUT, EXAMPLE, own, &common);
    if (code == CLI_DONE && argc != 2)
        code = cli_say(CLI_USAGE, "name the backup that is to be written: tawny backup "
                                  "hollin.zip");
    if (code == CLI_DONE &&
        cli_load(&common, TRUE, &b.settings, &b.settings_path) != TW_OK)
        code = CLI_USAGE;
    if (code != CLI_DONE)
        return code;
    b.missing = g_ptr_array_new_with_free_func(g_free);
    b.path = argv[1];
    twi_settings_station(b.settings, &b.station);
    b.zips = twi_zip_load(&err);
    code = b.zips ? write_backup(&b, captures) : cli_say(CLI_FAILED, "%s", err.text);
    if (code == CLI_DONE)
        say_done(&b);
    (void)g_ptr_array_free(b.missing, TRUE);
    g_free(b.settings_path);
    tw_settings_free(b.settings);
    return code;
}
