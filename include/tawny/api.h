/* tawny/api.h - which functions the library exports. */
#ifndef TW_API_H
#define TW_API_H

#include <stddef.h>

#if defined(__GNUC__)
#define TW_API __attribute__((visibility("default")))
#define TW_PRINTF(fmt, args) __attribute__((format(printf, fmt, args)))
#else
#define TW_API
#define TW_PRINTF(fmt, args)
#endif

#endif
