/* Sound: samples, or packets that clips cannot carry, become AAC. Samples that a clock of
 * their own has counted are stretched or squeezed a little, so that they stay with the
 * pictures: nobody hears it, and an hour later nobody sees it. */
#include <libavutil/audio_fifo.h>
#include <libavutil/channel_layout.h>
#include <libavutil/opt.h>
#include <libswresample/swresample.h>

#include "av.h"

enum {
    RATE_LEAST = 1000,
    RATE_MOST = 192000,
    RATE_SLOW = 16000,
    RATE_USUAL = 48000, /* where the encoder does not know another */
    BITS_MOST = 64000,  /* a second, of a channel */
    BITS_OF_SAMPLE = 2,
    SMOOTH = 16,          /* readings of the clock's difference that are averaged */
    HOLE_MS = 100,        /* a difference that no clock makes: something was lost */
    HOLE_MOST_MS = 10000, /* of more than that no silence is made: time has jumped */
    PER_MILLE_MOST = 5    /* that sound is stretched at most */
};

struct twi_av_sound {
    AVCodecContext *decoder; /* NULL: samples are given */
    AVCodecContext *encoder;
    SwrContext *stretcher;
    AVAudioFifo *samples; /* that wait for a whole frame of the encoder */
    AVFrame *decoded, *frame;
    AVPacket *packet;
    int in_rate;
    bool any;        /* samples have come */
    int64_t zero_us; /* time of the first */
    int64_t made;    /* samples in all, of the output */
    int64_t given;   /* of these to the encoder */
    int64_t off;     /* what is missing by our clock, smoothed; samples * SMOOTH */
};

/* The header of Opus (RFC 7845, 5.1), which comes with no stream over RTP. */
static void make_opus_header(tw_sound *what)
{
    static const uint8_t head[] = {'O', 'p', 'u', 's', 'H', 'e', 'a', 'd', 1};
    enum { SKIP = 312 }; /* samples that a decoder needs to begin with: 6.5 ms */
    memset(what->extra, 0, sizeof what->extra);
    memcpy(what->extra, head, sizeof head);
    what->extra[9] = what->channels;
    what->extra[10] = SKIP & 255;
    what->extra[11] = SKIP >> 8;
    for (int i = 0; i < 4; i++)
        what->extra[12 + i] = (uint8_t)(what->rate >> 8 * i);
    what->extra_size = 19;
}

bool twi_av_sound_fits(const AVCodecParameters *p, tw_sound *what)
{
    const bool aac = p->codec_id == AV_CODEC_ID_AAC,
               opus = p->codec_id == AV_CODEC_ID_OPUS;
    if ((!aac && !opus) || (aac && p->extradata_size <= 0) ||
        p->extradata_size > (int)sizeof what->extra || p->ch_layout.nb_channels < 1 ||
        p->ch_layout.nb_channels > 2 || p->sample_rate < RATE_LEAST ||
        p->sample_rate > RATE_MOST)
        return false;
    *what = (tw_sound){.codec = aac ? TW_SOUND_AAC : TW_SOUND_OPUS,
                       .rate = (uint32_t)p->sample_rate,
                       .channels = (uint8_t)p->ch_layout.nb_channels,
                       .extra_size = (uint8_t)p->extradata_size};
    if (p->extradata_size > 0)
        memcpy(what->extra, p->extradata, (size_t)p->extradata_size);
    else
        make_opus_header(what);
    return true;
}

tw_status twi_av_sound_parameters(const tw_sound *sound, AVCodecParameters *p,
                                  tw_error *err)
{
    p->extradata = av_mallocz(sizeof sound->extra + AV_INPUT_BUFFER_PADDING_SIZE);
    if (!p->extradata)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    memcpy(p->extradata, sound->extra, sound->extra_size);
    p->extradata_size = sound->extra_size;
    p->codec_type = AVMEDIA_TYPE_AUDIO;
    p->codec_id = sound->codec == TW_SOUND_AAC ? AV_CODEC_ID_AAC : AV_CODEC_ID_OPUS;
    p->sample_rate = (int)sound->rate;
    av_channel_layout_default(&p->ch_layout, sound->channels);
    p->frame_size = sound->codec == TW_SOUND_AAC ? 1024 : 960; /* most often */
    return TW_OK;
}

