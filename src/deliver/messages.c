/* Destinations that take messages: mail, and forms. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "destination.h"
#include "../core/naming.h"
#include "../settings/sections.h"

enum {
    FILES_MAX = 20,
    ALL_FILES_BYTES = 20000000,
    ROW_SIDE = 400 /* pixels of a picture in a list: twice what it is shown at */
};

/* What goes with a message. */
typedef struct enclosed {
    twi_content files[FILES_MAX];
    char paths[FILES_MAX][PATH_BYTES];
    uint8_t *made[FILES_MAX];
    char *text;
    size_t count;
    uint64_t bytes;
    const message_item **named; /* that do not go: too large, or too many */
    size_t named_count;
} enclosed;

static const char *last_part(const char *file)
{
    const char *slash = strrchr(file, '/');
    return slash ? slash + 1 : file;
}

static bool is_picture(const message_item *item)
{
    return twi_message_is(item, TWI_SEND_STILL) || twi_message_is(item, TWI_SEND_SMALL);
}

/* Reduced if it is to be, and can be. */
static void make_picture(const destination *d, const message_item *item, char *path,
                         uint8_t **made, twi_content *out)
{
    size_t bytes = 0;
    twi_message_path(d->of, item->file, path);
    *out =
        (twi_content){.path = path, .name = last_part(item->file), .type = "image/jpeg"};
    if (!twi_message_is(item, TWI_SEND_SMALL) ||
        twi_message_reduce(d->of->store, item->file, (uint16_t)d->set.small_side, made,
                           &bytes, NULL) != TW_OK)
        return;
    out->path = NULL;
    out->data = *made;
    out->bytes = bytes;
}

static void add_file(const destination *d, const message_item *item, uint64_t most,
                     enclosed *e)
{
    const size_t i = e->count;
    if (i == FILES_MAX || item->bytes > most ||
        e->bytes + item->bytes > ALL_FILES_BYTES) {
        e->named[e->named_count++] = item;
        return;
    }
    if (is_picture(item)) {
        make_picture(d, item, e->paths[i], &e->made[i], &e->files[i]);
    } else {
        twi_message_path(d->of, item->file, e->paths[i]);
        e->files[i] = (twi_content){.path = e->paths[i],
                                    .name = last_part(item->file),
                                    .type = twi_media_type(item->file)};
    }
    e->bytes += item->bytes;
    e->count++;
}

static void add_record(char *text, enclosed *e)
{
    if (!text || e->count == FILES_MAX) {
        free(text);
        return;
    }
    e->text = text;
    e->files[e->count++] = (twi_content){.data = text,
                                         .bytes = strlen(text),
                                         .name = "sighting.json",
                                         .type = "application/json"};
}

static void drop_enclosed(enclosed *e)
{
    for (size_t i = 0; e && i < FILES_MAX; i++)
        free(e->made[i]);
    if (e) {
        free(e->text);
        free(e->named);
    }
    free(e);
}

static enclosed *new_enclosed(const message *l)
{
    enclosed *e = calloc(1, sizeof *e);
    if (e && (e->named = calloc(l->count + 1, sizeof *e->named)) == NULL) {
        free(e);
        return NULL;
    }
    return e;
}

/* ---- mail ------------------------------------------------------------------------ */

/* The still that shows most: of one camera's, the one that was hardest to compress. One
 * that is reduced is preferred, as it is wanted. */
static const message_item *best_picture(const message *l)
{
    const message_item *best = NULL;
    for (size_t i = 0; i < l->count; i++) {
        const message_item *item = &l->items[i];
        if (!is_picture(item))
            continue;
        const int rank = twi_message_is(item, TWI_SEND_SMALL);
        const int best_rank = best ? twi_message_is(best, TWI_SEND_SMALL) : -1;
        if (rank > best_rank || (rank == best_rank && item->bytes > best->bytes))
            best = item;
    }
    return best;
}

/* All that is mailed. */
typedef struct mailing {
    mail_shown shown;
    twi_content pictures[SHOWN_MAX];
    char paths[SHOWN_MAX][PATH_BYTES];
    uint8_t *made[SHOWN_MAX];
    enclosed *with;
    prose prose;
    char id[256], thread[256];
} mailing;

