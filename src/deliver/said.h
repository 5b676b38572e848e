/* What somebody says of a sighting where many stations are seen as one: its station keeps
 * it, and tells the record again. */
#ifndef TWI_SAID_H
#define TWI_SAID_H

#include <stddef.h>
#include <stdint.h>

#include "tawny/catalogue.h"
#include "tawny/error.h"

/* What was said. */
typedef struct twi_said {
    uint32_t number; /* of the sighting, where it was taken; else 0 */
    int64_t id;      /* by which it is answered; 0: it is not */
} twi_said;

/**
 * Take in {"do": "say", "series": SERIES, "number": NUMBER} with one of "star": true,
 * "mark": "right", or "name", "count" and "note", which belong together.
 *
 * @param series  Numbers of the catalogue are of this series.
 * With "id": NUMBER, who says it is to be answered.
 *
 * @param said  Set unless TW_ENOTSUP.
 * @return TW_OK; TW_ENOTSUP: it is another order; TW_ENOENT: the sighting is not there;
 *         TW_ESYNTAX: not understood; TW_EINVAL, TW_EIO...: as of the catalogue.
 */
tw_status twi_said_take(tw_catalogue *catalogue, const char *series, const void *text,
                        size_t bytes, int64_t now_us, twi_said *said, tw_error *err);

#endif
