/* How pictures lie: the display matrix of containers, and turning what is encoded. */
#include <libavutil/display.h>

#include "av.h"
#include "../../core/hidden.h"
#include "../../core/view.h"

enum { ONE = 1 << 16 };

/* Where a turn takes a step to the right, and one down: 1, 0 or -1 in each direction. */
static void steps_of(tw_turn turn, int right[2], int down[2])
{
    right[0] = turn.mirror ? -1 : 1;
    right[1] = down[0] = 0;
    down[1] = 1;
    for (int q = 0; q < turn.quarters % 4; q++) {
        const int r[2] = {-right[1], right[0]}, d[2] = {-down[1], down[0]};
        right[0] = r[0];
        right[1] = r[1];
        down[0] = d[0];
        down[1] = d[1];
    }
}

tw_turn twi_av_turn_of(const AVStream *stream)
{
    size_t bytes = 0;
    const int32_t *m = (const int32_t *)(const void *)av_stream_get_side_data(
        stream, AV_PKT_DATA_DISPLAYMATRIX, &bytes);
    tw_turn turn = {0, false};
    if (!m || bytes < 9 * sizeof *m)
        return turn;
    for (int i = 0; i < 8; i++) {
        int right[2], down[2];
        turn = (tw_turn){(uint8_t)(i % 4), i >= 4};
        steps_of(turn, right, down);
        if (m[0] == right[0] * ONE && m[1] == right[1] * ONE && m[3] == down[0] * ONE &&
            m[4] == down[1] * ONE)
            return turn;
    }
    return (tw_turn){0, false}; /* oblique: nothing that could be followed here */
}

tw_status twi_av_set_turn(AVStream *stream, tw_turn turn, tw_error *err)
{
    int right[2], down[2];
    if (twi_turn_is_none(turn))
        return TW_OK;
    int32_t *m = (int32_t *)(void *)av_stream_new_side_data(
        stream, AV_PKT_DATA_DISPLAYMATRIX, 9 * sizeof *m);
    if (!m)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    steps_of(turn, right, down);
    const int w = stream->codecpar->width, h = stream->codecpar->height;
    /* What a turn takes to negative places is moved back into the picture. */
    const int left = (right[0] < 0 ? w : 0) + (down[0] < 0 ? h : 0);
    const int top = (right[1] < 0 ? w : 0) + (down[1] < 0 ? h : 0);
    const int32_t made[9] = {right[0] * ONE, right[1] * ONE, 0,
                             down[0] * ONE,  down[1] * ONE,  0,
                             left * ONE,     top * ONE,      1 << 30};
    memcpy(m, made, sizeof made);
    return TW_OK;
}

/* Planes of 8 bits, chroma at half the width and height. */
static bool is_planar(int format)
{
    return format == AV_PIX_FMT_YUV420P || format == AV_PIX_FMT_YUVJ420P;
}

static tw_status make_planar(twi_av_shown *s, const AVFrame *in, tw_error *err)
{
    AVFrame *out = s->planar;
    av_frame_unref(out);
    out->width = in->width;
    out->height = in->height;
    out->format = AV_PIX_FMT_YUV420P;
    s->scaler = sws_getCachedContext(
        s->scaler, in->width, in->height, (enum AVPixelFormat)in->format, in->width,
        in->height, AV_PIX_FMT_YUV420P, SWS_BILINEAR | SWS_BITEXACT | SWS_ACCURATE_RND,
        NULL, NULL, NULL);
    if (!s->scaler || av_frame_get_buffer(out, 0) < 0)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    (void)sws_scale(s->scaler, (const uint8_t *const *)in->data, in->linesize, 0,
                    in->height, out->data, out->linesize);
    return TW_OK;
}

static void turn_planes(tw_turn turn, const AVFrame *in, const twi_rect *rect,
                        AVFrame *out)
{
    const twi_rect half = {rect->left / 2, rect->top / 2, rect->width / 2,
                           rect->height / 2};
    for (int i = 0; i < 3; i++) {
        const int round = i > 0;
        const tw_luma plane = {in->data[i], (uint32_t)in->linesize[i],
                               (uint16_t)((in->width + round) >> round),
                               (uint16_t)((in->height + round) >> round)};
        twi_view_plane(turn, &plane, i > 0 ? &half : rect, out->data[i],
                       (uint32_t)out->linesize[i]);
    }
}

/* A copy, as the decoder still needs its own. */
static tw_status copy_planar(twi_av_shown *s, const AVFrame *in, tw_error *err)
{
    AVFrame *out = s->planar;
    av_frame_unref(out);
    out->width = in->width;
    out->height = in->height;
    out->format = in->format;
    if (av_frame_get_buffer(out, 0) < 0 || av_frame_copy(out, in) < 0)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    return TW_OK;
}

/* Blacken what is hidden, in s->planar. */
static tw_status hide(twi_av_shown *s, const twi_view *view, tw_error *err)
{
    const AVFrame *f = s->planar;
    const uint16_t width = (uint16_t)f->width, height = (uint16_t)f->height;
    if (!s->blocks || s->width != f->width || s->height != f->height) {
        av_freep(&s->blocks);
        s->blocks = av_malloc((size_t)twi_hidden_along(width) * twi_hidden_along(height));
        if (!s->blocks)
            return tw_fail(err, TW_ENOMEM, "out of memory");
        s->width = f->width;
        s->height = f->height;
        twi_hidden_mark(view, width, height, s->blocks);
    }
    for (int i = 0; i < 3; i++)
        twi_hidden_fill(s->blocks, width, height, i > 0, i > 0 ? 128 : 0, f->data[i],
                        (uint32_t)f->linesize[i]);
    return TW_OK;
}

tw_status twi_av_show(twi_av_shown *s, const AVFrame *in, const twi_view *view,
                      const AVFrame **out, tw_error *err)
{
    tw_status st = TW_OK;
    *out = in;
    if (twi_view_is_plain(view))
        return TW_OK;
    if (!s->planar && (!(s->planar = av_frame_alloc()) || !(s->frame = av_frame_alloc())))
        return tw_fail(err, TW_ENOMEM, "out of memory");
    const bool hides = view->hidden_count > 0;
    if (hides || !is_planar(in->format)) {
        st = is_planar(in->format) ? copy_planar(s, in, err) : make_planar(s, in, err);
        in = s->planar;
    }
    if (st == TW_OK && hides)
        st = hide(s, view, err);
    if (st != TW_OK)
        return st;
    *out = in;
    if (twi_view_is_straight(view))
        return TW_OK;
    const twi_rect rect =
        twi_view_rect(view, (uint16_t)in->width, (uint16_t)in->height, 2);
    av_frame_unref(s->frame);
    s->frame->width = rect.width;
    s->frame->height = rect.height;
    s->frame->format = in->format;
    if (av_frame_get_buffer(s->frame, 0) < 0)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    turn_planes(view->turn, in, &rect, s->frame);
    *out = s->frame;
    return TW_OK;
}

void twi_av_shown_free(twi_av_shown *s)
{
    av_frame_free(&s->planar);
    av_frame_free(&s->frame);
    sws_freeContext(s->scaler);
    s->scaler = NULL;
    av_freep(&s->blocks);
}
