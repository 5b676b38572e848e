/* Decoding a stream for detection and stills. */
#include "decoder.h"

#include <stdlib.h>
#include <string.h>

#include "codecs.h"
#include "jpeg.h"

struct tw_decoder {
    tw_jpeg *jpeg;    /* for MJPEG */
    tw_packet packet; /* the JPEG at hand, borrowed */
    bool waiting;     /* and not yet received */
    bool ended;
    const tw_codecs *codecs; /* for all else */
    tw_av_decoder *av;
};

tw_status tw_decoder_open(const tw_stream *stream, uint32_t looked_ppm, tw_decoder **out,
                          tw_error *err)
{
    tw_status st = TW_OK;
    tw_decoder *decoder = calloc(1, sizeof *decoder);
    if (!decoder)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    if (stream->codec == TW_CODEC_MJPEG) {
        decoder->jpeg = tw_jpeg_new(looked_ppm);
        if (!decoder->jpeg)
            st = tw_fail(err, TW_ENOMEM, "out of memory");
    } else {
        decoder->codecs = tw_codecs_load(err);
        st = decoder->codecs
                 ? decoder->codecs->decoder_open(stream, looked_ppm, &decoder->av, err)
                 : TW_ENOTSUP;
    }
    if (st == TW_OK)
        *out = decoder;
    else
        tw_decoder_close(decoder);
    return st;
}

void tw_decoder_close(tw_decoder *decoder)
{
    if (!decoder)
        return;
    tw_jpeg_free(decoder->jpeg);
    if (decoder->codecs)
        decoder->codecs->decoder_close(decoder->av);
    free(decoder);
}

void tw_decoder_skim(tw_decoder *decoder, bool skim)
{
    if (decoder->av)
        decoder->codecs->decoder_skim(decoder->av, skim);
}

tw_status tw_decoder_send(tw_decoder *decoder, const tw_packet *packet, tw_error *err)
{
    if (decoder->av)
        return decoder->codecs->decoder_send(decoder->av, packet, err);
    decoder->waiting = packet != NULL;
    decoder->ended = packet == NULL;
    if (packet)
        decoder->packet = *packet;
    return TW_OK;
}

tw_status tw_decoder_receive(tw_decoder *decoder, tw_decoded *out, tw_error *err)
{
    if (decoder->av)
        return decoder->codecs->decoder_receive(decoder->av, &out->luma, &out->t_us,
                                                &out->width, &out->height, err);
    if (!decoder->waiting)
        return decoder->ended ? TW_EEND : TW_EAGAIN;
    decoder->waiting = false;
    out->t_us = decoder->packet.t_us;
    return tw_jpeg_luma(decoder->jpeg, decoder->packet.data, decoder->packet.size,
                        &out->luma, &out->width, &out->height, err);
}

tw_status tw_decoder_still(tw_decoder *decoder, int quality, uint8_t **out, size_t *bytes,
                           tw_error *err)
{
    if (decoder->av) {
        tw_picture picture;
        const tw_status st = decoder->codecs->decoder_picture(decoder->av, &picture, err);
        return st == TW_OK ? tw_jpeg_encode(&picture, quality, out, bytes, err) : st;
    }
    if (!decoder->packet.data)
        return tw_fail(err, TW_ENOENT, "no picture yet");
    *out = malloc(decoder->packet.size);
    if (!*out)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    memcpy(*out, decoder->packet.data, decoder->packet.size);
    *bytes = decoder->packet.size;
    return TW_OK;
}
