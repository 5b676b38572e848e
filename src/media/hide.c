/* Blackening parts of a JPEG: its blocks are read, some are made black, and all are
 * written anew. Errors leave libjpeg by longjmp into rewrite only. */
#include "hide.h"

#include <setjmp.h>
#include <stdio.h> /* jpeglib.h needs it */
#include <stdlib.h>
#include <string.h>

#include <jpeglib.h>

#include "../core/hidden.h"
#include "jpeg.h"

enum {
    BLOCK = 8,      /* pixels along the edge of a block of coefficients */
    BLACK = -1024,  /* its mean, eight times the level */
    HEADERS = 65536 /* bytes that are written more than came, at first */
};

tw_status twi_hide_prepare(twi_hide *h, const twi_view *view, uint16_t width,
                           uint16_t height, tw_error *err)
{
    if (h->blocks && h->width == width && h->height == height)
        return TW_OK;
    free(h->blocks);
    h->blocks = malloc((size_t)twi_hidden_along(width) * twi_hidden_along(height));
    if (!h->blocks)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    h->width = width;
    h->height = height;
    twi_hidden_mark(view, width, height, h->blocks);
    return TW_OK;
}

void twi_hide_free(twi_hide *h)
{
    free(h->blocks);
    *h = (twi_hide){0};
}

/* ---- in coefficients -------------------------------------------------------------- */

typedef struct rewriting {
    struct jpeg_error_mgr errors; /* first, as libjpeg hands it back */
    jmp_buf leave;
    char text[JMSG_LENGTH_MAX];
    struct jpeg_decompress_struct from;
    struct jpeg_compress_struct to;
    struct jpeg_destination_mgr sink;
    uint8_t *made;
    size_t bytes, capacity;
    twi_hide *hide;
    const twi_view *view;
} rewriting;

static void on_error(j_common_ptr info)
{
    rewriting *w = (rewriting *)(void *)info->err;
    info->err->format_message(info, w->text);
    longjmp(w->leave, 1);
}

/* What is damaged is grey then, or not there; what is hidden is black all the same. */
static void on_message(j_common_ptr info, int level)
{
    (void)info;
    (void)level;
}

static void on_output(j_common_ptr info)
{
    (void)info;
}

/* ---- where the bytes go ----------------------------------------------------------- */

static rewriting *rewriting_of(j_compress_ptr to)
{
    return (rewriting *)(void *)to->err;
}

static void begin_output(j_compress_ptr to)
{
    rewriting *w = rewriting_of(to);
    w->sink.next_output_byte = w->made;
    w->sink.free_in_buffer = w->capacity;
}

static boolean make_room(j_compress_ptr to)
{
    rewriting *w = rewriting_of(to);
    uint8_t *more = realloc(w->made, 2 * w->capacity);
    if (!more) {
        (void)snprintf(w->text, sizeof w->text, "out of memory");
        longjmp(w->leave, 1);
    }
    w->made = more;
    w->sink.next_output_byte = more + w->capacity;
    w->sink.free_in_buffer = w->capacity;
    w->capacity *= 2;
    return TRUE;
}

static void end_output(j_compress_ptr to)
{
    rewriting *w = rewriting_of(to);
    w->bytes = w->capacity - w->sink.free_in_buffer;
}

/* ---- blocks ----------------------------------------------------------------------- */

/* Whether a hidden block reaches into a unit of the picture, of so many pixels. */
static bool unit_is_hidden(const twi_hide *h, uint32_t left, uint32_t top, uint32_t width,
                           uint32_t height)
{
    const uint32_t columns = twi_hidden_along(h->width),
                   rows = twi_hidden_along(h->height);
    for (uint32_t y = top / TWI_HIDDEN_PX; y * TWI_HIDDEN_PX < top + height && y < rows;
         y++)
        for (uint32_t x = left / TWI_HIDDEN_PX;
             x * TWI_HIDDEN_PX < left + width && x < columns; x++)
            if (h->blocks[(size_t)y * columns + x])
                return true;
    return false;
}

/* Blocks of a component are hidden with the whole unit that they are coded in: chroma
 * reaches as far as that. */
