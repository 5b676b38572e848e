/* What the writer tells the catalogue of. */
#include <string.h>

#include "catalogue_write.h"
#include "retention.h"
#include "times.h"
#include "writer_state.h"
#include "../core/naming.h"
#include "../settings/sections.h"
#include "why.h"
#include "tawny/events.h"

/* A catalogue that cannot be written stops nothing, and is told once. It is opened anew
 * when the card can be written again. */
void twi_writer_catalogue_failed(twi_writer *writer, const char *camera,
                                 const tw_error *why)
{
    const bool reported = writer->catalogue_failed;
    __atomic_store_n(&writer->catalogue_failed, true, __ATOMIC_RELAXED);
    writer->retry_us = twi_writer_now(writer) + TWI_RETRY_US;
    if (reported)
        return;
    tw_error line = {0};
    (void)tw_fail(&line, why->status, "%s; captures go on without it", why->text);
    const tw_event event = {.kind = TW_EVENT_PROBLEM,
                            .camera = camera,
                            .status = why->status,
                            .text = line.text};
    twi_writer_pass(writer, &event);
}

twi_stamp twi_writer_stamp(const twi_writer *writer, int64_t wall_us)
{
    bool right = false;
    twi_stamp stamp = {.wall_us = twi_timing_right(&writer->timing, wall_us, &right)};
    stamp.order_us = twi_timing_order(&writer->timing, stamp.wall_us);
    stamp.unsure = !right;
    return stamp;
}

/* @return the sighting's id, 0: it could not be written. */
int64_t twi_writer_note_sighting(twi_writer *writer, const twi_job *job, bool over)
{
    const twi_camera_settings *camera = job->channel->camera;
    char why[TWI_WHY_BYTES];
    tw_error err = {0};
    int64_t id = 0;
    const int64_t start_us = job->sighting.start_us;
    const twi_stamp stamp = twi_writer_stamp(writer, start_us + job->wall_offset_us);
    const twi_sighting_entry entry = {.camera = camera->name,
                                      .sighting = &job->sighting,
                                      .wall_offset_us = stamp.wall_us - start_us,
                                      .start_ppm = (uint32_t)camera->start_ppm,
                                      .stay_ppm = (uint32_t)camera->stay_ppm,
                                      .why =
                                          twi_why_began(&job->sighting, why, sizeof why),
                                      .over = over,
                                      .order_us = stamp.order_us,
                                      .unsure = stamp.unsure,
                                      .by_number = writer->numbers_for_good};
    if (!writer->catalogue)
        return 0;
    if (twi_catalogue_put(writer->catalogue, &entry, &id, &err) != TW_OK)
        twi_writer_catalogue_failed(writer, camera->name, &err);
    return id;
}

static void note_capture(twi_writer *writer, const twi_job *job,
                         const twi_store_file *file, twi_kind kind,
                         const twi_stamp *stamp)
{
    tw_error err = {0};
    const bool homeless = !twi_kind_of_sighting(kind);
    const int64_t id = homeless ? 0 : twi_writer_note_sighting(writer, job, false);
    const tw_capture_record record = {.sighting = id,
                                      .camera = job->channel->camera->name,
                                      .kind = twi_kind_name(kind),
                                      .file = file->name,
                                      .bytes = file->bytes,
                                      .start_us = stamp->wall_us,
                                      .order_us = stamp->order_us,
                                      .unsure = stamp->unsure};
    if (writer->catalogue && (id != 0 || homeless) &&
        twi_catalogue_add(writer->catalogue, &record, &err) != TW_OK)
        twi_writer_catalogue_failed(writer, record.camera, &err);
}

void twi_writer_note_trace(twi_writer *writer, const twi_job *job)
{
    tw_error err = {0};
    twi_trace_minute minute;
    memcpy(&minute, job->buffer->data, sizeof minute);
    const twi_stamp stamp = twi_writer_stamp(writer, minute.start_us);
    minute.start_us = stamp.wall_us;
    if (writer->catalogue &&
        twi_catalogue_add_trace(writer->catalogue, job->channel->camera->name, &minute,
                                stamp.unsure, &err) != TW_OK)
        twi_writer_catalogue_failed(writer, job->channel->camera->name, &err);
}

void twi_writer_note_value(twi_writer *writer, const twi_job *job)
{
    tw_error err = {0};
    twi_sensed sensed;
    memcpy(&sensed, job->buffer->data, sizeof sensed);
    const twi_stamp stamp = twi_writer_stamp(writer, job->packet.wall_us);
    const tw_sensor_value value = {.sensor = sensed.name,
                                   .at_us = stamp.wall_us,
                                   .value = sensed.value,
                                   .unsure = stamp.unsure};
    const bool forever = sensed.keep_us == 0 || stamp.unsure;
    if (writer->catalogue &&
        twi_catalogue_add_value(writer->catalogue, &value,
                                forever ? INT64_MIN : stamp.wall_us - sensed.keep_us,
                                &err) != TW_OK)
        twi_writer_catalogue_failed(writer, NULL, &err);
}

void twi_writer_note_log(twi_writer *writer, const twi_job *job)
{
    tw_error err = {0};
    const twi_stamp stamp = twi_writer_stamp(writer, job->packet.wall_us);
    const tw_log_entry entry = {.camera =
                                    job->channel ? job->channel->camera->name : NULL,
                                .at_us = stamp.wall_us,
                                .what = job->happened,
                                .text = (const char *)job->buffer->data,
                                .unsure = stamp.unsure};
    if (writer->catalogue &&
        twi_catalogue_happened(writer->catalogue, &entry, &err) != TW_OK)
        twi_writer_catalogue_failed(writer, entry.camera, &err);
}

void twi_writer_stored(twi_writer *writer, const twi_job *job, const twi_store_file *file,
                       twi_kind kind, const twi_stamp *stamp)
{
    note_capture(writer, job, file, kind, stamp);
    twi_times_put_right(writer);
    twi_retention_run(writer);
    const tw_event event = {.kind = TW_EVENT_STORED,
                            .camera = job->channel->camera->name,
                            .sighting =
                                twi_kind_of_sighting(kind) ? &job->sighting : NULL,
                            .file = file->name,
                            .file_kind = twi_kind_name(kind),
                            .bytes = file->bytes};
    twi_writer_pass(writer, &event);
}
