/* Stills: encoded, turned, captioned, with EXIF. */
#include <stdlib.h>

#include "../media/exif.h"
#include "../media/jpeg.h"
#include "writer_state.h"
#include "../core/naming.h"
#include "../core/view.h"
#include "../settings/sections.h"
#include "why.h"
#include "tawny/draw.h"

/* The picture with our EXIF before its own segments, which go to the card as they are. */
static tw_status append_still(twi_writer *writer, twi_store_file *file,
                              const twi_job *job, const twi_exif_fields *exif,
                              tw_error *err)
{
    uint8_t *head = NULL;
    size_t bytes = 0;
    tw_status st =
        twi_exif_head(job->packet.data, job->packet.size, exif, &head, &bytes, err);
    if (st == TW_OK)
        st = twi_writer_append(writer, file, head, bytes, err);
    if (st == TW_OK)
        st = twi_writer_append(writer, file, job->packet.data + TWI_EXIF_REPLACES,
                               job->packet.size - TWI_EXIF_REPLACES, err);
    free(head);
    return st;
}

static tw_status store_still(twi_writer *writer, const twi_job *job,
                             const twi_stamp *stamp, twi_store_file *file, tw_error *err)
{
    const twi_name_fields name = twi_writer_name(writer, job, job->what, stamp);
    char why[TWI_WHY_BYTES];
    const twi_exif_fields exif = {.time = name.time,
                                  .camera = name.camera,
                                  .sighting = name.sighting,
                                  .why =
                                      twi_kind_of_sighting(job->what)
                                          ? twi_why_began(&job->sighting, why, sizeof why)
                                          : NULL,
                                  .width = job->width,
                                  .height = job->height};
    tw_status st = twi_writer_begin_file(writer, &name, file, err);
    if (st != TW_OK)
        return st;
    st = append_still(writer, file, job, &exif, err);
    if (st == TW_OK)
        return twi_writer_commit(writer, file, err);
    twi_store_abandon(&writer->store, file);
    return st;
}

static void do_still(twi_writer *writer, const twi_job *job)
{
    tw_error err = {0};
    twi_store_file file;
    const twi_stamp stamp = twi_writer_stamp(writer, job->packet.wall_us);
    if (store_still(writer, job, &stamp, &file, &err) == TW_OK)
        twi_writer_stored(writer, job, &file, job->what, &stamp);
    else
        twi_writer_problem(writer, job, job->what, &err);
}

/* Put another picture into a still's place. @param jpeg  Taken over. */
static tw_status replace_still(twi_job *job, uint8_t *jpeg, size_t bytes, tw_error *err)
{
    twi_buffer *made = twi_buffer_adopt(jpeg, bytes);
    if (!made)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    made->activity_ppm = job->buffer->activity_ppm;
    twi_buffer_unref(job->buffer);
    job->buffer = made;
    job->packet.data = made->data;
    job->packet.size = made->size;
    return TW_OK;
}

/* Turn and crop a still as its camera's pictures are. One that cannot be is stored as it
 * came, unless there is something in it that nobody may see.
 * @return false: it is not stored. */
static bool show_still(twi_writer *writer, twi_job *job)
{
    const twi_view view = twi_view_of(job->channel->camera, job->turn);
    tw_error err = {0};
    uint8_t *jpeg = NULL;
    size_t bytes = 0;
    if (twi_view_is_plain(&view))
        return true;
    tw_status st = twi_jpeg_view(job->packet.data, job->packet.size, &view, &jpeg, &bytes,
                                 &job->width, &job->height, &err);
    if (st == TW_OK)
        st = replace_still(job, jpeg, bytes, &err);
    if (st != TW_OK)
        twi_writer_problem(writer, job, job->what, &err);
    return st == TW_OK || view.hidden_count == 0;
}

/* Put the still's captioned copy into its place. */
static tw_status add_caption(const twi_writer *writer, twi_job *job, tw_error *err)
{
    twi_caption *caption = NULL;
    uint8_t *jpeg = NULL;
    size_t bytes = 0;
    twi_caption_fields fields = twi_writer_caption(
        writer, job->channel->camera, job->sighting.number, job->packet.wall_us);
    fields.activity_ppm = job->buffer->activity_ppm;
    tw_status st = twi_caption_new(job->channel->camera, &caption, err);
    if (st == TW_OK)
        st = twi_caption_jpeg(caption, &fields, job->packet.data, job->packet.size,
                              (int)job->channel->camera->still_quality, &jpeg, &bytes,
                              err);
    twi_caption_free(caption);
    return st == TW_OK ? replace_still(job, jpeg, bytes, err) : st;
}

/* A raw picture is encoded here at last. */
static tw_status encode_still(twi_job *job, tw_error *err)
{
    uint8_t *jpeg = NULL;
    size_t bytes = 0;
    if (!job->buffer->planes.px[0])
        return TW_OK;
    const tw_status st =
        tw_picture_jpeg(&job->buffer->planes, (int)job->channel->camera->still_quality,
                        &jpeg, &bytes, err);
    return st == TW_OK ? replace_still(job, jpeg, bytes, err) : st;
}

/* A still, as it is and with its caption, as is wanted. */
void twi_writer_stills(twi_writer *writer, twi_job *job)
{
    tw_error err = {0};
    const bool with = job->what == TWI_KIND_STILL &&
                      twi_writer_has_caption(job->channel, TWI_CAPTION_STILLS);
    if (encode_still(job, &err) != TW_OK) {
        twi_writer_problem(writer, job, job->what, &err);
        return;
    }
    if (!show_still(writer, job))
        return;
    if (!with || job->channel->camera->caption_clean)
        do_still(writer, job);
    if (!with)
        return;
    if (add_caption(writer, job, &err) == TW_OK) {
        job->what = TWI_KIND_CAPTIONED_STILL;
        do_still(writer, job);
        return;
    }
    twi_writer_problem(writer, job, TWI_KIND_CAPTIONED_STILL, &err);
    if (!job->channel->camera->caption_clean) /* better without than not at all */
        do_still(writer, job);
}
