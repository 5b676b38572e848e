/* Captures that stations send to a store: what is looked at is fetched, as whoever sends
 * there would get it back, and kept in a folder of a bounded size. */
#include <dirent.h>
#include <fcntl.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "../deliver/secret.h"
#include "../net/transfer.h"
#include "../settings/sections.h"
#include "many_state.h"

enum {
    KEPT_MAX = 2000, /* files that are kept */
    SWEPT_AFTER = 50 /* fetched ones */
};

#define LARGEST (UINT64_C(2) << 30)    /* bytes of one that is fetched */
#define KEPT_BYTES (UINT64_C(2) << 30) /* of all that are kept, by and large */

struct twi_many_store {
    twi_destination_settings to;
    char secret[SECRET_BYTES];
    const twi_transfer *transfer;
    char names[MANY_PATH], folder[MANY_PATH], kept[MANY_PATH];
    twi_few few; /* which of these is whose: others wait */
    twi_sender *sender[TWI_FEW];
    atomic_uint fetched;
    atomic_bool stop;
};

/* ---- beginning -------------------------------------------------------------------- */

static tw_status find(const tw_settings *settings, const twi_gather_settings *set,
                      twi_many_store *s, tw_error *err)
{
    if (twi_settings_destination(settings, set->media_from, &s->to) != TW_OK)
        return tw_fail(err, TW_EINVAL,
                       "media_from = %s: there is no [destination %s] in the settings",
                       set->media_from, set->media_from);
    s->transfer = twi_transfer_load(err);
    if (!s->transfer)
        return TW_ENOTSUP;
    tw_status st = twi_secret_read(&s->to, s->secret, err);
    const twi_sender_spec spec = {.to = &s->to, .secret = s->secret, .stop = &s->stop};
    if (st == TW_OK)
        st = s->transfer->sender_new(&spec, &s->sender[0], err);
    if (st == TW_ENOTSUP)
        return tw_fail(
            err, TW_EINVAL,
            "media_from = %s: nothing can be fetched from %s; on this machine, "
            "media says where it is",
            set->media_from, s->to.url);
    return st;
}

tw_status twi_many_store_new(const tw_settings *settings, twi_many_store **out,
                             tw_error *err)
{
    twi_gather_settings set;
    twi_station_settings station;
    *out = NULL;
    twi_settings_gather(settings, &set);
    twi_settings_station(settings, &station);
    if (!set.media_from[0] || !set.media[0])
        return TW_OK;
    twi_many_store *s = calloc(1, sizeof *s);
    if (!s)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    twi_few_init(&s->few);
    (void)snprintf(s->names, sizeof s->names, "/%s", set.media);
    (void)snprintf(s->folder, sizeof s->folder, "%.*s/gatherer/fetched", MANY_PATH / 2,
                   station.store);
    (void)snprintf(s->kept, sizeof s->kept, "%.*s/{station}/{file}", MANY_PATH / 2,
                   s->folder);
    const tw_status st = find(settings, &set, s, err);
    if (st == TW_OK)
        *out = s;
    else
        twi_many_store_free(s);
    return st;
}

void twi_many_store_stop(twi_many_store *s)
{
    if (s)
        atomic_store(&s->stop, true);
}

void twi_many_store_free(twi_many_store *s)
{
    if (!s)
        return;
    for (size_t i = 0; i < TWI_FEW; i++)
        if (s->sender[i])
            s->transfer->sender_free(s->sender[i]);
    explicit_bzero(s->secret, sizeof s->secret);
    twi_few_end(&s->few);
    free(s);
}

const char *twi_many_store_kept(const twi_many_store *s)
{
    return s->kept;
}

const char *twi_many_store_names(const twi_many_store *s)
{
    return s->names;
}

/* ---- what is kept ------------------------------------------------------------------ */

typedef struct kept_file {
    char *path;
    int64_t at_s;
    uint64_t bytes;
} kept_file;

typedef struct kept_files {
    kept_file *all;
    size_t count, room;
    uint64_t bytes;
} kept_files;

