/* Raw pictures in buffers. */
#include "raw.h"
#include "tawny/draw.h"

#include <stdlib.h>

twi_buffer *twi_buffer_picture(const tw_picture *picture)
{
    const size_t bytes = tw_picture_bytes(picture);
    twi_buffer *p = bytes > 0 ? twi_buffer_new(bytes) : NULL;
    if (p)
        (void)tw_picture_pack(picture, p->data, bytes, &p->planes);
    return p;
}

twi_buffer *twi_buffer_frame(const tw_frame *frame)
{
    if (frame->picture.px[0])
        return twi_buffer_picture(&frame->picture);
    twi_buffer *made = twi_buffer_copy(frame->packet.data, frame->packet.size);
    if (made)
        made->sound = frame->sound;
    return made;
}

void twi_frame_complete(tw_frame *frame)
{
    tw_packet *packet = &frame->packet;
    if (!frame->picture.px[0])
        return;
    packet->data = NULL;
    packet->size = tw_picture_bytes(&frame->picture);
    packet->dts_us = packet->t_us;
    packet->key = true;
}

tw_status twi_buffer_jpeg(const tw_picture *picture, int quality, twi_buffer **out,
                          tw_error *err)
{
    uint8_t *jpeg = NULL;
    size_t bytes = 0;
    const tw_status st = tw_picture_jpeg(picture, quality, &jpeg, &bytes, err);
    if (st != TW_OK)
        return st;
    *out = twi_buffer_copy(jpeg, bytes); /* with padding behind it */
    free(jpeg);
    return *out ? TW_OK : tw_fail(err, TW_ENOMEM, "out of memory");
}

void twi_buffer_describe(const twi_buffer *buffer, tw_stream *stream)
{
    const bool raw = buffer->planes.px[0] != NULL;
    stream->codec = raw ? TW_CODEC_RAW : TW_CODEC_MJPEG;
    stream->pixels = buffer->planes.pixels;
    if (raw) {
        stream->width = buffer->planes.width;
        stream->height = buffer->planes.height;
    }
    stream->codec_name = raw ? "raw pictures" : "mjpeg";
}
