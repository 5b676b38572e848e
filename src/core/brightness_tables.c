/* Huffman tables of the brightness reader: codes, and look-ups of several symbols. */
#include <string.h>

#include "brightness_state.h"

enum { DC_SYMBOL_MAX = 15, RUN_OF_16 = 0xF0 };

/* The number that a code of so many value bits stands for (T.81, F.2.2.1, EXTEND). */
static int32_t extended(uint32_t bits, uint32_t count)
{
    return bits < 1U << (count - 1) ? (int32_t)bits - (1 << count) + 1 : (int32_t)bits;
}

/* Codes of one length follow one another; all ones of any length is not a code, but real
 * encoders use it, so only what cannot be told apart is refused. */
static bool codes_fit(const uint8_t *counts)
{
    uint32_t code = 0;
    for (uint32_t length = 1; length <= TWI_CODE_LENGTHS; length++) {
        code += counts[length - 1];
        if (code > 1U << length)
            return false;
        code <<= 1;
    }
    return true;
}

static void make_codes(twi_huffman *t)
{
    int32_t code = 0, index = 0;
    memset(t->symbol, 0, sizeof t->symbol);
    for (int32_t length = 1; length <= TWI_CODE_LENGTHS; length++) {
        t->first[length] = index - code;
        for (int32_t i = 0; i < t->counts[length - 1]; i++, code++, index++) {
            if (length > TWI_SYMBOL_BITS)
                continue;
            const uint16_t entry = (uint16_t)(length << 8 | t->values[index]);
            const int32_t spare = TWI_SYMBOL_BITS - length;
            for (int32_t k = 0; k < 1 << spare; k++)
                t->symbol[(code << spare) + k] = entry;
        }
        t->end[length] = code << (TWI_CODE_LENGTHS - length);
        code <<= 1;
    }
}

tw_status twi_huffman_set(twi_huffman *table, const uint8_t *counts,
                          const uint8_t *values, bool is_dc, uint32_t *versions)
{
    size_t sum = 0;
    for (int i = 0; i < TWI_CODE_LENGTHS; i++)
        sum += counts[i];
    if (sum > TWI_CODES || !codes_fit(counts))
        return TW_EDAMAGED;
    for (size_t i = 0; is_dc && i < sum; i++)
        if (values[i] > DC_SYMBOL_MAX)
            return TW_EDAMAGED;
    if (table->version > 0 && memcmp(table->counts, counts, TWI_CODE_LENGTHS) == 0 &&
        memcmp(table->values, values, sum) == 0)
        return TW_OK;
    memcpy(table->counts, counts, TWI_CODE_LENGTHS);
    memset(table->values, 0, sizeof table->values);
    memcpy(table->values, values, sum);
    table->version = ++*versions;
    make_codes(table);
    return TW_OK;
}

/* One symbol and its value bits from the top of `bits` of which `count` are known.
 * @return how many bits they are; 0: not all of them are known, or no such code. */
static inline uint32_t whole_symbol(const twi_huffman *t, uint32_t bits, uint32_t count,
                                    bool is_dc, uint8_t *symbol)
{
    const uint32_t top = bits << (TWI_CODE_LENGTHS - count) & 0xFFFF;
    const uint16_t entry = t->symbol[top >> (TWI_CODE_LENGTHS - TWI_SYMBOL_BITS)];
    uint32_t length = entry >> 8;
    *symbol = (uint8_t)entry;
    if (length == 0) {
        length = TWI_SYMBOL_BITS + 1;
        while (length <= count && (int32_t)top >= t->end[length])
            length++;
        if (length > count)
            return 0;
        const int32_t code = (int32_t)(top >> (TWI_CODE_LENGTHS - length));
        *symbol = t->values[(t->first[length] + code) & 0xFF];
    }
    const uint32_t all = length + (is_dc ? *symbol : *symbol & 0x0FU);
    return all <= count ? all : 0;
}

/* What is known of a block so far. */
typedef struct known {
    uint32_t used, coefficients, ended;
} known;

/* Go on with the whole symbols in what is left of TWI_FAST_BITS bits. */
static known step_over(const twi_huffman *ac, uint32_t bits, known from)
{
    known k = from;
    while (!k.ended && k.coefficients < TWI_COEFFICIENTS) {
        uint8_t symbol = 0;
        const uint32_t left = TWI_FAST_BITS - k.used;
        const uint32_t more =
            whole_symbol(ac, bits & ((1U << left) - 1), left, false, &symbol);
        if (more == 0)
            break;
        k.used += more;
        k.ended = (symbol & 0x0F) == 0 && symbol != RUN_OF_16;
        k.coefficients += k.ended ? 0 : (symbol >> 4) + 1U;
    }
    return k;
}

