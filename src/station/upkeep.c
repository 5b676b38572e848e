/* Keeping the store in order. */
#include "catalogue_write.h"
#include "upkeep.h"

#include "catalogue.h"

#include <stdio.h>
#include <string.h>

#define MP4 ".mp4"

enum {
    ROUND_MAX = 100000, /* captures dropped in one round */
    BATCH_FILES = 500,  /* taken into the catalogue with one sync */
    RESERVE_PART = 10   /* of the card that keep_free takes at most: a tenth */
};

/* ---- telling --------------------------------------------------------------------- */

static void tell(const twi_writer *writer, tw_event event)
{
    event.wall_us = writer->clock.ops->wall_us(writer->clock.ctx);
    if (writer->callback)
        writer->callback(writer->ctx, &event);
}

static void tell_trouble(twi_writer *writer, const tw_error *why)
{
    if (writer->upkeep_failed)
        return;
    writer->upkeep_failed = true; /* until it works again */
    tell(writer,
         (tw_event){.kind = TW_EVENT_PROBLEM, .status = why->status, .text = why->text});
}

/* ---- dropping -------------------------------------------------------------------- */

/* What a round has dropped. */
typedef struct dropped {
    uint32_t captures;
    uint64_t bytes;
} dropped;

static void tell_dropped(const twi_writer *writer, const char *camera, const char *why,
                         const dropped *d)
{
    char text[160];
    if (d->captures == 0)
        return;
    (void)snprintf(text, sizeof text, "%u %s dropped, %.1f MB: %s", (unsigned)d->captures,
                   d->captures == 1 ? "capture" : "captures", (double)d->bytes / 1e6,
                   why);
    tell(writer,
         (tw_event){
             .kind = TW_EVENT_FREED, .camera = camera, .bytes = d->bytes, .text = text});
}

/* The file first: should the power go in between, the next start finds it gone. */
static bool drop(twi_writer *writer, const twi_catalogue_oldest *oldest, dropped *d)
{
    tw_error err = {0};
    const tw_card *card = &writer->store.card;
    tw_status st = card->ops->remove(card->ctx, oldest->file, &err);
    if (st == TW_OK || st == TW_ENOENT)
        st = twi_catalogue_drop(writer->catalogue, oldest->id, &err);
    if (st != TW_OK) {
        tell_trouble(writer, &err);
        return false;
    }
    d->captures++;
    d->bytes += oldest->bytes;
    writer->upkeep_failed = false;
    return true;
}

static bool find_oldest(twi_writer *writer, const char *camera, tw_kind kind,
                        twi_catalogue_oldest *out)
{
    tw_error err = {0};
    const tw_status st =
        twi_catalogue_find_oldest(writer->catalogue, camera, kind, false, out, &err);
    if (st != TW_OK && st != TW_ENOENT)
        tell_trouble(writer, &err);
    return st == TW_OK;
}

/* Where a limit comes from, for messages: "older than keep_for", "... for segment". */
static const char *word_limit(const char *what, tw_kind kind, char text[64])
{
    (void)snprintf(text, 64, "%s%s%s", what, kind < TW_KIND_COUNT ? " for " : "",
                   kind < TW_KIND_COUNT ? tw_kind_name(kind) : "");
    return text;
}

/* @param keep_us  How long captures of that kind are kept; 0: for ever. */
static void drop_old(twi_writer *writer, const tw_camera_settings *camera, tw_kind kind,
                     int64_t keep_us, dropped *d)
{
    const int64_t now_us = writer->clock.ops->wall_us(writer->clock.ctx);
    twi_catalogue_oldest oldest;
    if (keep_us == 0)
        return;
    for (int i = 0; i < ROUND_MAX && find_oldest(writer, camera->name, kind, &oldest);
         i++)
        if (oldest.start_us >= now_us - keep_us || !drop(writer, &oldest, d))
            break;
}

static void drop_all_old(twi_writer *writer, const tw_camera_settings *camera)
{
    const tw_by_kind *sink = &camera->keep_for_us;
    dropped usual = {0, 0};
    for (int k = 0; k < TW_KIND_COUNT; k++) {
        dropped own = {0, 0};
        char why[64];
        const bool as_all = sink->kind[k] == TW_AS_ALL;
        drop_old(writer, camera, (tw_kind)k, as_all ? sink->all : sink->kind[k],
                 as_all ? &usual : &own);
        tell_dropped(writer, camera->name,
                     word_limit("older than keep_for", (tw_kind)k, why), &own);
    }
    tell_dropped(writer, camera->name, "older than keep_for", &usual);
}

