/* Reading footage from a file, by libavformat. */
#include <libavutil/avstring.h>
#include <libavutil/parseutils.h>

#include "av.h"

enum { PROBE_FAILURES_MAX = 1000 }; /* packets of other streams and bad ones in a row */

/* What a camera or a recording of one can be. The library reads far more: texts, which it
 * draws as pictures, and lists of other files and addresses. */
#define FILE_FORMATS                                                                     \
    "mov,mp4,matroska,webm,avi,mpegts,mpeg,mpegvideo,m4v,h264,hevc,mjpeg,yuv4mpegpipe,"  \
    "flv,ogg,asf,mxf,nut,ivf,gif,dv,jpeg_pipe,png_pipe,webp_pipe,bmp_pipe,tiff_pipe,"    \
    "pgm_pipe,ppm_pipe,image2"
#define LIVE_FORMATS "rtsp,sdp,rtp,mpjpeg,mjpeg,jpeg_pipe"
#define LIVE_PROTOCOLS "rtsp,rtsps,rtp,srtp,udp,tcp,tls,http,https,httpproxy,crypto"

struct twi_footage {
    AVFormatContext *format;
    AVPacket *packet;
    int index;             /* of the video stream */
    bool any;              /* a packet has come */
    int64_t zero;          /* time stamp of the first packet, in the stream's units */
    int64_t last_us;       /* of the newest packet, for those without a time */
    int64_t step_us;       /* between two frames, nominally */
    twi_live_options live; /* shown NULL: it is a file */
    char *shown;
    int sound_index;     /* of the sound; -1: none is read */
    twi_av_sound *sound; /* makes AAC of it; NULL: it fits as it is */
    int64_t sound_us;    /* newest time of it that was given */
    bool was_sound;      /* the packet that was given last */
    uint8_t *details;    /* see twi_av_details; NULL: the stream needs none */
};

static tw_codec codec_of(enum AVCodecID id)
{
    switch (id) {
    case AV_CODEC_ID_MJPEG: return TW_CODEC_MJPEG;
    case AV_CODEC_ID_H264: return TW_CODEC_H264;
    case AV_CODEC_ID_HEVC: return TW_CODEC_H265;
    case AV_CODEC_ID_MPEG4: return TW_CODEC_MPEG4;
    default: return TW_CODEC_OTHER;
    }
}

static uint16_t side(int value)
{
    return (uint16_t)(value > 0 && value <= UINT16_MAX ? value : 0);
}

static void describe(const twi_footage *footage, tw_stream *out)
{
    const AVStream *stream = footage->format->streams[footage->index];
    const AVCodecParameters *p = stream->codecpar;
    const AVRational rate =
        stream->avg_frame_rate.num > 0 ? stream->avg_frame_rate : stream->r_frame_rate;
    *out =
        (tw_stream){.codec = codec_of(p->codec_id),
                    .codec_name = avcodec_get_name(p->codec_id),
                    .width = side(p->width),
                    .height = side(p->height),
                    .fps_num = rate.num > 0 ? (uint32_t)rate.num : 0,
                    .fps_den = rate.den > 0 ? (uint32_t)rate.den : 1,
                    .extra = p->extradata,
                    .extra_size = p->extradata_size > 0 ? (size_t)p->extradata_size : 0};
    out->turn = twi_av_turn_of(stream);
    if (footage->format->duration > 0) /* in AV_TIME_BASE, which is microseconds */
        out->length_us = footage->format->duration;
}

/* What only the library knows a name for is told by its own parameters. */
static tw_status add_details(twi_footage *footage, tw_stream *stream, tw_error *err)
{
    const AVCodecParameters *p = footage->format->streams[footage->index]->codecpar;
    const twi_av_details d = {
        .id = (int32_t)p->codec_id,
        .format = p->format,
        .tag = p->codec_tag,
        .bits = (uint32_t)(p->bits_per_coded_sample > 0 ? p->bits_per_coded_sample : 0)};
    if (stream->codec != TW_CODEC_OTHER)
        return TW_OK;
    footage->details = av_malloc(sizeof d + stream->extra_size);
    if (!footage->details)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    memcpy(footage->details, &d, sizeof d);
    if (stream->extra_size > 0)
        memcpy(footage->details + sizeof d, stream->extra, stream->extra_size);
    stream->extra = footage->details;
    stream->extra_size += sizeof d;
    return TW_OK;
}

