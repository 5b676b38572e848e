/* The one table of all settings. */
#ifndef TW_TABLE_H
#define TW_TABLE_H

#include "values.h"

typedef struct tw_zone_settings {
    int64_t kind; /* index: ignored, watched */
    const char *area;
} tw_zone_settings;

/** @return the rows, in the order of the reference; count is set. */
const tw_row *tw_table(size_t *count);

/** @return the row of a key in a section, NULL: none. */
const tw_row *tw_table_find(const char *section, const char *key);

/** @return the known key that a mistyped one is closest to, NULL: none is close. */
const char *tw_table_nearest(const char *section, const char *key);

/** @return the word of a list (ended by NULL) that is closest, NULL: none is close. */
const char *tw_nearest(const char *word, const char *const *list);

#endif
