/* JPEG. Reduced luma comes from our own brightness reader where it can; what that
 * declines, and what it finds damaged, goes to libjpeg-turbo's classic interface, which
 * can decode at a reduced scale. Errors leave that by longjmp into
 * read_luma only. */
#include "jpeg.h"

#include <setjmp.h>
#include <stdio.h> /* jpeglib.h needs it */
#include <stdlib.h>
#include <string.h>

#include <jpeglib.h>
#include <jerror.h>
#include <turbojpeg.h>

#include "../core/brightness.h"
#include "../core/chroma.h"
#include "reserve.h"
#include "../core/view.h"
#include "tawny/draw.h"

typedef struct failure {
    struct jpeg_error_mgr base; /* first, as libjpeg hands it back */
    jmp_buf leave;
    char text[JMSG_LENGTH_MAX]; /* of the first error or warning */
} failure;

struct twi_jpeg {
    uint32_t inspected_ppm;
    struct jpeg_decompress_struct decoder;
    struct jpeg_progress_mgr progress;
    failure failure;
    twi_brightness *brightness;
    uint8_t *decoded, *reduced; /* luma at the decoder's scale, and reduced further */
    size_t decoded_bytes, reduced_bytes;
    uint8_t *chroma; /* reduced */
    size_t chroma_bytes;
    uint8_t *mixed; /* luma and chroma of each pixel, at the decoder's scale */
    size_t mixed_bytes;
};

/* What the library knows of its error handler is how ours begins. */
static failure *failure_of(j_common_ptr info)
{
    return (failure *)(void *)info->err;
}

static void note_text(j_common_ptr info)
{
    failure *f = failure_of(info);
    if (f->text[0] == '\0')
        f->base.format_message(info, f->text);
}

static void on_error(j_common_ptr info)
{
    note_text(info);
    longjmp(failure_of(info)->leave, 1);
}

/* Half a picture is "decoded" with warnings and grey filling: a warning is a damaged
 * frame. Level -1 is a warning, above are traces. Bytes too many before a marker are
 * harmless, and some webcams pad each frame with them. */
static void on_message(j_common_ptr info, int level)
{
    if (level >= 0 || info->err->msg_code == JWRN_EXTRANEOUS_DATA)
        return;
    info->err->num_warnings++;
    note_text(info);
}

static void on_output(j_common_ptr info)
{
    (void)info;
}

/* Progressive pictures can ask for any number of passes. */
static void on_progress(j_common_ptr info)
{
    const struct jpeg_decompress_struct *decoder = (const void *)info;
    if (info->is_decompressor && decoder->input_scan_number > TWI_JPEG_MAX_SCANS) {
        failure *f = failure_of(info);
        (void)snprintf(f->text, sizeof f->text, "too many scans");
        longjmp(f->leave, 1);
    }
}

/* @return false: out of memory, the only error that can bring us back here. */
static bool create_decoder(twi_jpeg *jpeg)
{
    if (setjmp(jpeg->failure.leave))
        return false;
    jpeg_create_decompress(&jpeg->decoder);
    return true;
}

twi_jpeg *twi_jpeg_new(uint32_t inspected_ppm)
{
    const size_t bytes = twi_brightness_bytes();
    twi_jpeg *jpeg = calloc(1, sizeof *jpeg);
    void *memory = malloc(bytes);
    if (!jpeg || twi_brightness_init(memory, bytes, &jpeg->brightness) != TW_OK) {
        free(memory);
        free(jpeg);
        return NULL;
    }
    jpeg->inspected_ppm = inspected_ppm;
    jpeg->decoder.err = jpeg_std_error(&jpeg->failure.base);
    jpeg->failure.base.error_exit = on_error;
    jpeg->failure.base.emit_message = on_message;
    jpeg->failure.base.output_message = on_output;
    jpeg->progress.progress_monitor = on_progress;
    if (!create_decoder(jpeg)) {
        free(memory);
        free(jpeg);
        return NULL;
    }
    jpeg->decoder.progress = &jpeg->progress;
    return jpeg;
}

