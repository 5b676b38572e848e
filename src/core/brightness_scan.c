/* The brightness reader's way through the entropy-coded bytes. Every read is bounded:
 * past the end, and at a marker, there are only zeros, and they are counted. */
#include <string.h>

#include "brightness_state.h"

enum {
    BYTE_FILL = 0xFF, /* begins a marker, or with a 0 behind it is itself */
    RUN_OF_16 = 0xF0,
    BITS_AT_HAND = 32, /* enough for the longest code with its value bits */
    RESTART_FIRST = 0xD0,
    DC_MAX = 32767,
    BELOW_WHITE = 128 /* luma is coded around this */
};

/* Bits in front of us, the next one uppermost. */
typedef struct bits {
    uint64_t ahead;
    int32_t count;  /* of them that are known, zeros past the end too */
    int32_t padded; /* zeros put in past the end */
    const uint8_t *at, *end;
} bits;

static inline uint64_t load_eight(const uint8_t *p)
{
    uint64_t v = 0;
    for (int i = 0; i < 8; i++) /* compilers make one load of this */
        v = v << 8 | p[i];
    return v;
}

static inline bool has_fill_byte(uint64_t v)
{
    const uint64_t inverse = ~v;
    return ((inverse - UINT64_C(0x0101010101010101)) & v &
            UINT64_C(0x8080808080808080)) != 0;
}

/* Byte for byte: near the end, and where bytes are stuffed. */
static void refill_slowly(bits *b)
{
    while (b->count <= 56) {
        uint64_t byte = 0;
        const bool ended = b->at >= b->end;
        const bool fill = !ended && b->at[0] == BYTE_FILL;
        if (ended || (fill && (b->end - b->at < 2 || b->at[1] != 0))) {
            b->padded += 8;
        } else {
            byte = b->at[0];
            b->at += fill ? 2 : 1;
        }
        b->ahead |= byte << (56 - b->count);
        b->count += 8;
    }
}

static inline void refill(bits *b)
{
    if (b->end - b->at >= 8) {
        const uint64_t next = load_eight(b->at);
        if (!has_fill_byte(next)) {
            const int32_t bytes = (63 - b->count) >> 3;
            b->ahead |= next >> b->count;
            b->at += bytes;
            b->count += bytes * 8;
            return;
        }
    }
    refill_slowly(b);
}

static inline void need(bits *b)
{
    if (b->count < BITS_AT_HAND)
        refill(b);
}

static inline uint32_t peek(const bits *b, uint32_t count)
{
    return (uint32_t)(b->ahead >> (64 - count));
}

static inline void drop(bits *b, uint32_t count)
{
    b->ahead <<= count;
    b->count -= (int32_t)count;
}

/* Zeros that were put in have been read. */
static inline bool overran(const bits *b)
{
    return b->count < b->padded;
}

/* @return the next symbol, -1: there is no such code. */
static int32_t next_symbol(bits *b, const twi_huffman *t)
{
    const uint16_t entry = t->symbol[peek(b, TWI_SYMBOL_BITS)];
    if (entry) {
        drop(b, entry >> 8);
        return entry & 0xFF;
    }
    const uint32_t top = peek(b, TWI_CODE_LENGTHS);
    for (uint32_t length = TWI_SYMBOL_BITS + 1; length <= TWI_CODE_LENGTHS; length++) {
        if ((int32_t)top >= t->end[length])
            continue;
        const int32_t code = (int32_t)(top >> (TWI_CODE_LENGTHS - length));
        drop(b, length);
        return t->values[(t->first[length] + code) & 0xFF];
    }
    return -1;
}

/* The number in so many value bits, 0..15 (T.81, F.2.2.1, EXTEND). */
static inline int32_t take_value(bits *b, uint32_t size)
{
    if (size == 0)
        return 0;
    const uint32_t value = peek(b, size);
    drop(b, size);
    return value < 1U << (size - 1) ? (int32_t)value - (1 << size) + 1 : (int32_t)value;
}

/* Step over a block from its coefficient k on. */
static inline bool step_over(bits *b, const twi_steps *steps, const twi_huffman *ac,
                             uint32_t k)
{
    while (k < TWI_COEFFICIENTS) {
        need(b);
        const uint32_t entry = steps->entry[peek(b, TWI_FAST_BITS)];
        const uint32_t next = k + (entry >> 5);
        /* a block that is full has no end symbol: its last ones are taken one by one */
        if (entry != 0 && next < TWI_COEFFICIENTS) {
            drop(b, entry & 15);
            k = next;
            if (entry & 16)
                return true;
            continue;
        }
        const int32_t symbol = next_symbol(b, ac);
        if (symbol < 0)
            return false;
        if ((symbol & 15) == 0 && symbol != RUN_OF_16)
            return true;
        drop(b, symbol & 15);
        k += (uint32_t)(symbol >> 4) + 1;
    }
    return true;
}

