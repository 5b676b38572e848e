/* Overlays by cairo. Colours and patterns are those of docs/architecture.md: never colour
 * alone, so that each meaning has a pattern as well. */
#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "paint.h"
#include "../../settings/sections.h"
#include "tawny/zones.h"

enum { WIDTH_MIN = 960 };

#define PI 3.14159265358979323846

/* A drawing at work. One unit is one pixel of the enlarged picture. */
typedef struct canvas {
    cairo_t *cairo;
    double width, height; /* of the picture, without the strip */
    double unit;          /* size of things: 1 at a width of 960 */
    const twi_overlay *what;
} canvas;

static void ink(const canvas *c, colour k, double alpha)
{
    paint_ink(c->cairo, k, alpha);
}

static void text_at(const canvas *c, double x, double y, const char *text)
{
    paint_text(c->cairo, x, y, text);
}

static double text_width(const canvas *c, const char *text)
{
    return paint_width(c->cairo, text);
}

/* Readable on any background: on a dark plate. */
static void label(const canvas *c, double x, double y, colour k, const char *text)
{
    const double pad = 3 * c->unit, high = 14 * c->unit, wide = text_width(c, text);
    x = x + wide + 2 * pad > c->width ? c->width - wide - 2 * pad : x;
    x = x < 0 ? 0 : x;
    y = y < high ? high : y;
    ink(c, PAPER, 0.75);
    cairo_rectangle(c->cairo, x, y - high, wide + 2 * pad, high + pad);
    cairo_fill(c->cairo);
    ink(c, k, 1);
    text_at(c, x + pad, y - pad / 2, text);
}

/* ---- patterns -------------------------------------------------------------------- */

typedef enum pattern { SOLID, OUTLINE, DOTS, DIAGONAL, CROSS } pattern;

static void diagonal(const canvas *c, double x, double y, double w, double h)
{
    const double step = 5 * c->unit;
    const int lines = (int)((w + h) / step);
    cairo_save(c->cairo);
    cairo_rectangle(c->cairo, x, y, w, h);
    cairo_clip(c->cairo);
    for (int i = 0; i <= lines; i++) {
        cairo_move_to(c->cairo, x - h + i * step, y + h);
        cairo_line_to(c->cairo, x + i * step, y);
    }
    cairo_stroke(c->cairo);
    cairo_restore(c->cairo);
}

static void dots(const canvas *c, double x, double y, double w, double h)
{
    const double step = 12 * c->unit; /* few: the picture must be seen through them */
    const int columns = (int)(w / step + 0.5), rows = (int)(h / step + 0.5);
    for (int row = 0; row < rows; row++) {
        for (int column = 0; column < columns; column++) {
            cairo_arc(c->cairo, x + (column + 0.5) * step, y + (row + 0.5) * step,
                      1.4 * c->unit, 0, 2 * PI);
            cairo_fill(c->cairo);
        }
    }
}

static void cross(const canvas *c, double x, double y, double w, double h)
{
    const double arm = fmin(w, h) / 5;
    cairo_new_path(c->cairo);
    cairo_move_to(c->cairo, x + w / 2 - arm, y + h / 2);
    cairo_rel_line_to(c->cairo, 2 * arm, 0);
    cairo_move_to(c->cairo, x + w / 2, y + h / 2 - arm);
    cairo_rel_line_to(c->cairo, 0, 2 * arm);
    cairo_stroke(c->cairo);
}

static void fill_box(const canvas *c, double x, double y, double w, double h, pattern p,
                     colour k)
{
    ink(c, k, p == SOLID ? 0.45 : 0.9);
    cairo_set_line_width(c->cairo, 1.2 * c->unit);
    switch (p) {
    case SOLID:
        cairo_rectangle(c->cairo, x, y, w, h);
        cairo_fill(c->cairo);
        break;
    case OUTLINE:
        cairo_rectangle(c->cairo, x + c->unit, y + c->unit, w - 2 * c->unit,
                        h - 2 * c->unit);
        cairo_stroke(c->cairo);
        break;
    case DOTS: dots(c, x, y, w, h); break;
    case DIAGONAL: diagonal(c, x, y, w, h); break;
    case CROSS: cross(c, x, y, w, h); break;
    }
}

