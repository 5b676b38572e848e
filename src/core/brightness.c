/* The brightness reader: markers and headers, every length checked. */
#include "brightness.h"

#include <string.h>

#include "brightness_state.h"

enum {
    MARKER = 0xFF,
    SOF0 = 0xC0, /* baseline */
    SOF1 = 0xC1, /* extended sequential */
    SOF15 = 0xCF,
    DHT = 0xC4,
    JPG = 0xC8,
    DAC = 0xCC,
    RST0 = 0xD0,
    SOI = 0xD8,
    EOI = 0xD9,
    SOS = 0xDA,
    DQT = 0xDB,
    DRI = 0xDD,
    APP14 = 0xEE,
    TEM = 0x01,
    ADOBE_BYTES = 12,
    SEGMENTS_MAX = 1000 /* more are not a picture */
};

/* What is left of the file. */
typedef struct span {
    const uint8_t *at;
    size_t left;
} span;

static uint16_t two(const uint8_t *p)
{
    return (uint16_t)(p[0] << 8 | p[1]);
}

static void skip(span *b, size_t count)
{
    b->at += count;
    b->left -= count;
}

size_t twi_brightness_bytes(void)
{
    return sizeof(twi_brightness);
}

tw_status twi_brightness_init(void *memory, size_t bytes, twi_brightness **out)
{
    if (!memory || !out || (uintptr_t)memory % sizeof(uint64_t) != 0)
        return TW_EINVAL;
    if (bytes < sizeof(twi_brightness))
        return TW_ESIZE;
    memset(memory, 0, sizeof(twi_brightness));
    *out = memory;
    return TW_OK;
}

void twi_brightness_want_colour(twi_brightness *reader, uint8_t *out, size_t capacity)
{
    reader->colour = out;
    reader->colour_bytes = out ? capacity : 0;
}

/* ---- segments -------------------------------------------------------------------- */

/* The next marker and the segment behind it; those without one have an empty segment. */
static tw_status next_segment(span *b, uint8_t *marker, span *segment)
{
    while (b->left >= 2 && !(b->at[0] == MARKER && b->at[1] != 0 && b->at[1] != MARKER))
        skip(b, 1); /* fill bytes, and what webcams leave between segments */
    if (b->left < 2)
        return TW_EDAMAGED;
    *marker = b->at[1];
    skip(b, 2);
    *segment = (span){b->at, 0};
    if (*marker == TEM || (*marker >= RST0 && *marker <= EOI))
        return TW_OK;
    if (b->left < 2 || two(b->at) < 2 || two(b->at) > b->left)
        return TW_EDAMAGED;
    *segment = (span){b->at + 2, two(b->at) - 2U};
    skip(b, two(b->at));
    return TW_OK;
}

static bool is_frame(uint8_t marker)
{
    return marker >= SOF0 && marker <= SOF15 && marker != DHT && marker != JPG &&
           marker != DAC;
}

tw_status twi_brightness_size(const uint8_t *jpeg, size_t count, uint16_t *width,
                              uint16_t *height)
{
    if (!jpeg || !width || !height)
        return TW_EINVAL;
    span b = {jpeg, count}, segment;
    uint8_t marker = 0;
    if (count < 4 || jpeg[0] != MARKER || jpeg[1] != SOI)
        return TW_EDAMAGED;
    for (int i = 0; i < SEGMENTS_MAX; i++) {
        if (next_segment(&b, &marker, &segment) != TW_OK || marker == SOS ||
            marker == EOI)
            return TW_EDAMAGED;
        if (!is_frame(marker))
            continue;
        if (segment.left < 5 || two(segment.at + 1) == 0 || two(segment.at + 3) == 0)
            return TW_EDAMAGED;
        *height = two(segment.at + 1);
        *width = two(segment.at + 3);
        return TW_OK;
    }
    return TW_EDAMAGED;
}

static tw_status take_quantisers(twi_brightness *r, span s)
{
    while (s.left > 0) {
        const uint8_t precision = s.at[0] >> 4, which = s.at[0] & 15;
        const size_t each = precision ? 2 : 1;
        if (precision > 1 || which >= TWI_TABLES || s.left < 1 + TWI_COEFFICIENTS * each)
            return TW_EDAMAGED;
        for (size_t i = 0; i < 5; i++)
            r->quantiser[which][i] = each == 2 ? two(s.at + 1 + 2 * i) : s.at[1 + i];
        r->quantisers_given |= (uint8_t)(1U << which);
        skip(&s, 1 + TWI_COEFFICIENTS * each);
    }
    return TW_OK;
}

