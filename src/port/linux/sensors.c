/* Sensors of the board: files of the kernel's, and programs that print a number. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "../../base/program.h"
#include "../../base/system_error.h"
#include "tawny/port_linux.h"

enum { RUN_BYTES = 4096 };

#define TIMEOUT_US INT64_C(5000000)

/* A file of the kernel's is short; of another only its beginning is of interest. */
static tw_status read_file(const tw_sensor_request *r, char *text, size_t capacity,
                           tw_error *err)
{
    /* Not blocking: somebody may have named a pipe. */
    const int fd = open(r->file, O_RDONLY | O_CLOEXEC | O_NONBLOCK);
    const ssize_t n = fd < 0 ? -1 : read(fd, text, capacity - 1);
    const int code = errno;
    if (fd >= 0)
        (void)close(fd);
    if (n < 0)
        return tw_fail(err, twi_status_of_errno(code), "%s: %s", r->file, strerror(code));
    text[n] = '\0';
    return TW_OK;
}

static tw_status run_program(const tw_sensor_request *r, char *text, size_t capacity,
                             tw_error *err)
{
    char line[RUN_BYTES], *words[TWI_PROGRAM_ARGS_MAX + 1];
    twi_program_outcome outcome;
    if (snprintf(line, sizeof line, "%s", r->run) >= (int)sizeof line ||
        twi_program_split(line, words) != TW_OK)
        return tw_fail(err, TW_ESYNTAX,
                       "run = %s: expected a program and at most %d arguments, quotes "
                       "closed",
                       r->run, TWI_PROGRAM_ARGS_MAX - 1);
    const tw_status st =
        twi_program_run(words, NULL, "", TIMEOUT_US, NULL, &outcome, err);
    if (st != TW_OK)
        return st;
    if (outcome.late)
        return tw_fail(err, TW_ETIMEOUT, "%s: ended after 5 s, its time", words[0]);
    if (outcome.code != 0)
        return tw_fail(err, TW_EIO, "%s: exit code %d%s%s", words[0], outcome.code,
                       outcome.last[0] ? ": " : "", outcome.last);
    (void)snprintf(text, capacity, "%s", outcome.last);
    return TW_OK;
}

static tw_status read_sensor(void *ctx, const tw_sensor_request *r, char *text,
                             size_t capacity, tw_error *err)
{
    (void)ctx;
    if (capacity == 0)
        return tw_fail(err, TW_EINVAL, "no room");
    return r->file && r->file[0] ? read_file(r, text, capacity, err)
                                 : run_program(r, text, capacity, err);
}

tw_sensors tw_linux_sensors(void)
{
    static const tw_sensors_ops ops = {.size = sizeof ops, .read = read_sensor};
    return (tw_sensors){&ops, NULL};
}
