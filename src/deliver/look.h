/* Live pictures for who asks by a broker: small ones, one a second, while somebody looks.
 */
#ifndef TWI_LOOK_H
#define TWI_LOOK_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/events.h"
#include "tawny/port.h"

enum {
    TWI_LOOKS_MAX = 8,    /* cameras that are looked at at once */
    TWI_LOOK_MOST_S = 60, /* that one question may last; whoever looks on asks again */
    TWI_LOOK_WIDTH = 480, /* at least, where the camera has so many pixels */
    TWI_LOOK_NAME = 64
};

typedef struct twi_looking twi_looking;

/** @return NULL: out of memory. */
twi_looking *twi_looking_new(tw_clock clock);
void twi_looking_free(twi_looking *look); /* NULL is fine */

/**
 * Take a question in: {"look": CAMERA, "for_s": SECONDS}.
 *
 * @param who  Name of the destination that it came by, which gets the pictures.
 * @return TW_OK; TW_ENOTSUP: it is another question; TW_ESYNTAX: not understood;
 *         TW_ESIZE: TWI_LOOKS_MAX are looked at.
 */
tw_status twi_looking_take(twi_looking *look, const char *who, const void *text,
                           size_t bytes);

/** @return whether a question is one for live pictures. */
bool twi_looking_is(const void *text, size_t bytes);

/** Whether the next picture of a camera is wanted; as of tw_subscriber. */
bool twi_looking_wants(twi_looking *look, const char *camera);

/** The picture of a reading that was wanted. */
void twi_looking_event(twi_looking *look, const tw_event *event);

/** The next picture for a destination. @param jpeg  The caller's to free().
 * @return false: there is none. */
bool twi_looking_next(twi_looking *look, const char *who, char camera[TWI_LOOK_NAME],
                      uint8_t **jpeg, size_t *bytes);

#endif
