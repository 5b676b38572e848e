/* Frames that a program pushes, as a camera. */
#ifndef TWI_PUSH_CAMERA_H
#define TWI_PUSH_CAMERA_H

#include "tawny/port.h"

/** As tw_camera_make_fn, for "push:NAME". */
tw_status twi_push_camera(const tw_camera_request *request, tw_camera *out,
                          tw_error *err);

#endif
