/* Destinations that take single files: folders, here or on a server. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "../base/sync.h"
#include "destination.h"
#include "../core/naming.h"
#include "../settings/sections.h"

#define PART ".part"

enum { PIECE = 1 << 16, NAME_BYTES = 600 };

/* One thing that is to be put somewhere. */
typedef struct load {
    twi_content content;
    char name[NAME_BYTES]; /* below the destination */
    char path[PATH_BYTES]; /* of a capture */
    uint8_t *made;         /* what was made in memory */
    char *text;
} load;

static bool take_item(void *ctx, const twi_outbox_item *item)
{
    twi_message_take(item, ctx);
    return false;
}

/* "a/b.jpg" is "a/b-small.jpg". */
static void name_small(const char *file, char out[NAME_BYTES])
{
    const char *dot = strrchr(file, '.');
    const int stem = dot ? (int)(dot - file) : (int)strlen(file);
    (void)snprintf(out, NAME_BYTES, "%.*s-small%s", stem, file, dot ? dot : "");
}

/* The day's folder, the camera's, and a name that no other record has. */
static tw_status name_record(const destination *d, const message_item *item,
                             char out[NAME_BYTES], tw_error *err)
{
    sighting_facts s;
    const tw_clock *clock = &d->of->clock;
    const tw_status st = twi_message_facts(d->catalogue, item->sighting, &s, err);
    if (st != TW_OK)
        return st;
    twi_name_fields fields = {.camera = s.camera,
                              .station = d->of->station,
                              .kind = "record",
                              .sighting = (uint32_t)s.id,
                              .extension = "json"};
    twi_civil_split(s.start_us, clock->ops->offset_s(clock->ctx, s.start_us),
                    &fields.time);
    return twi_name_expand("%Y-%m-%d/{camera}/{camera}-%Y%m%dT%H%M%S.{ms}%z-{sighting}-"
                           "{kind}",
                           &fields, out, NAME_BYTES, NULL);
}

static tw_status load_record(destination *d, const message_item *item, load *out,
                             tw_error *err)
{
    const tw_status st = name_record(d, item, out->name, err);
    if (st != TW_OK)
        return st;
    out->text = twi_json_text(twi_message_record(d, item->sighting, "end"));
    if (!out->text)
        return tw_fail(err, TW_ENOENT, "the sighting is no more in the catalogue");
    out->content = (twi_content){
        .data = out->text, .bytes = strlen(out->text), .type = "application/json"};
    return TW_OK;
}

static tw_status load_small(const destination *d, const message_item *item, load *out,
                            tw_error *err)
{
    size_t bytes = 0;
    name_small(item->file, out->name);
    const tw_status st = twi_message_reduce(
        d->of->store, item->file, (uint16_t)d->set.small_side, &out->made, &bytes, err);
    out->content = (twi_content){.data = out->made, .bytes = bytes, .type = "image/jpeg"};
    return st;
}

static tw_status load_item(destination *d, const message_item *item, load *out,
                           tw_error *err)
{
    memset(out, 0, sizeof *out);
    if (twi_message_is(item, TWI_SEND_RECORD))
        return load_record(d, item, out, err);
    if (twi_message_is(item, TWI_SEND_SMALL) &&
        load_small(d, item, out, err) != TW_ENOTSUP)
        return err->status;
    *err = (tw_error){0}; /* without a way to reduce it, it goes as it is */
    twi_message_path(d->of, item->file, out->path);
    (void)snprintf(out->name, sizeof out->name, "%s", item->file);
    out->content = (twi_content){.path = out->path, .type = twi_media_type(item->file)};
    return access(out->path, R_OK) == 0
               ? TW_OK
               : tw_fail(err, TW_ENOENT, "%s is no more there", item->file);
}

static void load_free(load *l)
{
    free(l->made);
    free(l->text);
}

/* Load what is in a batch of one. @return false: out says why not. */
static bool load_batch(destination *d, const twi_outbox_batch *batch, load *l,
                       twi_sending *out)
{
    message_item item = {.what = ""};
    tw_error err = {0};
    memset(l, 0, sizeof *l);
    tw_status st = twi_outbox_batch_items(d->catalogue, batch, take_item, &item, &err);
    if (st == TW_OK && !item.what[0]) /* it has just been dropped */
        st = tw_fail(&err, TW_ENOENT, "it is no more in the store");
    if (st == TW_OK)
        st = load_item(d, &item, l, &err);
    if (st != TW_OK)
        twi_deliver_fail(out, st == TW_ENOMEM ? TWI_FAULT_OTHER : TWI_FAULT_GONE, "%s",
                         err.text);
    return st == TW_OK;
}

