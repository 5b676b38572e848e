/* Pictures that are reduced while they are decoded.
 *
 * A picture of 1080p is larger than the caches next to the processor: reduced once it is
 * whole, it comes back from far away. The rows that a decoder has just written are near.
 */
#include "av.h"

#include <libavutil/pixdesc.h>

#include "../picture.h"

/* What goes along with each picture of the decoder. */
typedef struct banded {
    uint16_t width, height, factor; /* of the whole picture */
    uint16_t rows;                  /* of it that have come, from the top; */
    bool disordered;                /* or they come in another order */
    const uint8_t *corner;          /* of the picture that is decoded */
    uint8_t px[];                   /* reduced */
} banded;

struct twi_av_bands {
    uint32_t inspected_ppm;
    AVBufferPool *pool;
    size_t bytes; /* of one in the pool */
};

/* Without one the picture is reduced when it is whole. */
static AVBufferRef *take_one(twi_av_bands *bands, size_t bytes)
{
    if (bytes != bands->bytes) {
        av_buffer_pool_uninit(&bands->pool);
        bands->pool = av_buffer_pool_init(bytes, NULL);
        bands->bytes = bytes;
    }
    return bands->pool ? av_buffer_pool_get(bands->pool) : NULL;
}

static int get_buffer(AVCodecContext *context, AVFrame *frame, int flags)
{
    const int code = avcodec_default_get_buffer2(context, frame, flags);
    if (code < 0 || context->width <= 0 || context->height <= 0 ||
        context->width > UINT16_MAX || context->height > UINT16_MAX ||
        !twi_av_has_luma(context->pix_fmt))
        return code;
    twi_av_bands *bands = context->opaque;
    const uint16_t factor =
        twi_factor_for((uint32_t)context->width, bands->inspected_ppm);
    const size_t pixels =
        (size_t)(context->width / factor) * (size_t)(context->height / factor);
    frame->opaque_ref = take_one(bands, sizeof(banded) + pixels);
    if (frame->opaque_ref)
        *(banded *)(void *)frame->opaque_ref->data =
            (banded){.width = (uint16_t)context->width,
                     .height = (uint16_t)context->height,
                     .factor = factor,
                     .corner = frame->data[0]};
    return code;
}

/* Rows of the picture have been decoded, of which whole rows of squares can be reduced.
 */
static void take_band(AVCodecContext *context, const AVFrame *frame,
                      int offset[AV_NUM_DATA_POINTERS], int y, int type, int height)
{
    enum { WHOLE_FRAME = 3 }; /* not the lines of one field */
    (void)context;
    (void)offset;
    if (!frame->opaque_ref)
        return;
    banded *b = (banded *)(void *)frame->opaque_ref->data;
    if (type != WHOLE_FRAME || y != b->rows || frame->linesize[0] < b->width)
        b->disordered = true;
    if (b->disordered)
        return;
    const int end = y + height < b->height ? y + height : b->height;
    const size_t first = b->rows / b->factor, count = (size_t)end / b->factor - first;
    const size_t columns = b->width / b->factor, stride = (size_t)frame->linesize[0];
    b->rows = (uint16_t)end;
    if (count == 0)
        return;
    const tw_luma band = {frame->data[0] + first * b->factor * stride, (uint32_t)stride,
                          b->width, (uint16_t)(count * b->factor)};
    tw_luma reduced;
    b->disordered = twi_reduce_whole(&band, b->factor, b->px + first * columns,
                                     count * columns, &reduced) != TW_OK;
}

twi_av_bands *twi_av_bands_new(AVCodecContext *context, uint32_t inspected_ppm)
{
    twi_av_bands *bands = av_mallocz(sizeof *bands);
    if (!bands)
        return NULL;
    bands->inspected_ppm = inspected_ppm;
    context->opaque = bands;
    context->get_buffer2 = get_buffer;
    context->draw_horiz_band = take_band;
    return bands;
}

void twi_av_bands_free(twi_av_bands *bands)
{
    if (!bands)
        return;
    av_buffer_pool_uninit(&bands->pool);
    av_free(bands);
}

bool twi_av_bands_reduced(const AVFrame *frame, uint16_t factor, tw_luma *out)
{
    if (!frame->opaque_ref)
        return false;
    banded *b = (banded *)(void *)frame->opaque_ref->data;
    if (b->disordered || b->rows < b->height || b->factor != factor ||
        b->width != frame->width || b->height != frame->height ||
        b->corner != frame->data[0]) /* a part is shown that begins elsewhere */
        return false;
    const uint16_t columns = b->width / factor;
    *out = (tw_luma){b->px, columns, columns, (uint16_t)(b->height / factor)};
    return true;
}

enum {
    NOT_YUV = AV_PIX_FMT_FLAG_RGB | AV_PIX_FMT_FLAG_PAL | AV_PIX_FMT_FLAG_HWACCEL |
              AV_PIX_FMT_FLAG_BITSTREAM
};

/* A plane of one byte a pixel that is brightness. */
bool twi_av_has_luma(enum AVPixelFormat format)
{
    const AVPixFmtDescriptor *d = av_pix_fmt_desc_get(format);
    if (!d || (d->flags & NOT_YUV))
        return false;
    return d->comp[0].depth == 8 && d->comp[0].step == 1 && d->comp[0].plane == 0;
}

/* A side in chroma, where a last odd pixel has a value of its own. */
static uint16_t subsampled(int side, int log2)
{
    return (uint16_t)((side + (1 << log2) - 1) >> log2);
}

twi_chroma_planes twi_av_chroma_of(const AVFrame *f)
{
    const AVPixFmtDescriptor *d = av_pix_fmt_desc_get((enum AVPixelFormat)f->format);
    if (!d || (d->flags & NOT_YUV) || d->nb_components < 3 || d->comp[1].depth != 8 ||
        d->comp[1].step != d->comp[2].step)
        return (twi_chroma_planes){0};
    const int u = d->comp[1].plane, v = d->comp[2].plane;
    if (f->linesize[u] <= 0 || f->linesize[u] != f->linesize[v])
        return (twi_chroma_planes){0};
    return (twi_chroma_planes){.u = f->data[u] + d->comp[1].offset,
                               .v = f->data[v] + d->comp[2].offset,
                               .step = (uint32_t)d->comp[1].step,
                               .stride = (uint32_t)f->linesize[u],
                               .width = subsampled(f->width, d->log2_chroma_w),
                               .height = subsampled(f->height, d->log2_chroma_h)};
}
