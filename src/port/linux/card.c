/* A folder as a card. Everything is named relative to the folder's descriptor, so that it
 * may be moved or mounted over without captures going elsewhere. */
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/file.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#include "../../base/sync.h"
#include "../../core/naming.h"
#include "tawny/port_linux.h"
#include "../../base/system_error.h"

typedef struct folder_card {
    int fd;
    char *place;
} folder_card;

typedef struct open_file {
    int fd;
    off_t bytes; /* appended */
    char name[TWI_NAME_MAX];
} open_file;

static tw_status fail(const folder_card *card, const char *doing, const char *name,
                      tw_error *err)
{
    const int number = errno;
    return tw_fail(err, twi_status_of_errno(number), "cannot %s %s%s%s: %s", doing,
                   card->place, *name ? "/" : "", name, strerror(number));
}

/* Make the folders above a name. Each may be there already. */
static tw_status make_parents(const folder_card *card, const char *name, tw_error *err)
{
    char part[TWI_NAME_MAX + 8];
    (void)snprintf(part, sizeof part, "%s", name);
    for (char *slash = strchr(part, '/'); slash; slash = strchr(slash + 1, '/')) {
        *slash = '\0';
        if (mkdirat(card->fd, part, 0777) == 0)
            (void)twi_sync_folder_of(card->fd, part);
        else if (errno != EEXIST)
            return fail(card, "make the folder", part, err);
        *slash = '/';
    }
    return TW_OK;
}

static tw_status create(void *ctx, const char *name, void **file, tw_error *err)
{
    const folder_card *card = ctx;
    tw_status st = make_parents(card, name, err);
    if (st != TW_OK)
        return st;
    open_file *made = calloc(1, sizeof *made);
    if (!made)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    made->fd = openat(card->fd, name, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0666);
    if (made->fd < 0) {
        st = fail(card, "write", name, err);
        free(made);
        return st;
    }
    (void)snprintf(made->name, sizeof made->name, "%s", name);
    *file = made;
    return TW_OK;
}

static tw_status append(void *ctx, void *file, const void *data, size_t bytes,
                        tw_error *err)
{
    open_file *f = file;
    const uint8_t *at = data;
    const size_t all = bytes;
    while (bytes > 0) {
        const ssize_t n = write(f->fd, at, bytes);
        if (n < 0 && errno == EINTR)
            continue;
        if (n < 0) {
            const tw_status st = fail(ctx, "write", f->name, err);
            if (ftruncate(f->fd, f->bytes) == 0) /* all of it or nothing */
                (void)lseek(f->fd, f->bytes, SEEK_SET);
            return st;
        }
        at += n;
        bytes -= (size_t)n;
    }
    f->bytes += (off_t)all;
    return TW_OK;
}

static tw_status sync_file(void *ctx, void *file, tw_error *err)
{
    const open_file *f = file;
    return fdatasync(f->fd) == 0 ? TW_OK : fail(ctx, "write", f->name, err);
}

static tw_status close_file(void *ctx, void *file, tw_error *err)
{
    open_file *f = file;
    const tw_status st = close(f->fd) == 0 ? TW_OK : fail(ctx, "write", f->name, err);
    free(f);
    return st;
}

/* Folders above a name that are left empty. */
static void drop_empty(const folder_card *card, const char *name)
{
    char part[TWI_NAME_MAX + 8];
    (void)snprintf(part, sizeof part, "%s", name);
    for (char *slash = strrchr(part, '/'); slash; slash = strrchr(part, '/')) {
        *slash = '\0';
        if (unlinkat(card->fd, part, AT_REMOVEDIR) != 0)
            break; /* something else is in it */
    }
}

static tw_status give_name(const folder_card *card, const char *from, const char *to,
                           tw_error *err)
{
    if (renameat2(card->fd, from, card->fd, to, RENAME_NOREPLACE) == 0)
        return TW_OK;
    if (errno != EINVAL && errno != ENOSYS)
        return fail(card, "name", to, err);
    /* Some file systems, FAT among them, cannot promise not to replace: look first. */
    struct stat there;
    if (fstatat(card->fd, to, &there, AT_SYMLINK_NOFOLLOW) == 0) {
        errno = EEXIST;
        return fail(card, "name", to, err);
    }
    return renameat(card->fd, from, card->fd, to) == 0 ? TW_OK
                                                       : fail(card, "name", to, err);
}

static tw_status rename_file(void *ctx, const char *from, const char *to, tw_error *err)
{
    const folder_card *card = ctx;
    tw_status st = make_parents(card, to, err);
    if (st == TW_OK)
        st = give_name(card, from, to, err);
    if (st != TW_OK)
        return st;
    (void)twi_sync_named(card->fd, to); /* some file systems cannot, and need not */
    drop_empty(card, from);
    return TW_OK;
}

