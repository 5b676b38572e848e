/* The bytes of one frame, copied from the camera once and shared from there on: by the
 * pre-event footage, by each file that the frame goes into, and by the codec libraries.
 */
#ifndef TWI_BUFFER_H
#define TWI_BUFFER_H

#include <stdatomic.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/frame.h"

enum { TWI_BUFFER_PADDING = 64 }; /* zeros behind the bytes, as decoders need them */

/* Its bytes never change once it is shared. */
typedef struct twi_buffer {
    atomic_uint holders;
    uint8_t *data;
    size_t size;
    uint32_t activity_ppm; /* of the frame, for captions */
    bool sound;            /* it holds no frame, but sound */
    uint8_t *taken;        /* bytes that came by twi_buffer_adopt, else NULL */
    tw_picture planes;     /* over data, where it holds a picture; px[0] is NULL else */
} twi_buffer;

/** Copy bytes; they may be none. @return a buffer with one holder, NULL: out of memory.
 */
twi_buffer *twi_buffer_copy(const uint8_t *data, size_t bytes);

/** Room for bytes that are written before it is shared; zeros behind them.
 * @return the same. */
twi_buffer *twi_buffer_new(size_t bytes);

/** Take bytes over that malloc() gave; there is no padding behind them.
 * @return the same; NULL: out of memory, and the bytes are freed. */
twi_buffer *twi_buffer_adopt(uint8_t *data, size_t bytes);

/** One holder more; any thread. @return buffer. */
twi_buffer *twi_buffer_ref(twi_buffer *buffer);

/** One holder less; the last one's frees it. Any thread; NULL is fine. */
void twi_buffer_unref(twi_buffer *buffer);

#endif
