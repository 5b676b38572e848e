/* Telling the service manager how it goes: readiness, watchdog, stopping. */
#ifndef TWI_CLI_NOTIFY_H
#define TWI_CLI_NOTIFY_H

#include <stdio.h>

#include "common.h"

/** Send a state such as "READY=1" to whoever started us as a service; nobody else is
 * told. The protocol of sd_notify(3): a datagram to the socket in $NOTIFY_SOCKET. */
void notify_state(const char *state);

/** @return how often the watchdog wants to hear "WATCHDOG=1", microseconds; 0: there is
 * none. Half of what it allows. */
gint64 notify_every(void);

/* How grave a line is, as syslog(3) numbers it. */
enum { NOTIFY_ERROR = 3, NOTIFY_WARNING = 4 };

/** What a line begins with that says how grave it is, where it goes to the journal
 * ("<3>", see sd-daemon(3)); "" where it goes anywhere else. Static. */
const char *notify_level(FILE *to, int level);

#endif
