/* EXIF by libexif: when a still was captured, by which camera, in which sighting. */
#ifndef TWI_EXIF_H
#define TWI_EXIF_H

#include <stddef.h>
#include <stdint.h>

#include "tawny/error.h"
#include "../core/naming.h"

typedef struct twi_exif_fields {
    twi_civil time;
    const char *camera;
    uint32_t sighting;      /* 0: none */
    const char *why;        /* it began, in a line; NULL: not said */
    uint16_t width, height; /* pixels; 0 unknown */
} twi_exif_fields;

enum { TWI_EXIF_REPLACES = 2 }; /* bytes at a picture's beginning that a head has too */

/**
 * What goes before a JPEG picture, without its first TWI_EXIF_REPLACES bytes, to give it
 * our EXIF as its first segment; the rest of it stays untouched.
 *
 * @param out  Set on TW_OK, the caller's to free().
 * @return TW_OK; TW_EDAMAGED: not a JPEG; TW_ENOMEM.
 */
tw_status twi_exif_head(const uint8_t *jpeg, size_t jpeg_bytes,
                        const twi_exif_fields *fields, uint8_t **out, size_t *bytes,
                        tw_error *err);

/**
 * The same for a picture that has our EXIF already, with another time.
 *
 * @param replaces  Set to how many bytes at the picture's beginning it stands for.
 * @return TW_OK; TW_EDAMAGED: it has no such EXIF; TW_ENOMEM.
 */
tw_status twi_exif_retime(const uint8_t *jpeg, size_t jpeg_bytes, const twi_civil *time,
                          uint8_t **out, size_t *bytes, size_t *replaces, tw_error *err);

#endif
