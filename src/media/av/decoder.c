/* Decoding for detection and stills, by libavcodec. */

#include "av.h"
#include "../reserve.h"

/* From this reduction on the loop filter makes no difference to what the detector sees;
 * below it, slow and faint subjects are missed without the filter. */
enum { UNFILTERED_FROM = 4 };

struct twi_av_decoder {
    AVCodecContext *context;
    AVFrame *incoming;          /* what is asked for; empty if there is none yet */
    AVFrame *frame;             /* received last */
    struct SwsContext *to_grey; /* for pictures without a luma plane of 8 bits */
    struct SwsContext *to_full; /* to full-range 4:2:0 */
    uint8_t *reduced;           /* for the detector */
    size_t reduced_bytes;
    uint8_t *chroma; /* likewise */
    size_t chroma_bytes;
    uint8_t *grey; /* the whole picture, where luma had to be made */
    size_t grey_bytes;
    uint8_t *planes; /* of the whole picture */
    size_t planes_bytes;
    int64_t last_us;
    uint32_t inspected_ppm;
    twi_av_clean *clean; /* makes stills where the loop filter is left out; else NULL */
    twi_av_bands *bands; /* reduces while the decoder is at it; else NULL */
};

/* Codecs whose pictures are filtered within the loop of prediction. */
static bool leaves_filter_out(const AVCodecContext *context, uint32_t inspected_ppm)
{
    return (context->codec_id == AV_CODEC_ID_H264 ||
            context->codec_id == AV_CODEC_ID_HEVC) &&
           context->width <= UINT16_MAX &&
           twi_factor_for((uint32_t)context->width, inspected_ppm) >= UNFILTERED_FROM;
}

tw_status twi_av_decoder_open(const tw_stream *stream, uint32_t inspected_ppm,
                              twi_av_decoder **out, tw_error *err)
{
    twi_av_decoder *decoder = av_mallocz(sizeof *decoder);
    if (!decoder)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    decoder->frame = av_frame_alloc();
    decoder->incoming = av_frame_alloc();
    decoder->last_us = -1;
    decoder->inspected_ppm = inspected_ppm;
    tw_status st = decoder->frame && decoder->incoming
                       ? twi_av_open_decoder(stream, &decoder->context, err)
                       : tw_fail(err, TW_ENOMEM, "out of memory");
    if (st == TW_OK && inspected_ppm == 0)
        st = twi_av_clean_new(stream, &decoder->clean, err);
    else if (st == TW_OK && leaves_filter_out(decoder->context, inspected_ppm)) {
        decoder->context->skip_loop_filter = AVDISCARD_ALL;
        decoder->bands = twi_av_bands_new(decoder->context, inspected_ppm);
        st = decoder->bands ? twi_av_clean_new(stream, &decoder->clean, err)
                            : tw_fail(err, TW_ENOMEM, "out of memory");
    }
    if (st == TW_OK)
        *out = decoder;
    else
        twi_av_decoder_close(decoder);
    return st;
}

void twi_av_decoder_close(twi_av_decoder *decoder)
{
    if (!decoder)
        return;
    sws_freeContext(decoder->to_grey);
    sws_freeContext(decoder->to_full);
    av_frame_free(&decoder->frame);
    av_frame_free(&decoder->incoming);
    avcodec_free_context(&decoder->context);
    twi_av_bands_free(decoder->bands);
    twi_av_clean_free(decoder->clean);
    free(decoder->reduced);
    free(decoder->chroma);
    free(decoder->grey);
    free(decoder->planes);
    av_free(decoder);
}

void twi_av_decoder_skim(twi_av_decoder *decoder, bool skim)
{
    decoder->context->skip_frame = skim ? AVDISCARD_NONREF : AVDISCARD_DEFAULT;
}

/* Nothing is looked at: packets are only held, those since the newest key frame. */
static void reach(twi_av_decoder *decoder, const tw_packet *packet)
{
    if (!packet)
        return;
    decoder->last_us = packet->t_us;
    twi_av_clean_reached(decoder->clean, packet->t_us);
}

tw_status twi_av_decoder_send(twi_av_decoder *decoder, const tw_packet *packet,
                              tw_error *err)
{
    AVPacket *av = NULL;
    tw_status st = packet ? twi_av_copy(packet, &av, err) : TW_OK;
    if (st == TW_OK && decoder->clean)
        twi_av_clean_hold(decoder->clean, av);
    if (st == TW_OK && decoder->inspected_ppm == 0)
        reach(decoder, packet);
    else if (st == TW_OK)
        st = twi_av_give(decoder->context, av, err);
    av_packet_free(&av);
    return st;
}

static tw_status whole_luma(twi_av_decoder *decoder, tw_luma *out, tw_error *err)
{
    const AVFrame *f = decoder->frame;
    *out = (tw_luma){f->data[0], (uint32_t)f->linesize[0], (uint16_t)f->width,
                     (uint16_t)f->height};
    if (twi_av_has_luma((enum AVPixelFormat)f->format) && f->linesize[0] > 0)
        return TW_OK;
    const size_t need = (size_t)f->width * (size_t)f->height;
    decoder->to_grey = sws_getCachedContext(
        decoder->to_grey, f->width, f->height, (enum AVPixelFormat)f->format, f->width,
        f->height, AV_PIX_FMT_GRAY8, SWS_POINT | SWS_BITEXACT | SWS_ACCURATE_RND, NULL,
        NULL, NULL);
    if (!decoder->to_grey || !twi_reserve(&decoder->grey, &decoder->grey_bytes, need))
        return tw_fail(err, TW_ENOMEM, "out of memory");
    uint8_t *planes[4] = {decoder->grey};
    const int strides[4] = {f->width};
    (void)sws_scale(decoder->to_grey, (const uint8_t *const *)f->data, f->linesize, 0,
                    f->height, planes, strides);
    out->px = decoder->grey;
    out->stride = (uint32_t)f->width;
    return TW_OK;
}

