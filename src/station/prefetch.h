/* A camera that is read ahead by a thread of its own, so that somebody who waits for
 * another one can take what it has given meanwhile. */
#ifndef TWI_PREFETCH_H
#define TWI_PREFETCH_H

#include "tawny/station.h"
#include "tawny/port.h"

typedef struct twi_prefetch twi_prefetch;

/** Make and open a camera, and begin to read it.
 * @param stream  Set on TW_OK; its pointers are the camera's. */
tw_status twi_prefetch_open(const tw_platform *platform, const tw_camera_request *request,
                            twi_prefetch **out, tw_stream *stream, tw_error *err);

/** The next frame that it has given, without waiting.
 * @param frame  Borrowed until the next call.
 * @return TW_OK; TW_EAGAIN: none now; TW_EDAMAGED: one was lost; else it has ended. */
tw_status twi_prefetch_take(twi_prefetch *ahead, tw_frame *frame, tw_error *err);

void twi_prefetch_close(twi_prefetch *ahead); /* NULL is fine */

#endif
