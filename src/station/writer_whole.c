/* Captures that were made elsewhere, and come in parts. */
#include "writer_state.h"

static void begin(twi_writer *writer, const twi_job *job)
{
    twi_recording *r = &job->channel->own[job->what];
    tw_error err = {0};
    r->stamp = twi_writer_stamp(writer, job->packet.wall_us);
    const twi_name_fields name = twi_writer_name(writer, job, job->what, &r->stamp);
    r->skip = twi_writer_begin_file(writer, &name, &r->file, &err) != TW_OK;
    if (r->skip)
        twi_writer_problem(writer, job, job->what, &err);
}

static void drop(twi_writer *writer, const twi_job *job, const tw_error *why)
{
    twi_recording *r = &job->channel->own[job->what];
    r->skip = true;
    twi_store_abandon(&writer->store, &r->file);
    twi_writer_problem(writer, job, job->what, why);
}

void twi_writer_whole(twi_writer *writer, const twi_job *job)
{
    twi_recording *r = &job->channel->own[job->what];
    tw_error err = {0};
    if (job->kind == TWI_JOB_FILE_BEGIN) {
        begin(writer, job);
        return;
    }
    if (r->skip || !r->file.handle)
        return;
    if (job->kind == TWI_JOB_FILE_PART) {
        if (twi_writer_append(writer, &r->file, job->packet.data, job->packet.size,
                              &err) != TW_OK)
            drop(writer, job, &err);
        return;
    }
    if (twi_writer_commit(writer, &r->file, &err) == TW_OK)
        twi_writer_stored(writer, job, &r->file, job->what, &r->stamp);
    else
        twi_writer_problem(writer, job, job->what, &err);
    r->file.handle = NULL;
}
