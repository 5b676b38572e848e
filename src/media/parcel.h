/* The bytes of one frame, copied from the camera once and shared from there on: by the
 * pre-event footage, by each file that the frame goes into, and by the codec libraries.
 */
#ifndef TW_PARCEL_H
#define TW_PARCEL_H

#include <stdatomic.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/frame.h"

enum { TW_PARCEL_PADDING = 64 }; /* zeros behind the bytes, as decoders need them */

/* Its bytes never change once it is shared. */
typedef struct tw_parcel {
    atomic_uint holders;
    uint8_t *data;
    size_t size;
    uint32_t activity_ppm; /* of the frame, for captions */
    uint8_t *taken;        /* bytes that came by tw_parcel_take, else NULL */
    tw_picture planes;     /* over data, where it holds a picture; px[0] is NULL else */
} tw_parcel;

/** Copy bytes; they may be none. @return a parcel with one holder, NULL: out of memory.
 */
tw_parcel *tw_parcel_copy(const uint8_t *data, size_t bytes);

/** Room for bytes that are written before it is shared; zeros behind them.
 * @return the same. */
tw_parcel *tw_parcel_room(size_t bytes);

/** Take bytes over that malloc() gave; there is no padding behind them.
 * @return the same; NULL: out of memory, and the bytes are freed. */
tw_parcel *tw_parcel_take(uint8_t *data, size_t bytes);

/** One holder more; any thread. @return parcel. */
tw_parcel *tw_parcel_keep(tw_parcel *parcel);

/** One holder less; the last one's frees it. Any thread; NULL is fine. */
void tw_parcel_release(tw_parcel *parcel);

#endif
