/* What the writer tells of. */
#include "writer_state.h"

int64_t twi_writer_now(const twi_writer *writer)
{
    return writer->clock.ops->now_us(writer->clock.ctx);
}

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
