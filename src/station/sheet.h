/* Contact sheets. */
#ifndef TWI_SHEET_H
#define TWI_SHEET_H

#include <stdbool.h>

#include "tawny/detector.h"
#include "tawny/error.h"

enum { TWI_SHEET_MAX = 200 }; /* pictures on a contact sheet */

/* One picture of a contact sheet. */
typedef struct twi_sheet_entry {
    const uint8_t *jpeg; /* any size; borrowed */
    size_t bytes;
    bool boxed; /* draw blob's box */
    tw_blob blob;
    const char *title; /* short: "1  35.2 s" */
    const char *line;  /* below it; may be longer */
} twi_sheet_entry;

/**
 * Draw a contact sheet, up to four pictures beside each other.
 *
 * @param count  1..TWI_SHEET_MAX.
 * @param title  One line above them.
 * @param png    PNG instead of JPEG.
 * @param out    Set on TW_OK to a whole file, the caller's to free().
 * @return TW_OK; TW_EINVAL; TW_ENOTSUP: the drawing module is missing; TW_EDAMAGED: a
 *         picture cannot be read.
 */
tw_status twi_sheet_draw(const twi_sheet_entry *entries, size_t count, const char *title,
                         bool png, uint8_t **out, size_t *bytes, tw_error *err);

#endif
