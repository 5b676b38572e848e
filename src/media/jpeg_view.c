/* Hiding, mirroring, turning and cropping JPEG without decoding it. */
#include <stdio.h> /* turbojpeg.h needs it */
#include <stdlib.h>
#include <string.h>

#include <turbojpeg.h>

#include "hide.h"
#include "jpeg.h"

/* The library's word for a turn: mirrored left to right, then turned clockwise. */
static int operation_for(tw_turn turn)
{
    static const int plain[4] = {TJXOP_NONE, TJXOP_ROT90, TJXOP_ROT180, TJXOP_ROT270};
    static const int mirrored[4] = {TJXOP_HFLIP, TJXOP_TRANSVERSE, TJXOP_VFLIP,
                                    TJXOP_TRANSPOSE};
    return turn.mirror ? mirrored[turn.quarters % 4] : plain[turn.quarters % 4];
}

/* Blocks that cannot be moved whole are left out: a strip at one edge or two. */
static void set_transform(const twi_view *view, int width, int height, int subsampling,
                          tjtransform *out)
{
    const int across = tjMCUWidth[subsampling], down = tjMCUHeight[subsampling];
    const uint16_t step = (uint16_t)(across > down ? across : down);
    const twi_rect r = twi_view_rect(view, (uint16_t)width, (uint16_t)height, step);
    memset(out, 0, sizeof *out);
    out->op = operation_for(view->turn);
    out->options = TJXOPT_TRIM;
    if (twi_crop_is_whole(&view->crop))
        return;
    out->options |= TJXOPT_CROP;
    out->r = (tjregion){r.left, r.top, r.width, r.height};
}

/* What is hidden is so before the rest is done. */
static tw_status view_hidden(const uint8_t *data, size_t bytes, const twi_view *view,
                             uint8_t **out, size_t *out_bytes, uint16_t *width,
                             uint16_t *height, tw_error *err)
{
    const twi_view open = {.turn = view->turn, .crop = view->crop};
    twi_hide hide = {0};
    uint8_t *black = NULL;
    size_t black_bytes = 0;
    tw_status st = twi_hide_jpeg(&hide, view, data, bytes, &black, &black_bytes, err);
    if (st == TW_OK && twi_view_is_plain(&open)) {
        *out = black;
        *out_bytes = black_bytes;
        *width = hide.width;
        *height = hide.height;
        black = NULL;
    } else if (st == TW_OK) {
        st = twi_jpeg_view(black, black_bytes, &open, out, out_bytes, width, height, err);
    }
    free(black);
    twi_hide_free(&hide);
    return st;
}

tw_status twi_jpeg_view(const uint8_t *data, size_t bytes, const twi_view *view,
                        uint8_t **out, size_t *out_bytes, uint16_t *width,
                        uint16_t *height, tw_error *err)
{
    int w = 0, h = 0, subsampling = 0, space = 0;
    unsigned char *made = NULL;
    unsigned long size = 0;
    tjtransform transform;
    if (view->hidden_count > 0)
        return view_hidden(data, bytes, view, out, out_bytes, width, height, err);
    const tw_status cost = twi_jpeg_check_cost(data, bytes, err);
    if (cost != TW_OK)
        return cost;
    tjhandle handle = tjInitTransform();
    if (!handle)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    int failed = tjDecompressHeader3(handle, data, (unsigned long)bytes, &w, &h,
                                     &subsampling, &space) != 0 ||
                 w > TWI_JPEG_MAX_SIDE || h > TWI_JPEG_MAX_SIDE;
    if (!failed) {
        set_transform(view, w, h, subsampling, &transform);
        failed = tjTransform(handle, data, (unsigned long)bytes, 1, &made, &size,
                             &transform, TJFLAG_LIMITSCANS) != 0 ||
                 tjDecompressHeader3(handle, made, size, &w, &h, &subsampling, &space);
    }
    *width = (uint16_t)w;
    *height = (uint16_t)h;
    return twi_jpeg_hand_over(handle, failed, made, size, out, out_bytes, err);
}
