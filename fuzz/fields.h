/* What targets share that take several texts of one input. */
#ifndef TW_FUZZ_FIELDS_H
#define TW_FUZZ_FIELDS_H

#include <stddef.h>
#include <stdint.h>

enum { FIELDS = 4, FIELD_MOST = 200 };

/** Read texts that are each ended by a line break. @return how many bytes they take, 0:
 * there are fewer, or one is too long. */
size_t fuzz_fields(const uint8_t *data, size_t bytes, char field[FIELDS][FIELD_MOST + 1]);

#endif