void twi_jpeg_free(twi_jpeg *jpeg)
{
    if (!jpeg)
        return;
    jpeg_destroy_decompress(&jpeg->decoder);
    free(jpeg->brightness);
    free(jpeg->decoded);
    free(jpeg->reduced);
    free(jpeg->chroma);
    free(jpeg->mixed);
    free(jpeg);
}

/* The decoder's own scales are 1/1, 1/2, 1/4 and 1/8. */
static unsigned scale_for(uint32_t width, uint32_t inspected_ppm)
{
    const unsigned factor = twi_factor_for(width, inspected_ppm);
    unsigned scale = 1;
    while (scale < 8 && scale * 2 <= factor)
        scale *= 2;
    return scale;
}

static void set_up(struct jpeg_decompress_struct *decoder, uint32_t inspected_ppm)
{
    const bool colour = decoder->jpeg_color_space == JCS_YCbCr;
    decoder->out_color_space = colour ? JCS_YCbCr : JCS_GRAYSCALE;
    decoder->do_fancy_upsampling = FALSE; /* means of chroma are wanted alone */
    decoder->scale_num = 1;
    decoder->scale_denom = scale_for(decoder->image_width, inspected_ppm);
    decoder->dct_method = JDCT_ISLOW; /* the same pixels on every machine */
}

/* What a picture says of itself before its first scan. */
typedef struct outline {
    bool known, held; /* its coefficients are held until its last scan */
    uint64_t width, height, components, scans;
} outline;

static bool is_frame(uint8_t marker)
{
    return marker >= 0xC0 && marker <= 0xCF && marker != 0xC4 && marker != 0xC8 &&
           marker != 0xCC;
}

/* Scans begin with FF DA, which no compressed data holds. */
static uint64_t count_scans(const uint8_t *data, size_t bytes)
{
    uint64_t scans = 0;
    for (size_t at = 0; at + 1 < bytes; at++) {
        const uint8_t *mark = memchr(data + at, 0xFF, bytes - 1 - at);
        if (!mark)
            break;
        at = (size_t)(mark - data);
        scans += mark[1] == 0xDA;
    }
    return scans;
}

static void read_frame(const uint8_t *at, size_t left, outline *o)
{
    enum { HEAD = 10 };
    if (left < HEAD)
        return;
    o->known = true;
    o->held = at[1] == 0xC2 || at[1] == 0xC6 || at[1] == 0xCA || at[1] == 0xCE;
    o->height = (uint64_t)at[5] << 8 | at[6];
    o->width = (uint64_t)at[7] << 8 | at[8];
    o->components = at[9];
}

static outline read_outline(const uint8_t *data, size_t bytes)
{
    outline o = {0};
    for (size_t at = 2; at + 4 <= bytes && data[at] == 0xFF && data[at + 1] != 0xDA;) {
        if (is_frame(data[at + 1])) {
            read_frame(data + at, bytes - at, &o);
            break;
        }
        at += data[at + 1] == 0xFF ? 1 : 2 + ((size_t)data[at + 2] << 8 | data[at + 3]);
    }
    o.scans = count_scans(data, bytes);
    return o;
}

/* A picture of a few bytes may ask for gigabytes, or for minutes.
 * @param held  Its coefficients are, of how few scans it may be. */
static tw_status check_cost(const uint8_t *data, size_t bytes, bool held, tw_error *err)
{
    const outline o = read_outline(data, bytes);
    const uint64_t pixels = o.width * o.height;
    if (!o.known || (!held && !o.held && o.scans <= 1))
        return TW_OK;
    if (2 * pixels * o.components > TWI_JPEG_MAX_COEFFICIENTS ||
        pixels * o.scans > TWI_JPEG_MAX_SCANNED)
        return tw_fail(err, TW_ESIZE,
                       "a picture of %u x %u in %u scans takes too much to decode",
                       (unsigned)o.width, (unsigned)o.height, (unsigned)o.scans);
    return TW_OK;
}

