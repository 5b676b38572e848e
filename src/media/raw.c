/* Raw pictures in parcels. */
#include "raw.h"

#include <stdlib.h>

tw_parcel *tw_parcel_picture(const tw_picture *picture)
{
    const size_t bytes = tw_picture_bytes(picture);
    tw_parcel *p = bytes > 0 ? tw_parcel_room(bytes) : NULL;
    if (p)
        (void)tw_picture_pack(picture, p->data, bytes, &p->planes);
    return p;
}

tw_parcel *tw_parcel_frame(const tw_frame *frame)
{
    return frame->picture.px[0] ? tw_parcel_picture(&frame->picture)
                                : tw_parcel_copy(frame->packet.data, frame->packet.size);
}

void tw_frame_complete(tw_frame *frame)
{
    tw_packet *packet = &frame->packet;
    if (!frame->picture.px[0])
        return;
    packet->data = NULL;
    packet->size = tw_picture_bytes(&frame->picture);
    packet->dts_us = packet->t_us;
    packet->key = true;
}

tw_status tw_parcel_jpeg(const tw_picture *picture, int quality, tw_parcel **out,
                         tw_error *err)
{
    uint8_t *jpeg = NULL;
    size_t bytes = 0;
    const tw_status st = tw_picture_jpeg(picture, quality, &jpeg, &bytes, err);
    if (st != TW_OK)
        return st;
    *out = tw_parcel_copy(jpeg, bytes); /* with padding behind it */
    free(jpeg);
    return *out ? TW_OK : tw_fail(err, TW_ENOMEM, "out of memory");
}

void tw_parcel_describe(const tw_parcel *parcel, tw_stream *stream)
{
    const bool raw = parcel->planes.px[0] != NULL;
    stream->codec = raw ? TW_CODEC_RAW : TW_CODEC_MJPEG;
    stream->pixels = parcel->planes.pixels;
    if (raw) {
        stream->width = parcel->planes.width;
        stream->height = parcel->planes.height;
    }
    stream->codec_name = raw ? "raw pictures" : "mjpeg";
}
