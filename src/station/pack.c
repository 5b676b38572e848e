/* Many captures as one ZIP file. */
#include <errno.h>
#include <fcntl.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "../media/zip.h"
#include "pack.h"

enum { PART = 64 * 1024, PATH_BYTES = 4096 };

typedef struct packed {
    char *file; /* owned */
    int64_t wall_us;
} packed;

struct twi_pack {
    const twi_zip_module *zips;
    twi_zip *zip;
    char *store;
    packed *all;
    size_t count, room;
    size_t next;        /* that is opened next */
    int fd;             /* of the one that is read; -1: none */
    uint64_t left;      /* bytes of it */
    bool finished;      /* the directory is written */
    uint8_t part[PART]; /* of a capture */
    uint8_t *made;      /* of the ZIP file, not read yet; owned */
    size_t made_bytes, made_room, made_from;
};

static bool take(void *ctx, const void *data, size_t bytes)
{
    twi_pack *p = ctx;
    if (p->made_bytes + bytes > p->made_room) {
        const size_t room = 2 * (p->made_bytes + bytes);
        uint8_t *more = realloc(p->made, room);
        if (!more)
            return false;
        p->made = more;
        p->made_room = room;
    }
    memcpy(p->made + p->made_bytes, data, bytes);
    p->made_bytes += bytes;
    return true;
}

tw_status twi_pack_new(const char *store, twi_pack **out, tw_error *err)
{
    const twi_zip_module *zips = twi_zip_load(err);
    twi_pack *p = zips ? calloc(1, sizeof *p) : NULL;
    if (!zips)
        return TW_ENOTSUP;
    if (!p)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    p->fd = -1;
    p->zips = zips;
    p->store = strdup(store);
    const tw_status st = p->store ? zips->open(take, p, &p->zip, err)
                                  : tw_fail(err, TW_ENOMEM, "out of memory");
    if (st == TW_OK)
        *out = p;
    else
        twi_pack_free(p);
    return st;
}

/* A segment may be of several sightings, one soon after the other: so the newest first.
 */
static bool has(const twi_pack *p, const char *file)
{
    enum { AS_FAR = 1000 };
    for (size_t i = p->count; i > 0 && i + AS_FAR > p->count; i--)
        if (strcmp(p->all[i - 1].file, file) == 0)
            return true;
    return false;
}

static tw_status make_room(twi_pack *p, tw_error *err)
{
    if (p->count < p->room)
        return TW_OK;
    const size_t room = p->room ? 2 * p->room : 64;
    packed *more = realloc(p->all, room * sizeof *more);
    if (!more)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    p->all = more;
    p->room = room;
    return TW_OK;
}

tw_status twi_pack_add_file(twi_pack *p, const char *file, int64_t wall_us, tw_error *err)
{
    const tw_status st = make_room(p, err);
    char *own = st == TW_OK ? strdup(file) : NULL;
    if (st == TW_OK && !own)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    if (st == TW_OK)
        p->all[p->count++] = (packed){own, wall_us};
    return st;
}

typedef struct adding {
    twi_pack *pack;
    tw_status status;
    tw_error *err;
} adding;

static bool add_one(void *ctx, const tw_capture_record *r)
{
    adding *a = ctx;
    if (!has(a->pack, r->file))
        a->status = twi_pack_add_file(a->pack, r->file, r->start_us, a->err);
    return a->status == TW_OK;
}

tw_status twi_pack_add(twi_pack *p, tw_catalogue *catalogue, int64_t sighting,
                       tw_error *err)
{
    adding a = {.pack = p, .status = TW_OK, .err = err};
    const tw_status st = tw_catalogue_captures(catalogue, sighting, add_one, &a, err);
    return st == TW_OK ? a.status : st;
}

size_t twi_pack_count(const twi_pack *p)
{
    return p->count;
}

/* @return -1: it is not there any more. */
static int open_file(const twi_pack *p, const packed *one, uint64_t *bytes)
{
    char path[PATH_BYTES];
    struct stat s;
    if (snprintf(path, sizeof path, "%s/%s", p->store, one->file) >= (int)sizeof path)
        return -1;
    const int fd = open(path, O_RDONLY | O_CLOEXEC | O_NOFOLLOW);
    if (fd >= 0 && fstat(fd, &s) == 0 && S_ISREG(s.st_mode)) {
        *bytes = (uint64_t)s.st_size;
        return fd;
    }
    if (fd >= 0)
        (void)close(fd);
    return -1;
}

/* Begin the next capture that is there, or end the file. */
static tw_status go_on(twi_pack *p, tw_error *err)
{
    while (p->next < p->count && p->fd < 0)
        p->fd = open_file(p, &p->all[p->next++], &p->left);
    if (p->fd >= 0) {
        const packed *one = &p->all[p->next - 1];
        return p->zips->begin(p->zip, one->file, p->left, one->wall_us, err);
    }
    p->finished = true;
    return p->zips->finish(p->zip, err);
}

/* One that got shorter meanwhile ends there. */
static tw_status give_part(twi_pack *p, tw_error *err)
{
    const size_t most = p->left < PART ? (size_t)p->left : PART;
    ssize_t n = 0;
    do
        n = read(p->fd, p->part, most);
    while (n < 0 && errno == EINTR);
    if (n > 0)
        p->left -= (uint64_t)n;
    if (n <= 0 || p->left == 0) {
        (void)close(p->fd);
        p->fd = -1;
    }
    return n > 0 ? p->zips->data(p->zip, p->part, (size_t)n, err) : TW_OK;
}

long twi_pack_read(twi_pack *p, char *out, size_t room, tw_error *err)
{
    tw_status st = TW_OK;
    if (p->made_from == p->made_bytes)
        p->made_from = p->made_bytes = 0;
    while (st == TW_OK && p->made_bytes == 0 && !p->finished)
        st = p->fd >= 0 ? give_part(p, err) : go_on(p, err);
    if (st != TW_OK)
        return -1;
    const size_t left = p->made_bytes - p->made_from, n = left < room ? left : room;
    if (n > 0)
        memcpy(out, p->made + p->made_from, n);
    p->made_from += n;
    return (long)n;
}

void twi_pack_free(twi_pack *p)
{
    if (!p)
        return;
    p->zips->free(p->zip);
    for (size_t i = 0; i < p->count; i++)
        free(p->all[i].file);
    if (p->fd >= 0)
        (void)close(p->fd);
    free(p->all);
    free(p->made);
    free(p->store);
    free(p);
}