tw_status twi_jpeg_check_cost(const uint8_t *data, size_t bytes, tw_error *err)
{
    return check_cost(data, bytes, true, err);
}

/* Read row after row of what the decoder gives: bytes of them each. */
static void read_rows(struct jpeg_decompress_struct *decoder, uint8_t *to, size_t bytes)
{
    while (decoder->output_scanline < decoder->output_height) {
        JSAMPROW row = to + decoder->output_scanline * bytes;
        (void)jpeg_read_scanlines(decoder, &row, 1);
    }
}

/* Luma of pixels of three bytes, one after the other. */
static void pick_luma(const uint8_t *restrict mixed, uint8_t *restrict to, size_t count)
{
    for (size_t i = 0; i < count; i++)
        to[i] = mixed[3 * i];
}

/* Decode into jpeg->decoded, and into jpeg->mixed where there is colour. May be left by
 * longjmp: everything it takes is the reader's. */
static tw_status read_luma(twi_jpeg *jpeg, const uint8_t *data, size_t bytes)
{
    struct jpeg_decompress_struct *decoder = &jpeg->decoder;
    if (setjmp(jpeg->failure.leave)) {
        jpeg_abort_decompress(decoder);
        return TW_EDAMAGED;
    }
    jpeg_mem_src(decoder, data, (unsigned long)bytes);
    (void)jpeg_read_header(decoder, TRUE);
    if (decoder->image_width > TWI_JPEG_MAX_SIDE ||
        decoder->image_height > TWI_JPEG_MAX_SIDE) {
        jpeg_abort_decompress(decoder);
        return TW_ESIZE;
    }
    set_up(decoder, jpeg->inspected_ppm);
    (void)jpeg_start_decompress(decoder);
    const size_t width = decoder->output_width, height = decoder->output_height;
    const bool colour = decoder->output_components == 3;
    if (!twi_reserve(&jpeg->decoded, &jpeg->decoded_bytes, width * height) ||
        (colour && !twi_reserve(&jpeg->mixed, &jpeg->mixed_bytes, 3 * width * height))) {
        jpeg_abort_decompress(decoder);
        return TW_ENOMEM;
    }
    read_rows(decoder, colour ? jpeg->mixed : jpeg->decoded, colour ? 3 * width : width);
    if (colour)
        pick_luma(jpeg->mixed, jpeg->decoded, width * height);
    (void)jpeg_finish_decompress(decoder);
    return decoder->err->num_warnings > 0 ? TW_EDAMAGED : TW_OK;
}

/* By our own reader. @return TW_OK, or anything else: libjpeg must look at it. */
static tw_status read_brightness(twi_jpeg *jpeg, const uint8_t *data, size_t bytes,
                                 twi_brightness_picture *picture)
{
    uint16_t width = 0, height = 0;
    if (twi_brightness_size(data, bytes, &width, &height) != TW_OK)
        return TW_EDAMAGED;
    const uint16_t factor = (uint16_t)scale_for(width, jpeg->inspected_ppm);
    if (factor < 4 || width > TWI_JPEG_MAX_SIDE || height > TWI_JPEG_MAX_SIDE)
        return TW_ENOTSUP;
    const size_t need = (size_t)((width + factor - 1) / factor) *
                        (size_t)((height + factor - 1) / factor);
    /* Both colours of as many blocks as the picture has: without it there is none. */
    const size_t blocks = (size_t)2 * ((width + 7U) / 8) * (size_t)((height + 7U) / 8);
    if (!twi_reserve(&jpeg->decoded, &jpeg->decoded_bytes, need))
        return TW_ENOMEM;
    (void)twi_reserve(&jpeg->chroma, &jpeg->chroma_bytes, blocks);
    twi_brightness_want_colour(jpeg->brightness, jpeg->chroma, jpeg->chroma_bytes);
    return twi_brightness_read(jpeg->brightness, data, bytes, factor, jpeg->decoded,
                               jpeg->decoded_bytes, picture);
}

