/* How a running station can be asked: a socket in the user's own runtime folder. */
#ifndef TWI_CLI_CONTROL_H
#define TWI_CLI_CONTROL_H

#include <sys/types.h>

#include "common.h"

typedef struct control control;

/* Where nobody answers; the station's name. */
#define CONTROL_NONE "no station named \"%s\" is running here: start one with tawny watch"

/** Tell the service manager that a station is ready, answer questions about it, and feed
 * the watchdog, until control_end. Where another station of that name runs, or there is
 * no socket to be had, that is told, and only the watchdog is fed. */
control *control_begin(const char *station_name, tw_station *station);
void control_end(control *control); /* before the station is freed */

/**
 * Ask the station of a name for something.
 *
 * @param request  A JSON object on one line: {"do":"status"}; "arm", "disarm", "as-set",
 *                 "trigger" and "snap" with "camera" (left out: all) and "for_s".
 * @return its answer, one JSON object a line, to g_free; NULL: none is running.
 */
char *control_ask(const char *station_name, const char *request);

/** @return the name of a user, or "user 1000"; g_free it. */
char *control_user(uid_t user);

/** Have the station of a name read its settings again.
 * @return FALSE: none is running, or it is somebody else's. */
gboolean control_reload(const char *station_name);

#endif
