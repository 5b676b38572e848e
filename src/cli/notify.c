/* Notices to the service manager. */
#include "notify.h"

#include <stddef.h>
#include <stdio.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/time.h>
#include <sys/un.h>
#include <unistd.h>

enum { TIMEOUT_S = 2 };

void notify_state(const char *state)
{
    const char *where = g_getenv("NOTIFY_SOCKET");
    struct sockaddr_un at = {.sun_family = AF_UNIX};
    const struct timeval timeout = {TIMEOUT_S, 0};
    if (!where || (where[0] != '/' && where[0] != '@') ||
        strlen(where) >= sizeof at.sun_path)
        return;
    memcpy(at.sun_path, where, strlen(where));
    if (where[0] == '@') /* an abstract one */
        at.sun_path[0] = '\0';
    const int s = socket(AF_UNIX, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    if (s < 0)
        return;
    /* a manager that does not read must not hold the station up */
    (void)setsockopt(s, SOL_SOCKET, SO_SNDTIMEO, &timeout, sizeof timeout);
    (void)sendto(s, state, strlen(state), MSG_NOSIGNAL, (const struct sockaddr *)&at,
                 (socklen_t)(offsetof(struct sockaddr_un, sun_path) + strlen(where)));
    (void)close(s);
}

gint64 notify_every(void)
{
    const char *us = g_getenv("WATCHDOG_USEC"), *pid = g_getenv("WATCHDOG_PID");
    if (!us || (pid && g_ascii_strtoll(pid, NULL, 10) != (gint64)getpid()))
        return 0;
    return g_ascii_strtoll(us, NULL, 10) / 2;
}

const char *notify_level(FILE *to, int level)
{
    const char *stream =
        g_getenv("JOURNAL_STREAM"); /* device:inode, see systemd.exec(5) */
    struct stat s;
    if (!stream || fstat(fileno(to), &s) != 0)
        return "";
    g_autofree char *here = g_strdup_printf("%llu:%llu", (unsigned long long)s.st_dev,
                                            (unsigned long long)s.st_ino);
    if (strcmp(here, stream) != 0)
        return "";
    return level == NOTIFY_ERROR ? "<3>" : "<4>";
}
