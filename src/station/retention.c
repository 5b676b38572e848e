/* Retention: what is too old or too much goes, and the card stays free enough. */
#include "retention.h"

#include <stdio.h>

#include "catalogue_state.h"
#include "catalogue_write.h"
#include "../core/naming.h"
#include "../settings/sections.h"
#include "tawny/events.h"
#include "why.h"

enum {
    ROUND_MAX = 100000, /* captures dropped in one round */
    RESERVE_PART = 10   /* of the card that keep_free takes at most: a tenth */
};

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
    twi_writer_tell(writer, (tw_event){.kind = TW_EVENT_FREED,
                                       .camera = camera,
                                       .bytes = d->bytes,
                                       .text = text});
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
        twi_writer_trouble(writer, &err);
        return false;
    }
    d->captures++;
    d->bytes += oldest->bytes;
    writer->store_failed = false;
    return true;
}

static bool find_oldest(twi_writer *writer, const char *camera, twi_kind kind,
                        twi_catalogue_oldest *out)
{
    tw_error err = {0};
    const tw_status st =
        twi_catalogue_find_oldest(writer->catalogue, camera, kind, false, out, &err);
    if (st != TW_OK && st != TW_ENOENT)
        twi_writer_trouble(writer, &err);
    return st == TW_OK;
}

/* Where a limit comes from, for messages: "older than keep_for", "... for segment". */
static const char *word_limit(const char *what, twi_kind kind, char text[64])
{
    (void)snprintf(text, 64, "%s%s%s", what, kind < TWI_KIND_COUNT ? " for " : "",
                   kind < TWI_KIND_COUNT ? twi_kind_name(kind) : "");
    return text;
}

/* @param keep_us  How long captures of that kind are kept; 0: forever. */
static void drop_old(twi_writer *writer, const twi_camera_settings *camera, twi_kind kind,
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

static void drop_all_old(twi_writer *writer, const twi_camera_settings *camera)
{
    const twi_by_kind *keep = &camera->keep_for_us;
    dropped usual = {0, 0};
    for (int k = 0; k < TWI_KIND_COUNT; k++) {
        dropped own = {0, 0};
        char why[64];
        const bool as_all = keep->kind[k] == TWI_AS_ALL;
        drop_old(writer, camera, (twi_kind)k, as_all ? keep->all : keep->kind[k],
                 as_all ? &usual : &own);
        tell_dropped(writer, camera->name,
                     word_limit("older than keep_for", (twi_kind)k, why), &own);
    }
    tell_dropped(writer, camera->name, "older than keep_for", &usual);
}

/* @param most  Bytes that captures of a kind may take, 0 or TWI_AS_ALL: as many as there
 * are. */
static void drop_excess(twi_writer *writer, const twi_camera_settings *camera,
                        twi_kind kind, int64_t most)
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
        twi_writer_trouble(writer, &err);
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
        for (int k = 0; k < TWI_KIND_COUNT; k++)
            if (channel->own[k].frames.clip)
                bytes += channel->own[k].file.bytes;
    return bytes < total / RESERVE_PART ? bytes : total / RESERVE_PART;
}

/* Whoever looks after the station may want to send less, or bring another card. */
static void foretell(twi_writer *writer, uint64_t free_bytes)
{
    char text[256], span[24];
    const int64_t now_us = writer->clock.ops->now_us(writer->clock.ctx);
    const int64_t full_us =
        twi_forecast_full(&writer->forecast, now_us, free_bytes, writer->keep_free);
    if (!twi_forecast_news(&writer->forecast, full_us) || writer->alarm_after_us == 0)
        return;
    (void)snprintf(text, sizeof text,
                   "the card will be full in %s: %.1f GB are free; then the oldest "
                   "captures go, those that are not starred and have been sent first",
                   twi_span_words(full_us, span), (double)free_bytes / 1e9);
    twi_writer_tell(
        writer, (tw_event){.kind = TW_EVENT_ALARM, .status = TW_EAGAIN, .text = text});
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
            twi_writer_trouble(writer, &err);
        atomic_store(&writer->free_bytes, TWI_FREE_UNKNOWN);
        return 0;
    }
    atomic_store(&writer->free_bytes, free_bytes);
    foretell(writer, free_bytes);
    uint64_t want = writer->keep_free;
    if (want > total / RESERVE_PART)
        want = total / RESERVE_PART;
    want += needed_soon(writer, total);
    return free_bytes < want ? want - free_bytes : 0;
}

void twi_retention_look(twi_writer *writer)
{
    (void)missing(writer, false);
}

/* The oldest of all, with unsent also those that a destination still waits for. What was
 * recorded whatever happened is worth less than what was seen. */
static bool find_any(twi_writer *writer, bool unsent, twi_catalogue_oldest *out)
{
    if (writer->segments_first &&
        twi_catalogue_find_oldest(writer->catalogue, NULL, TWI_KIND_SEGMENT, unsent, out,
                                  NULL) == TW_OK)
        return true;
    return twi_catalogue_find_oldest(writer->catalogue, NULL, TWI_KIND_COUNT, unsent, out,
                                     NULL) == TW_OK;
}

bool twi_retention_make_room(twi_writer *writer, uint64_t bytes, uint64_t more)
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
        (void)twi_retention_make_room(writer, 0, bytes);
}

void twi_retention_keep_free(twi_writer *writer)
{
    keep_free(writer, false); /* writing goes on, and says what is wrong */
}

static void drop_trace(twi_writer *writer, const twi_camera_settings *camera)
{
    const int64_t now_us = writer->clock.ops->wall_us(writer->clock.ctx);
    tw_error err = {0};
    if (camera->keep_trace_us > 0 &&
        twi_catalogue_drop_trace(writer->catalogue, camera->name,
                                 now_us - camera->keep_trace_us, &err) != TW_OK)
        twi_writer_trouble(writer, &err);
}

static void keep_limits(twi_writer *writer, const twi_camera_settings *camera)
{
    if (twi_timing_is_set(&writer->timing)) {
        drop_all_old(writer, camera);
        drop_trace(writer, camera);
    }
    for (int k = 0; k < TWI_KIND_COUNT; k++)
        drop_excess(writer, camera, (twi_kind)k, camera->keep_size.kind[k]);
    drop_excess(writer, camera, TWI_KIND_COUNT, camera->keep_size.all);
}

void twi_retention_run(twi_writer *writer)
{
    if (!writer->catalogue)
        return;
    for (const twi_channel *channel = writer->channels; channel; channel = channel->next)
        keep_limits(writer, channel->camera);
    keep_free(writer, true);
}