static int64_t recorded_at(const AVFormatContext *format)
{
    const AVDictionaryEntry *entry =
        av_dict_get(format->metadata, "creation_time", NULL, 0);
    int64_t wall_us = 0;
    if (!entry || av_parse_time(&wall_us, entry->value, 0) < 0)
        return 0;
    return wall_us;
}

static twi_footage *make_footage(void)
{
    twi_footage *footage = av_mallocz(sizeof *footage);
    if (footage && !(footage->packet = av_packet_alloc()))
        av_freep(&footage);
    if (footage)
        footage->sound_index = -1;
    return footage;
}

/* Whether the container has said all that is asked of its video. Only files of the MP4
 * family tell both times of each packet, so that no delay need be guessed. */
static bool says_all(const AVFormatContext *format)
{
    bool all = format->nb_streams > 0 && strstr(format->iformat->name, "mp4");
    for (unsigned i = 0; all && i < format->nb_streams; i++) {
        const AVStream *stream = format->streams[i];
        const AVCodecParameters *p = stream->codecpar;
        if (p->codec_type == AVMEDIA_TYPE_VIDEO)
            all = (p->codec_id == AV_CODEC_ID_H264 || p->codec_id == AV_CODEC_ID_HEVC) &&
                  side(p->width) > 0 && side(p->height) > 0 && p->extradata_size > 0 &&
                  stream->avg_frame_rate.num > 0;
    }
    return all;
}

/* Learn what is in it without decoding, which costs as much as many frames of footage. */
static int find_undecoded(AVFormatContext *format)
{
    const unsigned streams = format->nb_streams; /* more may be found */
    AVDictionary **options = av_calloc(streams, sizeof(AVDictionary *));
    if (!options)
        return AVERROR(ENOMEM);
    for (unsigned i = 0; i < streams; i++)
        (void)av_dict_set(&options[i], "skip_frame", "all", 0);
    format->max_analyze_duration = 1; /* microseconds */
    const int code = avformat_find_stream_info(format, options);
    for (unsigned i = 0; i < streams; i++)
        av_dict_free(&options[i]);
    av_free(options);
    return code;
}

/* Find the stream of what has been opened. @param name  For messages. */
static tw_status choose_stream(twi_footage *footage, const char *name, tw_stream *stream,
                               tw_error *err)
{
    const int code = says_all(footage->format)
                         ? find_undecoded(footage->format)
                         : avformat_find_stream_info(footage->format, NULL);
    footage->index =
        av_find_best_stream(footage->format, AVMEDIA_TYPE_VIDEO, -1, -1, NULL, 0);
    if (code < 0 || footage->index < 0)
        return tw_fail(err, TW_EDAMAGED, "%s: no video in it", name);
    for (unsigned i = 0; i < footage->format->nb_streams; i++)
        if ((int)i != footage->index)
            footage->format->streams[i]->discard = AVDISCARD_ALL;
    describe(footage, stream);
    footage->step_us = stream->fps_num > 0
                           ? INT64_C(1000000) * stream->fps_den / stream->fps_num
                           : 100000;
    return add_details(footage, stream, err);
}

/* A path is one, whatever it begins with, and no address of the library's. */
static tw_status open_path(twi_footage *footage, const char *path, tw_error *err)
{
    AVDictionary *options = NULL;
    char *url = av_asprintf("file:%s", path);
    int code = url ? 0 : AVERROR(ENOMEM);
    if (code == 0)
        code = av_dict_set(&options, "format_whitelist", FILE_FORMATS, 0);
    if (code >= 0)
        code = av_dict_set(&options, "protocol_whitelist", "file", 0);
    if (code >= 0) /* a picture's name is no pattern for the names of others */
        code = av_dict_set(&options, "pattern_type", "none", 0);
    if (code >= 0)
        code = avformat_open_input(&footage->format, url, NULL, &options);
    av_dict_free(&options);
    av_free(url);
    if (code == AVERROR(EINVAL) ||
        code == AVERROR_INVALIDDATA) /* as it says of a format that is not on the list */
        return tw_fail(err, TW_EDAMAGED, "%s: this is no footage", path);
    return code < 0 ? twi_av_fail(err, twi_av_status(code), code, path) : TW_OK;
}

