/* Captions: text drawn into a copy of a picture, on a plate that makes it readable on any
 * background. The text is drawn by the drawing module, and only where it has changed. */
#ifndef TWI_MEDIA_CAPTION_H
#define TWI_MEDIA_CAPTION_H

#include "../core/caption.h"
#include "picture.h"
#include "tawny/error.h"
#include "tawny/settings.h"
#include "../settings/sections.h"

typedef struct twi_caption twi_caption;

/** @param camera  Its caption settings are used; outlives the caption.
 * @return TW_OK; TW_ENOTSUP: the drawing module is missing; TW_ENOMEM. */
tw_status twi_caption_new(const twi_camera_settings *camera, twi_caption **out,
                          tw_error *err);
void twi_caption_free(twi_caption *caption); /* NULL is fine */

/** Draw into a picture. */
tw_status twi_caption_draw(twi_caption *caption, const twi_caption_fields *fields,
                           const twi_canvas *canvas, tw_error *err);

/** A JPEG with the caption in it, encoded anew. @param out The caller's to free(). */
tw_status twi_caption_jpeg(twi_caption *caption, const twi_caption_fields *fields,
                           const uint8_t *jpeg, size_t jpeg_bytes, int quality,
                           uint8_t **out, size_t *bytes, tw_error *err);

#endif
