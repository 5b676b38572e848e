/* Writing captures: jobs in, events out. */
#include "writer.h"

#include "times.h"
#include "writer_state.h"
#include "../core/naming.h"
#include "../core/view.h"
#include "../settings/sections.h"
#include "tawny/events.h"

int64_t twi_writer_now(const twi_writer *writer)
{
    return writer->clock.ops->now_us(writer->clock.ctx);
}

/* ---- events ------------------------------------------------------------------------ */

void twi_writer_pass(const twi_writer *writer, const tw_event *event)
{
    if (writer->callback)
        writer->callback(writer->ctx, event);
}

void twi_writer_tell(const twi_writer *writer, tw_event event)
{
    event.wall_us = writer->clock.ops->wall_us(writer->clock.ctx);
    twi_writer_pass(writer, &event);
}

void twi_writer_trouble(twi_writer *writer, const tw_error *why)
{
    if (writer->store_failed)
        return;
    writer->store_failed = true; /* until it works again */
    twi_writer_tell(
        writer,
        (tw_event){.kind = TW_EVENT_PROBLEM, .status = why->status, .text = why->text});
}

void twi_writer_problem(const twi_writer *writer, const twi_job *job, twi_kind what,
                        const tw_error *why)
{
    tw_error line = {0};
    if (twi_kind_of_sighting(what))
        (void)tw_fail(&line, why->status, "%s of sighting %u not stored: %s",
                      twi_kind_name(what), (unsigned)job->sighting.number, why->text);
    else
        (void)tw_fail(&line, why->status, "%s not stored: %s", twi_kind_name(what),
                      why->text);
    const tw_event event = {.kind = TW_EVENT_PROBLEM,
                            .camera = job->channel->camera->name,
                            .t_us = job->packet.t_us,
                            .wall_us = job->packet.wall_us,
                            .file_kind = twi_kind_name(what),
                            .lost = true,
                            .status = why->status,
                            .text = line.text};
    twi_writer_pass(writer, &event);
}

/* ---- what cameras have in common ----------------------------------------------------
 */

twi_view twi_view_of(const twi_camera_settings *camera, tw_turn lies)
{
    const tw_turn wanted = {(uint8_t)camera->rotate, camera->mirror};
    return (twi_view){twi_turn_then(lies, wanted), camera->crop};
}

twi_caption_fields twi_writer_caption(const twi_writer *writer,
                                      const twi_camera_settings *camera,
                                      uint32_t sighting, int64_t wall_us)
{
    twi_caption_fields f = {
        .camera = camera->name, .station = writer->store.station, .sighting = sighting};
    const twi_stamp stamp = twi_writer_stamp(writer, wall_us);
    twi_civil_split(stamp.wall_us,
                    writer->clock.ops->offset_s(writer->clock.ctx, stamp.wall_us),
                    &f.time);
    return f;
}

bool twi_writer_has_caption(const twi_channel *channel, int64_t on)
{
    return channel->camera->caption && channel->camera->caption[0] != '\0' &&
           (channel->camera->caption_on & on) != 0;
}

/* ---- jobs -------------------------------------------------------------------------- */

void twi_writer_add_channel(twi_writer *writer, twi_channel *channel)
{
    twi_channel **end = &writer->channels;
    while (*end)
        end = &(*end)->next;
    *end = channel;
    channel->next = NULL;
}

/* With the next file. What has begun goes on as it began. */
static void take_settings(twi_writer *writer, const twi_job *job)
{
    twi_snapshot **at = job->channel ? &job->channel->snapshot : &writer->snapshot;
    twi_snapshot_release(*at);
    *at = job->snapshot;
    if (job->channel) {
        job->channel->camera = &job->snapshot->camera;
        return;
    }
    const twi_station_settings *station = &job->snapshot->station;
    writer->keep_free = (uint64_t)station->keep_free;
    writer->store.names = station->names;
}

static void remove_channel(twi_writer *writer, twi_channel *channel)
{
    for (twi_channel **at = &writer->channels; *at; at = &(*at)->next) {
        if (*at != channel)
            continue;
        *at = channel->next;
        break;
    }
    twi_writer_end_channel(writer, channel);
    twi_snapshot_release(channel->snapshot);
    channel->snapshot = NULL;
    atomic_store(&channel->gone, true); /* its owner may free it now */
}

void twi_writer_do(twi_writer *writer, twi_job *job)
{
    twi_times_check(writer);
    twi_writer_retry(writer);
    switch (job->kind) {
    case TWI_JOB_VIDEO_BEGIN: twi_writer_begin_clips(writer, job); break;
    case TWI_JOB_VIDEO_PACKET:
    case TWI_JOB_VIDEO_END: twi_writer_clips(writer, job); break;
    case TWI_JOB_STILL: twi_writer_stills(writer, job); break;
    case TWI_JOB_BEGAN: (void)twi_writer_note_sighting(writer, job, false); break;
    case TWI_JOB_ENDED: (void)twi_writer_note_sighting(writer, job, true); break;
    case TWI_JOB_TRACE: twi_writer_note_trace(writer, job); break;
    case TWI_JOB_HAPPENED: twi_writer_note_log(writer, job); break;
    case TWI_JOB_CHANNEL: twi_writer_add_channel(writer, job->channel); break;
    case TWI_JOB_SETTINGS: take_settings(writer, job); break;
    case TWI_JOB_CHANNEL_GONE: remove_channel(writer, job->channel); break;
    }
    twi_buffer_unref(job->buffer);
    job->buffer = NULL;
}

static bool do_at_once(void *ctx, twi_job *job, bool wait)
{
    (void)wait;
    twi_writer_do(ctx, job);
    return true;
}

twi_jobs twi_writer_jobs(twi_writer *writer)
{
    return (twi_jobs){do_at_once, writer};
}
