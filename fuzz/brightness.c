/* libFuzzer target: the brightness reader on any bytes, at both factors. What it says of
 * rows must be true of the memory it was given. */
#include <stdlib.h>

#include "../src/core/brightness.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes);

enum { CAPACITY = 64 * 64 };

static void read_at(twi_brightness *reader, const uint8_t *data, size_t bytes,
                    uint16_t factor)
{
    uint8_t *out = malloc(CAPACITY); /* of its own, so that a step past its end is seen */
    uint8_t *colour = malloc(CAPACITY);
    twi_brightness_picture p;
    twi_brightness_want_colour(reader, colour, CAPACITY);
    const tw_status st =
        twi_brightness_read(reader, data, bytes, factor, out, CAPACITY, &p);
    if (p.rows > p.luma.height || (st == TW_OK && p.rows != p.luma.height))
        abort();
    if (p.rows > 0 && (size_t)p.luma.stride * p.luma.height > CAPACITY)
        abort();
    if (p.chroma.u && (size_t)2 * p.chroma.stride * p.chroma.height > CAPACITY)
        abort();
    free(colour);
    free(out);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes)
{
    static twi_brightness *reader; /* kept, as a camera keeps it: what one picture leaves
                                     behind meets the next */
    uint16_t width = 0, height = 0;
    if (!reader && twi_brightness_init(malloc(twi_brightness_bytes()),
                                       twi_brightness_bytes(), &reader) != TW_OK)
        abort();
    (void)twi_brightness_size(data, bytes, &width, &height);
    read_at(reader, data, bytes, 8);
    read_at(reader, data, bytes, 4);
    return 0;
}