/* @param most  Bytes that captures of a kind may take, 0 or TW_AS_ALL: as many as there
 * are. */
static void drop_excess(twi_writer *writer, const tw_camera_settings *camera,
                        tw_kind kind, int64_t most)
{
    dropped d = {0, 0};
    twi_catalogue_oldest oldest;
    uint64_t bytes = 0;
    char why[64];
    tw_error err = {0};
    if (most <= 0)
        return;
    if (twi_catalogue_bytes(writer->catalogue, camera->name, kind, &bytes, &err) !=
        TW_OK) {
        tell_trouble(writer, &err);
        return;
    }
    for (int i = 0; i < ROUND_MAX && bytes > (uint64_t)most + d.bytes &&
                    find_oldest(writer, camera->name, kind, &oldest);
         i++)
        if (!drop(writer, &oldest, &d))
            break;
    tell_dropped(writer, camera->name, word_limit("more than keep_size", kind, why), &d);
}

/* What the clips that run will need until it is looked again: as much as they have, at
 * most another tenth of the card. */
static uint64_t needed_soon(const twi_writer *writer, uint64_t total)
{
    uint64_t bytes = 0;
    for (const twi_channel *channel = writer->channels; channel; channel = channel->next)
        for (int k = 0; k < TW_KIND_COUNT; k++)
            if (channel->own[k].clip)
                bytes += channel->own[k].file.bytes;
    return bytes < total / RESERVE_PART ? bytes : total / RESERVE_PART;
}

/* Bytes that are missing for the card to be as free as it should be.
 * @param tells  Where it cannot be found out. */
static uint64_t missing(twi_writer *writer, bool tells)
{
    const tw_card *card = &writer->store.card;
    uint64_t free_bytes = 0, total = 0;
    tw_error err = {0};
    if (card->ops->space(card->ctx, &free_bytes, &total, &err) != TW_OK) {
        if (tells)
            tell_trouble(writer, &err);
        return 0;
    }
    uint64_t want = writer->keep_free;
    if (want > total / RESERVE_PART)
        want = total / RESERVE_PART;
    want += needed_soon(writer, total);
    return free_bytes < want ? want - free_bytes : 0;
}

/* The oldest of all, with unsent also those that a destination still waits for. */
static bool find_any(twi_writer *writer, bool unsent, twi_catalogue_oldest *out)
{
    return twi_catalogue_find_oldest(writer->catalogue, NULL, TW_KIND_COUNT, unsent, out,
                                     NULL) == TW_OK;
}

bool twi_upkeep_make_room(twi_writer *writer, uint64_t bytes, uint64_t more)
{
    dropped sent = {0, 0}, unsent = {0, 0};
    twi_catalogue_oldest oldest;
    if (!writer->catalogue)
        return false;
    for (int i = 0; i < ROUND_MAX && sent.bytes + unsent.bytes < bytes + more; i++) {
        const bool any = find_any(writer, false, &oldest);
        const bool needed = sent.bytes + unsent.bytes < bytes;
        if (!any && (!needed || !find_any(writer, true, &oldest)))
            break;
        if (!drop(writer, &oldest, any ? &sent : &unsent))
            break;
    }
    tell_dropped(writer, NULL, "the card is filling up", &sent);
    tell_dropped(writer, NULL, "the card is full, and they had NOT BEEN SENT yet",
                 &unsent);
    return sent.captures + unsent.captures > 0;
}

static void keep_free(twi_writer *writer, bool tells)
{
    const uint64_t bytes = writer->catalogue ? missing(writer, tells) : 0;
    if (bytes > 0)
        (void)twi_upkeep_make_room(writer, 0, bytes);
}

void twi_upkeep_keep_free(twi_writer *writer)
{
    keep_free(writer, false); /* writing goes on, and says what is wrong */
}

static void drop_trace(twi_writer *writer, const tw_camera_settings *camera)
{
    const int64_t now_us = writer->clock.ops->wall_us(writer->clock.ctx);
    tw_error err = {0};
    if (camera->keep_trace_us > 0 &&
        twi_catalogue_drop_trace(writer->catalogue, camera->name,
                                 now_us - camera->keep_trace_us, &err) != TW_OK)
        tell_trouble(writer, &err);
}

