/* Writing clips: fragmented MP4, so that a file that is cut off still plays. */
#include <libavcodec/bsf.h>
#include <libavutil/opt.h>
#include <stdio.h>
#include <string.h>

#include "av.h"
#include "board.h"
#include "../../core/naming.h"
#include "../../core/view.h"

enum {
    BUFFER_BYTES = 32768,
    CRF_BEST = 15, /* at quality 100; worse by one for three of quality */
    KEY_EVERY_S = 2,
    SETS_MAX = 65536, /* bytes of parameter sets */
    EARLY_MAX = 256   /* packets of sound */
};

#define MP4_FLAGS "frag_keyframe+empty_moov+default_base_moof"
#define FRAGMENT_US 1000000 /* at most so much is lost by a power cut */

struct twi_clip {
    AVFormatContext *format;
    AVIOContext *io;
    AVStream *stream;
    AVStream *sound; /* NULL: there is none */
    AVPacket *packet;
    twi_clip_sink sink;
    tw_error failed; /* the sink's first failure */
    bool begun;      /* the header is written */
    bool any;        /* a packet has come */
    int64_t zero_us; /* time of the first packet */
    int64_t last_us; /* newest dts, from zero */
    int64_t step_us; /* length of the newest frame, for the last one's */
    /* Encoding. */
    AVCodecContext *decoder, *encoder;
    AVFrame *decoded, *scaled;
    struct SwsContext *scaler;
    int quality;
    int width; /* wanted; 0: as it comes */
    twi_view view;
    twi_av_shown shown;
    twi_clip_painter painter;
    int64_t encoded_us; /* newest pts given to the encoder */
    /* Sound. */
    int64_t sound_next;         /* where its next packet is expected, samples */
    AVPacket *early[EARLY_MAX]; /* that came before the header was written */
    size_t early_count;
};

static const AVRational MICROSECONDS = {1, 1000000};

static int pass_on(void *ctx, uint8_t *data, int bytes)
{
    twi_clip *clip = ctx;
    if (clip->failed.status != TW_OK)
        return AVERROR(EIO);
    const tw_status st =
        clip->sink.write(clip->sink.ctx, data, (size_t)bytes, &clip->failed);
    if (st == TW_OK)
        return bytes;
    clip->failed.status = st;
    return AVERROR(EIO);
}

/* The sink's own words where it failed, else the library's. */
static tw_status clip_fail(twi_clip *clip, int code, const char *what, tw_error *err)
{
    if (clip->failed.status == TW_OK)
        return twi_av_fail(err, twi_av_status(code), code, what);
    if (err)
        *err = clip->failed;
    return clip->failed.status;
}

bool twi_av_clip_carries(const tw_stream *stream)
{
    return stream->codec != TW_CODEC_OTHER && stream->codec != TW_CODEC_RAW;
}

/* Releases everything; nothing more is written. */
static void drop(twi_clip *clip)
{
    if (!clip)
        return;
    if (clip->io)
        av_freep(&clip->io->buffer);
    avio_context_free(&clip->io);
    avformat_free_context(clip->format);
    av_packet_free(&clip->packet);
    for (size_t i = 0; i < clip->early_count; i++)
        av_packet_free(&clip->early[i]);
    avcodec_free_context(&clip->decoder);
    avcodec_free_context(&clip->encoder);
    av_frame_free(&clip->decoded);
    av_frame_free(&clip->scaled);
    sws_freeContext(clip->scaler);
    twi_av_shown_free(&clip->shown);
    av_free(clip);
}

