/* What a file system may still hold back is asked for. */
#include "sync.h"

#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <stdbool.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "system_error.h"

/* @return 0, or errno of what failed. */
static int sync_path(int at, const char *path, int flags)
{
    const int fd = openat(at, path, O_RDONLY | O_CLOEXEC | flags);
    if (fd < 0)
        return errno;
    const int code = fsync(fd) == 0 ? 0 : errno;
    (void)close(fd);
    return code;
}

int twi_sync_named(int at, const char *path)
{
    const int code = sync_path(at, path, 0);
    return code ? code : twi_sync_folder_of(at, path);
}

int twi_sync_folder_of(int at, const char *path)
{
    char folder[PATH_MAX];
    const char *slash = strrchr(path, '/');
    const int length = slash ? (int)(slash - path) + 1 : 1; /* "/" stays "/" */
    if (length >= PATH_MAX)
        return ENAMETOOLONG;
    (void)snprintf(folder, sizeof folder, "%.*s", length, slash ? path : ".");
    return sync_path(at, folder, O_DIRECTORY);
}

tw_status twi_check_private(int fd, const char *path, tw_error *err)
{
    struct stat s;
    if (fstat(fd, &s) != 0)
        return tw_fail(err, twi_status_of_errno(errno), "%s: %s", path, strerror(errno));
    if (!S_ISREG(s.st_mode) || (s.st_mode & (S_IRWXG | S_IRWXO)))
        return tw_fail(err, TW_EDAMAGED,
                       "%s may be read by others than its owner: chmod 600 %s", path,
                       path);
    return TW_OK;
}

static bool write_whole(int fd, const char *text)
{
    size_t left = strlen(text);
    while (left > 0) {
        const ssize_t n = write(fd, text, left);
        if (n <= 0)
            return false;
        text += n;
        left -= (size_t)n;
    }
    return fsync(fd) == 0;
}

tw_status twi_write_private(const char *path, const char *text, tw_error *err)
{
    char part[PATH_MAX];
    if (snprintf(part, sizeof part, "%s.part", path) >= (int)sizeof part)
        return tw_fail(err, TW_ESIZE, "%s: its name is too long", path);
    (void)unlink(part);
    const int fd = open(part, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600);
    if (fd < 0)
        return tw_fail(err, twi_status_of_errno(errno), "%s: %s", part, strerror(errno));
    const bool good = write_whole(fd, text);
    const int code = errno;
    if (close(fd) == 0 && good && rename(part, path) == 0) {
        /* Some file systems cannot, and need not. */
        (void)twi_sync_named(AT_FDCWD, path);
        return TW_OK;
    }
    const int then = good ? errno : code;
    (void)unlink(part);
    return tw_fail(err, TW_EIO, "%s: %s", path, strerror(then));
}
