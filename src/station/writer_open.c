/* Opening a store with its catalogue, also where it is full, damaged or lost. */
#include <stdio.h>

#include "catalogue_state.h"
#include "catalogue_write.h"
#include "recovery.h"
#include "retention.h"
#include "writer_state.h"
#include "../core/sized.h"
#include "../core/naming.h"
#include "../settings/sections.h"
#include "tawny/events.h"
#include "tawny/settings.h"

enum { PATH_BYTES = 1024 };

/* Out of the way, under a name that tells; what SQLite keeps beside it goes with it. */
static tw_status move_aside(const tw_card *card, char name[64], tw_error *err)
{
    enum { KEPT_MAX = 99 };
    tw_status st = TW_EEXIST;
    for (int i = 1; st == TW_EEXIST && i <= KEPT_MAX; i++) {
        (void)snprintf(name, 64, "%s.old-%d", TWI_CATALOGUE_FILE, i);
        st = card->ops->rename(card->ctx, TWI_CATALOGUE_FILE, name, err);
    }
    (void)card->ops->remove(card->ctx, TWI_CATALOGUE_FILE "-wal", NULL);
    (void)card->ops->remove(card->ctx, TWI_CATALOGUE_FILE "-shm", NULL);
    return st;
}

/* @param path  Set; NULL where the card is no folder: the catalogue is in memory then. */
static tw_status find_catalogue(const tw_card *card, char path[PATH_BYTES],
                                const char **found, tw_error *err)
{
    const char *folder = card->ops->folder(card->ctx);
    *found = folder ? path : NULL;
    if (folder &&
        snprintf(path, PATH_BYTES, "%s/%s", folder, TWI_CATALOGUE_FILE) >= PATH_BYTES)
        return tw_fail(err, TW_ESIZE, "%s: the name of the store is too long", folder);
    return TW_OK;
}

static bool raise_by_name(void *ctx, const char *name, uint64_t bytes)
{
    twi_writer *writer = ctx;
    twi_name_parts parts;
    (void)bytes;
    if (twi_name_read(writer->store.names, name, &parts) == TW_OK)
        twi_writer_raise_number(writer, parts.sighting);
    return true;
}

/* Numbers go on after those of the catalogue, or, where that was lost, of the files. */
static tw_status number_after(twi_writer *writer, tw_error *err)
{
    const tw_card *card = &writer->store.card;
    int64_t number = 0;
    const tw_status st = twi_catalogue_last_number(writer->catalogue, &number, err);
    twi_writer_raise_number(writer, number);
    if (st == TW_OK && number == 0)
        (void)card->ops->list(card->ctx, raise_by_name, writer, NULL);
    return st;
}

static tw_status open_for_run(twi_writer *writer, const char *path, tw_error *err)
{
    const tw_clock *clock = &writer->clock;
    char boot[64] = "";
    if (TWI_HAS(clock->ops, boot) && clock->ops->boot)
        clock->ops->boot(clock->ctx, boot, sizeof boot);
    tw_status st = tw_catalogue_open(path, true, &writer->catalogue, err);
    if (st == TW_OK)
        st = twi_catalogue_begin_run(writer->catalogue, clock->ops->wall_us(clock->ctx),
                                     boot, err);
    if (st == TW_OK)
        st = twi_catalogue_journal_read(writer->catalogue, err);
    if (st == TW_OK)
        st = number_after(writer, err);
    if (st != TW_OK) {
        tw_catalogue_close(writer->catalogue);
        writer->catalogue = NULL;
    }
    return st;
}

/* On a card that is so full that its catalogue cannot even be opened as usual. */
static bool make_first_room(twi_writer *writer, const char *path)
{
    if (!path || twi_catalogue_open_alone(path, &writer->catalogue, NULL) != TW_OK)
        return false;
    const bool made = twi_retention_make_room(writer, 1, TWI_ROOM_BYTES);
    tw_catalogue_close(writer->catalogue);
    writer->catalogue = NULL;
    return made;
}

static tw_status open_in(twi_writer *writer, const tw_card *card, tw_error *err)
{
    char place[PATH_BYTES];
    const char *path = NULL;
    tw_status st = find_catalogue(card, place, &path, err);
    if (st != TW_OK)
        return st;
    st = open_for_run(writer, path, err);
    if ((st == TW_ENOSPC || st == TW_EIO) && make_first_room(writer, path))
        st = open_for_run(writer, path, err);
    return st;
}
/* One that is damaged is moved aside, and a new one made: the files are still there. */
static void open_catalogue(twi_writer *writer, const tw_card *card)
{
    char name[64];
    tw_error err = {0}, line = {0};
    tw_status st = open_in(writer, card, &err);
    if (st == TW_EDAMAGED && move_aside(card, name, &err) == TW_OK) {
        (void)tw_fail(
            &line, TW_EDAMAGED,
            "the catalogue was damaged: it is %s now, and a new one is made from "
            "the files",
            name);
        twi_writer_pass(writer, &(tw_event){.kind = TW_EVENT_PROBLEM,
                                            .status = TW_EDAMAGED,
                                            .text = line.text});
        st = open_in(writer, card, &err);
    }
    if (st != TW_OK)
        twi_writer_catalogue_failed(writer, NULL, &err);
}

