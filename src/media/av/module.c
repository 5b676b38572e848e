/* The codec module, by libavformat, libavcodec and libswscale: its table. */
#include <libavformat/avformat.h>

#include "av.h"
#include "tawny/version.h"

/* Before any thread uses it. */
__attribute__((constructor)) static void begin(void)
{
    (void)avformat_network_init();
    av_log_set_level(AV_LOG_QUIET); /* what matters comes back as a status */
}

TW_API const twi_codecs twi_codecs_table = {
    TWI_CODECS_ABI,         twi_av_footage_open,  twi_av_live_open,
    twi_av_footage_next,    twi_av_footage_close, twi_av_decoder_open,
    twi_av_decoder_send,    twi_av_decoder_skim,  twi_av_decoder_receive,
    twi_av_decoder_picture, twi_av_decoder_close, twi_av_clip_carries,
    twi_av_clip_open,       twi_av_clip_packet,   twi_av_clip_source,
    twi_av_clip_close};
