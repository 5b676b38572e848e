/* Frames that a program pushes, as a camera. */
#ifndef TW_PUSH_CAMERA_H
#define TW_PUSH_CAMERA_H

#include "tawny/port.h"

/** As tw_camera_make_fn, for "push:NAME". */
tw_status tw_push_camera(const tw_camera_request *request, tw_camera *out, tw_error *err);

#endif
