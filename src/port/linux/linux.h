/* What the files of the Linux port share. */
#ifndef TWI_LINUX_H
#define TWI_LINUX_H

#include "tawny/port.h"

/** Make a stream's set-up data the caller's own: *extra is freed and made anew, and the
 * stream points to it. @return TW_OK; TW_ENOMEM. */
tw_status twi_linux_keep_extra(uint8_t **extra, tw_stream *stream, tw_error *err);

/** Whether a board's wall clock can be right. It can when a server of time has set it, or
 * when a clock with a battery knows a year of ours. A clock without either shows a date
 * all the same: its system's, or that of when it was last on. Where there is no hardware
 * clock to ask, a board (there is a device tree) is not believed, another machine is.
 * @param synchronised  Whether a server of time has set it.
 * @param sys  Where sysfs is. */
bool twi_linux_clock_can_be_right(int64_t wall_us, bool synchronised, const char *sys);

/** A video file, by the codec module. Same contract as tw_camera_make_fn. */
tw_status twi_linux_file_camera(const tw_camera_request *request, const char *path,
                                tw_camera *out, tw_error *err);

/** A folder of JPEG pictures. Same contract. */
tw_status twi_linux_folder_camera(const tw_camera_request *request, const char *path,
                                  tw_camera *out, tw_error *err);

/** A picture fetched over HTTP every so often. Same contract. */
tw_status twi_linux_fetch_camera(const tw_camera_request *request, tw_camera *out,
                                 tw_error *err);

/** A stream from the network. Same contract. */
tw_status twi_linux_net_camera(const tw_camera_request *request, tw_camera *out,
                               tw_error *err);

/** Frames on standard input. Same contract. */
tw_status twi_linux_pipe_camera(const tw_camera_request *request, tw_camera *out,
                                tw_error *err);

/** A folder that pictures are dropped into. Same contract. */
tw_status twi_linux_inbox_camera(const tw_camera_request *request, const char *path,
                                 tw_camera *out, tw_error *err);

#endif