/* Chroma of the pixels in jpeg->mixed, where they are of three bytes. */
static void reduce_chroma(twi_jpeg *jpeg, tw_chroma *out)
{
    const struct jpeg_decompress_struct *d = &jpeg->decoder;
    if (d->output_components != 3)
        return;
    const twi_chroma_planes mixed = {.u = jpeg->mixed + 1,
                                     .v = jpeg->mixed + 2,
                                     .step = 3,
                                     .stride = 3 * d->output_width,
                                     .width = (uint16_t)d->output_width,
                                     .height = (uint16_t)d->output_height};
    const uint16_t factor = twi_chroma_factor(mixed.width, jpeg->inspected_ppm);
    const size_t need = twi_chroma_bytes(mixed.width, mixed.height, factor);
    if (need > 0 && twi_reserve(&jpeg->chroma, &jpeg->chroma_bytes, need))
        (void)twi_chroma_reduce(&mixed, factor, jpeg->chroma, need, out);
}

/* By libjpeg, which says what is wrong. */
static tw_status decode_luma(twi_jpeg *jpeg, const uint8_t *data, size_t bytes,
                             twi_brightness_picture *picture, tw_error *err)
{
    jpeg->failure.text[0] = '\0';
    jpeg->failure.base.num_warnings = 0;
    const tw_status cost = check_cost(data, bytes, false, err);
    if (cost != TW_OK)
        return cost;
    const tw_status st = read_luma(jpeg, data, bytes);
    const unsigned long w = jpeg->decoder.image_width, h = jpeg->decoder.image_height;
    if (st == TW_ESIZE)
        return tw_fail(err, st, "a picture of %lu x %lu is over the limit of %d", w, h,
                       TWI_JPEG_MAX_SIDE);
    if (st != TW_OK)
        return tw_fail(err, st, "damaged JPEG (%s)",
                       jpeg->failure.text[0] ? jpeg->failure.text : tw_status_text(st));
    picture->width = (uint16_t)w;
    picture->height = (uint16_t)h;
    picture->luma = (tw_luma){jpeg->decoded, jpeg->decoder.output_width,
                              (uint16_t)jpeg->decoder.output_width,
                              (uint16_t)jpeg->decoder.output_height};
    reduce_chroma(jpeg, &picture->chroma);
    return TW_OK;
}

tw_status twi_jpeg_read(twi_jpeg *jpeg, const uint8_t *data, size_t bytes,
                        twi_decoded *out, tw_error *err)
{
    if (!jpeg || !data || !out)
        return tw_fail(err, TW_EINVAL, "no picture");
    if (bytes < 4 || bytes > TWI_JPEG_MAX_BYTES)
        return tw_fail(err, TW_EDAMAGED, "not a JPEG picture (%zu bytes)", bytes);
    twi_brightness_picture picture = {0};
    tw_status st = read_brightness(jpeg, data, bytes, &picture);
    if (st != TW_OK) {
        picture = (twi_brightness_picture){0};
        st = decode_luma(jpeg, data, bytes, &picture, err);
    }
    if (st != TW_OK)
        return st;
    out->width = picture.width;
    out->height = picture.height;
    out->chroma = picture.chroma;
    const uint16_t factor = twi_factor_for(picture.luma.width, jpeg->inspected_ppm);
    if (factor == 1) {
        out->luma = picture.luma;
        return TW_OK;
    }
    const size_t need =
        (size_t)(picture.luma.width / factor) * (picture.luma.height / factor);
    if (!twi_reserve(&jpeg->reduced, &jpeg->reduced_bytes, need ? need : 1))
        return tw_fail(err, TW_ENOMEM, "out of memory");
    if (tw_luma_reduce(&picture.luma, factor, jpeg->reduced, need, &out->luma) != TW_OK)
        return tw_fail(err, TW_EDAMAGED, "a picture of %u x %u cannot be watched",
                       picture.width, picture.height);
    return TW_OK;
}

