/* A microphone of the board, by ALSA: a thread of its own reads it and makes packets. */
#ifndef TWI_MIC_H
#define TWI_MIC_H

#include "tawny/port.h"

typedef struct twi_mic twi_mic;

/**
 * Begin to listen. A device that is not there, or goes, is tried again, later and later.
 *
 * @param device  Its name: "hw:1". Copied.
 * @param sound   Set on TW_OK: what its packets are, whatever the device gives.
 * @return TW_OK; TW_ENOTSUP: built without ALSA, or the codec module is missing;
 *         TW_ENOMEM.
 */
tw_status twi_mic_open(const char *device, tw_clock clock, twi_mic **out, tw_sound *sound,
                       tw_error *err);

/** The next packet, if one waits. @return TW_OK: good until the next call; TW_EAGAIN. */
tw_status twi_mic_take(twi_mic *mic, tw_frame *frame);

/** What is new of the device itself: that it gives nothing, and why; or that it does
 * again (TW_OK). @return whether there is anything. */
bool twi_mic_news(twi_mic *mic, tw_error *out);

void twi_mic_close(twi_mic *mic); /* NULL is fine */

#endif