static uint32_t packed(known k)
{
    return k.coefficients << 5 | k.ended << 4 | k.used;
}

static void make_steps(twi_steps *steps, const twi_huffman *ac)
{
    if (steps->version == ac->version)
        return;
    for (uint32_t bits = 0; bits < 1U << TWI_FAST_BITS; bits++)
        steps->entry[bits] = (uint16_t)packed(step_over(ac, bits, (known){0, 0, 0}));
    steps->version = ac->version;
}

/* @param ac  NULL: nothing but the first coefficient is looked at. */
static uint32_t first_of(const twi_huffman *dc, const twi_huffman *ac, uint32_t bits)
{
    uint8_t size = 0;
    const uint32_t used = whole_symbol(dc, bits, TWI_FAST_BITS, true, &size);
    if (used == 0)
        return 0;
    const uint32_t value = bits >> (TWI_FAST_BITS - used) & ((1U << size) - 1U);
    const int32_t difference = size == 0 ? 0 : extended(value, size);
    const known first = {used, 1, 0};
    return (uint32_t)(difference + TWI_DIFFERENCE_0) << 12 |
           packed(ac ? step_over(ac, bits, first) : first);
}

static void make_firsts(twi_firsts *f, const twi_huffman *dc, const twi_huffman *ac)
{
    const uint32_t ac_version = ac ? ac->version : 0;
    if (f->dc_version == dc->version && f->ac_version == ac_version)
        return;
    for (uint32_t bits = 0; bits < 1U << TWI_FAST_BITS; bits++)
        f->entry[bits] = first_of(dc, ac, bits);
    f->dc_version = dc->version;
    f->ac_version = ac_version;
}

static void make_symbols(twi_symbols *s, const twi_huffman *ac)
{
    enum { VALUE_MAX = 127 };
    if (s->version == ac->version)
        return;
    for (uint32_t bits = 0; bits < 1U << TWI_FAST_BITS; bits++) {
        uint8_t symbol = 0;
        const uint32_t used = whole_symbol(ac, bits, TWI_FAST_BITS, false, &symbol);
        const uint32_t size = symbol & 0x0F;
        s->entry[bits] = 0;
        if (used == 0 || size == 0)
            continue;
        const int32_t value =
            extended(bits >> (TWI_FAST_BITS - used) & ((1U << size) - 1U), size);
        if (value >= -VALUE_MAX && value <= VALUE_MAX)
            s->entry[bits] = (int16_t)(value * 256 + (symbol >> 4) * 16 + (int32_t)used);
    }
    s->version = ac->version;
}

void twi_brightness_prepare(twi_brightness *b, bool lowest)
{
    const twi_component *luma = &b->component[0];
    make_firsts(&b->luma_first, &b->dc[luma->dc], lowest ? NULL : &b->ac[luma->ac]);
    make_steps(&b->luma_ac, &b->ac[luma->ac]);
    if (lowest)
        make_symbols(&b->luma_lowest, &b->ac[luma->ac]);
    b->one_colour_code = b->component[1].dc == b->component[2].dc &&
                         b->component[1].ac == b->component[2].ac;
    const int last = b->components == 1 ? 0 : b->one_colour_code ? 1 : 2;
    for (int i = 1; i <= last; i++) {
        const twi_component *c = &b->component[i];
        make_firsts(&b->chroma_first[i - 1], &b->dc[c->dc], &b->ac[c->ac]);
        make_steps(&b->chroma_ac[i - 1], &b->ac[c->ac]);
    }
}

/* ---- the usual codes ------------------------------------------------------------- */

static const uint8_t DC_COUNTS[2][TWI_CODE_LENGTHS] = {
    {0, 1, 5, 1, 1, 1, 1, 1, 1, 0, 0, 0, 0, 0, 0, 0},
    {0, 3, 1, 1, 1, 1, 1, 1, 1, 1, 1, 0, 0, 0, 0, 0}};
static const uint8_t DC_VALUES[] = {0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11};
static const uint8_t AC_COUNTS[2][TWI_CODE_LENGTHS] = {
    {0, 2, 1, 3, 3, 2, 4, 3, 5, 5, 4, 4, 0, 0, 1, 0x7D},
    {0, 2, 1, 2, 4, 4, 3, 4, 7, 5, 4, 4, 0, 1, 2, 0x77}};
