/* Texts of an input. */
#include "fields.h"

#include <string.h>

size_t fuzz_fields(const uint8_t *data, size_t bytes, char field[FIELDS][FIELD_MOST + 1])
{
    size_t at = 0;
    for (int i = 0; i < FIELDS; i++) {
        const uint8_t *end = at < bytes ? memchr(data + at, '\n', bytes - at) : NULL;
        const size_t n = end ? (size_t)(end - data) - at : 0;
        if (!end || n > FIELD_MOST)
            return 0;
        memcpy(field[i], data + at, n);
        field[i][n] = '\0';
        at += n + 1;
    }
    return at;
}