tw_status twi_av_footage_open(const char *path, twi_footage **out, tw_stream *stream,
                              int64_t *wall_us, tw_error *err)
{
    twi_footage *footage = make_footage();
    if (!footage)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    tw_status st = open_path(footage, path, err);
    if (st == TW_OK)
        st = choose_stream(footage, path, stream, err);
    if (st == TW_OK) {
        *wall_us = recorded_at(footage->format);
        *out = footage;
    } else {
        twi_av_footage_close(footage);
    }
    return st;
}

/* ---- from the network ------------------------------------------------------------ */

/* Seconds of a stream that are looked at to learn what it is: enough for a key frame. */
#define ANALYSE_US 1500000

static tw_status open_url(twi_footage *footage, const char *url, tw_error *err)
{
    AVDictionary *options = NULL;
    footage->format = avformat_alloc_context();
    if (!footage->format)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    footage->format->interrupt_callback =
        (AVIOInterruptCB){footage->live.interrupted, footage->live.ctx};
    footage->format->flags |= AVFMT_FLAG_NOBUFFER;
    footage->format->max_analyze_duration = ANALYSE_US;
    (void)av_dict_set_int(&options, "timeout", footage->live.timeout_us, 0);
    (void)av_dict_set(&options, "rtsp_transport", footage->live.udp ? "udp" : "tcp", 0);
    (void)av_dict_set(&options, "user_agent", "tawny", 0);
    int code = av_dict_set(&options, "format_whitelist", LIVE_FORMATS, 0);
    if (code >= 0)
        code = av_dict_set(&options, "protocol_whitelist", LIVE_PROTOCOLS, 0);
    if (code >= 0)
        code = avformat_open_input(&footage->format, url, NULL, &options);
    av_dict_free(&options);
    if (code >= 0)
        return TW_OK;
    if (footage->live.interrupted(footage->live.ctx))
        return tw_fail(err, TW_ETIMEOUT, "%s: no answer", footage->shown);
    return twi_av_fail(err, twi_av_status(code), code, footage->shown);
}

tw_status twi_av_live_open(const char *url, const twi_live_options *options,
                           twi_footage **out, tw_stream *stream, bool *timed,
                           tw_error *err)
{
    twi_footage *footage = make_footage();
    if (!footage)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    footage->live = *options;
    footage->shown = av_strdup(options->shown);
    tw_status st = footage->shown ? open_url(footage, url, err)
                                  : tw_fail(err, TW_ENOMEM, "out of memory");
    if (st == TW_OK)
        st = choose_stream(footage, footage->shown, stream, err);
    if (st == TW_OK) { /* the times of multipart streams are made up */
        *timed = strcmp(footage->format->iformat->name, "rtsp") == 0;
        *out = footage;
    } else {
        twi_av_footage_close(footage);
    }
    return st;
}

/* ---- packets --------------------------------------------------------------------- */

/* Presentation time where there is one, else decoding time, else one step on. */
static void stamp(twi_footage *footage, tw_packet *out)
{
    const AVPacket *p = footage->packet;
    const AVStream *stream = footage->format->streams[footage->index];
    const AVRational us = {1, 1000000};
    const int64_t dts = p->dts != AV_NOPTS_VALUE ? p->dts : p->pts;
    if (!footage->any && dts != AV_NOPTS_VALUE)
        footage->zero = p->pts != AV_NOPTS_VALUE ? p->pts : dts;
    if (dts == AV_NOPTS_VALUE) {
        out->dts_us = footage->any ? footage->last_us + footage->step_us : 0;
        out->t_us = out->dts_us;
    } else {
        out->dts_us = av_rescale_q(dts - footage->zero, stream->time_base, us);
        out->t_us = p->pts == AV_NOPTS_VALUE
                        ? out->dts_us
                        : av_rescale_q(p->pts - footage->zero, stream->time_base, us);
    }
    if (footage->any && out->dts_us <= footage->last_us)
        out->dts_us = footage->last_us + 1; /* clips need rising times */
    footage->last_us = out->dts_us;
    footage->any = true;
}

static const AVRational MICROSECONDS = {1, 1000000};

/* The time of a packet of sound, from the first picture on.
 * @return false: it has none, or there was no picture yet. */
