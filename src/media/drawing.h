/* What the drawing module does: pictures with zones, cells, blobs and levels drawn in. */
#ifndef TWI_DRAWING_H
#define TWI_DRAWING_H

#include <stdint.h>

#include "tawny/detector.h"
#include "tawny/error.h"
#include "tawny/settings.h"
#include "../settings/sections.h"

enum { TWI_DRAWING_ABI = 5 };

typedef struct twi_overlay {
    const twi_camera_settings *camera;
    const tw_reading *reading;
    const char *state; /* of the sighting watch, in words */
    const char *time;  /* of the frame, in words */
} twi_overlay;

/* One picture of a contact sheet. */
typedef struct twi_sheet_tile {
    const uint8_t *pixels; /* 4 bytes each: blue, green, red, unused; rows packed */
    uint16_t width, height;
    const tw_blob *box; /* drawn on it; NULL: none */
    const char *title;  /* written below it, ... */
    const char *line;   /* ... and below that */
} twi_sheet_tile;

typedef struct twi_drawing {
    int abi; /* TWI_DRAWING_ABI */
    /** Draw on pixels (4 bytes each: blue, green, red, unused; rows packed). A strip with
     * the level meter and the legend is added below, and small pictures are enlarged by a
     * whole number: *out is a new picture of *out_width x *out_height, the caller's to
     * free(). */
    tw_status (*overlay)(const uint8_t *pixels, uint16_t width, uint16_t height,
                         const twi_overlay *overlay, uint8_t **out, uint16_t *out_width,
                         uint16_t *out_height, tw_error *err);
    /** Draw a contact sheet. *out is a new picture, the caller's to free().
     * @param title  Written above the tiles. */
    tw_status (*sheet)(const twi_sheet_tile *tiles, size_t count, const char *title,
                       uint8_t **out, uint16_t *out_width, uint16_t *out_height,
                       tw_error *err);
    /** Draw a text of one or more lines, white on nothing.
     * @param line_height  Pixels; less where the text would be wider than most_width.
     * @param ink  Set to how much of each pixel is ink, 0 to 255; *width x *height bytes,
     *             rows packed; the caller's to free(). */
    tw_status (*label)(const char *text, uint16_t line_height, uint16_t most_width,
                       uint8_t **ink, uint16_t *width, uint16_t *height, tw_error *err);
    /** Reduce a picture. *out is to_width x to_height pixels, the caller's to free(). */
    tw_status (*scale)(const uint8_t *pixels, uint16_t width, uint16_t height,
                       uint16_t to_width, uint16_t to_height, uint8_t **out,
                       tw_error *err);
    /** Encode pixels as PNG. *out is the caller's to free(). */
    tw_status (*png)(const uint8_t *pixels, uint16_t width, uint16_t height,
                     uint8_t **out, size_t *bytes, tw_error *err);
} twi_drawing;

/** What the module exports. */
extern const twi_drawing twi_drawing_table;

/** As twi_codecs_load. */
const twi_drawing *twi_drawing_load(tw_error *err);

#endif