void twi_writer_retry(twi_writer *writer)
{
    tw_error err = {0};
    const int64_t now_us = twi_writer_now(writer);
    if (!writer->catalogue_failed || now_us < writer->retry_us)
        return;
    writer->retry_us = now_us + TWI_RETRY_US;
    tw_catalogue_close(writer->catalogue);
    writer->catalogue = NULL;
    if (open_in(writer, &writer->store.card, &err) != TW_OK)
        return;
    __atomic_store_n(&writer->catalogue_failed, false, __ATOMIC_RELAXED);
    twi_writer_pass(writer, &(tw_event){.kind = TW_EVENT_PROBLEM,
                                        .status = TW_OK,
                                        .text = "the catalogue is there again"});
    twi_recovery_run(writer);
}

tw_status tw_store_rebuild(const tw_card *card, const tw_settings *settings,
                           tw_clock clock, tw_event_fn callback, void *ctx, tw_error *err)
{
    char name[64];
    twi_station_settings station;
    if (!card || !settings)
        return tw_fail(err, TW_EINVAL, "no store");
    twi_settings_station(settings, &station);
    twi_writer writer = {.clock = clock, .callback = callback, .ctx = ctx};
    tw_status st = card->ops->claim(card->ctx, err);
    if (st == TW_OK)
        st = move_aside(card, name, err);
    if (st == TW_ENOENT) /* it was lost */
        st = TW_OK;
    if (st == TW_OK)
        st = twi_store_open(&writer.store, card, &station, err);
    if (st == TW_OK)
        st = open_in(&writer, card, err);
    if (st == TW_OK)
        twi_recovery_run(&writer);
    twi_writer_close(&writer);
    return st;
}

/* @param newest_us  Of what the catalogue holds, 0: not known. */
static void begin_timing(twi_writer *writer, int64_t newest_us)
{
    const tw_clock *clock = &writer->clock;
    const int64_t wall_us = clock->ops->wall_us(clock->ctx);
    twi_timing_begin(&writer->timing, clock->ops->now_us(clock->ctx), wall_us,
                     clock->ops->trusted(clock->ctx, wall_us), newest_us);
}

/* Whoever looks after the station may want to know why. */
static void tell_cut_off(twi_writer *writer)
{
    tw_error line = {0};
    char since[TWI_UTC_MAX];
    twi_cut_off how;
    const int64_t began_us = twi_catalogue_cut_off(writer->catalogue, &how);
    if (began_us == 0 || writer->alarm_after_us == 0)
        return;
    (void)tw_fail(&line, TW_EAGAIN,
                  "the station was not ended by anybody: %s; it had watched since %s",
                  how == TWI_CUT_OFF_ALONE
                      ? "the board has run on, so it died, or its watchdog ended it"
                  : how == TWI_CUT_OFF_WITH_BOARD
                      ? "the board was started anew, so its power went, or it hung"
                      : "its power went, or it died",
                  twi_utc(began_us, since));
    twi_writer_tell(
        writer,
        (tw_event){.kind = TW_EVENT_ALARM, .status = TW_EAGAIN, .text = line.text});
}

tw_status twi_writer_open(twi_writer *writer, const tw_card *card,
                          const twi_station_settings *settings, tw_error *err)
{
    tw_status st = card->ops->claim(card->ctx, err);
    if (st == TW_OK)
        st = twi_store_open(&writer->store, card, settings, err);
    writer->keep_free = (uint64_t)settings->keep_free;
    writer->segments_first = settings->goes_first == 1;
    writer->alarm_after_us = settings->alarm_after_us;
    writer->opened_us = twi_writer_now(writer);
    begin_timing(writer, 0); /* what goes wrong below is told with a time, too */
    if (st == TW_OK) {
        open_catalogue(writer, card);
        begin_timing(writer, twi_catalogue_newest(writer->catalogue));
        tell_cut_off(writer);
    }
    return st;
}

/* A card that is full, or cannot be written now, ends no watch: room is made, and what
 * comes is tried. */
void twi_writer_try_card(twi_writer *writer)
{
    const tw_card *card = &writer->store.card;
    tw_error err = {0}, line = {0};
    tw_status st = twi_store_probe(card, &err);
    if (st == TW_ENOSPC && twi_writer_make_room(writer, 1))
        st = twi_writer_note_room(writer, twi_store_probe(card, &err));
    twi_retention_look(writer);
    if (st == TW_OK)
        return;
    (void)tw_fail(&line, st, "%s; the station watches, and tries each capture", err.text);
    twi_writer_pass(
        writer, &(tw_event){.kind = TW_EVENT_PROBLEM, .status = st, .text = line.text});
}

void twi_writer_close(twi_writer *writer)
{
    tw_catalogue_close(writer->catalogue);
    writer->catalogue = NULL;
    twi_snapshot_release(writer->snapshot);
    writer->snapshot = NULL;
}
