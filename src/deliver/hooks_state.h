/* What the parts of the hooks share. */
#ifndef TWI_DELIVER_HOOKS_STATE_H
#define TWI_DELIVER_HOOKS_STATE_H

#include "../base/program.h"
#include "hooks.h"

enum { TWI_FIELD_MAX = 1100 };

/* What a hook gets of an event: names without "TAWNY_", and their values. */
typedef enum twi_field {
    TWI_FIELD_EVENT,
    TWI_FIELD_STATION,
    TWI_FIELD_CAMERA,
    TWI_FIELD_SIGHTING,
    TWI_FIELD_KIND,
    TWI_FIELD_FILE,
    TWI_FIELD_TIME,
    TWI_FIELD_TEXT,
    TWI_FIELDS
} twi_field;

typedef struct twi_fields {
    char value[TWI_FIELDS][TWI_FIELD_MAX]; /* "": it has none */
} twi_fields;

/** @return the name of a field: "event"...; static. */
const char *twi_field_name(twi_field field);

/** Put fields in for {event} and so on. Other braces stay.
 * @return TW_OK; TW_ESIZE: out is too small. */
tw_status twi_fields_expand(const char *word, const twi_fields *fields, char *out,
                            size_t capacity);

/** Our environment, and a variable for each field that has a value. @return the caller's,
 * to free with twi_fields_free_environment; NULL: out of memory. */
char **twi_fields_environment(const twi_fields *fields);
void twi_fields_free_environment(char **made); /* NULL is fine */

#endif
