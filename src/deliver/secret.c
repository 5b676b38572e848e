/* Secrets: read when they are needed, from a file that nobody else may read, or from the
 * environment. */
#include <errno.h>
#include <fcntl.h>
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "destination.h"
#include "../settings/sections.h"
#include "../base/system_error.h"

static tw_status check_file(int fd, const char *path, tw_error *err)
{
    struct stat s;
    if (fstat(fd, &s) != 0 || !S_ISREG(s.st_mode))
        return tw_fail(err, TW_EINVAL, "%s is no file", path);
    if (s.st_mode & (S_IRWXG | S_IRWXO))
        return tw_fail(err, TW_EACCES,
                       "%s may be read by others than its owner: chmod 600 %s", path,
                       path);
    return TW_OK;
}

/* The first line; a password has no more. */
static tw_status read_line(int fd, const char *path, char out[SECRET_BYTES],
                           tw_error *err)
{
    const ssize_t n = read(fd, out, SECRET_BYTES - 1);
    if (n < 0)
        return tw_fail(err, twi_status_of_errno(errno), "%s: %s", path, strerror(errno));
    out[n] = '\0';
    const size_t length = strcspn(out, "\r\n");
    if (n == SECRET_BYTES - 1 && length == (size_t)n)
        return tw_fail(err, TW_ESIZE, "%s: a secret has at most %d bytes", path,
                       SECRET_BYTES - 2);
    if (length == 0)
        return tw_fail(err, TW_EINVAL, "%s is empty: write the secret into it", path);
    memset(out + length, 0, SECRET_BYTES - length);
    return TW_OK;
}

static tw_status read_file(const char *path, char out[SECRET_BYTES], tw_error *err)
{
    const int fd = open(path, O_RDONLY | O_CLOEXEC);
    if (fd < 0)
        return tw_fail(err, twi_status_of_errno(errno), "%s: %s", path, strerror(errno));
    tw_status st = check_file(fd, path, err);
    if (st == TW_OK)
        st = read_line(fd, path, out, err);
    (void)close(fd);
    return st;
}

tw_status twi_secret_read(const twi_destination_settings *to, char out[SECRET_BYTES],
                          tw_error *err)
{
    memset(out, 0, SECRET_BYTES);
    if (to->secret_file[0])
        return read_file(to->secret_file, out, err);
    if (!to->secret_env[0])
        return TW_OK;
    const char *value = getenv(to->secret_env);
    if (!value || !value[0])
        return tw_fail(err, TW_ENOENT, "secret_env: there is no variable %s",
                       to->secret_env);
    if (strlen(value) >= SECRET_BYTES)
        return tw_fail(err, TW_ESIZE, "secret_env: %s is too long", to->secret_env);
    (void)snprintf(out, SECRET_BYTES, "%s", value);
    return TW_OK;
}

/* FNV-1a, 64 bits. */
static void add(uint64_t *hash, const char *text)
{
    for (; *text; text++)
        *hash = (*hash ^ (unsigned char)*text) * UINT64_C(1099511628211);
    *hash = (*hash ^ 0xFF) * UINT64_C(1099511628211);
}

void twi_secret_stand_in(const twi_destination_settings *to, char out[TWI_MESSAGE_KEY])
{
    uint64_t hash = UINT64_C(14695981039346656037);
    struct stat s;
    char when[64] = "";
    const char *texts[] = {to->url,      to->user,      to->secret_file, to->secret_env,
                           to->key_file, to->host_keys, to->trust,       to->to,
                           to->from,     to->headers,   to->region};
    for (size_t i = 0; i < sizeof texts / sizeof *texts; i++)
        add(&hash, texts[i]);
    /* never the secret itself: what is kept of it could be guessed at */
    if (to->secret_file[0] && stat(to->secret_file, &s) == 0)
        (void)snprintf(when, sizeof when, "%lld.%ld", (long long)s.st_mtim.tv_sec,
                       s.st_mtim.tv_nsec);
    add(&hash, when);
    (void)snprintf(when, sizeof when, "%" PRId64 " %" PRId64, to->tls, to->by);
    add(&hash, when);
    (void)snprintf(out, TWI_MESSAGE_KEY, "%016" PRIx64, hash);
}
