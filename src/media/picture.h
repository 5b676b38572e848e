/* A decoded picture, as planes that somebody else owns. */
#ifndef TW_PICTURE_H
#define TW_PICTURE_H

#include <stdint.h>

/* Luma and, unless px[1] is NULL, chroma at half width and height (4:2:0, sizes rounded
 * up). Full range: 0 black to 255 white. Borrowed. */
typedef struct tw_picture {
    const uint8_t *px[3];
    uint32_t stride[3];     /* bytes */
    uint16_t width, height; /* pixels of the luma plane */
} tw_picture;

/* The same that may be written to. */
typedef struct tw_canvas {
    uint8_t *px[3];
    int stride[3];
    uint16_t width, height;
} tw_canvas;

#endif
