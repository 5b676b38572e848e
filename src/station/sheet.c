/* Contact sheets: the pictures are decoded here, and drawn by the drawing module. */
#include <stdlib.h>

#include "../media/drawing.h"
#include "tawny/station.h"
#include "../media/jpeg.h"
#include "sheet.h"

enum { QUALITY = 92, TILE_WIDTH = 640 /* no tile is wider */ };

static tw_status encode(const twi_drawing *drawing, const uint8_t *pixels, uint16_t width,
                        uint16_t height, bool png, uint8_t **out, size_t *bytes,
                        tw_error *err)
{
    if (png)
        return drawing->png(pixels, width, height, out, bytes, err);
    return twi_jpeg_encode_pixels(pixels, width, height, QUALITY, out, bytes, err);
}

tw_status twi_sheet_draw(const twi_sheet_entry *entries, size_t count, const char *title,
                         bool png, uint8_t **out, size_t *bytes, tw_error *err)
{
    if (!entries || !title || !out || !bytes || count == 0 || count > TWI_SHEET_MAX)
        return tw_fail(err, TW_EINVAL, "a contact sheet holds 1 to %d pictures",
                       TWI_SHEET_MAX);
    const twi_drawing *drawing = twi_drawing_load(err);
    if (!drawing)
        return TW_ENOTSUP;
    uint8_t *drawn = NULL;
    uint16_t width = 0, height = 0;
    tw_status st = TW_OK;
    twi_sheet_tile *tiles = calloc(count, sizeof *tiles);
    uint8_t **pixels = calloc(count, sizeof *pixels);
    if (!tiles || !pixels)
        st = tw_fail(err, TW_ENOMEM, "out of memory");
    for (size_t i = 0; tiles && pixels && i < count && st == TW_OK; i++) {
        st = twi_jpeg_pixels(entries[i].jpeg, entries[i].bytes, TILE_WIDTH, &pixels[i],
                             &tiles[i].width, &tiles[i].height, err);
        tiles[i].pixels = pixels[i];
        tiles[i].box = entries[i].boxed ? &entries[i].blob : NULL;
        tiles[i].title = entries[i].title;
        tiles[i].line = entries[i].line;
    }
    if (st == TW_OK)
        st = drawing->sheet(tiles, count, title, &drawn, &width, &height, err);
    if (st == TW_OK)
        st = encode(drawing, drawn, width, height, png, out, bytes, err);
    for (size_t i = 0; pixels && i < count; i++)
        free(pixels[i]);
    free(pixels);
    free(tiles);
    free(drawn);
    return st;
}
