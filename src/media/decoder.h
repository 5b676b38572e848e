/* Decoding a stream for detection and stills: JPEG here, all else by the codec module. */
#ifndef TWI_DECODER_H
#define TWI_DECODER_H

#include "picture.h"
#include "tawny/error.h"
#include "tawny/frame.h"
#include "tawny/port.h"

typedef struct twi_decoder twi_decoder;

/** @param inspected_ppm  Share of the width that the detector looks at, see
 * twi_factor_for; 0: no picture is looked at, there are stills only. */
tw_status twi_decoder_open(const tw_stream *stream, uint32_t inspected_ppm,
                           twi_decoder **out, tw_error *err);
void twi_decoder_close(twi_decoder *decoder); /* NULL is fine */

/** Give a packet, NULL at the end. It must stay until its picture has been received.
 * @return TW_OK; TW_EDAMAGED: lost, go on with the next packet. */
tw_status twi_decoder_send(twi_decoder *decoder, const tw_packet *packet, tw_error *err);

/** Leave packets that come from now on undecoded where no other needs them; no matter for
 * JPEG, where each is decoded only when its picture is asked for. */
void twi_decoder_skim(twi_decoder *decoder, bool skim);

/** @return TW_OK: out is good until the next call; TW_EAGAIN: send more; TW_EEND: that
 * was all; TW_EDAMAGED: lost, ask again. */
tw_status twi_decoder_receive(twi_decoder *decoder, twi_decoded *out, tw_error *err);

/** The picture that was received last as a JPEG: as the camera sent it where it sends
 * JPEG, else encoded. @param out Set on TW_OK, the caller's to free(). */
tw_status twi_decoder_still(twi_decoder *decoder, int quality, uint8_t **out,
                            size_t *bytes, tw_error *err);

#endif
