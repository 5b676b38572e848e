/* In the place of mic.c, where the library is built without ALSA. */
#include "mic.h"

tw_status twi_mic_open(const char *device, tw_clock clock, twi_mic **out, tw_sound *sound,
                       tw_error *err)
{
    (void)clock;
    (void)out;
    (void)sound;
    return tw_fail(err, TW_ENOTSUP,
                   "sound = alsa:%s: built without ALSA (-DTAWNY_SOUND=ON)", device);
}

tw_status twi_mic_take(twi_mic *mic, tw_frame *frame)
{
    (void)mic;
    (void)frame;
    return TW_EAGAIN;
}

bool twi_mic_news(twi_mic *mic, tw_error *out)
{
    (void)mic;
    (void)out;
    return false;
}

void twi_mic_close(twi_mic *mic)
{
    (void)mic;
}
