/* What a file system may still hold back is asked for. */
#include "sync.h"

#include <errno.h>
#include <fcntl.h>
#include <limits.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

int twi_sync_folder_of(int at, const char *path)
{
    char folder[PATH_MAX];
    const char *slash = strrchr(path, '/');
    const int length = slash ? (int)(slash - path) + 1 : 1; /* "/" stays "/" */
    if (length >= PATH_MAX)
        return ENAMETOOLONG;
    (void)snprintf(folder, sizeof folder, "%.*s", length, slash ? path : ".");
    const int fd = openat(at, folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (fd < 0)
        return errno;
    const int code = fsync(fd) == 0 ? 0 : errno;
    (void)close(fd);
    return code;
}
