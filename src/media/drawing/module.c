/* The drawing module by cairo: its table, PNG, and what its parts share. */
#include <stdlib.h>
#include <string.h>

#include "paint.h"
#include "tawny/version.h"

#define RGB(hex)                                                                         \
    {                                                                                    \
        ((hex) >> 16 & 0xFF) / 255.0, ((hex) >> 8 & 0xFF) / 255.0, ((hex)&0xFF) / 255.0  \
    }

const colour PAPER = RGB(0x16130F), INK = RGB(0xECE3D4), AMBER = RGB(0xF2B544),
             MOSS = RGB(0x9BB56A), LILAC = RGB(0xB79FE0), SLATE = RGB(0x8FA6B5),
             TAWNY = RGB(0xD9954A);

void paint_ink(cairo_t *cairo, colour k, double alpha)
{
    cairo_set_source_rgba(cairo, k.r, k.g, k.b, alpha);
}

void paint_text(cairo_t *cairo, double x, double y, const char *text)
{
    cairo_move_to(cairo, x, y);
    cairo_show_text(cairo, text);
}

double paint_width(cairo_t *cairo, const char *text)
{
    cairo_text_extents_t extents;
    cairo_text_extents(cairo, text, &extents);
    return extents.x_advance;
}

void paint_font(cairo_t *cairo, double size)
{
    cairo_select_font_face(cairo, "DejaVu Sans", CAIRO_FONT_SLANT_NORMAL,
                           CAIRO_FONT_WEIGHT_NORMAL);
    cairo_set_font_size(cairo, size);
}

tw_status paint_finish(cairo_t *cairo, cairo_surface_t *surface, tw_error *err)
{
    const cairo_status_t drawn = cairo_status(cairo);
    cairo_destroy(cairo);
    cairo_surface_flush(surface);
    cairo_surface_destroy(surface);
    if (drawn == CAIRO_STATUS_SUCCESS)
        return TW_OK;
    return tw_fail(err, TW_EIO, "cannot draw: %s", cairo_status_to_string(drawn));
}

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
