/* tawny/port_linux.h - the port to a Linux board: files, the board's clock, folders.
 *
 * Any thread may make cameras, cards and pins; they are the caller's, to destroy. */
#ifndef TW_PORT_LINUX_H
#define TW_PORT_LINUX_H

#include "tawny/port.h"

#ifdef __cplusplus
extern "C" {
#endif

/** Makes cameras from "v4l2:DEVICE", "file:PATH" (a video file or a folder of JPEG
 * pictures in the order of their names), "rtsp://...", "http://...", "inbox:FOLDER" and
 * "stdin:". A tw_camera_make_fn. */
TW_API tw_status tw_linux_camera_make(const tw_camera_request *request, tw_camera *out,
                                      tw_error *err);

/** @return The board's clock, which is trusted when a server of time has set it, or when
 * a hardware clock that has kept its power knows the year. Needs no release. */
TW_API tw_clock tw_linux_clock(void);

/**
 * The board's pins, by libgpiod. Lines are "CHIP/NUMBER", such as gpiochip0/17, or the
 * name that the board gives them; with "!" before it a line is active when it is low. A
 * line is taken when it is first used, and kept until the pins are destroyed.
 *
 * @return TW_OK: out is the caller's, to destroy; TW_ENOTSUP: built without libgpiod;
 *         TW_ENOMEM.
 */
TW_API tw_status tw_linux_pins(tw_pins *out, tw_error *err);

/** @return What reads sensors: files, and programs that print a number. Needs no release.
 */
TW_API tw_sensors tw_linux_sensors(void);

/**
 * Keep what this process has in memory out of swap and core files, for good: where there
 * are private zones, footage that waits to be stored holds what nobody may see.
 *
 * @return TW_OK; TW_EACCES: memory may not be locked, and there is swap; core files are
 *         off all the same.
 */
TW_API tw_status tw_linux_keep_private(tw_error *err);

/**
 * Use a folder as a card; it is made if it is missing.
 *
 * @param out  Set on TW_OK; destroy it when done.
 * @return TW_OK; TW_EACCES, TW_ENOSPC...: err names the folder.
 */
TW_API tw_status tw_linux_card(const char *folder, tw_card *out, tw_error *err);

#ifdef __cplusplus
}
#endif

#endif
