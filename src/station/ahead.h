/* A camera that is read ahead by a thread of its own, so that somebody who waits for
 * another one can take what it has given meanwhile. */
#ifndef TW_AHEAD_H
#define TW_AHEAD_H

#include "tawny/station.h"

typedef struct tw_ahead tw_ahead;

/** Make and open a camera, and begin to read it.
 * @param stream  Set on TW_OK; its pointers are the camera's. */
tw_status tw_ahead_open(const tw_board *board, const tw_camera_request *request,
                        tw_ahead **out, tw_stream *stream, tw_error *err);

/** The next frame that it has given, without waiting.
 * @param frame  Borrowed until the next call.
 * @return TW_OK; TW_EAGAIN: none now; TW_EDAMAGED: one was lost; else it has ended. */
tw_status tw_ahead_take(tw_ahead *ahead, tw_frame *frame, tw_error *err);

void tw_ahead_close(tw_ahead *ahead); /* NULL is fine */

#endif
