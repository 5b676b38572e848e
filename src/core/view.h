/* What is shown of a camera's picture, and which way up: mirrored, turned, cropped. Pure,
 * integers only. */
#ifndef TWI_VIEW_H
#define TWI_VIEW_H

#include <stdbool.h>
#include <stdint.h>

#include "tawny/frame.h"
#include "tawny/zones.h"

/* A part of a picture, millionths of its width and height; all zero: the whole. */
typedef struct twi_crop {
    int32_t left, top, right, bottom;
} twi_crop;

/* A turned picture, and the part of that which is shown. */
typedef struct twi_view {
    tw_turn turn;
    twi_crop crop;
    const tw_zone *hidden; /* parts of what is shown that nobody may see; borrowed */
    uint16_t hidden_count;
} twi_view;

/* The same in pixels of the turned picture. */
typedef struct twi_rect {
    uint16_t left, top, width, height;
} twi_rect;

/** @return the turn that two make, one after the other. */
tw_turn twi_turn_then(tw_turn first, tw_turn then);

/** @return whether it leaves a picture as it is. */
bool twi_turn_is_none(tw_turn turn);

/** @return whether all of a picture is shown. */
bool twi_crop_is_whole(const twi_crop *crop);

/** @return whether it shows a picture as it is. */
bool twi_view_is_plain(const twi_view *view);

/** @return whether it only hides parts of it. */
bool twi_view_is_straight(const twi_view *view);

/**
 * What a view shows of a picture.
 *
 * @param width,height  Of the camera's picture, pixels, >= 1.
 * @param step          Left, top and sides are multiples of it, 1 or more, as far as the
 *                      picture has that many pixels; rounded outwards where they can be.
 * @return it; never empty.
 */
twi_rect twi_view_rect(const twi_view *view, uint16_t width, uint16_t height,
                       uint16_t step);

/**
 * Turn a plane and take a part of it.
 *
 * @param src   Borrowed, read only.
 * @param rect  From twi_view_rect, for this size; or half of it, for chroma.
 * @param out   rect->height rows of rect->width pixels, so many bytes apart; must not
 *              overlap src.
 */
void twi_view_plane(tw_turn turn, const tw_luma *src, const twi_rect *rect, uint8_t *out,
                    uint32_t out_stride);

#endif