tw_status twi_jpeg_pixels(const uint8_t *data, size_t bytes, uint16_t least_width,
                          uint8_t **out, uint16_t *width, uint16_t *height, tw_error *err)
{
    int w = 0, h = 0, subsampling = 0, space = 0;
    uint8_t *pixels = NULL;
    tw_status st = TW_OK;
    const tw_status cost = check_cost(data, bytes, false, err);
    if (cost != TW_OK)
        return cost;
    tjhandle handle = tjInitDecompress();
    if (!handle)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    if (tjDecompressHeader3(handle, data, (unsigned long)bytes, &w, &h, &subsampling,
                            &space) != 0 ||
        w > TWI_JPEG_MAX_SIDE || h > TWI_JPEG_MAX_SIDE) {
        st = tw_fail(err, TW_EDAMAGED, "damaged JPEG (%s)", tjGetErrorStr2(handle));
        goto done;
    }
    for (int halvings = 0; halvings < 3 && least_width > 0 && w / 2 >= least_width;
         halvings++) {
        w = (w + 1) / 2; /* sizes that the decoder's own scales round to */
        h = (h + 1) / 2;
    }
    pixels = malloc((size_t)w * (size_t)h * 4);
    if (!pixels) {
        st = tw_fail(err, TW_ENOMEM, "out of memory");
        goto done;
    }
    if (tjDecompress2(handle, data, (unsigned long)bytes, pixels, w, 0, h, TJPF_BGRX,
                      TJFLAG_ACCURATEDCT | TJFLAG_LIMITSCANS) != 0) {
        st = tw_fail(err, TW_EDAMAGED, "damaged JPEG (%s)", tjGetErrorStr2(handle));
        goto done;
    }
    *out = pixels;
    pixels = NULL;
    *width = (uint16_t)w;
    *height = (uint16_t)h;
done:
    free(pixels);
    (void)tjDestroy(handle);
    return st;
}

/* Planes of a size, in one piece of memory. @return false: out of memory. */
static bool make_canvas(int width, int height, bool grey, twi_canvas *canvas,
                        uint8_t **memory)
{
    const size_t luma = (size_t)width * (size_t)height;
    const size_t half = (size_t)((width + 1) / 2),
                 chroma = half * (size_t)((height + 1) / 2);
    uint8_t *at = *memory = luma > 0 ? malloc(luma + (grey ? 0 : 2 * chroma)) : NULL;
    if (!at)
        return false;
    *canvas = (twi_canvas){
        .px = {at, grey ? NULL : at + luma, grey ? NULL : at + luma + chroma},
        .stride = {width, (int)half, (int)half},
        .width = (uint16_t)width,
        .height = (uint16_t)height};
    return true;
}

/* Pixels of any sampling into planes of 4:2:0. */
static bool resample(tjhandle encoder, const uint8_t *pixels, const twi_canvas *canvas)
{
    uint8_t *planes[3] = {canvas->px[0], canvas->px[1], canvas->px[2]};
    int strides[3] = {canvas->stride[0], canvas->stride[1], canvas->stride[2]};
    return tjEncodeYUVPlanes(encoder, pixels, canvas->width, 0, canvas->height, TJPF_BGRX,
                             planes, strides, canvas->px[1] ? TJSAMP_420 : TJSAMP_GRAY,
                             TJFLAG_ACCURATEDCT) == 0;
}