/* How far the first coefficient is from the last block's, and what of the block follows
 * in the same look-up.
 * @return the next coefficient, or TWI_COEFFICIENTS: the block is over; 0: no such code.
 */
static inline uint32_t take_first(bits *b, const twi_firsts *f, const twi_huffman *dc,
                                  int32_t *difference)
{
    need(b);
    const uint32_t entry = f->entry[peek(b, TWI_FAST_BITS)];
    const uint32_t next = entry >> 5 & 127;
    if (entry != 0 && next < TWI_COEFFICIENTS) {
        drop(b, entry & 15);
        *difference = (int32_t)(entry >> 12) - TWI_DIFFERENCE_0;
        return entry & 16 ? TWI_COEFFICIENTS : next;
    }
    const int32_t size = next_symbol(b, dc);
    if (size < 0)
        return 0;
    *difference = take_value(b, (uint32_t)size);
    return 1;
}

/* The next coefficients as far as the fifth in zigzag order, which is the highest that a
 * quarter of a block needs. @return the next one, or TWI_COEFFICIENTS: the block is over;
 * 0: no such code. */
static inline uint32_t take_lowest(bits *b, const twi_symbols *symbols,
                                   const twi_huffman *ac, int32_t value[16 + 5])
{
    uint32_t k = 1;
    while (k <= 4) {
        need(b);
        const int32_t entry = symbols->entry[peek(b, TWI_FAST_BITS)];
        if (entry != 0) {
            drop(b, (uint32_t)entry & 15);
            k += (uint32_t)entry >> 4 & 15;
            value[k++] = (entry - (entry & 255)) / 256;
            continue;
        }
        const int32_t symbol = next_symbol(b, ac);
        if (symbol < 0)
            return 0;
        const uint32_t size = symbol & 15;
        if (size == 0 && symbol != RUN_OF_16)
            return TWI_COEFFICIENTS;
        k += (uint32_t)symbol >> 4;
        value[k++] = take_value(b, size);
    }
    return k;
}

/* As libjpeg's range limit does it, so that even nonsense gives the same pixel. */
static inline uint8_t to_pixel(int32_t value)
{
    const int32_t wrapped = ((value + 512) & 1023) - 512 + BELOW_WHITE;
    return (uint8_t)(wrapped < 0 ? 0 : wrapped > 255 ? 255 : wrapped);
}

static void put(const twi_scan *s, uint32_t column, uint32_t row, int32_t value)
{
    if (column < s->columns && row < s->rows)
        s->out[(size_t)row * s->columns + column] = to_pixel(value);
}

static inline int32_t eighth(int64_t value)
{
    return (int32_t)((value + 4) >> 3);
}

/* Means of the four quarters of a block. The factors are those of a cosine's mean over
 * half of the block: sqrt(2) * (cos(pi/16) + cos(3 pi/16) + cos(5 pi/16) +
 * cos(7 pi/16)) / 4, and its square, Q15. */
static void put_quarters(const twi_scan *s, const uint16_t *quantiser, uint32_t column,
                         uint32_t row, const int32_t *value)
{
    enum { ONE = 29692, BOTH = 26905 };
    const int64_t mean = (int64_t)value[0] * quantiser[0] * 32768;
    const int64_t right = (int64_t)value[1] * quantiser[1] * ONE;
    const int64_t below = (int64_t)value[2] * quantiser[2] * ONE;
    const int64_t both = (int64_t)value[4] * quantiser[4] * BOTH;
    const int64_t round = 1 << 14;
    put(s, column, row, eighth((mean + right + below + both + round) >> 15));
    put(s, column + 1, row, eighth((mean - right + below - both + round) >> 15));
    put(s, column, row + 1, eighth((mean + right - below - both + round) >> 15));
    put(s, column + 1, row + 1, eighth((mean - right - below + both + round) >> 15));
}

/* A scan on its way. */
typedef struct walk {
    const twi_brightness *reader;
    const twi_scan *scan;
    bits bits;
    int32_t dc[TWI_COMPONENTS]; /* of the last block of each */
} walk;

/* Read the first coefficient of a block, which is kept for the next one.
 * @return as take_first; 0 also where it is out of all bounds. */
static inline uint32_t follow_first(walk *w, int which, const twi_firsts *first)
{
    const twi_component *c = &w->reader->component[which];
    int32_t difference = 0, *dc = &w->dc[which];
    const uint32_t next = take_first(&w->bits, first, &w->reader->dc[c->dc], &difference);
    *dc += difference;
    return *dc > DC_MAX || *dc < -DC_MAX ? 0 : next;
}

