/* Recovery: files and catalogue are made to agree after a power cut. */
#include "recovery.h"

#include <stdio.h>
#include <string.h>

#include "catalogue_state.h"
#include "catalogue_write.h"
#include "../core/naming.h"
#include "tawny/events.h"

#define MP4 ".mp4"

enum { BATCH_FILES = 500 /* taken into the catalogue with one sync */ };

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
    twi_name_parts parts;
    tw_error err = {0};
    if (twi_catalogue_seen(w->catalogue, name, &err) != TW_OK)
        twi_writer_trouble(w, &err);
    if (twi_catalogue_knows(w->catalogue, name, NULL) ||
        twi_name_read(w->store.names, name, &parts) != TW_OK)
        return;
    if (!parts.offset_given) { /* that of about then: right but in the hour of a change */
        const int64_t about_us = twi_civil_join(&parts.time);
        parts.time.offset_s = w->clock.ops->offset_s(w->clock.ctx, about_us);
    }
    const char *kind =
        parts.kind[0]
            ? parts.kind
            : twi_kind_name(ends_with(name, MP4) ? TWI_KIND_CLIP : TWI_KIND_STILL);
    const tw_capture_record record = {.camera = parts.camera,
                                      .kind = kind,
                                      .file = name,
                                      .bytes = bytes,
                                      .start_us = twi_civil_join(&parts.time)};
    if (twi_catalogue_adopt(w->catalogue, &record, parts.sighting, &err) == TW_OK)
        m->adopted++;
    else
        twi_writer_trouble(w, &err);
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
    char stem[TWI_NAME_MAX];
    const size_t n = strlen(part) - strlen(TWI_PART) - strlen(MP4);
    (void)snprintf(stem, sizeof stem, "%.*s", (int)n, part);
    return twi_store_rename(card, part, stem, &MP4[1], name, err);
}

/* Whether a file would have had a name of ours once it was complete: others' downloads
 * are none of our business. */
static bool is_ours(const twi_writer *writer, const char *part)
{
    char name[TWI_NAME_MAX];
    twi_name_parts parts;
    const size_t n = strlen(part) - strlen(TWI_PART);
    (void)snprintf(name, sizeof name, "%.*s", (int)n, part);
    return (ends_with(name, MP4) || ends_with(name, ".jpg")) &&
           twi_name_read(writer->store.names, name, &parts) == TW_OK;
}

/* A clip that was being written plays as far as it got; a still does not. What cannot be
 * read now is left for another time. */
static void end_half_written(mending *m, const char *part, uint64_t bytes)
{
    const tw_card *card = &m->writer->store.card;
    char name[TWI_NAME_MAX] = "";
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
        twi_writer_trouble(m->writer, &err);
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
        twi_writer_trouble(m->writer, &err);
}

static bool mend_file(void *ctx, const char *name, uint64_t bytes)
{
    mending *m = ctx;
    next_batch(m);
    if (ends_with(name, TWI_PART) && is_ours(m->writer, name))
        end_half_written(m, name, bytes);
    else if (strcmp(name, TWI_JOURNAL_FILE) != 0 &&
             strncmp(name, TWI_CATALOGUE_FILE, strlen(TWI_CATALOGUE_FILE)) != 0)
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

void twi_recovery_run(twi_writer *writer)
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
        twi_writer_trouble(writer, &err);
    char text[256] = "";
    say(text, sizeof text, m.finished, "clips that were cut off were kept");
    say(text, sizeof text, m.removed, "half-written files were removed");
    say(text, sizeof text, m.adopted, "files were taken into the catalogue");
    say(text, sizeof text, gone, "captures are gone from the card");
    if (text[0])
        twi_writer_tell(
            writer, (tw_event){.kind = TW_EVENT_PROBLEM, .status = TW_OK, .text = text});
}
