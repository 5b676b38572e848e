/* The codec module, by libavformat, libavcodec, libswscale and libswresample: its table.
 */
#include <libavformat/avformat.h>

#include "av.h"
#include "tawny/version.h"

/* Before any thread uses it. */
__attribute__((constructor)) static void begin(void)
{
    (void)avformat_network_init();
    av_log_set_level(AV_LOG_QUIET); /* what matters comes back as a status */
}

TW_API const twi_codecs twi_codecs_table = {.abi = TWI_CODECS_ABI,
                                            .footage_open = twi_av_footage_open,
                                            .live_open = twi_av_live_open,
                                            .footage_next = twi_av_footage_next,
                                            .footage_sound = twi_av_footage_sound,
                                            .footage_was_sound = twi_av_footage_was_sound,
                                            .footage_close = twi_av_footage_close,
                                            .sound_open = twi_av_sound_open,
                                            .sound_give = twi_av_sound_give,
                                            .sound_take = twi_av_sound_take,
                                            .sound_close = twi_av_sound_close,
                                            .level_open = twi_av_level_open,
                                            .level_give = twi_av_level_give,
                                            .level_close = twi_av_level_close,
                                            .decoder_open = twi_av_decoder_open,
                                            .decoder_send = twi_av_decoder_send,
                                            .decoder_skim = twi_av_decoder_skim,
                                            .decoder_receive = twi_av_decoder_receive,
                                            .decoder_picture = twi_av_decoder_picture,
                                            .decoder_close = twi_av_decoder_close,
                                            .clip_carries = twi_av_clip_carries,
                                            .clip_open = twi_av_clip_open,
                                            .clip_packet = twi_av_clip_packet,
                                            .clip_sound = twi_av_clip_sound,
                                            .clip_source = twi_av_clip_source,
                                            .clip_close = twi_av_clip_close};