static void hide_component(rewriting *w, jvirt_barray_ptr array, int index)
{
    jpeg_component_info *c = &w->from.comp_info[index];
    const uint32_t unit_width = (uint32_t)w->from.max_h_samp_factor * BLOCK,
                   unit_height = (uint32_t)w->from.max_v_samp_factor * BLOCK;
    const int mean = index == 0 || w->from.jpeg_color_space == JCS_RGB ? BLACK : 0;
    const int step = c->quant_table ? (int)c->quant_table->quantval[0] : 1;
    const int level = (mean - (step - 1)) / step; /* quite black, or darker; 0 stays 0 */
    for (JDIMENSION y = 0; y < c->height_in_blocks; y++) {
        JBLOCKARRAY rows =
            w->from.mem->access_virt_barray((j_common_ptr)&w->from, array, y, 1, TRUE);
        for (JDIMENSION x = 0; x < c->width_in_blocks; x++) {
            const uint32_t left = x / (uint32_t)c->h_samp_factor * unit_width,
                           top = y / (uint32_t)c->v_samp_factor * unit_height;
            if (!unit_is_hidden(w->hide, left, top, unit_width, unit_height))
                continue;
            memset(rows[0][x], 0, sizeof rows[0][x]);
            rows[0][x][0] = (JCOEF)level;
        }
    }
}

/* May be left by longjmp: all that it takes is in w. */
static tw_status rewrite(rewriting *w, const uint8_t *data, size_t bytes, tw_error *err)
{
    if (setjmp(w->leave))
        return tw_fail(err, TW_EDAMAGED, "damaged JPEG (%s)", w->text);
    jpeg_create_decompress(&w->from);
    jpeg_create_compress(&w->to);
    jpeg_mem_src(&w->from, data, (unsigned long)bytes);
    (void)jpeg_read_header(&w->from, TRUE);
    if (w->from.image_width > TWI_JPEG_MAX_SIDE ||
        w->from.image_height > TWI_JPEG_MAX_SIDE)
        return tw_fail(err, TW_ESIZE, "a picture of %u x %u is over the limit of %d",
                       w->from.image_width, w->from.image_height, TWI_JPEG_MAX_SIDE);
    const tw_status st = twi_hide_prepare(w->hide, w->view, (uint16_t)w->from.image_width,
                                          (uint16_t)w->from.image_height, err);
    if (st != TW_OK)
        return st;
    jvirt_barray_ptr *arrays = jpeg_read_coefficients(&w->from);
    for (int i = 0; i < w->from.num_components; i++)
        hide_component(w, arrays[i], i);
    w->to.dest = &w->sink;
    jpeg_copy_critical_parameters(&w->from, &w->to);
    jpeg_write_coefficients(&w->to, arrays);
    jpeg_finish_compress(&w->to);
    return TW_OK;
}

tw_status twi_hide_jpeg(twi_hide *hide, const twi_view *view, const uint8_t *data,
                        size_t bytes, uint8_t **out, size_t *out_bytes, tw_error *err)
{
    rewriting *w = calloc(1, sizeof *w);
    if (!w)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    w->from.err = w->to.err = jpeg_std_error(&w->errors);
    w->errors.error_exit = on_error;
    w->errors.emit_message = on_message;
    w->errors.output_message = on_output;
    w->sink = (struct jpeg_destination_mgr){.init_destination = begin_output,
                                            .empty_output_buffer = make_room,
                                            .term_destination = end_output};
    w->hide = hide;
    w->view = view;
    w->capacity = bytes + HEADERS;
    w->made = malloc(w->capacity);
    tw_status st = w->made ? twi_jpeg_check_cost(data, bytes, err)
                           : tw_fail(err, TW_ENOMEM, "out of memory");
    if (st == TW_OK)
        st = rewrite(w, data, bytes, err);
    jpeg_destroy_compress(&w->to);
    jpeg_destroy_decompress(&w->from);
    if (st == TW_OK) {
        *out = w->made;
        *out_bytes = w->bytes;
    } else {
        free(w->made);
    }
    free(w);
    return st;
}
