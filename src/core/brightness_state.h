/* The brightness reader's state, shared by its parts: brightness.c reads the markers,
 * brightness_tables.c makes tables of the Huffman codes, brightness_scan.c reads with
 * them. */
#ifndef TWI_BRIGHTNESS_STATE_H
#define TWI_BRIGHTNESS_STATE_H

#include <stdbool.h>

#include "brightness.h"

enum {
    TWI_COMPONENTS = 3,
    TWI_CODES = 256,       /* of one table at most */
    TWI_CODE_LENGTHS = 16, /* bits of a code, 1..16 */
    TWI_TABLES = 4,        /* of each class */
    TWI_COEFFICIENTS = 64, /* of a block */
    TWI_FAST_BITS = 12,    /* looked up at once: more would not stay in the cache */
    TWI_DIFFERENCE_0 = 1 << TWI_FAST_BITS,
    TWI_SYMBOL_BITS = 9,    /* of the look-up for one symbol */
    TWI_MCU_BLOCKS_MAX = 10 /* by the standard */
};

/* One Huffman table, as it came and ready for use. */
typedef struct twi_huffman {
    uint8_t counts[TWI_CODE_LENGTHS];  /* codes of each length */
    uint8_t values[TWI_CODES];         /* their symbols, shortest code first */
    uint32_t version;                  /* 0: none yet; no two tables have the same */
    int32_t end[TWI_CODE_LENGTHS + 1]; /* first code too large for a length, left-aligned
                                         to   16 bits */
    int32_t first[TWI_CODE_LENGTHS + 1];   /* index into values less the first code */
    uint16_t symbol[1 << TWI_SYMBOL_BITS]; /* length << 8 | symbol; 0: a longer code */
} twi_huffman;

/* What the next TWI_FAST_BITS bits hold of coefficients whose values nobody wants: bits
 * 0..3 how many of them are whole symbols, bit 4 whether the block ends with them, bits
 * 5.. how many coefficients they are. 0: not one whole symbol. */
typedef struct twi_steps {
    uint32_t version; /* of what it was made from */
    uint16_t entry[1 << TWI_FAST_BITS];
} twi_steps;

/* The same at the beginning of a block, whose first coefficient is wanted: that is one of
 * those in bits 5..11, and its difference, TWI_DIFFERENCE_0 added, is in bits 12 and up.
 */
typedef struct twi_firsts {
    uint32_t dc_version, ac_version; /* of what it was made from; ac 0: only dc */
    uint32_t entry[1 << TWI_FAST_BITS];
} twi_firsts;

/* One symbol with its value: bits 0..3 how many bits, 4..7 the run of zeros before it,
 * the rest the value, signed. 0: it does not fit, or the block ends. */
typedef struct twi_symbols {
    uint32_t version;
    int16_t entry[1 << TWI_FAST_BITS];
} twi_symbols;

typedef struct twi_component {
    uint8_t id, across, down;  /* sampling factors */
    uint8_t quantiser, dc, ac; /* which tables */
} twi_component;

struct twi_brightness {
    twi_huffman dc[TWI_TABLES], ac[TWI_TABLES];
    uint32_t versions;                            /* of tables, given out so far */
    uint8_t dc_given, ac_given, quantisers_given; /* by this picture, a bit each */
    uint16_t quantiser[TWI_TABLES][5];            /* the first five in zigzag order; */
    twi_firsts luma_first, chroma_first[2];
    twi_steps luma_ac, chroma_ac[2];
    twi_symbols luma_lowest;
    bool one_colour_code; /* both colours have the same codes: the first look-ups do */
    uint8_t *colour;      /* where colour is wanted, NULL: nowhere */
    size_t colour_bytes;
    twi_component component[TWI_COMPONENTS];
    uint8_t components;
    uint16_t width, height;
    uint16_t restart_every; /* MCUs; 0: never */
    bool not_ycc;           /* an Adobe marker says so */
};

/* Where and how a scan is read. */
typedef struct twi_scan {
    const uint8_t *at, *end; /* the entropy-coded bytes and what follows */
    uint16_t factor;         /* 8 or 4 */
    uint8_t *out;
    uint16_t columns, rows; /* of out */
    uint8_t *colour[2];     /* one plane each; NULL: stepped over */
    uint16_t colour_columns, colour_rows;
} twi_scan;

/** Take the codes of one table.
 * @param counts  TWI_CODE_LENGTHS of them; values: as many as they sum up to, at most
 *                TWI_CODES.
 * @param versions  The last one that was given to a table; raised if this one changes.
 * @return TW_OK; TW_EDAMAGED: there are no such codes. */
tw_status twi_huffman_set(twi_huffman *table, const uint8_t *counts,
                          const uint8_t *values, bool is_dc, uint32_t *versions);

/** The tables that pictures without any are coded with (T.81, K.3.3): 0 for brightness, 1
 * for colour. */
tw_status twi_huffman_usual(twi_huffman *table, int which, bool is_dc,
                            uint32_t *versions);

/** Make the look-ups for the components at hand, those that are not made yet.
 * @param lowest  The lowest coefficients of brightness are wanted, not only the first. */
void twi_brightness_prepare(twi_brightness *b, bool lowest);

/** Read all blocks. @param rows Set to how many rows of out are complete. */
tw_status twi_brightness_scan(const twi_brightness *b, const twi_scan *scan,
                              uint16_t *rows);

#endif
