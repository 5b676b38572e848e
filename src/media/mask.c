/* Masks: one picture, read as footage of a single frame. */
#include "mask.h"

#include <stdlib.h>
#include <string.h>

#include "codecs.h"

/* Other kinds would work, but a JPEG's edges are not what was drawn. */
static bool is_png_or_pgm(const char *path)
{
    const char *dot = strrchr(path, '.');
    return dot && (strcmp(dot, ".png") == 0 || strcmp(dot, ".pgm") == 0 ||
                   strcmp(dot, ".PNG") == 0 || strcmp(dot, ".PGM") == 0);
}

static tw_status copy(const tw_luma *from, uint8_t **memory, tw_luma *out, tw_error *err)
{
    *memory = malloc((size_t)from->width * from->height);
    if (!*memory)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    for (size_t y = 0; y < from->height; y++)
        memcpy(*memory + y * from->width, from->px + y * from->stride, from->width);
    *out = (tw_luma){*memory, from->width, from->width, from->height};
    return TW_OK;
}

/* The first picture of the footage. */
static tw_status first_picture(const twi_codecs *codecs, twi_footage *footage,
                               const tw_stream *stream, uint8_t **memory, tw_luma *out,
                               tw_error *err)
{
    twi_av_decoder *decoder = NULL;
    tw_packet packet;
    twi_decoded picture;
    tw_status st = codecs->decoder_open(stream, TWI_INSPECT_ALL, &decoder, err);
    if (st == TW_OK)
        st = codecs->footage_next(footage, &packet, err);
    if (st == TW_OK)
        st = codecs->decoder_send(decoder, &packet, err);
    if (st == TW_OK)
        st = codecs->decoder_send(decoder, NULL, err);
    if (st == TW_OK)
        st = codecs->decoder_receive(decoder, &picture, err);
    if (st == TW_OK)
        st = copy(&picture.luma, memory, out, err);
    codecs->decoder_close(decoder);
    return st;
}

tw_status twi_mask_read(const char *path, uint8_t **memory, tw_luma *luma, tw_error *err)
{
    twi_footage *footage = NULL;
    tw_stream stream;
    int64_t wall_us = 0;
    tw_error why = {0};
    if (!is_png_or_pgm(path))
        return tw_fail(err, TW_ENOTSUP, "mask %s: give a PNG or PGM picture", path);
    const twi_codecs *codecs = twi_codecs_load(err);
    if (!codecs)
        return TW_ENOTSUP;
    tw_status st = codecs->footage_open(path, &footage, &stream, &wall_us, &why);
    if (st == TW_OK)
        st = first_picture(codecs, footage, &stream, memory, luma, &why);
    codecs->footage_close(footage);
    if (st == TW_OK)
        return TW_OK;
    return tw_fail(err, st, "mask %s cannot be read: %s", path,
                   why.text[0] ? why.text : tw_status_text(st));
}