static const uint8_t AC_VALUES[2][162] = {
    {0x01, 0x02, 0x03, 0x00, 0x04, 0x11, 0x05, 0x12, 0x21, 0x31, 0x41, 0x06, 0x13, 0x51,
     0x61, 0x07, 0x22, 0x71, 0x14, 0x32, 0x81, 0x91, 0xA1, 0x08, 0x23, 0x42, 0xB1, 0xC1,
     0x15, 0x52, 0xD1, 0xF0, 0x24, 0x33, 0x62, 0x72, 0x82, 0x09, 0x0A, 0x16, 0x17, 0x18,
     0x19, 0x1A, 0x25, 0x26, 0x27, 0x28, 0x29, 0x2A, 0x34, 0x35, 0x36, 0x37, 0x38, 0x39,
     0x3A, 0x43, 0x44, 0x45, 0x46, 0x47, 0x48, 0x49, 0x4A, 0x53, 0x54, 0x55, 0x56, 0x57,
     0x58, 0x59, 0x5A, 0x63, 0x64, 0x65, 0x66, 0x67, 0x68, 0x69, 0x6A, 0x73, 0x74, 0x75,
     0x76, 0x77, 0x78, 0x79, 0x7A, 0x83, 0x84, 0x85, 0x86, 0x87, 0x88, 0x89, 0x8A, 0x92,
     0x93, 0x94, 0x95, 0x96, 0x97, 0x98, 0x99, 0x9A, 0xA2, 0xA3, 0xA4, 0xA5, 0xA6, 0xA7,
     0xA8, 0xA9, 0xAA, 0xB2, 0xB3, 0xB4, 0xB5, 0xB6, 0xB7, 0xB8, 0xB9, 0xBA, 0xC2, 0xC3,
     0xC4, 0xC5, 0xC6, 0xC7, 0xC8, 0xC9, 0xCA, 0xD2, 0xD3, 0xD4, 0xD5, 0xD6, 0xD7, 0xD8,
     0xD9, 0xDA, 0xE1, 0xE2, 0xE3, 0xE4, 0xE5, 0xE6, 0xE7, 0xE8, 0xE9, 0xEA, 0xF1, 0xF2,
     0xF3, 0xF4, 0xF5, 0xF6, 0xF7, 0xF8, 0xF9, 0xFA},
    {0x00, 0x01, 0x02, 0x03, 0x11, 0x04, 0x05, 0x21, 0x31, 0x06, 0x12, 0x41, 0x51, 0x07,
     0x61, 0x71, 0x13, 0x22, 0x32, 0x81, 0x08, 0x14, 0x42, 0x91, 0xA1, 0xB1, 0xC1, 0x09,
     0x23, 0x33, 0x52, 0xF0, 0x15, 0x62, 0x72, 0xD1, 0x0A, 0x16, 0x24, 0x34, 0xE1, 0x25,
     0xF1, 0x17, 0x18, 0x19, 0x1A, 0x26, 0x27, 0x28, 0x29, 0x2A, 0x35, 0x36, 0x37, 0x38,
     0x39, 0x3A, 0x43, 0x44, 0x45, 0x46, 0x47, 0x48, 0x49, 0x4A, 0x53, 0x54, 0x55, 0x56,
     0x57, 0x58, 0x59, 0x5A, 0x63, 0x64, 0x65, 0x66, 0x67, 0x68, 0x69, 0x6A, 0x73, 0x74,
     0x75, 0x76, 0x77, 0x78, 0x79, 0x7A, 0x82, 0x83, 0x84, 0x85, 0x86, 0x87, 0x88, 0x89,
     0x8A, 0x92, 0x93, 0x94, 0x95, 0x96, 0x97, 0x98, 0x99, 0x9A, 0xA2, 0xA3, 0xA4, 0xA5,
     0xA6, 0xA7, 0xA8, 0xA9, 0xAA, 0xB2, 0xB3, 0xB4, 0xB5, 0xB6, 0xB7, 0xB8, 0xB9, 0xBA,
     0xC2, 0xC3, 0xC4, 0xC5, 0xC6, 0xC7, 0xC8, 0xC9, 0xCA, 0xD2, 0xD3, 0xD4, 0xD5, 0xD6,
     0xD7, 0xD8, 0xD9, 0xDA, 0xE2, 0xE3, 0xE4, 0xE5, 0xE6, 0xE7, 0xE8, 0xE9, 0xEA, 0xF2,
     0xF3, 0xF4, 0xF5, 0xF6, 0xF7, 0xF8, 0xF9, 0xFA}};

tw_status twi_huffman_usual(twi_huffman *table, int which, bool is_dc, uint32_t *versions)
{
    if (which > 1)
        return TW_EDAMAGED;
    return is_dc ? twi_huffman_set(table, DC_COUNTS[which], DC_VALUES, true, versions)
                 : twi_huffman_set(table, AC_COUNTS[which], AC_VALUES[which], false,
                                   versions);
}
