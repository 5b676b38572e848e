/* Cameras of the local network. */
#ifndef TWI_CLI_NETWORK_H
#define TWI_CLI_NETWORK_H

#include "common.h"

/** Ask the network for cameras, and say what came.
 * @param at  The address of one, which is asked for its streams; NULL: all.
 * @param user  Of that one, whose password is read; NULL: without.
 * @return exit code. */
int cli_network(const cli_common *common, const char *at, const char *user);

#endif
