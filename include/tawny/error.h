/* tawny/error.h - one clear line about what went wrong, for the shell around the core. */
#ifndef TW_ERROR_H
#define TW_ERROR_H

#include "tawny/status.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { TW_ERROR_MAX = 512 }; /* bytes, the final 0 included */

/* Worded by the function that found the fault; those above it pass it on unchanged.
 * Starts as {0}. The caller's; a NULL pointer means "not interested". */
typedef struct tw_error {
    tw_status status;
    char text[TW_ERROR_MAX]; /* what, where and what to do; no final newline */
} tw_error;

/** Word an error, cutting it at TW_ERROR_MAX. @return st, so that it can be returned. */
TW_API tw_status tw_fail(tw_error *err, tw_status st, const char *format, ...)
    TW_PRINTF(3, 4);

/** @return The status that stands for a value of errno. */
TW_API tw_status tw_status_of_errno(int number);

#ifdef __cplusplus
}
#endif

#endif
