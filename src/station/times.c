/* Putting times right once the clock has been set. */
#include "times.h"

#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../media/exif.h"
#include "catalogue_write.h"
#include "../core/naming.h"
#include "tawny/events.h"

enum { STILL_MAX = 64 << 20, ROUND_MAX = 100000, CHUNK = 1 << 16 };

static void tell(const twi_writer *writer, const char *text)
{
    twi_writer_tell(writer, (tw_event){.kind = TW_EVENT_PROBLEM, .text = text});
}

/* The name that a capture would have had. @return TW_OK; TW_ENOENT: its name is not of
 * the pattern. */
static tw_status right_name(const twi_writer *writer, const char *file, int64_t wall_us,
                            twi_name_fields *fields, char *stem, size_t capacity)
{
    twi_name_parts parts;
    const tw_status st = twi_name_read(writer->store.names, file, &parts);
    if (st != TW_OK)
        return st;
    *fields = (twi_name_fields){.camera = parts.camera,
                                .station = writer->store.station,
                                .kind = parts.kind,
                                .sighting = parts.sighting,
                                .n = parts.n,
                                .extension = ""};
    twi_civil_split(wall_us, writer->clock.ops->offset_s(writer->clock.ctx, wall_us),
                    &fields->time);
    return twi_name_expand(writer->store.names, fields, stem, capacity, NULL);
}

static tw_status read_all(const tw_card *card, const twi_catalogue_oldest *capture,
                          uint8_t *out, tw_error *err)
{
    tw_status st = TW_OK;
    for (uint64_t at = 0; at < capture->bytes && st == TW_OK;) {
        const uint64_t left = capture->bytes - at;
        size_t got = 0;
        st = card->ops->read(card->ctx, capture->file, at, out + at,
                             left < CHUNK ? (size_t)left : CHUNK, &got, err);
        if (st == TW_OK && got == 0)
            st = tw_fail(err, TW_EDAMAGED, "%s is shorter than it was", capture->file);
        at += got;
    }
    return st;
}

/* A still with its time put right under a temporary name; the old one stays meanwhile. */
static tw_status write_again(const twi_writer *writer, const twi_catalogue_oldest *old,
                             const twi_civil *time, const char *part, uint64_t *bytes,
                             tw_error *err)
{
    const tw_card *card = &writer->store.card;
    uint8_t *jpeg = old->bytes <= STILL_MAX ? malloc((size_t)old->bytes + 1) : NULL;
    uint8_t *head = NULL;
    size_t head_bytes = 0, replaces = 0;
    void *file = NULL;
    tw_status st = jpeg ? read_all(card, old, jpeg, err)
                        : tw_fail(err, TW_ENOMEM, "%s: out of memory", old->file);
    if (st == TW_OK)
        st = twi_exif_retime(jpeg, (size_t)old->bytes, time, &head, &head_bytes,
                             &replaces, err);
    if (st == TW_OK)
        st = card->ops->create(card->ctx, part, &file, err);
    if (st == TW_OK)
        st = card->ops->append(card->ctx, file, head, head_bytes, err);
    if (st == TW_OK)
        st = card->ops->append(card->ctx, file, jpeg + replaces,
                               (size_t)old->bytes - replaces, err);
    if (st == TW_OK)
        st = card->ops->sync(card->ctx, file, err);
    if (file) {
        const tw_status closed = card->ops->close(card->ctx, file, NULL);
        st = st == TW_OK ? closed : st;
        if (st != TW_OK)
            (void)card->ops->remove(card->ctx, part, NULL);
    }
    *bytes = old->bytes - replaces + head_bytes;
    free(head);
    free(jpeg);
    return st;
}

