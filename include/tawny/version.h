/* tawny/version.h - the version of the library, by semantic versioning, and which
 * functions it exports. */
#ifndef TW_VERSION_H
#define TW_VERSION_H

#include <stddef.h>

#if defined(__GNUC__)
#define TW_API __attribute__((visibility("default")))
#define TW_PRINTF(fmt, args) __attribute__((format(printf, fmt, args)))
#else
#define TW_API
#define TW_PRINTF(fmt, args)
#endif

#ifdef __cplusplus
extern "C" {
#endif

#define TW_VERSION_MAJOR 0
#define TW_VERSION_MINOR 1
#define TW_VERSION_PATCH 0
#define TW_VERSION_TEXT "0.1.0"

/** @return The version of the library that was linked, "major.minor.patch"; static. */
TW_API const char *tw_version(void);

#ifdef __cplusplus
}
#endif

#endif