static tw_status reduce_now(twi_av_decoder *decoder, uint16_t factor, tw_luma *luma,
                            tw_error *err)
{
    tw_luma whole;
    const tw_status st = whole_luma(decoder, &whole, err);
    if (st != TW_OK)
        return st;
    const size_t need = (size_t)(whole.width / factor) * (whole.height / factor);
    if (!twi_reserve(&decoder->reduced, &decoder->reduced_bytes, need ? need : 1))
        return tw_fail(err, TW_ENOMEM, "out of memory");
    if (twi_reduce_whole(&whole, factor, decoder->reduced, need, luma) != TW_OK)
        return tw_fail(err, TW_EDAMAGED, "a picture of %d x %d cannot be watched",
                       whole.width, whole.height);
    return TW_OK;
}

/* Without it, or memory for it, the detector does without. */
static void reduce_chroma(twi_av_decoder *decoder, tw_chroma *out)
{
    const twi_chroma_planes whole = twi_av_chroma_of(decoder->frame);
    *out = (tw_chroma){0};
    if (!whole.u)
        return;
    const uint16_t factor = twi_chroma_factor(whole.width, decoder->inspected_ppm);
    const size_t need = twi_chroma_bytes(whole.width, whole.height, factor);
    if (need > 0 && twi_reserve(&decoder->chroma, &decoder->chroma_bytes, need))
        (void)twi_chroma_reduce(&whole, factor, decoder->chroma, need, out);
}

/* A picture has been received: what is known of it. */
static tw_status describe(twi_av_decoder *decoder, twi_decoded *out, tw_error *err)
{
    const AVFrame *f = decoder->frame;
    if (f->width <= 0 || f->height <= 0 || f->width > UINT16_MAX ||
        f->height > UINT16_MAX)
        return tw_fail(err, TW_EDAMAGED, "a picture of %d x %d", f->width, f->height);
    if (f->flags & AV_FRAME_FLAG_CORRUPT || f->decode_error_flags)
        return tw_fail(err, TW_EDAMAGED, "damaged frame");
    out->t_us = f->best_effort_timestamp != AV_NOPTS_VALUE ? f->best_effort_timestamp
                                                           : decoder->last_us + 1;
    decoder->last_us = out->t_us;
    if (decoder->clean)
        twi_av_clean_reached(decoder->clean, out->t_us);
    out->width = (uint16_t)f->width;
    out->height = (uint16_t)f->height;
    return TW_OK;
}

tw_status twi_av_decoder_receive(twi_av_decoder *decoder, twi_decoded *out, tw_error *err)
{
    if (decoder->inspected_ppm == 0)
        return TW_EAGAIN;
    const int code = avcodec_receive_frame(decoder->context, decoder->incoming);
    if (code == AVERROR(EAGAIN))
        return TW_EAGAIN;
    if (code == AVERROR_EOF)
        return TW_EEND;
    if (code < 0)
        return twi_av_fail(err, TW_EDAMAGED, code, "cannot decode");
    av_frame_unref(decoder->frame);
    av_frame_move_ref(decoder->frame, decoder->incoming);
    const tw_status st = describe(decoder, out, err);
    if (st != TW_OK)
        return st;
    reduce_chroma(decoder, &out->chroma);
    const uint16_t factor = twi_factor_for(out->width, decoder->inspected_ppm);
    if (twi_av_bands_reduced(decoder->frame, factor, &out->luma))
        return TW_OK;
    return reduce_now(decoder, factor, &out->luma, err);
}

tw_status twi_av_decoder_picture(twi_av_decoder *decoder, tw_picture *picture,
                                 tw_error *err)
{
    const AVFrame *clean =
        decoder->clean ? twi_av_clean_find(decoder->clean, decoder->last_us) : NULL;
    const AVFrame *f = clean ? clean : decoder->frame; /* better with blocks than none */
    if (f->width <= 0 || !f->data[0])
        return tw_fail(err, TW_ENOENT, "no picture yet");
    const int w = f->width, h = f->height, half_w = (w + 1) / 2, half_h = (h + 1) / 2;
    const size_t luma = (size_t)w * (size_t)h, chroma = (size_t)half_w * (size_t)half_h;
    decoder->to_full = sws_getCachedContext(
        decoder->to_full, w, h, (enum AVPixelFormat)f->format, w, h, AV_PIX_FMT_YUVJ420P,
        SWS_BILINEAR | SWS_BITEXACT | SWS_ACCURATE_RND, NULL, NULL, NULL);
    if (!decoder->to_full ||
        !twi_reserve(&decoder->planes, &decoder->planes_bytes, luma + 2 * chroma))
        return tw_fail(err, TW_ENOMEM, "out of memory");
    uint8_t *planes[4] = {decoder->planes, decoder->planes + luma,
                          decoder->planes + luma + chroma};
    const int strides[4] = {w, half_w, half_w};
    (void)sws_scale(decoder->to_full, (const uint8_t *const *)f->data, f->linesize, 0, h,
                    planes, strides);
    *picture = (tw_picture){{planes[0], planes[1], planes[2]},
                            {(uint32_t)w, (uint32_t)half_w, (uint32_t)half_w},
                            (uint16_t)w,
                            (uint16_t)h,
                            TW_PIXELS_I420};
    return TW_OK;
}