/* One capture: another name, and other EXIF if it is a still. */
static tw_status put_right(const twi_writer *writer, const twi_catalogue_oldest *capture,
                           tw_error *err)
{
    const tw_card *card = &writer->store.card;
    const int64_t wall_us = capture->start_us + twi_timing_later(&writer->timing);
    char stem[TWI_NAME_MAX], name[TWI_NAME_MAX], part[TWI_NAME_MAX + 8];
    twi_name_fields fields;
    uint64_t bytes = capture->bytes;
    const char *dot = strrchr(capture->file, '.');
    const char *extension = dot ? dot + 1 : "";
    tw_status st =
        right_name(writer, capture->file, wall_us, &fields, stem, sizeof stem - 24);
    const bool same = st == TW_OK && dot &&
                      strlen(stem) == (size_t)(dot - capture->file) &&
                      strncmp(stem, capture->file, strlen(stem)) == 0;
    if (st != TW_OK || same) /* only the catalogue can be right, or has to be */
        return twi_catalogue_rename(writer->catalogue, capture->id, capture->file, bytes,
                                    wall_us, err);
    const bool still = strcmp(extension, "jpg") == 0;
    if (still) {
        (void)snprintf(part, sizeof part, "%s.%s" TWI_PART, stem, extension);
        st = write_again(writer, capture, &fields.time, part, &bytes, err);
    }
    if (st == TW_OK)
        st = twi_store_rename(card, still ? part : capture->file, stem, extension, name,
                              err);
    if (st == TW_OK)
        st = twi_catalogue_rename(writer->catalogue, capture->id, name, bytes, wall_us,
                                  err);
    if (st == TW_OK && still)
        (void)card->ops->remove(card->ctx, capture->file, NULL);
    return st;
}

/* All that is left to be put right. @return how many were. */
static uint32_t put_all_right(twi_writer *writer)
{
    tw_error err = {0};
    twi_catalogue_oldest capture = {0};
    uint32_t done = 0;
    for (int i = 0; i < ROUND_MAX; i++) {
        if (twi_catalogue_find_unsure(writer->catalogue, capture.id, &capture, &err) !=
            TW_OK)
            break;
        if (put_right(writer, &capture, &err) == TW_OK)
            done++;
        else
            twi_writer_trouble(writer, &err);
    }
    return done;
}

static void tell_set(const twi_writer *writer, uint32_t sightings, uint32_t captures)
{
    tw_error line = {0};
    (void)tw_fail(&line, TW_OK,
                  "the clock has been set: times of %u sightings and %u captures from "
                  "before were put right",
                  (unsigned)sightings, (unsigned)captures);
    tell(writer, line.text);
}

static void tell_jump(const twi_writer *writer)
{
    const int64_t s = writer->timing.jump_us / 1000000;
    tw_error line = {0};
    (void)tw_fail(&line, TW_OK, "the clock was set %s by %" PRId64 " s",
                  s < 0 ? "back" : "forward", s < 0 ? -s : s);
    tell(writer, line.text);
}

/* Look at both clocks, if it is time. @return bits of twi_timing_sample. */
static unsigned look(twi_writer *writer)
{
    const tw_clock *clock = &writer->clock;
    const int64_t now_us = clock->ops->now_us(clock->ctx);
    const int64_t wall_us = clock->ops->wall_us(clock->ctx);
    if (!twi_timing_is_due(&writer->timing, now_us, wall_us))
        return 0;
    return twi_timing_sample(&writer->timing, now_us, wall_us,
                             clock->ops->trusted(clock->ctx, wall_us));
}

void twi_times_put_right(twi_writer *writer)
{
    if (writer->catalogue && twi_timing_is_corrected(&writer->timing))
        (void)put_all_right(writer);
}

void twi_times_check(twi_writer *writer)
{
    const unsigned what = look(writer);
    uint32_t sightings = 0;
    tw_error err = {0};
    if (what & TWI_CLOCK_JUMPED)
        tell_jump(writer);
    if (!writer->catalogue || !(what & TWI_CLOCK_SET))
        return;
    if (twi_catalogue_set_times(writer->catalogue, twi_timing_later(&writer->timing),
                                &sightings, &err) != TW_OK)
        twi_writer_tell(
            writer,
            (tw_event){.kind = TW_EVENT_PROBLEM, .status = err.status, .text = err.text});
    tell_set(writer, sightings, put_all_right(writer));
}