static inline bool read_luma_block(walk *w, uint32_t column, uint32_t row)
{
    const twi_brightness *r = w->reader;
    const twi_component *c = &r->component[0];
    const uint16_t *quantiser = r->quantiser[c->quantiser];
    const twi_huffman *ac = &r->ac[c->ac];
    uint32_t next = follow_first(w, 0, &r->luma_first);
    if (next == 0)
        return false;
    if (w->scan->factor == 8) {
        put(w->scan, column, row, eighth((int64_t)w->dc[0] * quantiser[0]));
        return step_over(&w->bits, &r->luma_ac, ac, next);
    }
    int32_t value[16 + 5] = {w->dc[0]}; /* a run may lead past the fifth */
    next = take_lowest(&w->bits, &r->luma_lowest, ac, value);
    put_quarters(w->scan, quantiser, 2 * column, 2 * row, value);
    return next > 0 && step_over(&w->bits, &r->luma_ac, ac, next);
}

/* Which look-ups a colour has. */
static inline int code_of(const twi_brightness *r, int which)
{
    return r->one_colour_code ? 0 : which - 1;
}

static inline bool read_colour_block(walk *w, int which, uint32_t column, uint32_t row)
{
    const twi_brightness *r = w->reader;
    const twi_component *c = &r->component[which];
    const int code = code_of(r, which);
    const twi_scan *s = w->scan;
    const uint32_t next = follow_first(w, which, &r->chroma_first[code]);
    if (next == 0)
        return false;
    if (s->colour[0] && column < s->colour_columns && row < s->colour_rows)
        s->colour[which - 1][(size_t)row * s->colour_columns + column] =
            to_pixel(eighth((int64_t)w->dc[which] * r->quantiser[c->quantiser][0]));
    return step_over(&w->bits, &r->chroma_ac[code], &r->ac[c->ac], next);
}

/* @param x,y  The unit's place, counted in units. */
static inline bool read_colour(walk *w, int which, uint32_t x, uint32_t y)
{
    const twi_component *c = &w->reader->component[which];
    for (uint32_t row = 0; row < c->down; row++)
        for (uint32_t column = 0; column < c->across; column++)
            if (!read_colour_block(w, which, x * c->across + column, y * c->down + row))
                return false;
    return true;
}

static bool read_mcu(walk *w, uint32_t across, uint32_t down, uint32_t x, uint32_t y)
{
    for (uint32_t row = 0; row < down; row++)
        for (uint32_t column = 0; column < across; column++)
            if (!read_luma_block(w, x * across + column, y * down + row))
                return false;
    for (int i = 1; i < w->reader->components; i++)
        if (!read_colour(w, i, x, y))
            return false;
    return !overran(&w->bits);
}

/* Between two intervals: the next marker must be the one that is due. */
static bool pass_restart(walk *w, uint32_t number)
{
    bits *b = &w->bits;
    const uint8_t *at = b->at;
    while (b->end - at >= 2 && !(at[0] == BYTE_FILL && at[1] != 0 && at[1] != BYTE_FILL))
        at++;
    if (b->end - at < 2 || at[1] != RESTART_FIRST + number % 8)
        return false;
    *b = (bits){.at = at + 2, .end = b->end};
    memset(w->dc, 0, sizeof w->dc);
    return true;
}

tw_status twi_brightness_scan(const twi_brightness *b, const twi_scan *scan,
                              uint16_t *rows)
{
    walk w = {b, scan, {.at = scan->at, .end = scan->end}, {0}};
    const bool alone = b->components == 1; /* then one block is one unit */
    const uint32_t across = alone ? 1 : b->component[0].across;
    const uint32_t down = alone ? 1 : b->component[0].down;
    const uint32_t columns = (b->width + 8 * across - 1) / (8 * across);
    const uint32_t lines = (b->height + 8 * down - 1) / (8 * down);
    const uint32_t rows_each = 8 * down / scan->factor;
    uint32_t until_restart = b->restart_every, restarts = 0;
    for (uint32_t y = 0; y < lines; y++) {
        for (uint32_t x = 0; x < columns; x++) {
            if (b->restart_every > 0 && until_restart == 0) {
                if (!pass_restart(&w, restarts++))
                    return TW_EDAMAGED;
                until_restart = b->restart_every;
            }
            if (!read_mcu(&w, across, down, x, y))
                return TW_EDAMAGED;
            until_restart--;
        }
        const uint32_t done = (y + 1) * rows_each;
        *rows = (uint16_t)(done < scan->rows ? done : scan->rows);
    }
    return TW_OK;
}
