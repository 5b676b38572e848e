/* What a caption says. Pure: no I/O, clock or heap. */
#ifndef TWI_CAPTION_H
#define TWI_CAPTION_H

#include <stddef.h>
#include <stdint.h>

#include "naming.h"
#include "tawny/error.h"

enum { TWI_CAPTION_MAX = 512 }; /* bytes of a caption's text, the final 0 included */

/* What a caption can tell. Texts are borrowed UTF-8. */
typedef struct twi_caption_fields {
    twi_civil time;        /* of the frame */
    const char *camera;    /* {camera} */
    const char *station;   /* {station} */
    uint32_t sighting;     /* {sighting}; empty if 0 */
    uint32_t activity_ppm; /* {activity}: "1.25 %" */
} twi_caption_fields;

/**
 * Expand a caption's pattern: strftime conversions as in twi_name_expand, %n begins a new
 * line; {camera} {station} {sighting} {activity} {ms}.
 *
 * @param out      Caller's, capacity bytes; always ended by 0 on TW_OK.
 * @param problem  May be NULL; on TW_ESYNTAX set to the offending place in pattern.
 * @return TW_OK; TW_EINVAL: NULL pointer; TW_ESYNTAX: unknown conversion or field;
 *         TW_ESIZE: longer than capacity.
 */
tw_status twi_caption_expand(const char *pattern, const twi_caption_fields *fields,
                             char *out, size_t capacity, const char **problem);

#endif
