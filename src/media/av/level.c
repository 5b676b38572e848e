/* How loud sound is: the mean square of what its packets decode to. */
#include <math.h>

#include "av.h"
#include "../../core/loudness.h"

struct twi_av_level {
    AVCodecContext *decoder;
    AVFrame *frame;
};

tw_status twi_av_level_open(const tw_sound *sound, twi_av_level **out, tw_error *err)
{
    AVCodecParameters *p = avcodec_parameters_alloc();
    twi_av_level *l = av_mallocz(sizeof *l);
    tw_status st = p && l && (l->frame = av_frame_alloc())
                       ? twi_av_sound_parameters(sound, p, err)
                       : tw_fail(err, TW_ENOMEM, "out of memory");
    if (st == TW_OK && l)
        st = twi_av_open(p, &l->decoder, err);
    avcodec_parameters_free(&p);
    if (st == TW_OK)
        *out = l;
    else
        twi_av_level_close(l);
    return st;
}

/* Of floats, which both decoders give; their full scale is 1. */
static double mean_square(const AVFrame *f)
{
    double sum = 0;
    const int planes = f->format == AV_SAMPLE_FMT_FLTP ? f->ch_layout.nb_channels : 1;
    const int each = f->format == AV_SAMPLE_FMT_FLTP
                         ? f->nb_samples
                         : f->nb_samples * f->ch_layout.nb_channels;
    if (f->format != AV_SAMPLE_FMT_FLTP && f->format != AV_SAMPLE_FMT_FLT)
        return 0;
    for (int c = 0; c < planes; c++) {
        const float *at = (const float *)(const void *)f->extended_data[c];
        for (int i = 0; i < each; i++)
            sum += (double)at[i] * (double)at[i];
    }
    return planes * each > 0 ? sum / (planes * each) : 0;
}

tw_status twi_av_level_give(twi_av_level *l, const tw_packet *packet, int32_t *out)
{
    AVPacket *av = NULL;
    double most = -1;
    tw_status st = twi_av_copy(packet, &av, NULL);
    if (st == TW_OK)
        st = twi_av_give(l->decoder, av, NULL);
    av_packet_free(&av);
    while (st == TW_OK && avcodec_receive_frame(l->decoder, l->frame) >= 0) {
        const double now = mean_square(l->frame);
        most = now > most ? now : most;
    }
    if (st != TW_OK)
        return st;
    if (most < 0)
        return TW_EAGAIN;
    const double level = most > 1e-12 ? 100 * log10(most) : TWI_LEVEL_SILENCE;
    *out = level < TWI_LEVEL_SILENCE ? TWI_LEVEL_SILENCE
           : level > 0               ? 0
                                     : (int32_t)lround(level);
    return TW_OK;
}

void twi_av_level_close(twi_av_level *l)
{
    if (!l)
        return;
    avcodec_free_context(&l->decoder);
    av_frame_free(&l->frame);
    av_free(l);
}
