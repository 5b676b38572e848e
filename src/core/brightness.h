/* The brightness of a JPEG picture at an eighth or a quarter of its size, and the mean
 * colour of each of its blocks, read straight from the compressed bytes. Pure: no I/O,
 * clock or heap.
 *
 * The mean of each block of 8 x 8 pixels is its first coefficient, so nothing has to be
 * transformed, and all other coefficients are only stepped over, several at a time. This
 * takes about half the time of decoding the brightness at that size. What it does not
 * read (progressive and arithmetic coding, 12 bits, pictures that are not YCbCr or grey)
 * it declines, for a full decoder to take. */
#ifndef TWI_BRIGHTNESS_H
#define TWI_BRIGHTNESS_H

#include <stddef.h>
#include <stdint.h>

#include "tawny/frame.h"
#include "tawny/error.h"

typedef struct twi_brightness twi_brightness;

/* What was read. */
typedef struct twi_brightness_picture {
    uint16_t width, height; /* of the whole picture, pixels */
    tw_luma luma;           /* reduced; its sides are the picture's divided, rounded up */
    uint16_t rows;          /* of luma that were read: all of them on TW_OK */
    tw_chroma chroma;       /* a mean for each block of 8 x 8 chroma pixels; u is NULL
                               where none was wanted, or there is none */
} twi_brightness_picture;

/** @return bytes of memory that a reader needs, about 90,000. */
size_t twi_brightness_bytes(void);

/**
 * Make a reader in the caller's memory, which it does not outlive. It keeps the tables of
 * the last picture, as the next one of a camera has the same. One thread at a time.
 *
 * @param memory  At least twi_brightness_bytes, aligned for uint64_t.
 * @param out     Set on TW_OK. Points into memory; nothing is to be released.
 * @return TW_OK; TW_EINVAL: NULL pointer or misaligned; TW_ESIZE: memory too small.
 */
tw_status twi_brightness_init(void *memory, size_t bytes, twi_brightness **out);

/**
 * Have colour read as well, from the next picture on.
 *
 * @param out       Where to; outlives the reader, or what is said here next. NULL: no
 *                  more.
 * @param capacity  Bytes in out. A picture whose colour does not fit is read without it;
 *                  one of 8 x 8 pixels for each block of the picture always fits twice.
 */
void twi_brightness_want_colour(twi_brightness *reader, uint8_t *out, size_t capacity);

/**
 * Look for the size of a JPEG picture, any kind of it.
 *
 * @return TW_OK; TW_EINVAL: NULL pointer; TW_EDAMAGED: not a JPEG, or cut off before it.
 */
tw_status twi_brightness_size(const uint8_t *jpeg, size_t bytes, uint16_t *width,
                              uint16_t *height);

/**
 * Read a picture.
 *
 * @param factor    8: the mean of each 8 x 8 block, rounded; the same pixels as
 *                  libjpeg-turbo's grey decoding at 1/8. 4: of each quarter of a block,
 *                  from its four lowest coefficients.
 * @param out       Caller's, rows packed; written also where a status tells of damage.
 * @param capacity  Bytes in out.
 * @param picture   Filled in as far as it got, on any status but TW_EINVAL.
 * @return TW_OK; TW_EINVAL: NULL pointer or another factor; TW_ENOTSUP: a kind of picture
 *         that is declined; TW_ESIZE: out too small; TW_EDAMAGED: not a JPEG, or damaged
 *         or cut off after picture->rows rows.
 * Source: ITU-T T.81, annexes B, F and K.
 */
tw_status twi_brightness_read(twi_brightness *reader, const uint8_t *jpeg, size_t bytes,
                              uint16_t factor, uint8_t *out, size_t capacity,
                              twi_brightness_picture *picture);

#endif
