/* Raw pictures in parcels: what is held of a camera that sends pixels, and what becomes
 * of it in a file. */
#ifndef TW_RAW_H
#define TW_RAW_H

#include "parcel.h"
#include "tawny/port.h"

enum { TW_HELD_QUALITY = 90 }; /* of JPEG that is made of pixels, and no still */

/** Copy a picture, as planes. @return a parcel with one holder; NULL: out
 * of memory, or it is no picture. */
tw_parcel *tw_parcel_picture(const tw_picture *picture);

/** Copy a frame: its planes or its packet. @return the same. */
tw_parcel *tw_parcel_frame(const tw_frame *frame);

/** Of pixels a camera says when they were captured; what else a packet has follows from
 * that: each is in order, needs no other, and has no bytes. Packets stay as they are. */
void tw_frame_complete(tw_frame *frame);

/** Encode a picture. @param out  Set on TW_OK, with one holder. */
tw_status tw_parcel_jpeg(const tw_picture *picture, int quality, tw_parcel **out,
                         tw_error *err);

/** Set what a stream of frames is that lie as a parcel does, raw or as JPEG: its codec,
 * pixels, size and name. */
void tw_parcel_describe(const tw_parcel *parcel, tw_stream *stream);

#endif
