/* Raw pictures in buffers: what is held of a camera that sends pixels, and what becomes
 * of it in a file. */
#ifndef TWI_RAW_H
#define TWI_RAW_H

#include "buffer.h"
#include "tawny/port.h"

enum { TWI_HELD_QUALITY = 90 }; /* of JPEG that is made of pixels, and no still */

/** Copy a picture, as planes. @return a buffer with one holder; NULL: out
 * of memory, or it is no picture. */
twi_buffer *twi_buffer_picture(const tw_picture *picture);

/** Copy a frame: its planes or its packet. @return the same. */
twi_buffer *twi_buffer_frame(const tw_frame *frame);

/** Of pixels a camera says when they were captured; what else a packet has follows from
 * that: each is in order, needs no other, and has no bytes. Packets stay as they are. */
void twi_frame_complete(tw_frame *frame);

/** Encode a picture. @param out  Set on TW_OK, with one holder. */
tw_status twi_buffer_jpeg(const tw_picture *picture, int quality, twi_buffer **out,
                          tw_error *err);

/** Set what a stream of frames is that lie as a buffer does, raw or as JPEG: its codec,
 * pixels, size and name. */
void twi_buffer_describe(const twi_buffer *buffer, tw_stream *stream);

#endif