/* ---- on a server ------------------------------------------------------------------ */

static void send_file(destination *d, const twi_outbox_batch *batch, twi_sending *out)
{
    load l;
    if (!twi_deliver_connect(d, out))
        return;
    if (load_batch(d, batch, &l, out))
        d->transfer->sender_put(d->sender, l.name, &l.content, out);
    load_free(&l);
}

const transport twi_transport_file = {
    .take = TWI_TAKE_ONE, .send = send_file, .end = twi_deliver_disconnect};

/* ---- in a folder ------------------------------------------------------------------ */

static bool write_all(int fd, const char *data, size_t bytes)
{
    while (bytes > 0) {
        const ssize_t n = write(fd, data, bytes);
        if (n <= 0)
            return false;
        data += n;
        bytes -= (size_t)n;
    }
    return true;
}

/* @return 0, or errno. */
static int copy_to(int to, const load *l)
{
    char piece[PIECE];
    ssize_t n = 0;
    if (!l->content.path)
        return write_all(to, l->content.data, l->content.bytes) ? 0 : errno;
    const int from = open(l->content.path, O_RDONLY | O_CLOEXEC);
    if (from < 0)
        return errno;
    int code = 0;
    while (code == 0 && (n = read(from, piece, sizeof piece)) > 0)
        code = write_all(to, piece, (size_t)n) ? 0 : errno;
    if (code == 0 && n < 0)
        code = errno;
    (void)close(from);
    return code;
}

/* Folders above a file, but for the destination itself: where that is missing, the disk
 * is, and what it is mounted on must not be filled. @return 0, or errno. */
static int make_folders(const char *base, const char *name)
{
    char path[PATH_BYTES];
    struct stat s;
    if (stat(base, &s) != 0)
        return errno;
    if (!S_ISDIR(s.st_mode))
        return ENOTDIR;
    for (const char *slash = strchr(name, '/'); slash; slash = strchr(slash + 1, '/')) {
        (void)snprintf(path, sizeof path, "%s/%.*s", base, (int)(slash - name), name);
        if (mkdir(path, 0777) != 0 && errno != EEXIST)
            return errno;
    }
    return 0;
}

static int put(const char *base, const load *l)
{
    char whole[PATH_BYTES], part[PATH_BYTES];
    int code = make_folders(base, l->name);
    if (code != 0)
        return code;
    if (snprintf(whole, sizeof whole, "%s/%s", base, l->name) >= (int)sizeof whole ||
        snprintf(part, sizeof part, "%s" PART, whole) >= (int)sizeof part)
        return ENAMETOOLONG;
    const int to = open(part, O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0666);
    if (to < 0)
        return errno;
    code = copy_to(to, l);
    if (code == 0 && fsync(to) != 0)
        code = errno;
    if (close(to) != 0 && code == 0)
        code = errno;
    if (code == 0 && rename(part, whole) != 0)
        code = errno;
    if (code == 0)
        return twi_sync_named(AT_FDCWD, whole); /* its entry is safe as well */
    (void)unlink(part);
    return code;
}

static void put_there(const destination *d, const load *l, twi_sending *out)
{
    const char *base = d->set.url + strlen("file:");
    struct stat s;
    const int code = put(base, l);
    twi_deliver_fail(out, TWI_FAULT_NONE, "%s", "");
    if (code != 0 && stat(base, &s) != 0)
        twi_deliver_fail(out, TWI_FAULT_CONNECT,
                         "the folder %s is not there: is its disk?", base);
    else if (code == ENOSPC || code == EDQUOT)
        twi_deliver_fail(out, TWI_FAULT_FULL, "%s: %s", base,
                         twi_fault_text(TWI_FAULT_FULL));
    else if (code == EACCES || code == EROFS || code == EPERM || code == ENOTDIR)
        twi_deliver_fail(out, TWI_FAULT_FOLDER, "%s may not be written: %s", base,
                         strerror(code));
    else if (code != 0)
        twi_deliver_fail(out, TWI_FAULT_OTHER, "%s: %s", base, strerror(code));
}

static void send_folder(destination *d, const twi_outbox_batch *batch, twi_sending *out)
{
    load l;
    if (load_batch(d, batch, &l, out))
        put_there(d, &l, out);
    load_free(&l);
}

void twi_folder_try(destination *d, const char *name, const char *text, twi_sending *out)
{
    load l = {.content = {.data = text, .bytes = strlen(text)}};
    (void)snprintf(l.name, sizeof l.name, "%s", name);
    put_there(d, &l, out);
}

const transport twi_transport_folder = {.take = TWI_TAKE_ONE, .send = send_folder};
