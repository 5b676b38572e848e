/* Patterns of strftime conversions and {fields}, as names and captions have them. */
#ifndef TWI_PATTERN_H
#define TWI_PATTERN_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "naming.h"

/* A text that is being written. */
typedef struct twi_text {
    char *at;
    size_t used, capacity;
    bool full;  /* something did not fit: one byte is kept for the final 0 */
    char slash; /* stands between the numbers of %D */
} twi_text;

void twi_put(twi_text *t, char c);
void twi_put_text(twi_text *t, const char *s); /* NULL is fine */
void twi_put_number(twi_text *t, int64_t value, int digits);

/** Write one field. @param at,n  As it stands in the pattern, with its braces.
 * @return false: it is not known. */
typedef bool (*twi_field_fn)(twi_text *t, const char *at, size_t n, const void *fields);

/** Expand a pattern. @return NULL; the offending place in it. */
const char *twi_expand(twi_text *t, const char *pattern, const twi_civil *time,
                       twi_field_fn field, const void *fields);

/** Whether a field has that name: "{camera}". */
bool twi_is_field(const char *at, size_t n, const char *name);

#endif
