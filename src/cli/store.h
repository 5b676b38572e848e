/* Finding and opening a store, for the commands that look into one. */
#ifndef TWI_CLI_STORE_H
#define TWI_CLI_STORE_H

#include "common.h"

/** The store that is named, else that of the settings. @param store Set, to g_free; left
 * alone if it is not NULL. @return CLI_DONE; CLI_USAGE, told. */
int store_find(const cli_common *common, char **store);

/** @param out  Set on CLI_DONE, to be closed. @return CLI_DONE; CLI_FAILED, told. */
int store_open(const char *store, tw_catalogue **out);

/* Told of a destination to which nothing is sent any more. */
typedef void (*store_stopped_fn)(void *ctx, const char *destination,
                                 const twi_outbox_fill *fill);

/** Visit the destinations of a store that have stopped; none where it cannot be read. */
void store_stopped(const char *store, store_stopped_fn visit, void *ctx);

/** A day of local time, "2027-03-13", from midnight to midnight; NULL: all times, both 0.
 * @return CLI_DONE; CLI_USAGE, told. */
int store_day(const tw_clock *clock, const char *day, int64_t *from_us,
              int64_t *until_us);

/** A moment of local time, "2027-03-13 21:40" or "2027-03-13T21:40:05".
 * @param option  That it is the value of, for what is said. @return as store_day. */
int store_time(const tw_clock *clock, const char *option, const char *text,
               int64_t *at_us);

/** The recording of a camera, segment or clip, that began last at or before a moment: it
 * may have ended before that, too.
 * @param file  Set to its name below the store, to g_free; NULL: there is none.
 * @param start_us  Of its first frame. @return TW_OK, or err. */
tw_status store_recording(tw_catalogue *catalogue, const char *camera, int64_t at_us,
                          char **file, int64_t *start_us, tw_error *err);

/** Have a camera's settings fit its recordings: they lie in the store as they are to be
 * shown; those that are copied say how they are turned, and are whole. */
void store_fit(twi_camera_settings *camera);

#endif