static void note_file(kept_files *to, const char *folder, const char *name)
{
    struct stat s;
    char path[MANY_PATH];
    if ((size_t)snprintf(path, sizeof path, "%s/%s", folder, name) >= sizeof path ||
        lstat(path, &s) != 0 || !S_ISREG(s.st_mode))
        return;
    if (to->count == to->room) {
        const size_t more = to->room ? 2 * to->room : 256;
        kept_file *larger = realloc(to->all, more * sizeof *larger);
        if (!larger)
            return;
        to->all = larger;
        to->room = more;
    }
    char *copy = strdup(path);
    if (!copy)
        return;
    to->all[to->count++] = (kept_file){copy, s.st_mtime, (uint64_t)s.st_size};
    to->bytes += (uint64_t)s.st_size;
}

/* Folders of stations, and what is below them. */
static void list_files(kept_files *to, const char *folder, int depth)
{
    enum { DEEPEST = 8 };
    DIR *dir = depth < DEEPEST ? opendir(folder) : NULL;
    const struct dirent *e = NULL;
    while (dir && (e = readdir(dir))) {
        char path[MANY_PATH];
        const bool self = strcmp(e->d_name, ".") == 0 || strcmp(e->d_name, "..") == 0;
        if (self || (size_t)snprintf(path, sizeof path, "%s/%s", folder, e->d_name) >=
                        sizeof path)
            continue;
        if (e->d_type == DT_DIR)
            list_files(to, path, depth + 1);
        else
            note_file(to, folder, e->d_name);
    }
    if (dir)
        (void)closedir(dir);
}

static int by_age(const void *a, const void *b)
{
    const kept_file *x = a, *y = b;
    return (x->at_s > y->at_s) - (x->at_s < y->at_s);
}

/* The oldest go: they can be fetched again. */
static void sweep(const twi_many_store *s)
{
    kept_files kept = {0};
    list_files(&kept, s->folder, 0);
    if (kept.count > 0)
        qsort(kept.all, kept.count, sizeof *kept.all, by_age);
    size_t left = kept.count;
    for (size_t i = 0; i < kept.count; i++) {
        if (left > KEPT_MAX || kept.bytes > KEPT_BYTES) {
            (void)unlink(kept.all[i].path);
            kept.bytes -= kept.all[i].bytes;
            left--;
        }
        free(kept.all[i].path);
    }
    free(kept.all);
}

/* ---- fetching ---------------------------------------------------------------------- */

/* @return whether it is time to sweep. */
static bool give_back(twi_many_store *s, size_t at)
{
    twi_few_give(&s->few, at);
    return atomic_fetch_add(&s->fetched, 1) % SWEPT_AFTER == 0;
}

/* The folders of a path, each. */
static void make_folders(const char *path)
{
    char part[MANY_PATH];
    for (const char *slash = strchr(path + 1, '/'); slash;
         slash = strchr(slash + 1, '/')) {
        (void)snprintf(part, sizeof part, "%.*s", (int)(slash - path), path);
        (void)mkdir(part, 0755);
    }
}

static bool fetch_into(twi_many_store *s, size_t at, const char *name, int fd)
{
    twi_sending out;
    const twi_sender_spec spec = {.to = &s->to, .secret = s->secret, .stop = &s->stop};
    if (!s->sender[at] && s->transfer->sender_new(&spec, &s->sender[at], NULL) != TW_OK)
        return false;
    s->transfer->sender_get(s->sender[at], name, fd, LARGEST, &out);
    return out.verdict == TWI_DELIVERED;
}

/* It has another name until it is whole: nobody sees half of it. */
bool twi_many_store_fetch(twi_many_store *s, const char *name, const char *path)
{
    char part[MANY_PATH];
    const size_t at = twi_few_take(&s->few);
    make_folders(path);
    const int n = snprintf(part, sizeof part, "%s.%zu.part", path, at);
    const int fd = n > 0 && (size_t)n < sizeof part
                       ? open(part, O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644)
                       : -1;
    bool good = fd >= 0 && fetch_into(s, at, name, fd);
    if (fd >= 0 && close(fd) != 0)
        good = false;
    good = good && rename(part, path) == 0;
    if (fd >= 0 && !good)
        (void)unlink(part);
    if (give_back(s, at))
        sweep(s);
    return good;
}
