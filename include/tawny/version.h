/* tawny/version.h - the version of the library, by semantic versioning, and which
 * functions it exports.
 *
 * Any thread; texts are static. */
#ifndef TW_VERSION_H
#define TW_VERSION_H

#include <stddef.h>
#include <stdint.h>

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

/* What a program was built with goes on working with later versions of the library:
 *
 * Structs that may grow begin with their size. In those that you fill in leave it 0,
 * which stands for the size that the struct had in 0.1, or set it to sizeof: fields that
 * came later count only then. Those that the library fills in get it from the functions
 * below each of them, which are there for this alone; call them by the short name.
 * Structs without a size (pictures, packets, blobs, points, pairs of functions and
 * context) never change. Constants keep their values, and types of constants are 32 bits
 * wide. */

/** @return The version of the library that was linked, "major.minor.patch"; static. */
TW_API const char *tw_version(void);

#ifdef __cplusplus
}
#endif

#endif
