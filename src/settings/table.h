/* The one table of all settings. */
#ifndef TW_TABLE_H
#define TW_TABLE_H

#include "values.h"

typedef enum tw_zone_kind { TW_ZONE_IGNORED, TW_ZONE_WATCHED, TW_ZONE_OWN } tw_zone_kind;

typedef struct tw_zone_settings {
    int64_t kind; /* a tw_zone_kind */
    const char *area;
    int64_t start_ppm, stay_ppm; /* 0: the camera's; the same as start_ppm */
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