static bool sound_time(const twi_footage *footage, int64_t *t_us)
{
    const AVPacket *p = footage->packet;
    AVStream *const *streams = footage->format->streams;
    const int64_t pts = p->pts != AV_NOPTS_VALUE ? p->pts : p->dts;
    if (!footage->any || pts == AV_NOPTS_VALUE)
        return false;
    *t_us = av_rescale_q(pts, streams[footage->sound_index]->time_base, MICROSECONDS) -
            av_rescale_q(footage->zero, streams[footage->index]->time_base, MICROSECONDS);
    return true;
}

static void give_sound(twi_footage *footage, tw_packet *out)
{
    if (out->t_us <= footage->sound_us)
        out->t_us = out->dts_us = footage->sound_us + 1;
    footage->sound_us = out->t_us;
    footage->was_sound = true;
}

/* @return TW_OK: out is set; TW_EAGAIN: nothing comes of it yet, or ever. */
static tw_status take_sound(twi_footage *footage, tw_packet *out)
{
    int64_t t_us = 0;
    AVPacket *p = footage->packet;
    if (!sound_time(footage, &t_us) || p->size <= 0)
        return TW_EAGAIN;
    if (footage->sound) {
        p->pts = p->dts = t_us;
        (void)twi_av_sound_packet(footage->sound, p, NULL);
        return TW_EAGAIN;
    }
    *out = (tw_packet){.data = p->data,
                       .size = (size_t)p->size,
                       .t_us = t_us,
                       .dts_us = t_us,
                       .key = true};
    give_sound(footage, out);
    return TW_OK;
}

bool twi_av_footage_was_sound(const twi_footage *footage)
{
    return footage->was_sound;
}

tw_status twi_av_footage_sound(twi_footage *footage, tw_stream *stream, tw_error *err)
{
    const int index = av_find_best_stream(footage->format, AVMEDIA_TYPE_AUDIO, -1,
                                          footage->index, NULL, 0);
    stream->sound = (tw_sound){.codec = TW_SOUND_NONE};
    if (index < 0)
        return TW_OK;
    AVStream *from = footage->format->streams[index];
    if (!twi_av_sound_fits(from->codecpar, &stream->sound)) {
        const tw_status st =
            twi_av_sound_from(from->codecpar, &footage->sound, &stream->sound, err);
        if (st != TW_OK)
            return st;
    }
    footage->sound_us = INT64_MIN;
    footage->sound_index = index;
    from->discard = AVDISCARD_DEFAULT;
    return TW_OK;
}

tw_status twi_av_footage_next(twi_footage *footage, tw_packet *packet, tw_error *err)
{
    for (int tries = 0; tries < PROBE_FAILURES_MAX; tries++) {
        if (footage->sound && twi_av_sound_take(footage->sound, packet, NULL) == TW_OK) {
            give_sound(footage, packet);
            return TW_OK;
        }
        av_packet_unref(footage->packet);
        const int code = av_read_frame(footage->format, footage->packet);
        if (code == AVERROR_EOF)
            return TW_EEND;
        if (code < 0 && footage->shown) /* it does not find into the stream again */
            return twi_av_fail(err, TW_EIO, code, footage->shown);
        if (code < 0)
            return twi_av_fail(err, twi_av_status(code), code, "cannot read on");
        if (footage->packet->stream_index == footage->sound_index &&
            take_sound(footage, packet) == TW_OK)
            return TW_OK;
        if (footage->packet->stream_index != footage->index || footage->packet->size <= 0)
            continue;
        if (footage->shown && footage->packet->flags & AV_PKT_FLAG_CORRUPT)
            return tw_fail(err, TW_EDAMAGED, "%s: a frame was cut short", footage->shown);
        *packet = (tw_packet){.data = footage->packet->data,
                              .size = (size_t)footage->packet->size,
                              .key = (footage->packet->flags & AV_PKT_FLAG_KEY) != 0};
        stamp(footage, packet);
        footage->was_sound = false;
        return TW_OK;
    }
    return tw_fail(err, footage->shown ? TW_EIO : TW_EDAMAGED, "no video for %d packets",
                   PROBE_FAILURES_MAX);
}

void twi_av_footage_close(twi_footage *footage)
{
    if (!footage)
        return;
    av_packet_free(&footage->packet);
    twi_av_sound_close(footage->sound);
    avformat_close_input(&footage->format);
    av_free(footage->shown);
    av_free(footage->details);
    av_free(footage);
}
