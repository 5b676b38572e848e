/* Texts for captions by cairo. */
#include <math.h>
#include <stdlib.h>
#include <string.h>

#include "paint.h"

enum { LINES_MAX = 8, TEXT_MAX = 1024 };

typedef struct lines {
    char text[TEXT_MAX];
    char *line[LINES_MAX];
    int count;
} lines;

static void split(const char *text, lines *l)
{
    const size_t n = strlen(text) < TEXT_MAX - 1 ? strlen(text) : TEXT_MAX - 1;
    memcpy(l->text, text, n);
    l->text[n] = '\0';
    l->count = 0;
    for (char *at = l->text; at && l->count < LINES_MAX;) {
        l->line[l->count++] = at;
        at = strchr(at, '\n');
        if (at)
            *at++ = '\0';
    }
}

/* The width of the widest line at a size of the font. */
static double widest(const lines *l, double size)
{
    cairo_surface_t *none = cairo_image_surface_create(CAIRO_FORMAT_A8, 1, 1);
    cairo_t *cairo = cairo_create(none);
    double most = 0;
    paint_font(cairo, size);
    for (int i = 0; i < l->count; i++)
        most = fmax(most, paint_width(cairo, l->line[i]));
    cairo_destroy(cairo);
    cairo_surface_destroy(none);
    return most;
}

static tw_status draw_lines(const lines *l, double size, double row, uint8_t *ink,
                            uint16_t width, uint16_t height, int stride, tw_error *err)
{
    cairo_surface_t *surface =
        cairo_image_surface_create_for_data(ink, CAIRO_FORMAT_A8, width, height, stride);
    cairo_t *cairo = cairo_create(surface);
    paint_font(cairo, size);
    paint_ink(cairo, INK, 1);
    for (int i = 0; i < l->count; i++)
        paint_text(cairo, row * 0.4, row * (0.2 + i) + row * 0.78, l->line[i]);
    return paint_finish(cairo, surface, err);
}

tw_status twi_draw_label(const char *text, uint16_t line_height, uint16_t most_width,
                         uint8_t **ink, uint16_t *width, uint16_t *height, tw_error *err)
{
    lines l;
    split(text, &l);
    double row = line_height < 6 ? 6 : line_height;
    const double wide = widest(&l, row * 0.8) + row * 0.8;
    if (wide > most_width)
        row = fmax(4, row * most_width / wide);
    const double size = row * 0.8;
    const double needs = ceil(widest(&l, size) + row * 0.8);
    const uint16_t w = (uint16_t)fmin(fmax(needs, 1), most_width);
    const uint16_t h = (uint16_t)ceil(row * (l.count + 0.4));
    const int stride = cairo_format_stride_for_width(CAIRO_FORMAT_A8, w);
    uint8_t *drawn = stride > 0 ? calloc((size_t)stride, h) : NULL;
    if (!drawn)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    const tw_status st = draw_lines(&l, size, row, drawn, w, h, stride, err);
    if (st != TW_OK) {
        free(drawn);
        return st;
    }
    for (uint16_t y = 1; y < h; y++) /* rows packed */
        memmove(drawn + (size_t)y * w, drawn + (size_t)y * (size_t)stride, w);
    *ink = drawn;
    *width = w;
    *height = h;
    return TW_OK;
}
