/* The one table of all settings. */
#ifndef TWI_TABLE_H
#define TWI_TABLE_H

#include "values.h"

typedef enum twi_zone_kind {
    TWI_ZONE_IGNORED,
    TWI_ZONE_WATCHED,
    TWI_ZONE_OWN,
    TWI_ZONE_PRIVATE
} twi_zone_kind;

enum { TWI_DIAL_FIRST = 1, TWI_DIAL_USUAL = 3, TWI_DIAL_LAST = 5 }; /* of sensitivity */

typedef struct twi_zone_settings {
    int64_t kind; /* a twi_zone_kind */
    const char *area;
    int64_t start_ppm, stay_ppm; /* 0: the camera's; the same as start_ppm */
    int64_t sensitivity;         /* 1..5; 0: the camera's */
} twi_zone_settings;

/** @return whether what moves in a zone counts. */
static inline bool twi_zone_is_watched(const twi_zone_settings *zone)
{
    return zone->kind == TWI_ZONE_WATCHED || zone->kind == TWI_ZONE_OWN;
}

/** @return the rows, in the order of the reference; count is set. */
const twi_row *twi_table(size_t *count);

/** @return the row of a key in a section, NULL: none. */
const twi_row *twi_table_find(const char *section, const char *key);

/** @return whether a setting may be another by light and hour. */
bool twi_row_changes(const twi_row *row);

/** @return how another value of a setting is applied. */
tw_applied twi_row_applied(const twi_row *row);

/** @return the known key that a mistyped one is closest to, NULL: none is close. */
const char *twi_table_nearest(const char *section, const char *key);

/** @return the word of a list (ended by NULL) that is closest, NULL: none is close. */
const char *twi_nearest(const char *word, const char *const *list);

#endif