/* ---- opening ---------------------------------------------------------------------- */

/* Of slow sound a frame would last for long, and what is cut at frames be cut roughly. */
static int rate_for(const AVCodec *codec, int rate)
{
    while (rate < RATE_SLOW)
        rate *= 2;
    for (const int *known = codec->supported_samplerates; known && *known; known++)
        if (*known == rate)
            return rate;
    return RATE_USUAL;
}

static tw_status open_encoder(twi_av_sound *s, int rate, int channels, tw_error *err)
{
    const AVCodec *codec = avcodec_find_encoder(AV_CODEC_ID_AAC);
    if (!codec)
        return tw_fail(err, TW_ENOTSUP, "there is no AAC encoder for the sound");
    AVCodecContext *c = s->encoder = avcodec_alloc_context3(codec);
    if (!c)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    c->sample_rate = rate_for(codec, rate);
    c->sample_fmt = AV_SAMPLE_FMT_FLTP;
    av_channel_layout_default(&c->ch_layout, channels);
    c->time_base = (AVRational){1, c->sample_rate};
    const int64_t bits = (int64_t)BITS_OF_SAMPLE * c->sample_rate;
    c->bit_rate = (bits < BITS_MOST ? bits : BITS_MOST) * channels;
    (void)av_opt_set(c->priv_data, "aac_coder", "fast", 0); /* a fifth of the time */
    c->flags |= AV_CODEC_FLAG_GLOBAL_HEADER | AV_CODEC_FLAG_BITEXACT;
    const int code = avcodec_open2(c, codec, NULL);
    return code < 0 ? twi_av_fail(err, TW_ENOTSUP, code, "cannot open the AAC encoder")
                    : TW_OK;
}

/* It stretches also where both rates are the same. */
static tw_status open_stretcher(twi_av_sound *s, int rate, const AVChannelLayout *layout,
                                enum AVSampleFormat form, tw_error *err)
{
    const AVCodecContext *c = s->encoder;
    s->in_rate = rate;
    AVChannelLayout made = c->ch_layout, given = *layout; /* they are only read */
    (void)swr_alloc_set_opts2(&s->stretcher, &made, c->sample_fmt, c->sample_rate, &given,
                              form, rate, 0, NULL);
    if (!s->stretcher)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    (void)av_opt_set_int(s->stretcher, "flags", SWR_FLAG_RESAMPLE, 0);
    const int code = swr_init(s->stretcher);
    return code < 0 ? twi_av_fail(err, TW_ENOTSUP, code, "cannot read the sound") : TW_OK;
}

static tw_status open_rest(twi_av_sound *s, tw_sound *what, tw_error *err)
{
    const AVCodecContext *c = s->encoder;
    s->samples =
        av_audio_fifo_alloc(c->sample_fmt, c->ch_layout.nb_channels, c->frame_size);
    s->frame = av_frame_alloc();
    s->packet = av_packet_alloc();
    if (!s->samples || !s->frame || !s->packet)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    if (c->extradata_size > (int)sizeof what->extra)
        return tw_fail(err, TW_ENOTSUP, "the AAC encoder needs too much to be set up");
    *what = (tw_sound){.codec = TW_SOUND_AAC,
                       .rate = (uint32_t)c->sample_rate,
                       .channels = (uint8_t)c->ch_layout.nb_channels,
                       .extra_size = (uint8_t)c->extradata_size};
    memcpy(what->extra, c->extradata, (size_t)c->extradata_size);
    return TW_OK;
}

static tw_status finish_opening(twi_av_sound *s, tw_status st, twi_av_sound **out)
{
    if (st == TW_OK)
        *out = s;
    else
        twi_av_sound_close(s);
    return st;
}

