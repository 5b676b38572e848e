/* Finding and opening a store, for the commands that look into one. */
#ifndef TW_CLI_STORE_H
#define TW_CLI_STORE_H

#include "common.h"

/** The store that is named, else that of the settings. @param store Set, to g_free; left
 * alone if it is not NULL. @return CLI_DONE; CLI_USAGE, told. */
int store_find(const cli_common *common, char **store);

/** @param out  Set on CLI_DONE, to be closed. @return CLI_DONE; CLI_FAILED, told. */
int store_open(const char *store, tw_catalogue **out);

/** A day of local time, "2027-03-13", from midnight to midnight; NULL: all times, both 0.
 * @return CLI_DONE; CLI_USAGE, told. */
int store_day(const tw_clock *clock, const char *day, int64_t *from_us,
              int64_t *until_us);

#endif