static void keep_limits(twi_writer *writer, const tw_camera_settings *camera)
{
    const int64_t now_us = writer->clock.ops->wall_us(writer->clock.ctx);
    if (writer->clock.ops->trusted(writer->clock.ctx, now_us)) {
        drop_all_old(writer, camera);
        drop_trace(writer, camera);
    }
    for (int k = 0; k < TW_KIND_COUNT; k++)
        drop_excess(writer, camera, (tw_kind)k, camera->keep_size.kind[k]);
    drop_excess(writer, camera, TW_KIND_COUNT, camera->keep_size.all);
}

void twi_upkeep(twi_writer *writer)
{
    twi_writer_retry(writer);
    if (!writer->catalogue)
        return;
    twi_upkeep_clock(writer);
    for (const twi_channel *channel = writer->channels; channel; channel = channel->next)
        keep_limits(writer, channel->camera);
    keep_free(writer, true);
}

/* ---- mending --------------------------------------------------------------------- */

typedef struct mending {
    twi_writer *writer;
    uint32_t removed, finished, adopted, examined;
} mending;

static bool ends_with(const char *name, const char *end)
{
    const size_t n = strlen(name), m = strlen(end);
    return n >= m && strcmp(name + n - m, end) == 0;
}

/* A file is there. Take it into the catalogue, if its name says what it is. */
static void adopt(mending *m, const char *name, uint64_t bytes)
{
    twi_writer *w = m->writer;
    tw_name_parts parts;
    tw_error err = {0};
    if (twi_catalogue_seen(w->catalogue, name, &err) != TW_OK)
        tell_trouble(w, &err);
    if (twi_catalogue_knows(w->catalogue, name) ||
        tw_name_read(w->store.names, name, &parts) != TW_OK)
        return;
    if (!parts.offset_given) { /* that of about then: right but in the hour of a change */
        const int64_t about_us = tw_civil_join(&parts.time);
        parts.time.offset_s = w->clock.ops->offset_s(w->clock.ctx, about_us);
    }
    const char *kind =
        parts.kind[0] ? parts.kind
                      : tw_kind_name(ends_with(name, MP4) ? TW_KIND_CLIP : TW_KIND_STILL);
    const tw_capture_record record = {.camera = parts.camera,
                                      .kind = kind,
                                      .file = name,
                                      .bytes = bytes,
                                      .start_us = tw_civil_join(&parts.time)};
    if (twi_catalogue_adopt(w->catalogue, &record, parts.sighting, &err) == TW_OK)
        m->adopted++;
    else
        tell_trouble(w, &err);
}

/* How much of a clip that was torn off plays: its header and whole fragments; 0: none of
 * it. Walks the outermost boxes (ISO/IEC 14496-12), each of which says how long it is. */
static tw_status find_whole(const tw_card *card, const char *name, uint64_t bytes,
                            uint64_t *whole, tw_error *err)
{
    enum { BOXES_MAX = 1000000, HEAD = 8, MOOF = 0x6D6F6F66, MOOV = 0x6D6F6F76 };
    uint64_t at = 0;
    uint32_t last = 0;
    bool header = false;
    *whole = 0;
    for (int i = 0; i < BOXES_MAX && at + HEAD <= bytes; i++) {
        uint8_t box[HEAD];
        size_t got = 0;
        const tw_status st =
            card->ops->read(card->ctx, name, at, box, sizeof box, &got, err);
        if (st != TW_OK)
            return st;
        const uint32_t size = (uint32_t)box[0] << 24 | (uint32_t)box[1] << 16 |
                              (uint32_t)box[2] << 8 | box[3];
        const uint32_t type = (uint32_t)box[4] << 24 | (uint32_t)box[5] << 16 |
                              (uint32_t)box[6] << 8 | box[7];
        if (got < sizeof box || size < HEAD || at + size > bytes)
            break;
        at += size;
        if (header && last == MOOF) /* this one holds what that one tells of */
            *whole = at;
        header = header || type == MOOV;
        last = type;
    }
    return TW_OK;
}