/* Of many each is shown small, in its line. */
static void show_small(const destination *d, const message_item *item, mailing *m)
{
    const size_t i = m->shown.count;
    size_t bytes = 0;
    if (twi_message_reduce(d->of->store, item->file, ROW_SIDE, &m->made[i], &bytes,
                           NULL) != TW_OK)
        return;
    m->pictures[i] = (twi_content){.data = m->made[i],
                                   .bytes = bytes,
                                   .name = last_part(item->file),
                                   .type = "image/jpeg"};
    m->shown.sighting[i] = item->sighting;
    m->shown.count++;
}

/* One of each sighting, as far as they go; items of one stand together. */
static void show_each(const destination *d, const message *l, mailing *m)
{
    int64_t last = 0;
    for (size_t i = 0; l->items && i < l->count && m->shown.count < SHOWN_MAX; i++) {
        const message_item *item = &l->items[i];
        if (item->sighting == 0 || item->sighting == last || !is_picture(item))
            continue;
        last = item->sighting;
        show_small(d, item, m);
    }
}

static void show_one(const destination *d, const message_item *best, mailing *m)
{
    make_picture(d, best, m->paths[0], &m->made[0], &m->pictures[0]);
    m->shown.sighting[0] = best->sighting;
    m->shown.count = 1;
}

static void add_enclosed(const destination *d, const message *l, const message_item *best,
                         const char *record, mailing *m)
{
    const bool one = l->sighting_count <= 1;
    for (size_t i = 0; i < l->count; i++) {
        const message_item *item = &l->items[i];
        if (item == best || item->entry != 0 || twi_message_is(item, TWI_SEND_RECORD) ||
            (!one && is_picture(item)))
            continue; /* of many, their lines show them */
        add_file(d, item, is_picture(item) ? UINT64_MAX : (uint64_t)d->set.attach_below,
                 m->with);
    }
    if (record)
        add_record(strdup(record), m->with);
}

static char *mailed_record(const destination *d, const message *l)
{
    bool wanted = false;
    for (size_t i = 0; i < l->count; i++)
        wanted = wanted || twi_message_is(&l->items[i], TWI_SEND_RECORD);
    if (!wanted)
        return NULL;
    json_t *all = json_array();
    for (size_t i = 0; i < l->sighting_count; i++)
        (void)json_array_append_new(
            all, twi_message_record(d, l->sightings[i].id,
                                    l->sightings[i].over ? "end" : "update"));
    if (l->sighting_count != 1)
        return twi_json_text(all);
    json_t *one = json_incref(json_array_get(all, 0));
    json_decref(all);
    return twi_json_text(one);
}

static tw_status prepare(const destination *d, const message *l, const char *key,
                         mailing *m, tw_error *err)
{
    const message_item *best = l->sighting_count > 1 ? NULL : best_picture(l);
    m->with = new_enclosed(l);
    if (!m->with)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    if (best)
        show_one(d, best, m);
    else
        show_each(d, l, m);
    char *record = mailed_record(d, l);
    add_enclosed(d, l, best, record, m);
    free(record);
    twi_compose_id(d, key, m->id, sizeof m->id);
    if (l->sighting_count == 1)
        twi_compose_thread(d, &l->sightings[0], m->thread, sizeof m->thread);
    return twi_compose(d, l, &m->shown, m->with->named, m->with->named_count,
                       &m->prose) == TW_OK
               ? TW_OK
               : tw_fail(err, TW_ENOMEM, "out of memory");
}

