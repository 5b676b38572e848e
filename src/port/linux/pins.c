/* The board's pins, by libgpiod 1.6; the 2.x interface differs, so nothing else knows it.
 */
#include <errno.h>
#include <gpiod.h>
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "tawny/port_linux.h"
#include "../../base/system_error.h"

enum { LINES_MAX = 64, NAME_MAX_BYTES = 64 };

/* A line that is in use. */
typedef struct taken {
    char name[NAME_MAX_BYTES];
    struct gpiod_line *line;
    bool output;
} taken;

typedef struct linux_pins {
    pthread_mutex_t lock; /* of all that follows */
    taken lines[LINES_MAX];
    size_t count;
} linux_pins;

static tw_status fail(tw_error *err, const char *name, const char *what)
{
    const int why = errno;
    const tw_status st = why == EBUSY ? TW_EACCES : twi_status_of_errno(why);
    return tw_fail(err, st, "pin %s: %s: %s", name, what,
                   why == EBUSY ? "another program has it" : strerror(why));
}

/* "gpiochip0/17", or a name that the board gives. @return NULL: errno says why. */
static struct gpiod_line *find_line(const char *name)
{
    char chip_name[NAME_MAX_BYTES];
    const char *slash = strrchr(name, '/');
    char *end = NULL;
    if (!slash)
        return gpiod_line_find(name);
    const unsigned long number = strtoul(slash + 1, &end, 10);
    if (end == slash + 1 || *end != '\0' || number > 4095) {
        errno = ENOENT;
        return NULL;
    }
    (void)snprintf(chip_name, sizeof chip_name, "%.*s", (int)(slash - name), name);
    struct gpiod_chip *chip = gpiod_chip_open_lookup(chip_name);
    struct gpiod_line *line = chip ? gpiod_chip_get_line(chip, (unsigned)number) : NULL;
    if (chip && !line) {
        const int why = errno;
        gpiod_chip_close(chip);
        errno = why == EINVAL ? ENOENT : why;
    }
    return line;
}

static int request(struct gpiod_line *line, bool output, bool low)
{
    const int flags = low ? GPIOD_LINE_REQUEST_FLAG_ACTIVE_LOW : 0;
    return output ? gpiod_line_request_output_flags(line, "tawny", flags, 0)
                  : gpiod_line_request_input_flags(line, "tawny", flags);
}

/* The line of a name, taken when it is first used. Under the lock. */
static tw_status take(linux_pins *p, const char *name, bool output,
                      struct gpiod_line **line, tw_error *err)
{
    const bool low = name[0] == '!';
    for (size_t i = 0; i < p->count; i++) {
        if (strcmp(p->lines[i].name, name) != 0)
            continue;
        *line = p->lines[i].line;
        return p->lines[i].output == output
                   ? TW_OK
                   : tw_fail(err, TW_EINVAL, "pin %s is an input and an output", name);
    }
    if (p->count == LINES_MAX || strlen(name) >= NAME_MAX_BYTES)
        return tw_fail(err, TW_ESIZE, "pin %s: too many pins, or too long a name", name);
    *line = find_line(name + low);
    if (!*line)
        return fail(err, name,
                    errno == EACCES || errno == EPERM ? "its chip cannot be opened"
                                                      : "there is no such line");
    if (request(*line, output, low) != 0) {
        const tw_status st = fail(err, name, "it cannot be used");
        gpiod_line_close_chip(*line);
        return st;
    }
    taken *t = &p->lines[p->count++];
    memcpy(t->name, name, strlen(name) + 1);
    t->line = *line;
    t->output = output;
    return TW_OK;
}

static tw_status read_line(void *ctx, const char *name, bool *active, tw_error *err)
{
    linux_pins *p = ctx;
    struct gpiod_line *line = NULL;
    (void)pthread_mutex_lock(&p->lock);
    tw_status st = take(p, name, false, &line, err);
    const int value = st == TW_OK ? gpiod_line_get_value(line) : 0;
    if (value < 0)
        st = fail(err, name, "it cannot be read");
    (void)pthread_mutex_unlock(&p->lock);
    *active = value > 0;
    return st;
}

static tw_status write_line(void *ctx, const char *name, bool active, tw_error *err)
{
    linux_pins *p = ctx;
    struct gpiod_line *line = NULL;
    (void)pthread_mutex_lock(&p->lock);
    tw_status st = take(p, name, true, &line, err);
    if (st == TW_OK && gpiod_line_set_value(line, active) != 0)
        st = fail(err, name, "it cannot be switched");
    (void)pthread_mutex_unlock(&p->lock);
    return st;
}

static void destroy(void *ctx)
{
    linux_pins *p = ctx;
    for (size_t i = 0; i < p->count; i++)
        gpiod_line_close_chip(p->lines[i].line);
    (void)pthread_mutex_destroy(&p->lock);
    free(p);
}

tw_status tw_linux_pins(tw_pins *out, tw_error *err)
{
    static const tw_pins_ops ops = {sizeof ops, read_line, write_line, destroy};
    linux_pins *p = calloc(1, sizeof *p);
    if (!p)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    (void)pthread_mutex_init(&p->lock, NULL);
    *out = (tw_pins){&ops, p};
    return TW_OK;
}