tw_status twi_av_sound_open(uint32_t rate, uint8_t channels, twi_av_sound **out,
                            tw_sound *what, tw_error *err)
{
    if (rate < RATE_LEAST || rate > RATE_MOST || channels < 1 || channels > 2)
        return tw_fail(err, TW_EINVAL, "sound of %u samples a second, %u channels",
                       (unsigned)rate, (unsigned)channels);
    twi_av_sound *s = av_mallocz(sizeof *s);
    if (!s)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    tw_status st = open_encoder(s, (int)rate, channels, err);
    if (st == TW_OK)
        st = open_stretcher(s, (int)rate, &s->encoder->ch_layout, AV_SAMPLE_FMT_S16, err);
    if (st == TW_OK)
        st = open_rest(s, what, err);
    return finish_opening(s, st, out);
}

tw_status twi_av_sound_from(const AVCodecParameters *p, twi_av_sound **out,
                            tw_sound *what, tw_error *err)
{
    const int channels = p->ch_layout.nb_channels > 1 ? 2 : 1;
    if (p->sample_rate < RATE_LEAST || p->sample_rate > RATE_MOST ||
        p->ch_layout.nb_channels < 1)
        return tw_fail(err, TW_ENOTSUP, "sound of %d samples a second, %d channels",
                       p->sample_rate, p->ch_layout.nb_channels);
    twi_av_sound *s = av_mallocz(sizeof *s);
    if (!s)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    tw_status st = twi_av_open(p, &s->decoder, err);
    if (st == TW_OK)
        st = open_encoder(s, p->sample_rate, channels, err);
    if (st == TW_OK && !(s->decoded = av_frame_alloc()))
        st = tw_fail(err, TW_ENOMEM, "out of memory");
    if (st ==
        TW_OK) /* the stretcher follows with the first samples: their form is known */
        st = open_rest(s, what, err);
    return finish_opening(s, st, out);
}

void twi_av_sound_close(twi_av_sound *s)
{
    if (!s)
        return;
    avcodec_free_context(&s->decoder);
    avcodec_free_context(&s->encoder);
    swr_free(&s->stretcher);
    av_audio_fifo_free(s->samples);
    av_frame_free(&s->decoded);
    av_frame_free(&s->frame);
    av_packet_free(&s->packet);
    av_free(s);
}

/* ---- our clock and theirs ------------------------------------------------------------
 */

/* Samples of the output, the one that a time is behind the beginning by. */
static int64_t samples_in(const twi_av_sound *s, int64_t us)
{
    return av_rescale(us, s->encoder->sample_rate, 1000000);
}

static void begin_at(twi_av_sound *s, int64_t t_us)
{
    s->any = true;
    s->zero_us = t_us - av_rescale(s->made, 1000000, s->encoder->sample_rate);
    s->off = 0;
}

/* What lies between what was made and what has come: a hole gets silence, a small
 * difference is the clocks', and is taken in slowly. */
static void follow(twi_av_sound *s, int64_t t_us)
{
    const int rate = s->encoder->sample_rate;
    const int64_t made = s->made + swr_get_delay(s->stretcher, rate);
    const int64_t off = s->any ? samples_in(s, t_us - s->zero_us) - made : 0;
    const int64_t hole = (int64_t)rate * HOLE_MS / 1000;
    if (!s->any || off > (int64_t)rate * HOLE_MOST_MS / 1000 || off < -hole) {
        begin_at(s, t_us);
        return;
    }
    if (off > hole) {
        (void)swr_inject_silence(s->stretcher, (int)av_rescale(off, s->in_rate, rate));
        s->off = 0;
        return;
    }
    s->off += off - s->off / SMOOTH;
    const int64_t most = (int64_t)rate * PER_MILLE_MOST / 1000, mean = s->off / SMOOTH;
    (void)swr_set_compensation(s->stretcher,
                               (int)(mean > most    ? most
                                     : mean < -most ? -most
                                                    : mean),
                               4 * rate);
}

/* ---- samples ------------------------------------------------------------------------
 */