static void mail_message(destination *d, const message *l, const char *key,
                         twi_sending *out)
{
    mailing *m = calloc(1, sizeof *m);
    tw_error err = {0};
    const tw_clock *clock = &d->of->clock;
    if (!m || prepare(d, l, key, m, &err) != TW_OK) {
        twi_deliver_fail(out, TWI_FAULT_OTHER, "out of memory");
    } else {
        const int64_t wall_us = clock->ops->wall_us(clock->ctx);
        const twi_mail mail = {.subject = m->prose.subject,
                               .text = m->prose.text,
                               .html = m->prose.html,
                               .id = m->id,
                               .thread = m->thread[0] ? m->thread : NULL,
                               .wall_us = wall_us,
                               .offset_s = clock->ops->offset_s(clock->ctx, wall_us),
                               .pictures = m->pictures,
                               .picture_count = m->shown.count,
                               .files = m->with->files,
                               .file_count = m->with->count};
        d->transfer->sender_mail(d->sender, &mail, out);
    }
    if (m) {
        twi_compose_free(&m->prose);
        drop_enclosed(m->with);
        for (size_t i = 0; i < SHOWN_MAX; i++)
            free(m->made[i]);
    }
    free(m);
}

/* ---- forms ----------------------------------------------------------------------- */

/* What belongs to no sighting is a picture that was asked for, or one by the clock. */
static json_t *describe_capture(const destination *d, const message_item *item)
{
    return twi_json_capture_of(&(tw_capture_record){.camera = item->camera,
                                                    .kind = item->what,
                                                    .file = item->file,
                                                    .start_us = item->start_us,
                                                    .bytes = item->bytes},
                               d->of->station);
}

static char *describe(const destination *d, const message *l)
{
    if (l->sighting_count == 1 && l->items[0].sighting != 0)
        return twi_json_text(twi_message_record(d, l->sightings[0].id,
                                                l->sightings[0].over ? "end" : "update"));
    if (l->sighting_count == 0 && l->alarm_count > 0) /* they come one by one */
        return twi_json_text(twi_message_alarm(d, &l->items[0]));
    if (l->sighting_count == 0)
        return twi_json_text(l->count > 0 ? describe_capture(d, &l->items[0]) : NULL);
    json_t *all = json_array();
    for (size_t i = 0; i < l->sighting_count; i++)
        (void)json_array_append_new(all,
                                    twi_message_record(d, l->sightings[i].id, "end"));
    return twi_json_text(twi_json_digest(d->of->station, all));
}

static void post_message(destination *d, const message *l, const char *key,
                         twi_sending *out)
{
    enclosed *e = new_enclosed(l);
    char *record = describe(d, l);
    for (size_t i = 0; e && i < l->count; i++)
        if (!twi_message_is(&l->items[i], TWI_SEND_RECORD) && l->items[i].entry == 0)
            add_file(d, &l->items[i], UINT64_MAX, e);
    if (e && record)
        d->transfer->sender_post(d->sender, key, record, e->files, e->count, out);
    else
        twi_deliver_fail(out, TWI_FAULT_OTHER, "out of memory");
    free(record);
    drop_enclosed(e);
}

/* ---- both ------------------------------------------------------------------------ */

void twi_message_send(destination *d, const twi_outbox_batch *batch,
                      void (*send)(destination *d, const message *l, const char *key,
                                   twi_sending *out),
                      twi_sending *out)
{
    message l;
    tw_error err = {0};
    if (!twi_deliver_connect(d, out))
        return;
    const tw_status st = twi_message_read(d->catalogue, batch, &l, &err);
    if (st != TW_OK) {
        twi_deliver_fail(out, TWI_FAULT_OTHER, "%s", err.text);
        return;
    }
    if (l.count == 0) /* all of it has just been dropped */
        twi_deliver_fail(out, TWI_FAULT_GONE, "%s", twi_fault_text(TWI_FAULT_GONE));
    else
        send(d, &l, batch->message, out);
    twi_message_free(&l);
}

static void send_mail(destination *d, const twi_outbox_batch *batch, twi_sending *out)
{
    twi_message_send(d, batch, mail_message, out);
}

static void send_post(destination *d, const twi_outbox_batch *batch, twi_sending *out)
{
    twi_message_send(d, batch, post_message, out);
}

const transport twi_transport_mail = {.message = true,
                                      .take = TWI_TAKE_SIGHTING,
                                      .send = send_mail,
                                      .end = twi_deliver_disconnect};
const transport twi_transport_post = {.message = true,
                                      .take = TWI_TAKE_SIGHTING,
                                      .send = send_post,
                                      .end = twi_deliver_disconnect};
