/* What is asked of a camera, for all that make one. */
#ifndef TWI_REQUEST_H
#define TWI_REQUEST_H

#include <string.h>

#include "tawny/port.h"

/** Whether a camera's own sound is wanted. */
static inline bool twi_request_hears(const tw_camera_request *request)
{
    return request->sound && strcmp(request->sound, "stream") == 0;
}

#endif
