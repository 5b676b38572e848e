/* Decoding a stream for detection and stills. */
#include "decoder.h"

#include <stdlib.h>
#include <string.h>

#include "codecs.h"
#include "jpeg.h"

struct twi_decoder {
    twi_jpeg *jpeg;   /* for MJPEG */
    tw_packet packet; /* the JPEG at hand, borrowed */
    bool waiting;     /* and not yet received */
    bool ended;
    const twi_codecs *codecs; /* for all else */
    twi_av_decoder *av;
};

tw_status twi_decoder_open(const tw_stream *stream, uint32_t inspected_ppm,
                           twi_decoder **out, tw_error *err)
{
    tw_status st = TW_OK;
    twi_decoder *decoder = calloc(1, sizeof *decoder);
    if (!decoder)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    if (stream->codec == TW_CODEC_MJPEG) {
        decoder->jpeg = twi_jpeg_new(inspected_ppm);
        if (!decoder->jpeg)
            st = tw_fail(err, TW_ENOMEM, "out of memory");
    } else {
        decoder->codecs = twi_codecs_load(err);
        st = decoder->codecs
                 ? decoder->codecs->decoder_open(stream, inspected_ppm, &decoder->av, err)
                 : TW_ENOTSUP;
    }
    if (st == TW_OK)
        *out = decoder;
    else
        twi_decoder_close(decoder);
    return st;
}

void twi_decoder_close(twi_decoder *decoder)
{
    if (!decoder)
        return;
    twi_jpeg_free(decoder->jpeg);
    if (decoder->codecs)
        decoder->codecs->decoder_close(decoder->av);
    free(decoder);
}

void twi_decoder_skim(twi_decoder *decoder, bool skim)
{
    if (decoder->av)
        decoder->codecs->decoder_skim(decoder->av, skim);
}

tw_status twi_decoder_send(twi_decoder *decoder, const tw_packet *packet, tw_error *err)
{
    if (decoder->av)
        return decoder->codecs->decoder_send(decoder->av, packet, err);
    decoder->waiting = packet != NULL;
    decoder->ended = packet == NULL;
    if (packet)
        decoder->packet = *packet;
    return TW_OK;
}

tw_status twi_decoder_receive(twi_decoder *decoder, twi_decoded *out, tw_error *err)
{
    if (decoder->av)
        return decoder->codecs->decoder_receive(decoder->av, out, err);
    if (!decoder->waiting)
        return decoder->ended ? TW_EEND : TW_EAGAIN;
    decoder->waiting = false;
    out->t_us = decoder->packet.t_us;
    return twi_jpeg_read(decoder->jpeg, decoder->packet.data, decoder->packet.size, out,
                         err);
}

tw_status twi_decoder_still(twi_decoder *decoder, int quality, uint8_t **out,
                            size_t *bytes, tw_error *err)
{
    if (decoder->av) {
        tw_picture picture;
        const tw_status st = decoder->codecs->decoder_picture(decoder->av, &picture, err);
        return st == TW_OK ? twi_jpeg_encode(&picture, quality, out, bytes, err) : st;
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
