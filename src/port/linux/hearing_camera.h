/* A camera whose sound comes from elsewhere. */
#ifndef TWI_HEARING_CAMERA_H
#define TWI_HEARING_CAMERA_H

#include "tawny/port.h"

/** Have a camera's frames come with the sound of a microphone.
 * @param device  Of ALSA's. @param camera  Taken over, and set anew on TW_OK; destroyed
 * else. @return TW_OK; TW_ENOMEM. */
tw_status twi_hearing_camera(const char *device, tw_clock clock, tw_camera *camera,
                             tw_error *err);

#endif
