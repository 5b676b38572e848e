/* The drawing module by cairo: its table, PNG, and scaling. */
#include <stdlib.h>
#include <string.h>

#include "paint.h"
#include "tawny/version.h"

typedef struct growing {
    uint8_t *data;
    size_t used, capacity;
} growing;

static cairo_status_t add_bytes(void *ctx, const unsigned char *data, unsigned int length)
{
    growing *g = ctx;
    if (g->used + length > g->capacity) {
        const size_t capacity = (g->used + length) * 2;
        uint8_t *more = realloc(g->data, capacity);
        if (!more)
            return CAIRO_STATUS_NO_MEMORY;
        g->data = more;
        g->capacity = capacity;
    }
    memcpy(g->data + g->used, data, length);
    g->used += length;
    return CAIRO_STATUS_SUCCESS;
}

static tw_status png(const uint8_t *pixels, uint16_t width, uint16_t height,
                     uint8_t **out, size_t *bytes, tw_error *err)
{
    growing g = {0};
    cairo_surface_t *surface =
        cairo_image_surface_create_for_data((unsigned char *)pixels, CAIRO_FORMAT_RGB24,
                                            width, height, width * BYTES_A_PIXEL);
    const cairo_status_t st = cairo_surface_write_to_png_stream(surface, add_bytes, &g);
    cairo_surface_destroy(surface);
    if (st != CAIRO_STATUS_SUCCESS) {
        free(g.data);
        return tw_fail(err, TW_EIO, "cannot write PNG: %s", cairo_status_to_string(st));
    }
    *out = g.data;
    *bytes = g.used;
    return TW_OK;
}

static tw_status scale(const uint8_t *pixels, uint16_t width, uint16_t height,
                       uint16_t to_width, uint16_t to_height, uint8_t **out,
                       tw_error *err)
{
    uint8_t *made = calloc((size_t)to_width * to_height, BYTES_A_PIXEL);
    if (!made)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    cairo_surface_t *from =
        cairo_image_surface_create_for_data((unsigned char *)pixels, CAIRO_FORMAT_RGB24,
                                            width, height, width * BYTES_A_PIXEL);
    cairo_surface_t *to = cairo_image_surface_create_for_data(
        made, CAIRO_FORMAT_RGB24, to_width, to_height, to_width * BYTES_A_PIXEL);
    cairo_t *cairo = cairo_create(to);
    cairo_scale(cairo, (double)to_width / width, (double)to_height / height);
    cairo_set_source_surface(cairo, from, 0, 0);
    cairo_pattern_set_extend(cairo_get_source(cairo), CAIRO_EXTEND_PAD);
    cairo_pattern_set_filter(cairo_get_source(cairo), CAIRO_FILTER_GOOD);
    cairo_paint(cairo);
    const tw_status st = paint_finish(cairo, to, err);
    cairo_surface_destroy(from);
    if (st == TW_OK)
        *out = made;
    else
        free(made);
    return st;
}

TW_API const twi_drawing twi_drawing_table = {
    TWI_DRAWING_ABI, twi_draw_overlay, twi_draw_sheet, twi_draw_label, scale, png};
