/* What a file system may still hold back is asked for. */
#include "sync.h"

#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

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
