/* What the parts of the codec module share. */
#include "av.h"

tw_status twi_av_status(int code)
{
    if (code == AVERROR(ENOMEM))
        return TW_ENOMEM;
    if (code == AVERROR(ENOENT))
        return TW_ENOENT;
    if (code == AVERROR(EACCES) || code == AVERROR(EPERM))
        return TW_EACCES;
    if (code == AVERROR(ENOSPC))
        return TW_ENOSPC;
    if (code == AVERROR_EOF)
        return TW_EEND;
    if (code == AVERROR_INVALIDDATA)
        return TW_EDAMAGED;
    if (code == AVERROR_DECODER_NOT_FOUND || code == AVERROR_DEMUXER_NOT_FOUND)
        return TW_ENOTSUP;
    return TW_EIO;
}

tw_status twi_av_fail(tw_error *err, tw_status st, int code, const char *what)
{
    char text[AV_ERROR_MAX_STRING_SIZE] = "";
    (void)av_strerror(code, text, sizeof text);
    return tw_fail(err, st, "%s: %s", what, text);
}

static enum AVCodecID id_of(const tw_stream *stream)
{
    switch ((enum tw_codec_values)stream->codec) {
    case TW_CODEC_MJPEG: return AV_CODEC_ID_MJPEG;
    case TW_CODEC_H264: return AV_CODEC_ID_H264;
    case TW_CODEC_H265: return AV_CODEC_ID_HEVC;
    case TW_CODEC_MPEG4: return AV_CODEC_ID_MPEG4;
    case TW_CODEC_RAW: return AV_CODEC_ID_RAWVIDEO;
    case TW_CODEC_OTHER: break;
    }
    return AV_CODEC_ID_NONE;
}

/* One of the codecs that only the library has names for comes with its parameters in
 * front of its own set-up data. */
static const uint8_t *take_details(const tw_stream *stream, AVCodecParameters *p,
                                   size_t *extra_size)
{
    twi_av_details d;
    if (stream->extra_size < sizeof d)
        return NULL;
    memcpy(&d, stream->extra, sizeof d);
    p->codec_id = (enum AVCodecID)d.id;
    p->format = d.format;
    p->codec_tag = d.tag;
    p->bits_per_coded_sample = (int)d.bits;
    *extra_size = stream->extra_size - sizeof d;
    return stream->extra + sizeof d;
}

tw_status twi_av_parameters(const tw_stream *stream, AVCodecParameters **out,
                            tw_error *err)
{
    AVCodecParameters *p = avcodec_parameters_alloc();
    if (!p)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    p->codec_type = AVMEDIA_TYPE_VIDEO;
    p->codec_id = id_of(stream);
    p->width = stream->width;
    p->height = stream->height;
    const uint8_t *extra = stream->extra;
    size_t extra_size = stream->extra_size;
    if (stream->codec == TW_CODEC_OTHER)
        extra = take_details(stream, p, &extra_size);
    if (stream->codec == TW_CODEC_RAW)
        p->format =
            stream->pixels == TW_PIXELS_GREY ? AV_PIX_FMT_GRAY8 : AV_PIX_FMT_YUVJ420P;
    if (extra && extra_size > 0) {
        p->extradata = av_mallocz(extra_size + AV_INPUT_BUFFER_PADDING_SIZE);
        if (!p->extradata) {
            avcodec_parameters_free(&p);
            return tw_fail(err, TW_ENOMEM, "out of memory");
        }
        memcpy(p->extradata, extra, extra_size);
        p->extradata_size = (int)extra_size;
    }
    *out = p;
    return TW_OK;
}

tw_status twi_av_open(const AVCodecParameters *parameters, AVCodecContext **out,
                      tw_error *err)
{
    AVCodecContext *context = NULL;
    tw_status st = TW_OK;
    const AVCodec *codec = avcodec_find_decoder(parameters->codec_id);
    if (!codec) {
        st = tw_fail(err, TW_ENOTSUP, "there is no decoder for %s",
                     avcodec_get_name(parameters->codec_id));
        goto done;
    }
    context = avcodec_alloc_context3(codec);
    if (!context || avcodec_parameters_to_context(context, parameters) < 0) {
        st = tw_fail(err, TW_ENOMEM, "out of memory");
        goto done;
    }
    context->thread_count = 1;
    context->pkt_timebase = (AVRational){1, 1000000};
    context->max_pixels = (int64_t)16384 * 16384;
    const int code = avcodec_open2(context, codec, NULL);
    if (code < 0) {
        st = twi_av_fail(err, twi_av_status(code), code, "cannot open the decoder");
        goto done;
    }
    *out = context;
    context = NULL;
done:
    avcodec_free_context(&context);
    return st;
}

tw_status twi_av_open_decoder(const tw_stream *stream, AVCodecContext **out,
                              tw_error *err)
{
    AVCodecParameters *parameters = NULL;
    tw_status st = twi_av_parameters(stream, &parameters, err);
    if (st == TW_OK && parameters)
        st = twi_av_open(parameters, out, err);
    avcodec_parameters_free(&parameters);
    return st;
}

tw_status twi_av_copy(const tw_packet *packet, AVPacket **out, tw_error *err)
{
    AVPacket *av = av_packet_alloc();
    if (!av || av_new_packet(av, (int)packet->size) < 0) {
        av_packet_free(&av);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    memcpy(av->data, packet->data, packet->size);
    av->pts = packet->t_us;
    av->dts = packet->dts_us;
    av->flags = packet->key ? AV_PKT_FLAG_KEY : 0;
    *out = av;
    return TW_OK;
}

tw_status twi_av_give(AVCodecContext *context, const AVPacket *packet, tw_error *err)
{
    const int code = avcodec_send_packet(context, packet);
    if (code < 0 && code != AVERROR_EOF)
        return twi_av_fail(err, TW_EDAMAGED, code, "cannot decode");
    return TW_OK;
}

static void release(void *opaque, uint8_t *data)
{
    (void)data;
    twi_buffer_unref(opaque);
}

tw_status twi_av_wrap(const tw_packet *packet, twi_buffer *buffer, AVPacket **out,
                      tw_error *err)
{
    AVPacket *av = av_packet_alloc();
    if (av)
        av->buf = av_buffer_create(buffer->data, buffer->size + TWI_BUFFER_PADDING,
                                   release, buffer, AV_BUFFER_FLAG_READONLY);
    if (!av || !av->buf) {
        av_packet_free(&av);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    (void)twi_buffer_ref(buffer);
    av->data = buffer->data;
    av->size = (int)buffer->size;
    av->pts = packet->t_us;
    av->dts = packet->dts_us;
    av->flags = packet->key ? AV_PKT_FLAG_KEY : 0;
    *out = av;
    return TW_OK;
}