static tw_status take_codes(twi_brightness *r, span s)
{
    while (s.left > 0) {
        const uint8_t class = s.at[0] >> 4, which = s.at[0] & 15;
        size_t sum = 0;
        if (class > 1 || which >= TWI_TABLES || s.left < 1 + TWI_CODE_LENGTHS)
            return TW_EDAMAGED;
        const uint8_t *counts = s.at + 1, *values = counts + TWI_CODE_LENGTHS;
        for (int i = 0; i < TWI_CODE_LENGTHS; i++)
            sum += counts[i];
        if (s.left < 1 + TWI_CODE_LENGTHS + sum)
            return TW_EDAMAGED;
        twi_huffman *table = class == 0 ? &r->dc[which] : &r->ac[which];
        const tw_status st =
            twi_huffman_set(table, counts, values, class == 0, &r->versions);
        if (st != TW_OK)
            return st;
        *(class == 0 ? &r->dc_given : &r->ac_given) |= (uint8_t)(1U << which);
        skip(&s, 1 + TWI_CODE_LENGTHS + sum);
    }
    return TW_OK;
}

/* Luma must be first and whole, so that its blocks are the picture's. */
static bool samplings_suit(const twi_brightness *r)
{
    uint32_t blocks = 0;
    for (int i = 0; i < r->components; i++) {
        const twi_component *c = &r->component[i];
        blocks += (uint32_t)c->across * c->down;
        if (c->across < 1 || c->across > 4 || c->down < 1 || c->down > 4 ||
            c->across > r->component[0].across || c->down > r->component[0].down)
            return false;
    }
    return r->components == 1 || blocks <= TWI_MCU_BLOCKS_MAX;
}

static bool is_rgb(const twi_brightness *r)
{
    return r->component[0].id == 'R' && r->component[1].id == 'G' &&
           r->component[2].id == 'B';
}

static tw_status take_frame(twi_brightness *r, uint8_t marker, span s)
{
    if (r->components > 0 || s.left < 6)
        return TW_EDAMAGED;
    r->height = two(s.at + 1);
    r->width = two(s.at + 3);
    if (marker > SOF1 || s.at[0] != 8 || (s.at[5] != 1 && s.at[5] != TWI_COMPONENTS))
        return TW_ENOTSUP;
    r->components = s.at[5];
    if (r->width == 0 || r->height == 0 || s.left < 6 + 3U * r->components)
        return TW_EDAMAGED;
    for (int i = 0; i < r->components; i++) {
        const uint8_t *p = s.at + 6 + 3 * i;
        r->component[i] = (twi_component){.id = p[0],
                                          .across = p[1] >> 4,
                                          .down = p[1] & 15,
                                          .quantiser = p[2] & (TWI_TABLES - 1)};
        if (p[2] >= TWI_TABLES)
            return TW_EDAMAGED;
    }
    return samplings_suit(r) && !(r->components > 1 && is_rgb(r)) ? TW_OK : TW_ENOTSUP;
}

/* Three components may also be red, green and blue. */
static void take_adobe(twi_brightness *r, span s)
{
    if (s.left >= ADOBE_BYTES && memcmp(s.at, "Adobe", 5) == 0)
        r->not_ycc = s.at[ADOBE_BYTES - 1] != 1;
}

/* ---- the scan -------------------------------------------------------------------- */

/* Which tables each component is coded with. */
static tw_status take_choices(twi_brightness *r, span s)
{
    if (r->components == 0 || s.left < 1)
        return TW_EDAMAGED;
    if (s.at[0] != r->components || (r->components > 1 && r->not_ycc))
        return TW_ENOTSUP; /* colours in scans of their own */
    if (s.left < 4 + 2U * r->components)
        return TW_EDAMAGED;
    for (int i = 0; i < r->components; i++) {
        twi_component *c = &r->component[i];
        const uint8_t *p = s.at + 1 + 2 * i;
        c->dc = p[1] >> 4;
        c->ac = p[1] & 15;
        if (p[0] != c->id || c->dc >= TWI_TABLES || c->ac >= TWI_TABLES)
            return TW_EDAMAGED;
    }
    const uint8_t *range = s.at + 1 + 2 * r->components;
    return range[0] == 0 && range[1] == 63 && range[2] == 0 ? TW_OK : TW_ENOTSUP;
}

/* Tables that the picture does not bring are the usual ones, as webcams mean it. */
static tw_status complete_tables(twi_brightness *r)
{
    tw_status st = TW_OK;
    if (!(r->quantisers_given >> r->component[0].quantiser & 1))
        return TW_EDAMAGED;
    for (int i = 0; i < r->components && st == TW_OK; i++) {
        const twi_component *c = &r->component[i];
        if (!(r->dc_given >> c->dc & 1))
            st = twi_huffman_usual(&r->dc[c->dc], c->dc, true, &r->versions);
        if (st == TW_OK && !(r->ac_given >> c->ac & 1))
            st = twi_huffman_usual(&r->ac[c->ac], c->ac, false, &r->versions);
    }
    return st;
}