static tw_status remove_file(void *ctx, const char *name, tw_error *err)
{
    const folder_card *card = ctx;
    if (unlinkat(card->fd, name, 0) != 0)
        return fail(card, "remove", name, err);
    drop_empty(card, name);
    return TW_OK;
}

static tw_status space(void *ctx, uint64_t *free_bytes, uint64_t *total_bytes,
                       tw_error *err)
{
    const folder_card *card = ctx;
    struct statvfs s;
    if (fstatvfs(card->fd, &s) != 0)
        return fail(card, "look at", "", err);
    *free_bytes = (uint64_t)s.f_bavail * s.f_frsize;
    *total_bytes = (uint64_t)s.f_blocks * s.f_frsize;
    return TW_OK;
}

static const char *place(void *ctx)
{
    return ((const folder_card *)ctx)->place;
}

/* Deeper folders are not ours. */
enum { DEPTH_MAX = 16 };

typedef struct listing {
    bool (*visit)(void *visitor, const char *name, uint64_t bytes);
    void *visitor;
    bool more;
} listing;

static void list_folder(int parent, const char *name, const char *below, int depth,
                        listing *l)
{
    const int fd = openat(parent, name, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
    DIR *folder = fd >= 0 ? fdopendir(fd) : NULL;
    if (!folder) {
        if (fd >= 0)
            (void)close(fd);
        return; /* gone meanwhile, or not for us */
    }
    for (struct dirent *e = NULL; l->more && (e = readdir(folder)) != NULL;) {
        char full[TWI_NAME_MAX];
        struct stat s;
        if (strcmp(e->d_name, ".") == 0 || strcmp(e->d_name, "..") == 0 ||
            snprintf(full, sizeof full, "%s%s%s", below, *below ? "/" : "", e->d_name) >=
                (int)sizeof full ||
            fstatat(fd, e->d_name, &s, AT_SYMLINK_NOFOLLOW) != 0)
            continue;
        if (S_ISREG(s.st_mode) && strcmp(full, TWI_STORE_MARK) != 0)
            l->more = l->visit(l->visitor, full, (uint64_t)s.st_size);
        else if (S_ISDIR(s.st_mode) && depth < DEPTH_MAX)
            list_folder(fd, e->d_name, full, depth + 1, l);
    }
    (void)closedir(folder);
}

static tw_status
list_files(void *ctx, bool (*visit)(void *visitor, const char *name, uint64_t bytes),
           void *visitor, tw_error *err)
{
    (void)err;
    listing l = {visit, visitor, true};
    list_folder(((const folder_card *)ctx)->fd, ".", "", 0, &l);
    return TW_OK;
}

static tw_status read_file(void *ctx, const char *name, uint64_t offset, void *out,
                           size_t bytes, size_t *got, tw_error *err)
{
    const folder_card *card = ctx;
    tw_status st = TW_OK;
    *got = 0;
    const int fd = openat(card->fd, name, O_RDONLY | O_NOFOLLOW | O_CLOEXEC);
    if (fd < 0)
        return fail(card, "read", name, err);
    while (st == TW_OK && *got < bytes) {
        const ssize_t n =
            pread(fd, (uint8_t *)out + *got, bytes - *got, (off_t)(offset + *got));
        if (n < 0 && errno == EINTR)
            continue;
        if (n < 0)
            st = fail(card, "read", name, err);
        if (n <= 0)
            break;
        *got += (size_t)n;
    }
    (void)close(fd);
    return st;
}

static tw_status shorten_file(void *ctx, const char *name, uint64_t bytes, tw_error *err)
{
    const folder_card *card = ctx;
    const int fd = openat(card->fd, name, O_WRONLY | O_NOFOLLOW | O_CLOEXEC);
    if (fd < 0)
        return fail(card, "shorten", name, err);
    const bool good = ftruncate(fd, (off_t)bytes) == 0 && fdatasync(fd) == 0;
    const tw_status st = good ? TW_OK : fail(card, "shorten", name, err);
    (void)close(fd);
    return st;
}

/* ---- whose folder it is ----------------------------------------------------------- */

/* What a file system or a desktop puts into every folder at the top of a card. */
static bool is_of_the_system(const char *name)
{
    static const char *const names[] = {
        ".",        "..",         "lost+found",      "System Volume Information",
        ".Trashes", ".fseventsd", ".Spotlight-V100", NULL};
    for (size_t i = 0; names[i]; i++)
        if (strcmp(names[i], name) == 0)
            return true;
    return strncmp(name, ".Trash-", 7) == 0;
}

/* @param other  Set to the name of something that is no capture of ours; "" none. */
static tw_status find_other(const folder_card *card, char other[256], tw_error *err)
{
    const int fd = openat(card->fd, ".", O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    DIR *folder = fd >= 0 ? fdopendir(fd) : NULL;
    other[0] = '\0';
    if (!folder) {
        const tw_status st = fail(card, "look into", "", err);
        if (fd >= 0)
            (void)close(fd);
        return st;
    }
    for (struct dirent *e = NULL; !other[0] && (e = readdir(folder)) != NULL;)
        if (!is_of_the_system(e->d_name) && strcmp(e->d_name, TWI_STORE_PROBE) != 0)
            (void)snprintf(other, 256, "%s", e->d_name);
    (void)closedir(folder);
    return TW_OK;
}

/* Whether a catalogue of ours is there, from before stores had a mark: its schema stands
 * in its first pages, or in what was not yet put into them. */
static bool has_catalogue(const folder_card *card)
{
    static const char TABLE[] = "CREATE TABLE sighting(id INTEGER";
    static const char *const names[] = {TWI_CATALOGUE_FILE, TWI_CATALOGUE_FILE "-wal"};
    enum { EXAMINED = 1 << 17 };
    char *text = malloc(EXAMINED);
    bool found = false;
    for (size_t i = 0; text && !found && i < 2; i++) {
        size_t got = 0;
        found = read_file((void *)card, names[i], 0, text, EXAMINED, &got, NULL) ==
                    TW_OK && /* NOLINT: it is not written */
                memmem(text, got, TABLE, sizeof TABLE - 1) != NULL;
    }
    free(text);
    return found;
}

/* A store is known by its mark. A folder without one must be empty: what lies in others
 * is somebody's, and captures are dropped to make room. */
static tw_status check_mark(const folder_card *card, tw_error *err)
{
    char other[256];
    struct stat s;
    if (fstatat(card->fd, TWI_STORE_MARK, &s, AT_SYMLINK_NOFOLLOW) == 0)
        return TW_OK;
    const tw_status st = find_other(card, other, err);
    if (st != TW_OK)
        return st;
    if (other[0] && !has_catalogue(card))
        return tw_fail(err, TW_EEXIST,
                       "the folder %s holds other things (%s): choose an empty one for "
                       "the captures; if all in it is a station's, put an empty file %s "
                       "beside it",
                       card->place, other, TWI_STORE_MARK);
    const int fd = openat(card->fd, TWI_STORE_MARK, O_WRONLY | O_CREAT | O_CLOEXEC, 0666);
    if (fd >= 0) { /* a card that is full or cannot be written gets it another time */
        (void)fsync(fd);
        (void)close(fd);
    }
    return TW_OK;
}

/* The lock goes with the descriptor, also if the program dies. */
static tw_status claim(void *ctx, tw_error *err)
{
    const folder_card *card = ctx;
    if (flock(card->fd, LOCK_EX | LOCK_NB) != 0 && errno == EWOULDBLOCK)
        return tw_fail(err, TW_EACCES, "another station writes to the folder %s",
                       card->place);
    return check_mark(card, err); /* one without locks is not refused for that */
}

static void destroy(void *ctx)
{
    folder_card *card = ctx;
    if (card->fd >= 0)
        (void)close(card->fd);
    free(card->place);
    free(card);
}

/* Make the folder and those above it. */
static tw_status make_folder(const char *folder, tw_error *err)
{
    char path[4096];
    if (snprintf(path, sizeof path, "%s", folder) >= (int)sizeof path)
        return tw_fail(err, TW_ESIZE, "%s: the name of the folder is too long", folder);
    for (char *slash = strchr(path + 1, '/'); slash; slash = strchr(slash + 1, '/')) {
        *slash = '\0';
        if (mkdir(path, 0777) != 0 && errno != EEXIST && errno != EROFS &&
            errno != EACCES)
            break; /* the last one says why */
        *slash = '/';
    }
    if (mkdir(folder, 0777) != 0 && errno != EEXIST) {
        const int number = errno;
        return tw_fail(err, twi_status_of_errno(number), "cannot make the folder %s: %s",
                       folder, strerror(number));
    }
    return TW_OK;
}

tw_status tw_linux_card(const char *folder, tw_card *out, tw_error *err)
{
    static const tw_card_ops ops = {sizeof ops, create,      append,      sync_file,
                                    close_file, rename_file, remove_file, space,
                                    place,      list_files,  read_file,   shorten_file,
                                    place,      claim,       destroy};
    if (!folder || !*folder || !out)
        return tw_fail(err, TW_EINVAL, "no folder is named");
    tw_status st = make_folder(folder, err);
    if (st != TW_OK)
        return st;
    folder_card *card = calloc(1, sizeof *card);
    if (!card)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    card->place = strdup(folder);
    card->fd = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (!card->place || card->fd < 0) {
        const int number = errno;
        st = tw_fail(err, twi_status_of_errno(number), "cannot open the folder %s: %s",
                     folder, strerror(number));
        destroy(card);
        return st;
    }
    *out = (tw_card){&ops, card};
    return TW_OK;
}
