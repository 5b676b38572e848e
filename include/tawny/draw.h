/* tawny/draw.h - pictures made of frames: a JPEG, one with what the detector sees in it,
 * and how sharp it is.
 *
 * Any thread, with settings that no other thread uses meanwhile. Pictures that come back
 * are the caller's, to free(). */
#ifndef TW_DRAW_H
#define TW_DRAW_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/detector.h"
#include "tawny/error.h"
#include "tawny/frame.h"
#include "tawny/port.h"
#include "tawny/settings.h"

#ifdef __cplusplus
extern "C" {
#endif

/**
 * Encode a picture of any layout as JPEG.
 *
 * @param quality  1..100.
 * @param out      Set on TW_OK, the caller's to free().
 * @return TW_OK; TW_EINVAL: bad view; TW_ENOMEM; TW_EIO: it cannot be encoded. Any
 *         thread.
 */
TW_API tw_status tw_picture_jpeg(const tw_picture *picture, int quality, uint8_t **out,
                                 size_t *bytes, tw_error *err);

/**
 * How sharp a JPEG picture is, or a part of it, in full resolution. For
 * focusing: the higher the sharper, of one and the same place.
 *
 * @param box  NULL: all of it.
 * @param sharpness  Set on TW_OK: luma levels from pixel to pixel, in 256ths.
 * @return TW_OK; TW_EDAMAGED: it is no picture; TW_EINVAL; TW_ENOMEM.
 */
TW_API tw_status tw_picture_sharpness(const uint8_t *jpeg, size_t bytes,
                                      const tw_blob *box, uint32_t *sharpness,
                                      tw_error *err);

/* One picture that a camera gives, for aiming and for trying limits. */
typedef struct tw_look_options {
    size_t size;      /* of this struct; 0: see version.h */
    int64_t after_us; /* watch for so long first, so that the detector knows the place */
    bool overlay;     /* draw zones, cells, blobs and levels */
    bool png;         /* PNG instead of JPEG */
} tw_look_options;

/**
 * Take one picture. Without overlay a camera that sends JPEG gives its own bytes.
 *
 * @param camera  Its name in the settings.
 * @param out     Set on TW_OK to a whole file, the caller's to free().
 * @param taken   Set to what the detector said of the frame; its cells are not kept.
 * @return TW_OK; TW_ENOENT: there is no such camera; else err says what and where.
 */
TW_API tw_status tw_look_sized(const tw_platform *platform, tw_settings *settings,
                               const char *camera, const tw_look_options *options,
                               uint8_t **out, size_t *bytes, tw_reading *taken,
                               tw_error *err, size_t size);

static inline tw_status tw_look(const tw_platform *platform, tw_settings *settings,
                                const char *camera, const tw_look_options *options,
                                uint8_t **out, size_t *bytes, tw_reading *taken,
                                tw_error *err)
{
    return tw_look_sized(platform, settings, camera, options, out, bytes, taken, err,
                         sizeof *taken);
}

#ifdef __cplusplus
}
#endif

#endif