/* ---- the picture ----------------------------------------------------------------- */

/* What a cell's flags mean, most important first. */
static const struct {
    uint8_t flag;
    pattern pattern;
    const colour *colour;
    const char *text;
} MEANINGS[] = {
    {TW_CELL_COUNTED, SOLID, &AMBER, "moving; taken by:"},
    {TW_CELL_SIZE, DIAGONAL, &INK, "size"},
    {TW_CELL_TRAVEL, OUTLINE, &AMBER, "travel"},
    {TW_CELL_MOVING, OUTLINE, &INK, "alone"},
    {TW_CELL_SWAY, DIAGONAL, &SLATE, "sway guard"},
    {TW_CELL_SHAKE, CROSS, &TAWNY, "shake guard"},
    {TW_CELL_LIGHT, DOTS, &LILAC, "light guard"},
};
enum { MEANING_COUNT = sizeof MEANINGS / sizeof *MEANINGS };

static void draw_cells(const canvas *c)
{
    const tw_reading *r = c->what->reading;
    const double w = c->width * r->grid.cell_px / r->grid.width;
    const double h = c->height * r->grid.cell_px / r->grid.height;
    for (uint32_t i = 0; i < (uint32_t)r->grid.columns * r->grid.rows; i++) {
        for (size_t m = 0; m < MEANING_COUNT; m++) {
            if (!(r->cells[i] & MEANINGS[m].flag))
                continue;
            fill_box(c, (i % r->grid.columns) * w, (i / r->grid.columns) * h, w, h,
                     MEANINGS[m].pattern, *MEANINGS[m].colour);
            break;
        }
    }
}

static void draw_zone(const canvas *c, size_t index)
{
    const twi_camera_settings *camera = c->what->camera;
    const tw_zone *zone = &camera->zones[index];
    const char *name = camera->zone_names[index];
    const double dash[] = {8 * c->unit, 5 * c->unit};
    char text[80];
    cairo_new_path(c->cairo); /* a text leaves its end behind */
    for (uint16_t i = 0; i < zone->count; i++)
        cairo_line_to(c->cairo, zone->points[i].x_ppm * c->width / 1e6,
                      zone->points[i].y_ppm * c->height / 1e6);
    cairo_close_path(c->cairo);
    cairo_set_line_width(c->cairo, 2 * c->unit);
    const bool own = zone->start_ppm > 0, ignored = !zone->watched && !own;
    const colour k = own ? TAWNY : ignored ? SLATE : MOSS;
    cairo_set_dash(c->cairo, dash, ignored ? 2 : 0, 0);
    ink(c, k, 1);
    cairo_stroke(c->cairo);
    cairo_set_dash(c->cairo, dash, 0, 0);
    if (own)
        (void)snprintf(text, sizeof text, "%s, start_at %.2f %%", name,
                       zone->start_ppm / 1e4);
    else
        (void)snprintf(text, sizeof text, "%s, %s", name,
                       twi_zone_is_private(camera, index) ? "private"
                       : ignored                          ? "ignored"
                                                          : "watched");
    label(c, zone->points[0].x_ppm * c->width / 1e6,
          zone->points[0].y_ppm * c->height / 1e6 + 14 * c->unit, k, text);
}

