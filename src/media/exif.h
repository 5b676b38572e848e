/* EXIF by libexif: when a still was captured, by which camera, in which sighting. */
#ifndef TW_EXIF_H
#define TW_EXIF_H

#include <stddef.h>
#include <stdint.h>

#include "tawny/error.h"
#include "tawny/naming.h"

typedef struct tw_exif_fields {
    tw_civil time;
    const char *camera;
    uint32_t sighting;      /* 0: none */
    const char *why;        /* it began, in a line; NULL: not said */
    uint16_t width, height; /* pixels; 0 unknown */
} tw_exif_fields;

/**
 * A copy of a JPEG picture with our EXIF as its first segment; pixels untouched.
 *
 * @param out  Set on TW_OK, the caller's to free().
 * @return TW_OK; TW_EDAMAGED: not a JPEG; TW_ENOMEM.
 */
tw_status tw_exif_add(const uint8_t *jpeg, size_t jpeg_bytes,
                      const tw_exif_fields *fields, uint8_t **out, size_t *bytes,
                      tw_error *err);

#endif
