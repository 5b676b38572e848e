/* What the parts of the drawing module share: colours, text, and the end of a drawing. */
#ifndef TWI_PAINT_H
#define TWI_PAINT_H

#include <cairo.h>

#include "../drawing.h"

enum { SIDE_MAX = 16384, BYTES_A_PIXEL = 4 };

typedef struct colour {
    double r, g, b;
} colour;

extern const colour PAPER, INK, INK2, AMBER, MOSS, LILAC, SLATE, TAWNY;

void paint_ink(cairo_t *cairo, colour k, double alpha);
void paint_text(cairo_t *cairo, double x, double y, const char *text);
double paint_width(cairo_t *cairo, const char *text); /* of a text, in units */
void paint_font(cairo_t *cairo, double size);
void paint_font_head(cairo_t *cairo, double size); /* of a headline */

/** Release both. @return TW_OK; TW_EIO: something could not be drawn. */
tw_status paint_finish(cairo_t *cairo, cairo_surface_t *surface, tw_error *err);

/* The table's functions that have files of their own; see drawing.h. */
tw_status twi_draw_overlay(const uint8_t *pixels, uint16_t width, uint16_t height,
                           const twi_overlay *what, uint8_t **out, uint16_t *out_width,
                           uint16_t *out_height, tw_error *err);
tw_status twi_draw_sheet(const twi_sheet_tile *tiles, size_t count, const char *title,
                         uint8_t **out, uint16_t *out_width, uint16_t *out_height,
                         tw_error *err);
tw_status twi_draw_label(const char *text, uint16_t line_height, uint16_t most_width,
                         uint8_t **ink, uint16_t *width, uint16_t *height, tw_error *err);

#endif