static void draw_blob(const canvas *c, const tw_blob *blob)
{
    char text[48];
    const double x = blob->left_ppm * c->width / 1e6, y = blob->top_ppm * c->height / 1e6;
    const double w = blob->right_ppm * c->width / 1e6 - x;
    const double h = blob->bottom_ppm * c->height / 1e6 - y;
    ink(c, blob->counted ? AMBER : INK, 1);
    cairo_set_line_width(c->cairo, 2 * c->unit);
    cairo_rectangle(c->cairo, x, y, w, h);
    cairo_stroke(c->cairo);
    (void)snprintf(text, sizeof text, "%.2f %%, travelled %.1f %%", blob->size_ppm / 1e4,
                   blob->travel_ppm / 1e4);
    label(c, x, y - 3 * c->unit, blob->counted ? AMBER : INK, text);
}

/* ---- the strip ------------------------------------------------------------------- */

enum { STRIP_ROWS = 86, METER_TOP_PPM = 100000 }; /* the meter ends at 10 % or more */

/* Square-root axis, so that small things are seen. */
static double meter_x(const canvas *c, double ppm, double top)
{
    const double share = sqrt(ppm / top);
    return c->width * 0.02 + c->width * 0.96 * (share > 1 ? 1 : share);
}

static void tick(const canvas *c, double x, double y, double h, colour k)
{
    ink(c, k, 1);
    cairo_set_line_width(c->cairo, 2 * c->unit);
    cairo_move_to(c->cairo, x, y - 3 * c->unit);
    cairo_line_to(c->cairo, x, y + h + 3 * c->unit);
    cairo_stroke(c->cairo);
}

/* Both limits with their names: stay_at's before its tick if there is room for it, else
 * both behind start_at's. */
static void draw_limits(const canvas *c, double y, double h, double top)
{
    const twi_camera_settings *camera = c->what->camera;
    const double stay_x = meter_x(c, (double)camera->stay_ppm, top);
    const double start_x = meter_x(c, (double)camera->start_ppm, top);
    const double gap = 4 * c->unit, above = y - 5 * c->unit;
    char stay[48], start[48];
    (void)snprintf(stay, sizeof stay, "stay_at %.2f %%", (double)camera->stay_ppm / 1e4);
    (void)snprintf(start, sizeof start, "start_at %.2f %%",
                   (double)camera->start_ppm / 1e4);
    tick(c, stay_x, y, h, MOSS);
    tick(c, start_x, y, h, AMBER);
    ink(c, AMBER, 1);
    text_at(c, start_x + gap, above, start);
    const double before = stay_x - gap - text_width(c, stay);
    const double behind = start_x + 4 * gap + text_width(c, start);
    ink(c, MOSS, 1);
    text_at(c, before > 0 ? before : behind, above, stay);
}

static void draw_meter(const canvas *c, double y)
{
    const twi_camera_settings *camera = c->what->camera;
    const double activity = c->what->reading->activity_ppm, h = 12 * c->unit;
    const double top = activity > METER_TOP_PPM ? activity : METER_TOP_PPM;
    const double left = meter_x(c, 0, top), right = meter_x(c, top, top);
    const bool over = activity >= (double)camera->start_ppm;
    const bool stays = activity >= (double)camera->stay_ppm;
    ink(c, INK, 0.15);
    cairo_rectangle(c->cairo, left, y, right - left, h);
    cairo_fill(c->cairo);
    ink(c, over ? AMBER : stays ? MOSS : INK, 1);
    cairo_rectangle(c->cairo, left, y, meter_x(c, activity, top) - left, h);
    cairo_fill(c->cairo);
    draw_limits(c, y, h, top);
}

static void draw_legend(const canvas *c, double y)
{
    const double box = 12 * c->unit, gap = 6 * c->unit;
    double x = c->width * 0.02;
    for (size_t m = 0; m < MEANING_COUNT; m++) {
        fill_box(c, x, y - box + 2 * c->unit, box, box, MEANINGS[m].pattern,
                 *MEANINGS[m].colour);
        ink(c, INK, 1);
        text_at(c, x + box + gap, y, MEANINGS[m].text);
        x += box + 4 * gap + text_width(c, MEANINGS[m].text);
    }
}

