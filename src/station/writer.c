/* Writing captures: jobs in, events out. */
#include "writer.h"

#include "retention.h"
#include "times.h"
#include "writer_state.h"
#include "../core/naming.h"
#include "../core/view.h"
#include "../settings/sections.h"
#include "tawny/events.h"

/* ---- what cameras have in common ----------------------------------------------------
 */

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
    writer->segments_first = station->goes_first == 1;
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

/* Times are marked, and can be put right; but nobody is told of that who is not there. */
static void watch_clock(twi_writer *writer)
{
    if (writer->alarm_after_us == 0 || writer->clock_told ||
        twi_timing_is_set(&writer->timing) ||
        twi_writer_now(writer) - writer->opened_us < writer->alarm_after_us)
        return;
    writer->clock_told = true;
    twi_writer_tell(writer, (tw_event){.kind = TW_EVENT_ALARM,
                                       .status = TW_EAGAIN,
                                       .text = "the clock has not been set since the "
                                               "station was started: times are wrong, "
                                               "and no server's certificate holds"});
}

void twi_writer_tend(twi_writer *writer)
{
    watch_clock(writer);
    twi_writer_retry(writer);
    twi_times_check(writer);
    twi_times_put_right(writer);
    twi_writer_follow_numbers(writer);
    twi_retention_run(writer);
}

void twi_writer_do(twi_writer *writer, twi_job *job)
{
    twi_times_check(writer);
    watch_clock(writer);
    twi_writer_retry(writer);
    switch (job->kind) {
    case TWI_JOB_VIDEO_BEGIN: twi_writer_begin_clips(writer, job); break;
    case TWI_JOB_VIDEO_PACKET:
    case TWI_JOB_VIDEO_END: twi_writer_clips(writer, job); break;
    case TWI_JOB_FILE_BEGIN:
    case TWI_JOB_FILE_PART:
    case TWI_JOB_FILE_END: twi_writer_whole(writer, job); break;
    case TWI_JOB_STILL: twi_writer_stills(writer, job); break;
    case TWI_JOB_BEGAN: (void)twi_writer_note_sighting(writer, job, false); break;
    case TWI_JOB_ENDED: (void)twi_writer_note_sighting(writer, job, true); break;
    case TWI_JOB_TRACE: twi_writer_note_trace(writer, job); break;
    case TWI_JOB_SENSED: twi_writer_note_value(writer, job); break;
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
