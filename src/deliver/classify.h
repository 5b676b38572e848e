/* What a program says of a sighting: its name, and whether to keep it. */
#ifndef TWI_DELIVER_CLASSIFY_H
#define TWI_DELIVER_CLASSIFY_H

#include <stddef.h>
#include <stdint.h>

#include "tawny/error.h"
#include "tawny/port.h"

/* Who says something of which sighting. */
typedef struct twi_classified {
    const char *store;   /* folder, in which the catalogue is */
    const tw_card *card; /* the same; NULL: nothing can be dropped */
    const char *program; /* the hook's name */
    int64_t sighting;
    int64_t at_us; /* when, by the wall */
} twi_classified;

/**
 * Take an answer: one line of JSON, {"name": "Bufo bufo", "score": 0.93, "count": 2,
 * "star": true, "drop": true}, each as wanted. What somebody has named stays so, and what
 * is starred, or was named or marked right by somebody, is not dropped.
 *
 * @param said  Set to what was done, in words.
 * @return TW_OK; TW_ESYNTAX: it is no such line; TW_ENOENT: there is no such sighting, or
 * no catalogue; TW_EEXIST: somebody has named it; TW_EAGAIN: it is to be dropped, and is
 * not over; err says what.
 */
tw_status twi_classify(const twi_classified *who, const char *answer, char *said,
                       size_t capacity, tw_error *err);

#endif
