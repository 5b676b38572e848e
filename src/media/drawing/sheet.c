/* Contact sheets by cairo. */
#include <math.h>
#include <stdlib.h>

#include "paint.h"

enum {
    COLUMNS_MAX = 4,
    SHEET_WIDTH = 1280,
    MARGIN = 16,
    TITLE_ROWS = 44,
    TEXT_ROWS = 46 /* below each picture */
};

/* Where things are. */
typedef struct layout {
    int columns, rows;
    double tile_width, picture_rows, tile_rows; /* pixels */
} layout;

/* As many columns as there are pictures, but at least two, so that one is not huge. */
static layout lay_out(const twi_sheet_tile *tiles, size_t count)
{
    layout l = {.columns = count < 2             ? 2
                           : count < COLUMNS_MAX ? (int)count
                                                 : COLUMNS_MAX};
    l.rows = ((int)count + l.columns - 1) / l.columns;
    l.tile_width = (SHEET_WIDTH - MARGIN) / (double)l.columns - MARGIN;
    double shape = 0;
    for (size_t i = 0; i < count; i++)
        shape = fmax(shape, (double)tiles[i].height / tiles[i].width);
    l.picture_rows = l.tile_width * fmin(shape, 1.5);
    l.tile_rows = l.picture_rows + TEXT_ROWS;
    return l;
}

static void draw_box(cairo_t *cairo, const tw_blob *blob, double x, double y,
                     double width, double height)
{
    const double left = x + blob->left_ppm * width / 1e6,
                 top = y + blob->top_ppm * height / 1e6;
    paint_ink(cairo, AMBER, 1);
    cairo_set_line_width(cairo, 2);
    cairo_rectangle(cairo, left, top, blob->right_ppm * width / 1e6 + x - left,
                    blob->bottom_ppm * height / 1e6 + y - top);
    cairo_stroke(cairo);
}

static void draw_picture(cairo_t *cairo, const twi_sheet_tile *tile, double x, double y,
                         const layout *l)
{
    const double scale =
        fmin(l->tile_width / tile->width, l->picture_rows / tile->height);
    cairo_surface_t *picture = cairo_image_surface_create_for_data(
        (unsigned char *)tile->pixels, CAIRO_FORMAT_RGB24, tile->width, tile->height,
        tile->width * BYTES_A_PIXEL);
    cairo_save(cairo);
    cairo_translate(cairo, x, y);
    cairo_scale(cairo, scale, scale);
    cairo_set_source_surface(cairo, picture, 0, 0);
    cairo_pattern_set_filter(cairo_get_source(cairo), CAIRO_FILTER_GOOD);
    cairo_paint(cairo);
    cairo_restore(cairo);
    cairo_surface_destroy(picture);
    if (tile->box)
        draw_box(cairo, tile->box, x, y, tile->width * scale, tile->height * scale);
}

static void draw_tile(cairo_t *cairo, const twi_sheet_tile *tile, double x, double y,
                      const layout *l)
{
    draw_picture(cairo, tile, x, y, l);
    cairo_save(cairo);
    cairo_rectangle(cairo, x, y, l->tile_width, l->tile_rows);
    cairo_clip(cairo);
    paint_font(cairo, 14);
    paint_ink(cairo, INK, 1);
    paint_text(cairo, x, y + l->picture_rows + 18, tile->title);
    paint_font(cairo, 12);
    paint_ink(cairo, INK2, 1);
    paint_text(cairo, x, y + l->picture_rows + 36, tile->line);
    cairo_restore(cairo);
}

static void draw_all(cairo_t *cairo, const twi_sheet_tile *tiles, size_t count,
                     const char *title, const layout *l)
{
    paint_ink(cairo, PAPER, 1);
    cairo_paint(cairo);
    paint_font_head(cairo, 20);
    paint_ink(cairo, INK, 1);
    paint_text(cairo, MARGIN, 29, title);
    for (size_t i = 0; i < count; i++) {
        const int column = (int)i % l->columns, row = (int)i / l->columns;
        draw_tile(cairo, &tiles[i], MARGIN + column * (l->tile_width + MARGIN),
                  TITLE_ROWS + row * (l->tile_rows + MARGIN / 2.0), l);
    }
}

tw_status twi_draw_sheet(const twi_sheet_tile *tiles, size_t count, const char *title,
                         uint8_t **out, uint16_t *out_width, uint16_t *out_height,
                         tw_error *err)
{
    const layout l = lay_out(tiles, count);
    const double rows = TITLE_ROWS + l.rows * (l.tile_rows + MARGIN / 2.0) + MARGIN / 2.0;
    if (rows > SIDE_MAX)
        return tw_fail(err, TW_ESIZE, "%zu pictures are too many for one sheet", count);
    const int height = (int)ceil(rows);
    uint8_t *made = calloc((size_t)SHEET_WIDTH * (size_t)height, BYTES_A_PIXEL);
    if (!made)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    cairo_surface_t *surface = cairo_image_surface_create_for_data(
        made, CAIRO_FORMAT_RGB24, SHEET_WIDTH, height, SHEET_WIDTH * BYTES_A_PIXEL);
    cairo_t *cairo = cairo_create(surface);
    draw_all(cairo, tiles, count, title, &l);
    const tw_status st = paint_finish(cairo, surface, err);
    if (st != TW_OK) {
        free(made);
        return st;
    }
    *out = made;
    *out_width = SHEET_WIDTH;
    *out_height = (uint16_t)height;
    return TW_OK;
}
