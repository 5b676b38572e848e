/* tawny/error.h - how every function of the library says whether it worked, and one clear
 * line about what went wrong.
 *
 * Any thread. A tw_error is the caller's, and one thread's at a time. */
#ifndef TW_ERROR_H
#define TW_ERROR_H

#include "tawny/version.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Name, value, text. Values are appended, never reused and never change their meaning. */
#define TW_STATUS_LIST(X)                                                                \
    X(TW_OK, 0, "done")                                                                  \
    X(TW_EINVAL, -1, "bad argument")                                                     \
    X(TW_ENOMEM, -2, "out of memory")                                                    \
    X(TW_ESIZE, -3, "does not fit")                                                      \
    X(TW_ENOTSUP, -4, "not supported")                                                   \
    X(TW_EIO, -5, "input or output failed")                                              \
    X(TW_ENOENT, -6, "not found")                                                        \
    X(TW_EEXIST, -7, "exists already")                                                   \
    X(TW_ENOSPC, -8, "no space left")                                                    \
    X(TW_EACCES, -9, "not allowed")                                                      \
    X(TW_EDAMAGED, -10, "damaged data")                                                  \
    X(TW_ETIMEOUT, -11, "took too long")                                                 \
    X(TW_EEND, -12, "end of the footage")                                                \
    X(TW_ESYNTAX, -13, "not understood")                                                 \
    X(TW_EAGAIN, -14, "nothing yet, ask again")                                          \
    X(TW_ESTOPPED, -15, "stopped on request")

/** Outcome of a call: TW_OK (0), or a negative value that says why not. */
enum tw_status_values {
#define TW_STATUS_ENUM(name, value, text) name = (value),
    TW_STATUS_LIST(TW_STATUS_ENUM)
#undef TW_STATUS_ENUM
};
typedef int32_t tw_status; /* one of them */

/** @return The name of a status ("TW_EIO"), "TW_?" for an unknown value; static. */
TW_API const char *tw_status_name(tw_status st);

/** @return A few words for a person ("no space left"); static. */
TW_API const char *tw_status_text(tw_status st);

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

#ifdef __cplusplus
}
#endif

#endif
