/* JPEG by libjpeg-turbo: luma for the detector, pictures for drawing, encoding. */
#ifndef TWI_JPEG_H
#define TWI_JPEG_H

#include <stddef.h>

#include "picture.h"
#include "tawny/error.h"
#include "tawny/port.h"
#include "../core/view.h"

enum {
    TWI_JPEG_MAX_SIDE = 16384,     /* pixels: larger ones are refused unread */
    TWI_JPEG_MAX_BYTES = 64 << 20, /* of one packet */
    TWI_JPEG_MAX_SCANS = 100,      /* of a progressive picture */
    /* Pictures of several scans are held as coefficients until the last one, and each
     * scan may touch them all: so both are bounded. */
    TWI_JPEG_MAX_COEFFICIENTS = 100000000, /* bytes */
    TWI_JPEG_MAX_SCANNED = 500000000       /* pixels, times scans */
};

/* Keeps its decoder and its buffers from picture to picture. One thread at a time. */
typedef struct twi_jpeg twi_jpeg;

/** @param inspected_ppm  Share of the width that the detector looks at, see
 * twi_factor_for.
 * @return a reader, NULL: out of memory. */
twi_jpeg *twi_jpeg_new(uint32_t inspected_ppm);
void twi_jpeg_free(twi_jpeg *jpeg); /* NULL is fine */

/**
 * Read a picture for the detector: by the decoder's own scaling as far as that goes, then
 * by tw_luma_reduce.
 *
 * @param out  Set on TW_OK, but for its time; the reader's, good until its next call.
 * @return TW_OK; TW_EDAMAGED: not a JPEG, cut short or corrupt; TW_ESIZE: too big;
 *         TW_ENOMEM. err says what, not where.
 */
tw_status twi_jpeg_read(twi_jpeg *jpeg, const uint8_t *data, size_t bytes,
                        twi_decoded *out, tw_error *err);

/**
 * Decode a picture to 4 bytes a pixel: blue, green, red, unused.
 *
 * @param least_width  Reduce it by 2, 4 or 8 as long as so many pixels of width are left;
 *                     0: not at all.
 * @param out  Set on TW_OK to width * height * 4 bytes, the caller's to free().
 */
tw_status twi_jpeg_pixels(const uint8_t *data, size_t bytes, uint16_t least_width,
                          uint8_t **out, uint16_t *width, uint16_t *height,
                          tw_error *err);

/**
 * Read a file that holds one picture.
 *
 * @param data,capacity  The caller's buffer, made larger by malloc() where it must.
 * @return TW_OK: bytes is set; TW_EDAMAGED: it cannot be read, is empty, over
 *         TWI_JPEG_MAX_BYTES or no JPEG; TW_ENOMEM.
 */
tw_status twi_jpeg_read_file(const char *path, uint8_t **data, size_t *capacity,
                             size_t *bytes, tw_error *err);

/** Decode a picture to planes, 4:2:0 whatever it had, or luma alone if it is grey.
 * @param memory  Set on TW_OK to what canvas points into, the caller's to free(). */
tw_status twi_jpeg_planes(const uint8_t *data, size_t bytes, twi_canvas *canvas,
                          uint8_t **memory, tw_error *err);

/** What the library made, as a copy that is given back with free(). @param handle  The
 * library's, which is released. @param failed  It made nothing: err has its words. */
tw_status twi_jpeg_hand_over(void *handle, int failed, unsigned char *made,
                             unsigned long size, uint8_t **out, size_t *bytes,
                             tw_error *err);

/** Whether all of a picture may be held as coefficients. @return TW_OK; TW_ESIZE. */
tw_status twi_jpeg_check_cost(const uint8_t *data, size_t bytes, tw_error *err);

/**
 * Hide parts of a JPEG, mirror, turn and crop it, without decoding it. Blocks of 8 or 16
 * pixels are moved whole: a strip that fills none is left out where it would come to lie
 * at the left or the top, and a crop grows to their edges.
 *
 * @param out           Set on TW_OK, the caller's to free().
 * @param width,height  Set to its size, pixels.
 */
tw_status twi_jpeg_view(const uint8_t *data, size_t bytes, const twi_view *view,
                        uint8_t **out, size_t *out_bytes, uint16_t *width,
                        uint16_t *height, tw_error *err);

/** Encode I420 or grey planes; tw_picture_jpeg takes all. @param quality 1..100.
 * @param out Set on TW_OK, the caller's to free(). */
tw_status twi_jpeg_encode(const tw_picture *picture, int quality, uint8_t **out,
                          size_t *bytes, tw_error *err);

/** Encode what twi_jpeg_pixels gives. */
tw_status twi_jpeg_encode_pixels(const uint8_t *pixels, uint16_t width, uint16_t height,
                                 int quality, uint8_t **out, size_t *bytes,
                                 tw_error *err);

#endif