/* Give a clip the name it would have had, or that with a number behind it. */
static tw_status name_clip(const tw_card *card, const char *part, char *name,
                           tw_error *err)
{
    char stem[TW_NAME_MAX];
    const size_t n = strlen(part) - strlen(TWI_PART) - strlen(MP4);
    (void)snprintf(stem, sizeof stem, "%.*s", (int)n, part);
    return twi_store_rename(card, part, stem, &MP4[1], name, err);
}

/* Whether a file would have had a name of ours once it was complete: others' downloads
 * are none of our business. */
static bool is_ours(const twi_writer *writer, const char *part)
{
    char name[TW_NAME_MAX];
    tw_name_parts parts;
    const size_t n = strlen(part) - strlen(TWI_PART);
    (void)snprintf(name, sizeof name, "%.*s", (int)n, part);
    return (ends_with(name, MP4) || ends_with(name, ".jpg")) &&
           tw_name_read(writer->store.names, name, &parts) == TW_OK;
}

/* A clip that was being written plays as far as it got; a still does not. What cannot be
 * read now is left for another time. */
static void end_half_written(mending *m, const char *part, uint64_t bytes)
{
    const tw_card *card = &m->writer->store.card;
    char name[TW_NAME_MAX] = "";
    tw_error err = {0};
    uint64_t whole = 0;
    tw_status st = TW_OK;
    if (ends_with(part, MP4 TWI_PART))
        st = find_whole(card, part, bytes, &whole, &err);
    if (st == TW_OK && whole == 0) {
        st = card->ops->remove(card->ctx, part, &err);
        m->removed += st == TW_OK;
    } else if (st == TW_OK) {
        if (whole < bytes) /* some players refuse a fragment that is torn */
            st = card->ops->shorten(card->ctx, part, whole, &err);
        if (st == TW_OK)
            st = name_clip(card, part, name, &err);
        m->finished += st == TW_OK;
        if (st == TW_OK)
            adopt(m, name, whole);
    }
    if (st != TW_OK)
        tell_trouble(m->writer, &err);
}

/* One sync for many files: thousands of them would hold all captures up for minutes. */
static void next_batch(mending *m)
{
    tw_error err = {0};
    tw_status st = TW_OK;
    if (m->examined++ % BATCH_FILES != 0)
        return;
    if (m->examined > 1)
        st = twi_catalogue_end_batch(m->writer->catalogue, &err);
    if (st == TW_OK)
        st = twi_catalogue_begin_batch(m->writer->catalogue, &err);
    if (st != TW_OK)
        tell_trouble(m->writer, &err);
}

static bool mend_file(void *ctx, const char *name, uint64_t bytes)
{
    mending *m = ctx;
    next_batch(m);
    if (ends_with(name, TWI_PART) && is_ours(m->writer, name))
        end_half_written(m, name, bytes);
    else if (strcmp(name, TW_JOURNAL_FILE) != 0 &&
             strncmp(name, TW_CATALOGUE_FILE, strlen(TW_CATALOGUE_FILE)) != 0)
        adopt(m, name, bytes);
    return true;
}

static void say(char *text, size_t capacity, uint32_t count, const char *what)
{
    const size_t n = strlen(text);
    if (count > 0)
        (void)snprintf(text + n, capacity - n, "%s%u %s", n > 0 ? ", " : "",
                       (unsigned)count, what);
}

void twi_upkeep_mend(twi_writer *writer)
{
    mending m = {.writer = writer};
    const tw_card *card = &writer->store.card;
    tw_error err = {0};
    uint32_t gone = 0;
    if (!writer->catalogue)
        return;
    tw_status st = twi_catalogue_seen(writer->catalogue, NULL, &err);
    if (st == TW_OK)
        st = card->ops->list(card->ctx, mend_file, &m, &err);
    const tw_status ended = twi_catalogue_end_batch(writer->catalogue, &err);
    if (st == TW_OK)
        st = ended;
    if (st == TW_OK)
        st = twi_catalogue_forget_unseen(writer->catalogue, &gone, &err);
    if (st != TW_OK)
        tell_trouble(writer, &err);
    char text[256] = "";
    say(text, sizeof text, m.finished, "clips that were cut off were kept");
    say(text, sizeof text, m.removed, "half-written files were removed");
    say(text, sizeof text, m.adopted, "files were taken into the catalogue");
    say(text, sizeof text, gone, "captures are gone from the card");
    if (text[0])
        tell(writer, (tw_event){.kind = TW_EVENT_PROBLEM, .status = TW_OK, .text = text});
}