static void draw_strip(const canvas *c)
{
    const tw_reading *r = c->what->reading;
    char text[160];
    ink(c, PAPER, 1);
    cairo_rectangle(c->cairo, 0, c->height, c->width, STRIP_ROWS * c->unit);
    cairo_fill(c->cairo);
    (void)snprintf(text, sizeof text, "%s, %s, %s", c->what->camera->name, c->what->time,
                   c->what->state);
    ink(c, TAWNY, 1);
    text_at(c, c->width * 0.02, c->height + 18 * c->unit, text);
    (void)snprintf(
        text, sizeof text,
        "activity %.2f %%; taken: travel %.2f, size %.2f, sway %.2f, light %.2f, shake "
        "%.2f %%",
        r->activity_ppm / 1e4, r->travel_ppm / 1e4, r->size_ppm / 1e4, r->sway_ppm / 1e4,
        r->light_ppm / 1e4, r->shake_ppm / 1e4);
    ink(c, INK, 1);
    text_at(c, c->width * 0.98 - text_width(c, text), c->height + 18 * c->unit, text);
    draw_meter(c, c->height + 42 * c->unit);
    draw_legend(c, c->height + 76 * c->unit);
}

/* ---- the module ------------------------------------------------------------------ */

static void paint_picture(const canvas *c, const uint8_t *pixels, uint16_t width,
                          uint16_t height, int scale)
{
    cairo_surface_t *in =
        cairo_image_surface_create_for_data((unsigned char *)pixels, CAIRO_FORMAT_RGB24,
                                            width, height, width * BYTES_A_PIXEL);
    cairo_save(c->cairo);
    cairo_scale(c->cairo, scale, scale);
    cairo_set_source_surface(c->cairo, in, 0, 0);
    cairo_pattern_set_filter(cairo_get_source(c->cairo), CAIRO_FILTER_NEAREST);
    cairo_paint(c->cairo);
    cairo_restore(c->cairo);
    cairo_surface_destroy(in);
}

static void draw_all(const canvas *c)
{
    paint_font(c->cairo, 12 * c->unit);
    if (c->what->reading->cells)
        draw_cells(c);
    for (size_t i = 0; i < c->what->camera->zone_count; i++)
        draw_zone(c, i);
    for (uint16_t i = 0; i < c->what->reading->blob_count; i++)
        draw_blob(c, &c->what->reading->blob[i]);
    draw_strip(c);
}

tw_status twi_draw_overlay(const uint8_t *pixels, uint16_t width, uint16_t height,
                           const twi_overlay *what, uint8_t **out, uint16_t *out_width,
                           uint16_t *out_height, tw_error *err)
{
    const int scale = width < WIDTH_MIN ? (WIDTH_MIN + width - 1) / width : 1;
    const int w = width * scale, h = height * scale;
    const double unit = (double)w / WIDTH_MIN;
    const int all = h + (int)ceil(STRIP_ROWS * unit);
    if (w > SIDE_MAX || all > SIDE_MAX)
        return tw_fail(err, TW_ESIZE, "a picture of %u x %u is too large to draw on",
                       width, height);
    uint8_t *made = calloc((size_t)w * (size_t)all, BYTES_A_PIXEL);
    if (!made)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    cairo_surface_t *surface = cairo_image_surface_create_for_data(
        made, CAIRO_FORMAT_RGB24, w, all, w * BYTES_A_PIXEL);
    cairo_t *cairo = cairo_create(surface);
    const canvas c = {cairo, w, h, unit, what};
    paint_picture(&c, pixels, width, height, scale);
    draw_all(&c);
    const tw_status st = paint_finish(cairo, surface, err);
    if (st != TW_OK) {
        free(made);
        return st;
    }
    *out = made;
    *out_width = (uint16_t)w;
    *out_height = (uint16_t)all;
    return TW_OK;
}