/* Blocks along one side of a picture's colours. */
static uint16_t colour_blocks(uint16_t side, uint8_t sampling, uint8_t luma_sampling)
{
    const uint32_t pixels =
        ((uint32_t)side * sampling + luma_sampling - 1U) / luma_sampling;
    return (uint16_t)((pixels + 7) / 8);
}

/* Have a scan read colours, where they are wanted and alike, and there is room. */
static void aim_at_colour(const twi_brightness *r, twi_scan *scan,
                          twi_brightness_picture *picture)
{
    const twi_component *luma = &r->component[0], *c = &r->component[1];
    if (!r->colour || r->components != TWI_COMPONENTS ||
        c->across != r->component[2].across || c->down != r->component[2].down ||
        !(r->quantisers_given >> c->quantiser & 1) ||
        !(r->quantisers_given >> r->component[2].quantiser & 1))
        return;
    const uint16_t columns = colour_blocks(r->width, c->across, luma->across);
    const uint16_t rows = colour_blocks(r->height, c->down, luma->down);
    const size_t plane = (size_t)columns * rows;
    if (2 * plane > r->colour_bytes)
        return;
    scan->colour[0] = r->colour;
    scan->colour[1] = r->colour + plane;
    scan->colour_columns = columns;
    scan->colour_rows = rows;
    picture->chroma =
        (tw_chroma){scan->colour[0], scan->colour[1], columns, columns, rows};
}

static tw_status read_scan(twi_brightness *r, const span *rest, uint16_t factor,
                           uint8_t *out, size_t capacity, twi_brightness_picture *picture)
{
    const uint16_t columns = (uint16_t)((r->width + factor - 1U) / factor);
    const uint16_t rows = (uint16_t)((r->height + factor - 1U) / factor);
    picture->luma = (tw_luma){out, columns, columns, rows};
    if ((size_t)columns * rows > capacity)
        return TW_ESIZE;
    const tw_status st = complete_tables(r);
    if (st != TW_OK)
        return st;
    twi_scan scan = {.at = rest->at,
                     .end = rest->at + rest->left,
                     .factor = factor,
                     .out = out,
                     .columns = columns,
                     .rows = rows};
    aim_at_colour(r, &scan, picture);
    twi_brightness_prepare(r, factor != 8);
    return twi_brightness_scan(r, &scan, &picture->rows);
}

static void begin(twi_brightness *r)
{
    r->components = 0;
    r->width = r->height = r->restart_every = 0;
    r->dc_given = r->ac_given = r->quantisers_given = 0;
    r->not_ycc = false;
}

/* Take one segment in. TW_EEND: the scan comes next. */
static tw_status take_segment(twi_brightness *r, uint8_t marker, span segment)
{
    if (is_frame(marker))
        return take_frame(r, marker, segment);
    switch (marker) {
    case DHT: return take_codes(r, segment);
    case DQT: return take_quantisers(r, segment);
    case DAC: return TW_ENOTSUP;
    case DRI:
        if (segment.left < 2)
            return TW_EDAMAGED;
        r->restart_every = two(segment.at);
        return TW_OK;
    case APP14: take_adobe(r, segment); return TW_OK;
    case EOI: return TW_EDAMAGED;
    case SOS: {
        const tw_status st = take_choices(r, segment);
        return st == TW_OK ? TW_EEND : st;
    }
    default: return TW_OK;
    }
}

tw_status twi_brightness_read(twi_brightness *reader, const uint8_t *jpeg, size_t count,
                              uint16_t factor, uint8_t *out, size_t capacity,
                              twi_brightness_picture *picture)
{
    if (!reader || !jpeg || !out || !picture || (factor != 8 && factor != 4))
        return TW_EINVAL;
    tw_status st = TW_OK;
    span b = {jpeg, count};
    memset(picture, 0, sizeof *picture);
    if (count < 4 || jpeg[0] != MARKER || jpeg[1] != SOI)
        return TW_EDAMAGED;
    begin(reader);
    skip(&b, 2);
    for (int i = 0; i < SEGMENTS_MAX && st == TW_OK; i++) {
        uint8_t marker = 0;
        span segment;
        st = next_segment(&b, &marker, &segment);
        if (st == TW_OK)
            st = take_segment(reader, marker, segment);
    }
    picture->width = reader->width;
    picture->height = reader->height;
    if (st == TW_EEND)
        return read_scan(reader, &b, factor, out, capacity, picture);
    return st == TW_OK ? TW_EDAMAGED : st;
}
