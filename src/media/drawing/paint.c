/* What the parts of the drawing module share. */
#include <stdlib.h>
#include <string.h>

#include "paint.h"

#define RGB(hex)                                                                         \
    {                                                                                    \
        ((hex) >> 16 & 0xFF) / 255.0, ((hex) >> 8 & 0xFF) / 255.0, ((hex)&0xFF) / 255.0  \
    }

const colour PAPER = RGB(0x16130F), INK = RGB(0xECE3D4), INK2 = RGB(0xB5A995),
             AMBER = RGB(0xF2B544), MOSS = RGB(0x9BB56A), LILAC = RGB(0xB79FE0),
             SLATE = RGB(0x8FA6B5), TAWNY = RGB(0xD9954A);

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

void paint_font_head(cairo_t *cairo, double size)
{
    cairo_select_font_face(cairo, "DejaVu Serif", CAIRO_FONT_SLANT_NORMAL,
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
