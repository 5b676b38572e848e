/* What the parts of the hooks share. */
#ifndef TWI_DELIVER_HOOKS_STATE_H
#define TWI_DELIVER_HOOKS_STATE_H

#include "hooks.h"

enum { TWI_RUN_ARGS_MAX = 32, TWI_RUN_LINE_MAX = 160, TWI_FIELD_MAX = 1100 };

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

/** Words of a command line: separated by blanks, "..." keeps them; \" and \\ stand for
 * themselves within.
 * @param text  Changed: the words lie in it.
 * @param words Set to point to them, ended by NULL.
 * @return TW_OK; TW_ESYNTAX: an open quote, a lone \, none or too many words. */
tw_status twi_run_split(char *text, char *words[TWI_RUN_ARGS_MAX + 1]);

/** Put fields in for {event} and so on. Other braces stay.
 * @return TW_OK; TW_ESIZE: out is too small. */
tw_status twi_run_expand(const char *word, const twi_fields *fields, char *out,
                         size_t capacity);

/* How a program ended. */
typedef struct twi_run_outcome {
    int code;                    /* exit code, or 128 + the signal that ended it */
    bool late;                   /* its time was up */
    int64_t us;                  /* that it ran */
    char last[TWI_RUN_LINE_MAX]; /* line that it printed; "": none */
} twi_run_outcome;

/** Run a program to its end.
 * @param input     Given to it on standard input.
 * @param until_us  When it is ended at the latest, on CLOCK_MONOTONIC; 0: no such time.
 *                  Others may set it meanwhile.
 * @return TW_OK: it has run; TW_ENOENT, TW_EACCES...: it could not be started, err says
 *         why. */
tw_status twi_run_program(char *const argv[], const twi_fields *fields, const char *input,
                          int64_t timeout_us, const _Atomic int64_t *until_us,
                          twi_run_outcome *out, tw_error *err);

/** @return CLOCK_MONOTONIC, microseconds. */
int64_t twi_run_now(void);

#endif
