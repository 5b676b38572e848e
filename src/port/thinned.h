/* A camera of which frames are left out. */
#ifndef TWI_THINNED_H
#define TWI_THINNED_H

#include "tawny/port.h"

/** Put the limit before a camera that was made: camera is another one then, which owns
 * it. One whose pictures come rarely stays as it is. @param fps 1..240. @return TW_OK;
 * TW_ENOMEM: the camera was destroyed, and is all zero. */
tw_status twi_thinned_camera(uint32_t fps, tw_camera *camera, tw_error *err);

#endif