/* @param in  NULL where count is 0. */
static tw_status stretch(twi_av_sound *s, const uint8_t **in, int count, tw_error *err)
{
    uint8_t *out[2] = {NULL, NULL};
    const AVCodecContext *c = s->encoder;
    const int room = swr_get_out_samples(s->stretcher, count);
    if (room <= 0)
        return TW_OK;
    if (av_samples_alloc(out, NULL, c->ch_layout.nb_channels, room, c->sample_fmt, 0) < 0)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    const int made = swr_convert(s->stretcher, out, room, in, count);
    tw_status st = TW_OK;
    if (made < 0)
        st = twi_av_fail(err, TW_EDAMAGED, made, "cannot read the sound");
    else if (av_audio_fifo_write(s->samples, (void **)out, made) < made)
        st = tw_fail(err, TW_ENOMEM, "out of memory");
    else
        s->made += made;
    av_freep(&out[0]);
    return st;
}

tw_status twi_av_sound_give(twi_av_sound *s, const int16_t *samples, size_t count,
                            int64_t t_us, tw_error *err)
{
    const uint8_t *in[] = {(const uint8_t *)samples, NULL};
    if (count == 0 || count > RATE_MOST)
        return TW_OK;
    follow(s, t_us);
    return stretch(s, in, (int)count, err);
}

static tw_status take_decoded(twi_av_sound *s, tw_error *err)
{
    const AVFrame *f = s->decoded;
    tw_status st = TW_OK;
    if (f->ch_layout.nb_channels < 1 || f->sample_rate < RATE_LEAST ||
        f->sample_rate > RATE_MOST)
        return TW_OK;
    if (!s->stretcher)
        st = open_stretcher(s, f->sample_rate, &f->ch_layout,
                            (enum AVSampleFormat)f->format, err);
    if (st != TW_OK || f->best_effort_timestamp == AV_NOPTS_VALUE)
        return st;
    follow(s, f->best_effort_timestamp);
    return stretch(s, (const uint8_t **)f->extended_data, f->nb_samples, err);
}

tw_status twi_av_sound_packet(twi_av_sound *s, const AVPacket *packet, tw_error *err)
{
    tw_status st = TW_OK;
    if (twi_av_give(s->decoder, packet, NULL) != TW_OK)
        return TW_OK; /* a hole, then */
    while (st == TW_OK && avcodec_receive_frame(s->decoder, s->decoded) >= 0)
        st = take_decoded(s, err);
    return st;
}

/* ---- packets ------------------------------------------------------------------------
 */

/* @return TW_EAGAIN: there are not enough samples. */
static tw_status encode_one(twi_av_sound *s, tw_error *err)
{
    const AVCodecContext *c = s->encoder;
    AVFrame *f = s->frame;
    if (av_audio_fifo_size(s->samples) < c->frame_size)
        return TW_EAGAIN;
    av_frame_unref(f);
    f->nb_samples = c->frame_size;
    f->format = c->sample_fmt;
    f->sample_rate = c->sample_rate;
    if (av_channel_layout_copy(&f->ch_layout, &c->ch_layout) < 0)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    if (av_frame_get_buffer(f, 0) < 0 ||
        av_audio_fifo_read(s->samples, (void **)f->data, c->frame_size) < c->frame_size)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    f->pts = s->given;
    s->given += c->frame_size;
    const int code = avcodec_send_frame(s->encoder, f);
    return code < 0 ? twi_av_fail(err, TW_EIO, code, "cannot encode the sound") : TW_OK;
}

tw_status twi_av_sound_take(twi_av_sound *s, tw_packet *packet, tw_error *err)
{
    tw_status st = TW_OK;
    av_packet_unref(s->packet);
    while (st == TW_OK && avcodec_receive_packet(s->encoder, s->packet) < 0)
        st = encode_one(s, err);
    if (st != TW_OK)
        return st;
    const int64_t t_us =
        s->zero_us + av_rescale(s->packet->pts, 1000000, s->encoder->sample_rate);
    *packet = (tw_packet){.data = s->packet->data,
                          .size = (size_t)s->packet->size,
                          .t_us = t_us,
                          .dts_us = t_us,
                          .key = true};
    return TW_OK;
}
