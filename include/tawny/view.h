/* tawny/view.h - what is shown of a camera's picture, and which way up: mirrored, turned,
 * cropped. Pure, integers only. */
#ifndef TW_VIEW_H
#define TW_VIEW_H

#include <stdbool.h>
#include <stdint.h>

#include "tawny/frame.h"

#ifdef __cplusplus
extern "C" {
#endif

/* First mirrored left to right, then turned clockwise by quarters * 90 degrees. All eight
 * ways in which a picture can lie. */
typedef struct tw_turn {
    uint8_t quarters; /* 0..3 */
    bool mirror;
} tw_turn;

/* A part of a picture, millionths of its width and height; all zero: the whole. */
typedef struct tw_crop {
    int32_t left, top, right, bottom;
} tw_crop;

/* A turned picture, and the part of that which is shown. */
typedef struct tw_view {
    tw_turn turn;
    tw_crop crop;
} tw_view;

/* The same in pixels of the turned picture. */
typedef struct tw_rect {
    uint16_t left, top, width, height;
} tw_rect;

/** @return the turn that two make, one after the other. */
TW_API tw_turn tw_turn_then(tw_turn first, tw_turn then);

/** @return whether it leaves a picture as it is. */
TW_API bool tw_turn_is_none(tw_turn turn);

/** @return whether all of a picture is shown. */
TW_API bool tw_crop_is_whole(const tw_crop *crop);

/** @return whether it shows a picture as it is. */
TW_API bool tw_view_is_plain(const tw_view *view);

/**
 * What a view shows of a picture.
 *
 * @param width,height  Of the camera's picture, pixels, >= 1.
 * @param step          Left, top and sides are multiples of it, 1 or more, as far as the
 *                      picture has that many pixels; rounded outwards where they can be.
 * @return it; never empty.
 */
TW_API tw_rect tw_view_rect(const tw_view *view, uint16_t width, uint16_t height,
                            uint16_t step);

/**
 * Turn a plane and take a part of it.
 *
 * @param src   Borrowed, read only.
 * @param rect  From tw_view_rect, for this size; or half of it, for chroma.
 * @param out   rect->height rows of rect->width pixels, so many bytes apart; must not
 *              overlap src.
 */
TW_API void tw_view_plane(tw_turn turn, const tw_luma *src, const tw_rect *rect,
                          uint8_t *out, uint32_t out_stride);

#ifdef __cplusplus
}
#endif

#endif