static tw_status open_output(twi_clip *clip, tw_error *err)
{
    uint8_t *buffer = av_malloc(BUFFER_BYTES);
    if (!buffer || avformat_alloc_output_context2(&clip->format, NULL, "mp4", NULL) < 0) {
        av_free(buffer);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    clip->io = avio_alloc_context(buffer, BUFFER_BYTES, 1, clip, NULL, pass_on, NULL);
    clip->stream = avformat_new_stream(clip->format, NULL);
    clip->packet = av_packet_alloc();
    if (!clip->io || !clip->stream || !clip->packet) {
        if (!clip->io)
            av_free(buffer);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    clip->format->pb = clip->io;
    clip->format->flags |=
        AVFMT_FLAG_CUSTOM_IO | AVFMT_FLAG_FLUSH_PACKETS | AVFMT_FLAG_BITEXACT;
    return TW_OK;
}

/* Beside the pictures, as it comes. */
static tw_status add_sound(twi_clip *clip, const tw_sound *sound, tw_error *err)
{
    if (sound->codec == TW_SOUND_NONE)
        return TW_OK;
    clip->sound = avformat_new_stream(clip->format, NULL);
    if (!clip->sound)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    clip->sound->time_base = (AVRational){1, (int)sound->rate};
    return twi_av_sound_parameters(sound, clip->sound->codecpar, err);
}

static void set_date(twi_clip *clip, int64_t wall_us)
{
    char text[64];
    twi_civil t;
    twi_civil_split(wall_us, 0, &t);
    (void)snprintf(text, sizeof text, "%04d-%02u-%02uT%02u:%02u:%02u.%06uZ", (int)t.year,
                   t.month, t.day, t.hour, t.minute, t.second, (unsigned)t.microsecond);
    (void)av_dict_set(&clip->format->metadata, "creation_time", text, 0);
}

/* Samples that a packet of Opus makes, at 48000 a second: RFC 6716, 3.1 and 3.2. */
static int64_t opus_samples(const AVPacket *packet)
{
    static const int16_t of_mode[] = {480, 960, 1920, 2880},
                         of_short[] = {120, 240, 480, 960};
    const unsigned first = packet->data[0], mode = first >> 3;
    const int64_t length = mode < 12   ? of_mode[mode % 4]
                           : mode < 16 ? of_mode[mode % 2]
                                       : of_short[mode % 4];
    const int count = (first & 3) == 0   ? 1
                      : (first & 3) < 3  ? 2
                      : packet->size > 1 ? packet->data[1] & 63
                                         : 1;
    return length * count;
}

static int64_t length_of(const twi_clip *clip, const AVPacket *packet)
{
    const AVCodecParameters *p = clip->sound->codecpar;
    return p->codec_id == AV_CODEC_ID_OPUS
               ? av_rescale(opus_samples(packet), p->sample_rate, 48000)
               : p->frame_size;
}

/* A packet of sound into the file. Times are rounded: one that begins where the last one
 * ended is there. */
static tw_status write_sound(twi_clip *clip, AVPacket *packet, tw_error *err)
{
    enum { NEAR = 2 }; /* samples */
    const int rate = clip->sound->codecpar->sample_rate;
    const int64_t length = length_of(clip, packet);
    int64_t at = av_rescale(packet->pts - clip->zero_us, rate, 1000000);
    if (at < 0)
        return TW_OK;
    if (clip->sound_next == 0)
        at = 0; /* a track whose first packet is later would begin earlier */
    else if (at < clip->sound_next + NEAR)
        at = clip->sound_next;
    packet->pts = packet->dts = at;
    packet->flags |= AV_PKT_FLAG_KEY;
    packet->duration = length;
    clip->sound_next = at + length;
    packet->stream_index = clip->sound->index;
    av_packet_rescale_ts(packet, (AVRational){1, rate}, clip->sound->time_base);
    const int code = av_write_frame(clip->format, packet);
    if (code < 0 || clip->failed.status != TW_OK)
        return clip_fail(clip, code, "cannot write the clip's sound", err);
    return TW_OK;
}

static tw_status write_early(twi_clip *clip, tw_error *err)
{
    tw_status st = TW_OK;
    for (size_t i = 0; i < clip->early_count; i++) {
        if (st == TW_OK)
            st = write_sound(clip, clip->early[i], err);
        av_packet_free(&clip->early[i]);
    }
    clip->early_count = 0;
    return st;
}

static tw_status write_header(twi_clip *clip, tw_error *err)
{
    AVDictionary *options = NULL;
    (void)av_dict_set(&options, "movflags", MP4_FLAGS, 0);
    (void)av_dict_set_int(&options, "min_frag_duration", FRAGMENT_US, 0);
    (void)av_dict_set_int(&options, "frag_duration", FRAGMENT_US, 0);
    clip->stream->time_base = MICROSECONDS;
    const int code = avformat_write_header(clip->format, &options);
    av_dict_free(&options);
    if (code < 0)
        return clip_fail(clip, code, "cannot begin the clip", err);
    clip->begun = true;
    return write_early(clip, err);
}

static tw_status set_up_copy(twi_clip *clip, const tw_stream *stream, tw_error *err)
{
    AVCodecParameters *parameters = NULL;
    tw_status st = twi_av_parameters(stream, &parameters, err);
    if (st != TW_OK)
        return st;
    if (avcodec_parameters_copy(clip->stream->codecpar, parameters) < 0)
        st = tw_fail(err, TW_ENOMEM, "out of memory");
    clip->stream->codecpar->codec_tag = 0; /* that of the container it came from */
    avcodec_parameters_free(&parameters);
    return st == TW_OK ? twi_av_set_turn(clip->stream, clip->view.turn, err) : st;
}

/* Take the parameter sets of a stream from its first packet, where nothing else told
 * them: a device of H.264 sends them with its key frames alone, and without them nobody
 * can play the clip. */
static tw_status learn_sets(twi_clip *clip, const AVPacket *first, tw_error *err)
{
    AVCodecParameters *own = clip->stream->codecpar;
    AVBSFContext *finder = NULL;
    AVPacket *packet = av_packet_clone(first);
    size_t bytes = 0;
    int code = av_bsf_alloc(av_bsf_get_by_name("extract_extradata"), &finder);
    if (code >= 0)
        code = packet ? avcodec_parameters_copy(finder->par_in, own) : AVERROR(ENOMEM);
    if (code >= 0)
        code = av_bsf_init(finder);
    if (code >= 0)
        code = av_bsf_send_packet(finder, packet);
    if (code >= 0)
        code = av_bsf_receive_packet(finder, packet);
    const uint8_t *sets =
        code < 0 ? NULL
                 : av_packet_get_side_data(packet, AV_PKT_DATA_NEW_EXTRADATA, &bytes);
    if (sets && bytes < SETS_MAX) {
        own->extradata = av_mallocz(bytes + AV_INPUT_BUFFER_PADDING_SIZE);
        code = own->extradata ? 0 : AVERROR(ENOMEM);
    }
    if (sets && own->extradata) {
        memcpy(own->extradata, sets, bytes);
        own->extradata_size = (int)bytes;
    }
    av_packet_free(&packet);
    av_bsf_free(&finder);
    if (code < 0)
        return twi_av_fail(err, twi_av_status(code), code, "cannot begin the clip");
    return own->extradata
               ? TW_OK
               : tw_fail(err, TW_EDAMAGED,
                         "the stream's key frames do not say how it is decoded: "
                         "use clip_video = h264, or another format");
}

/* The header of what is copied, which waits for its first packet. */
static tw_status begin_copy(twi_clip *clip, const AVPacket *first, tw_error *err)
{
    const AVCodecParameters *own = clip->stream->codecpar;
    const bool needs =
        own->codec_id == AV_CODEC_ID_H264 || own->codec_id == AV_CODEC_ID_HEVC;
    const tw_status st =
        needs && own->extradata_size == 0 ? learn_sets(clip, first, err) : TW_OK;
    return st == TW_OK ? write_header(clip, err) : st;
}

tw_status twi_av_clip_open(const twi_clip_spec *spec, twi_clip **out, tw_error *err)
{
    twi_clip *clip = av_mallocz(sizeof *clip);
    if (!clip)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    clip->sink = spec->sink;
    clip->quality = spec->quality;
    clip->width = spec->width;
    clip->painter = spec->painter;
    clip->view = spec->view;
    clip->encoded_us = -1;
    clip->step_us = spec->stream->fps_num > 0
                        ? INT64_C(1000000) * spec->stream->fps_den / spec->stream->fps_num
                        : 100000;
    tw_status st = open_output(clip, err);
    if (st == TW_OK) {
        if (spec->wall_us > 0)
            set_date(clip, spec->wall_us);
        (void)av_dict_set(&clip->format->metadata, "comment", spec->why, 0);
        st = spec->encode ? twi_av_open_decoder(spec->stream, &clip->decoder, err)
                          : set_up_copy(clip, spec->stream, err);
    }
    if (st == TW_OK)
        st = add_sound(clip, &spec->stream->sound, err);
    if (st == TW_OK && spec->encode &&
        (!(clip->decoded = av_frame_alloc()) || !(clip->scaled = av_frame_alloc())))
        st = tw_fail(err, TW_ENOMEM, "out of memory");
    if (st == TW_OK)
        *out = clip;
    else
        drop(clip);
    return st;
}

/* A packet into the file, its times in microseconds from the clip's beginning. */
static tw_status write_packet(twi_clip *clip, AVPacket *packet, tw_error *err)
{
    packet->stream_index = clip->stream->index;
    av_packet_rescale_ts(packet, MICROSECONDS, clip->stream->time_base);
    const int code = av_write_frame(clip->format, packet);
    if (code < 0 || clip->failed.status != TW_OK)
        return clip_fail(clip, code, "cannot write the clip", err);
    return TW_OK;
}

static tw_status copy_packet(twi_clip *clip, AVPacket *packet, tw_error *err)
{
    packet->dts -= clip->zero_us;
    packet->pts -= clip->zero_us;
    if (packet->dts > clip->last_us)
        clip->step_us = packet->dts - clip->last_us;
    clip->last_us = packet->dts;
    if (packet->pts < packet->dts)
        packet->pts = packet->dts;
    packet->duration = clip->step_us;
    return write_packet(clip, packet, err);
}

/* x264's scale: lower is better and bigger, 15 to 48 here. */
static int crf_for(int quality)
{
    return CRF_BEST + (100 - quality) / 3;
}

/* Frames a second, as far as the newest two tell. */
static int64_t step_of(const twi_clip *clip)
{
    return clip->step_us > 0 ? clip->step_us : 100000;
}

/* Hardware has no scale of quality: bits for each pixel, from 0.03 to 0.3 of them. */
static int64_t bits_a_second(const twi_clip *clip, const AVCodecContext *c)
{
    const int64_t thousandths = 30 + INT64_C(270) * clip->quality * clip->quality / 10000;
    return (int64_t)c->width * c->height * thousandths / 1000 * 1000000 / step_of(clip);
}

/* Open one encoder for pictures like this. @return the library's code. */
static int try_encoder(twi_clip *clip, const AVCodec *codec, const AVFrame *like)
{
    AVCodecContext *c = clip->encoder = avcodec_alloc_context3(codec);
    if (!c)
        return AVERROR(ENOMEM);
    const int64_t width = clip->width > 0 ? clip->width : like->width;
    const int64_t height = like->height * width / like->width;
    c->width = (int)(width / 2 * 2); /* 4:2:0 has no odd sides */
    c->height = height < 2 ? 2 : (int)(height / 2 * 2);
    c->pix_fmt = AV_PIX_FMT_YUV420P;
    c->time_base = MICROSECONDS;
    c->framerate = (AVRational){1000000, (int)step_of(clip)};
    const int64_t gop = KEY_EVERY_S * INT64_C(1000000) / step_of(clip);
    c->gop_size = (int)(gop < 1 ? 1 : gop > 600 ? 600 : gop);
    c->max_b_frames = 0;
    c->thread_count = 1; /* the same file on every machine */
    c->flags |= AV_CODEC_FLAG_GLOBAL_HEADER | AV_CODEC_FLAG_BITEXACT;
    char crf[8];
    (void)snprintf(crf, sizeof crf, "%d", crf_for(clip->quality));
    if (av_opt_set(c->priv_data, "crf", crf, 0) < 0)
        c->bit_rate = bits_a_second(clip, c);
    (void)av_opt_set(c->priv_data, "preset", "veryfast", 0);
    (void)av_opt_set(c->priv_data, "tune", "zerolatency", 0);
    const int code = avcodec_open2(c, codec, NULL);
    if (code < 0)
        avcodec_free_context(&clip->encoder);
    return code;
}

/* The board's encoder where there is one that opens, else the best in software. */
static tw_status open_encoder(twi_clip *clip, const AVFrame *like, tw_error *err)
{
    static const char *const names[] = {"h264_v4l2m2m", "libx264", "libopenh264"};
    int code = AVERROR_ENCODER_NOT_FOUND;
    for (size_t i = twi_board_encodes(NULL, "/dev") ? 0 : 1;
         i < sizeof names / sizeof *names && code < 0; i++) {
        const AVCodec *codec = avcodec_find_encoder_by_name(names[i]);
        if (codec)
            code = try_encoder(clip, codec, like);
    }
    if (code == AVERROR_ENCODER_NOT_FOUND)
        return tw_fail(err, TW_ENOTSUP,
                       "there is no H.264 encoder: use clip_video = copy");
    if (code >= 0)
        code = avcodec_parameters_from_context(clip->stream->codecpar, clip->encoder);
    if (code < 0)
        return twi_av_fail(err, twi_av_status(code), code,
                           "cannot open the H.264 encoder");
    return write_header(clip, err);
}

static tw_status take_encoded(twi_clip *clip, tw_error *err)
{
    tw_status st = TW_OK;
    while (st == TW_OK) {
        const int code = avcodec_receive_packet(clip->encoder, clip->packet);
        if (code == AVERROR(EAGAIN) || code == AVERROR_EOF)
            return TW_OK;
        if (code < 0)
            return twi_av_fail(err, TW_EIO, code, "cannot encode");
        clip->packet->duration = clip->step_us;
        st = write_packet(clip, clip->packet, err);
        av_packet_unref(clip->packet);
    }
    return st;
}

static tw_status paint(twi_clip *clip, const AVFrame *in, AVFrame *out, tw_error *err)
{
    if (!clip->painter.paint)
        return TW_OK;
    const twi_canvas canvas = {
        .px = {out->data[0], out->data[1], out->data[2]},
        .stride = {out->linesize[0], out->linesize[1], out->linesize[2]},
        .width = (uint16_t)out->width,
        .height = (uint16_t)out->height};
    return clip->painter.paint(clip->painter.ctx, &canvas, in->best_effort_timestamp,
                               (uint32_t)in->reordered_opaque, err);
}

static tw_status encode_picture(twi_clip *clip, tw_error *err)
{
    const AVFrame *in = NULL;
    tw_status st = twi_av_show(&clip->shown, clip->decoded, &clip->view, &in, err);
    if (st == TW_OK && !clip->encoder)
        st = open_encoder(clip, in, err);
    if (st != TW_OK)
        return st;
    const AVCodecContext *encoder = clip->encoder;
    AVFrame *out = clip->scaled;
    if (!encoder || !out)
        return tw_fail(err, TW_EINVAL, "no encoder");
    av_frame_unref(out);
    out->width = encoder->width;
    out->height = encoder->height;
    out->format = encoder->pix_fmt;
    clip->scaler = sws_getCachedContext(
        clip->scaler, in->width, in->height, (enum AVPixelFormat)in->format, out->width,
        out->height, AV_PIX_FMT_YUV420P, SWS_BILINEAR | SWS_BITEXACT | SWS_ACCURATE_RND,
        NULL, NULL, NULL);
    if (!clip->scaler || av_frame_get_buffer(out, 0) < 0)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    (void)sws_scale(clip->scaler, (const uint8_t *const *)in->data, in->linesize, 0,
                    in->height, out->data, out->linesize);
    st = paint(clip, clip->decoded, out, err);
    if (st != TW_OK)
        return st;
    out->pts = clip->decoded->best_effort_timestamp - clip->zero_us;
    if (out->pts <= clip->encoded_us)
        out->pts = clip->encoded_us + 1;
    if (clip->encoded_us >= 0)
        clip->step_us = out->pts - clip->encoded_us;
    clip->encoded_us = out->pts;
    const int code = avcodec_send_frame(clip->encoder, out);
    if (code < 0)
        return twi_av_fail(err, TW_EIO, code, "cannot encode");
    return take_encoded(clip, err);
}

/* Encode every picture that the decoder has ready. */
static tw_status encode_ready(twi_clip *clip, tw_error *err)
{
    tw_status st = TW_OK;
    while (st == TW_OK && avcodec_receive_frame(clip->decoder, clip->decoded) >= 0)
        st = encode_picture(clip, err);
    return st;
}

/* The activity of a frame goes through the decoder with it. */
static tw_status decode_packet(twi_clip *clip, const AVPacket *av,
                               const twi_buffer *buffer)
{
    clip->decoder->reordered_opaque = buffer->activity_ppm;
    return twi_av_give(clip->decoder, av, NULL);
}

tw_status twi_av_clip_packet(twi_clip *clip, const tw_packet *packet, twi_buffer *buffer,
                             tw_error *err)
{
    AVPacket *av = NULL;
    if (clip->failed.status != TW_OK)
        return clip_fail(clip, 0, "", err);
    if (!clip->any)
        clip->zero_us = packet->dts_us;
    clip->any = true;
    tw_status st = twi_av_wrap(packet, buffer, &av, err);
    if (st == TW_OK && !clip->decoder && !clip->begun)
        st = begin_copy(clip, av, err);
    if (st == TW_OK && !clip->decoder)
        st = copy_packet(clip, av, err);
    else if (st == TW_OK && decode_packet(clip, av, buffer) == TW_OK)
        st = encode_ready(clip,
                          err); /* a damaged frame leaves a gap, as for who watches */
    av_packet_free(&av);
    return st;
}

tw_status twi_av_clip_sound(twi_clip *clip, const tw_packet *packet, twi_buffer *buffer,
                            tw_error *err)
{
    AVPacket *av = NULL;
    if (clip->failed.status != TW_OK)
        return clip_fail(clip, 0, "", err);
    if (!clip->sound || !clip->any)
        return TW_OK;
    tw_status st = twi_av_wrap(packet, buffer, &av, err);
    if (st == TW_OK && clip->begun)
        st = write_sound(clip, av, err);
    else if (st == TW_OK && clip->early_count < EARLY_MAX) {
        clip->early[clip->early_count++] = av;
        av = NULL;
    }
    av_packet_free(&av);
    return st;
}

/* Take what the decoder still holds. */
static tw_status drain(twi_clip *clip, tw_error *err)
{
    if (!clip->decoder)
        return TW_OK;
    (void)twi_av_give(clip->decoder, NULL, NULL);
    return encode_ready(clip, err);
}

tw_status twi_av_clip_source(twi_clip *clip, const tw_stream *stream, tw_error *err)
{
    if (!clip->decoder)
        return tw_fail(err, TW_EINVAL, "packets of one stream only can be copied");
    const tw_status st = drain(clip, err);
    avcodec_free_context(&clip->decoder);
    clip->view.turn = stream->turn;
    return st == TW_OK ? twi_av_open_decoder(stream, &clip->decoder, err) : st;
}

static tw_status finish(twi_clip *clip, tw_error *err)
{
    tw_status st = drain(clip, err);
    if (st == TW_OK && clip->encoder) {
        (void)avcodec_send_frame(clip->encoder, NULL);
        st = take_encoded(clip, err);
    }
    if (!clip->begun)
        return st == TW_OK ? tw_fail(err, TW_EDAMAGED, "no frame could be decoded") : st;
    const int code = av_write_trailer(clip->format);
    avio_flush(clip->io);
    if (st == TW_OK && (code < 0 || clip->failed.status != TW_OK))
        st = clip_fail(clip, code, "cannot finish the clip", err);
    return st;
}

tw_status twi_av_clip_close(twi_clip *clip, tw_error *err)
{
    if (!clip)
        return TW_OK;
    const tw_status st =
        clip->failed.status == TW_OK ? finish(clip, err) : clip_fail(clip, 0, "", err);
    drop(clip);
    return st;
}
