/* What the numbers of a device's raw pictures mean, and full-range ITU-R BT.601 of them,
 * which is what JPEG has and what a tw_picture is said to be. */
#ifndef TWI_V4L2_COLOUR_H
#define TWI_V4L2_COLOUR_H

#include <linux/videodev2.h>
#include <stdbool.h>
#include <stdint.h>

/* How one pixel becomes another, in parts of 16384. */
typedef struct twi_v4l2_colour {
    bool as_it_is;            /* nothing has to be done */
    int32_t black;            /* level of it */
    int32_t y, y_blue, y_red; /* of brightness, by its own distance from black and by
                                 those of both chroma values from 128 */
    int32_t blue_blue, blue_red, red_red, red_blue; /* of chroma, likewise */
} twi_v4l2_colour;

/**
 * Read it off a format that the driver has set: quantization and matrix, or what follows
 * from the colour space where it does not say (the kernel's documentation of V4L2,
 * "Colorspaces"). Of GREY it must be said: sensors of one colour give all levels.
 */
twi_v4l2_colour twi_v4l2_colour_of(const struct v4l2_pix_format *format);

/**
 * Bring a picture to full range.
 *
 * @param from, to  Of V4L2_PIX_FMT_GREY, RGB24, YUYV or NV12; stride bytes a row, which
 * is at least what its pixels take; they do not overlap.
 */
void twi_v4l2_to_full(const twi_v4l2_colour *colour, uint32_t fourcc, const uint8_t *from,
                      uint8_t *to, uint32_t stride, uint32_t width, uint32_t height);

#endif
