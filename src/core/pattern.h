/* Patterns of strftime conversions and {fields}, as names and captions have them. */
#ifndef TW_PATTERN_H
#define TW_PATTERN_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/naming.h"

/* A text that is being written. */
typedef struct tw_text {
    char *at;
    size_t used, capacity;
    bool full;  /* something did not fit: one byte is kept for the final 0 */
    char slash; /* stands between the numbers of %D */
} tw_text;

void tw_put(tw_text *t, char c);
void tw_put_text(tw_text *t, const char *s); /* NULL is fine */
void tw_put_number(tw_text *t, int64_t value, int digits);

/** Write one field. @param at,n  As it stands in the pattern, with its braces.
 * @return false: it is not known. */
typedef bool (*tw_field_fn)(tw_text *t, const char *at, size_t n, const void *fields);

/** Expand a pattern. @return NULL; the offending place in it. */
const char *tw_expand(tw_text *t, const char *pattern, const tw_civil *time,
                      tw_field_fn field, const void *fields);

/** Whether a field has that name: "{camera}". */
bool tw_is_field(const char *at, size_t n, const char *name);

#endif
