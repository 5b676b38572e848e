/* Files of the writer: their names, and room for them on a full card. */
#include "retention.h"
#include "writer_state.h"
#include "../core/naming.h"

enum {
    UNIT_BYTES = 65536,  /* more than is needed: cards give room in units */
    CHECK_BYTES = 128000 /* written until it is looked again whether there is room */
};

/* Until room is made again where it was of no use. */
#define USELESS_US (INT64_C(3600) * 1000000)

twi_name_fields twi_writer_name(const twi_writer *writer, const twi_job *job,
                                twi_kind kind, const twi_stamp *stamp)
{
    twi_name_fields f = {.camera = job->channel->camera->name,
                         .kind = twi_kind_name(kind),
                         .sighting = job->sighting.number,
                         .n = job->n,
                         .extension = twi_kind_is_video(kind) ? "mp4" : "jpg"};
    const int64_t wall = stamp->wall_us;
    twi_civil_split(wall, writer->clock.ops->offset_s(writer->clock.ctx, wall), &f.time);
    return f;
}

/* What the card has taken of the time, for whoever wonders what is slow. */
tw_status twi_writer_took(twi_writer *writer, int64_t began_us, tw_status st)
{
    writer->card_us += twi_writer_now(writer) - began_us;
    return st;
}

/* Room is made where a card is full, for what is to be written. @return false: there is
 * none to be made, or it was of no use a short while ago: a card that takes nothing
 * whatever goes (a broken one, somebody's quota) must not cost all that there is. */
bool twi_writer_make_room(twi_writer *writer, uint64_t bytes)
{
    return (writer->useless_until_us == 0 ||
            twi_writer_now(writer) >= writer->useless_until_us) &&
           twi_retention_make_room(writer, bytes, UNIT_BYTES);
}

/* @param st  Of the second try. @return the same. */
tw_status twi_writer_note_room(twi_writer *writer, tw_status st)
{
    const tw_card *card = &writer->store.card;
    const bool useless = st == TW_ENOSPC;
    uint64_t free_bytes = 0, total = 0;
    writer->useless_until_us = useless ? twi_writer_now(writer) + USELESS_US : 0;
    if (!useless && card->ops->space(card->ctx, &free_bytes, &total, NULL) == TW_OK &&
        free_bytes < TWI_ROOM_BYTES)
        (void)twi_retention_make_room(writer, 0, TWI_ROOM_BYTES - free_bytes);
    return st;
}

/* Room is made while there is still some: a clip that runs must not find the card full,
 * nor must the catalogue. */
tw_status twi_writer_append(twi_writer *writer, twi_store_file *file, const void *data,
                            size_t bytes, tw_error *err)
{
    writer->unchecked_bytes += bytes;
    if (writer->unchecked_bytes >= CHECK_BYTES) {
        writer->unchecked_bytes = 0;
        twi_retention_keep_free(writer);
    }
    const int64_t began_us = twi_writer_now(writer);
    tw_status st = twi_store_append(&writer->store, file, data, bytes, err);
    if (st == TW_ENOSPC && twi_writer_make_room(writer, bytes))
        st = twi_writer_note_room(
            writer, twi_store_append(&writer->store, file, data, bytes, err));
    return twi_writer_took(writer, began_us, st);
}

tw_status twi_writer_begin_file(twi_writer *writer, const twi_name_fields *name,
                                twi_store_file *file, tw_error *err)
{
    const int64_t began_us = twi_writer_now(writer);
    tw_status st = twi_store_begin(&writer->store, name, file, err);
    if (st == TW_ENOSPC && twi_writer_make_room(writer, 1))
        st = twi_writer_note_room(writer,
                                  twi_store_begin(&writer->store, name, file, err));
    return twi_writer_took(writer, began_us, st);
}

tw_status twi_writer_commit(twi_writer *writer, twi_store_file *file, tw_error *err)
{
    const int64_t began_us = twi_writer_now(writer);
    return twi_writer_took(writer, began_us, twi_store_commit(&writer->store, file, err));
}