tw_status twi_jpeg_planes(const uint8_t *data, size_t bytes, twi_canvas *canvas,
                          uint8_t **memory, tw_error *err)
{
    uint8_t *pixels = NULL;
    uint16_t width = 0, height = 0;
    tw_status st = twi_jpeg_pixels(data, bytes, 0, &pixels, &width, &height, err);
    if (st != TW_OK)
        return st;
    int w = 0, h = 0, subsampling = 0, space = 0;
    tjhandle handle = tjInitCompress(), header = tjInitDecompress();
    const bool known = header && tjDecompressHeader3(header, data, (unsigned long)bytes,
                                                     &w, &h, &subsampling, &space) == 0;
    *memory = NULL;
    if (!handle || !known ||
        !make_canvas(width, height, subsampling == TJSAMP_GRAY, canvas, memory)) {
        st = tw_fail(err, TW_ENOMEM, "out of memory");
    } else if (!resample(handle, pixels, canvas)) {
        st = tw_fail(err, TW_EIO, "cannot draw on a JPEG (%s)", tjGetErrorStr2(handle));
        free(*memory);
        *memory = NULL;
    }
    if (handle)
        (void)tjDestroy(handle);
    if (header)
        (void)tjDestroy(header);
    free(pixels);
    return st;
}

/* TurboJPEG's buffers have their own release; ours are given back with free(). */
tw_status twi_jpeg_hand_over(void *handle, int failed, unsigned char *made,
                             unsigned long size, uint8_t **out, size_t *bytes,
                             tw_error *err)
{
    tw_status st = TW_OK;
    if (failed) {
        st = tw_fail(err, TW_EIO, "cannot make a JPEG (%s)", tjGetErrorStr2(handle));
    } else {
        uint8_t *copy = malloc(size);
        if (copy) {
            memcpy(copy, made, size);
            *out = copy;
            *bytes = size;
        } else {
            st = tw_fail(err, TW_ENOMEM, "out of memory");
        }
    }
    tjFree(made);
    (void)tjDestroy(handle);
    return st;
}

tw_status twi_jpeg_encode(const tw_picture *picture, int quality, uint8_t **out,
                          size_t *bytes, tw_error *err)
{
    tjhandle handle = tjInitCompress();
    if (!handle)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    const unsigned char *planes[3] = {picture->px[0], picture->px[1], picture->px[2]};
    const int strides[3] = {(int)picture->stride[0], (int)picture->stride[1],
                            (int)picture->stride[2]};
    unsigned char *made = NULL;
    unsigned long size = 0;
    const int failed =
        tjCompressFromYUVPlanes(handle, planes, picture->width, strides, picture->height,
                                picture->px[1] ? TJSAMP_420 : TJSAMP_GRAY, &made, &size,
                                quality, TJFLAG_ACCURATEDCT);
    return twi_jpeg_hand_over(handle, failed, made, size, out, bytes, err);
}

tw_status tw_picture_jpeg(const tw_picture *picture, int quality, uint8_t **out,
                          size_t *bytes, tw_error *err)
{
    const size_t need = tw_picture_bytes(picture);
    tw_picture planes;
    if (need == 0 || quality < 1 || quality > 100 || !out || !bytes)
        return tw_fail(err, TW_EINVAL, "no picture that could be encoded");
    if (picture->pixels == TW_PIXELS_I420 || picture->pixels == TW_PIXELS_GREY) {
        planes = *picture;
        if (planes.pixels == TW_PIXELS_GREY)
            planes.px[1] = NULL;
        return twi_jpeg_encode(&planes, quality, out, bytes, err);
    }
    uint8_t *memory = malloc(need);
    if (!memory)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    tw_status st = tw_picture_pack(picture, memory, need, &planes);
    if (st == TW_OK)
        st = twi_jpeg_encode(&planes, quality, out, bytes, err);
    free(memory);
    return st;
}

tw_status twi_jpeg_encode_pixels(const uint8_t *pixels, uint16_t width, uint16_t height,
                                 int quality, uint8_t **out, size_t *bytes, tw_error *err)
{
    tjhandle handle = tjInitCompress();
    if (!handle)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    unsigned char *made = NULL;
    unsigned long size = 0;
    const int failed = tjCompress2(handle, pixels, width, 0, height, TJPF_BGRX, &made,
                                   &size, TJSAMP_444, quality, TJFLAG_ACCURATEDCT);
    return twi_jpeg_hand_over(handle, failed, made, size, out, bytes, err);
}
