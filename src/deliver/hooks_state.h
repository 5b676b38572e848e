/* What the parts of the hooks share. */
#ifndef TW_DELIVER_HOOKS_STATE_H
#define TW_DELIVER_HOOKS_STATE_H

#include "hooks.h"

enum { TW_RUN_ARGS_MAX = 32, TW_RUN_LINE_MAX = 160, TW_FIELD_MAX = 1100 };

/* What is told of an event: names without "TAWNY_", and their values. */
typedef enum tw_field {
    TW_FIELD_EVENT,
    TW_FIELD_STATION,
    TW_FIELD_CAMERA,
    TW_FIELD_SIGHTING,
    TW_FIELD_KIND,
    TW_FIELD_FILE,
    TW_FIELD_TIME,
    TW_FIELD_TEXT,
    TW_FIELDS
} tw_field;

typedef struct tw_fields {
    char value[TW_FIELDS][TW_FIELD_MAX]; /* "": it has none */
} tw_fields;

/** @return the name of a field: "event"...; static. */
const char *tw_field_name(tw_field field);

/** Words of a command line: separated by blanks, "..." keeps them; \" and \\ stand for
 * themselves within.
 * @param text  Changed: the words lie in it.
 * @param words Set to point to them, ended by NULL.
 * @return TW_OK; TW_ESYNTAX: an open quote, a lone \, none or too many words. */
tw_status tw_run_split(char *text, char *words[TW_RUN_ARGS_MAX + 1]);

/** Put fields in for {event} and so on. Other braces stay.
 * @return TW_OK; TW_ESIZE: out is too small. */
tw_status tw_run_expand(const char *word, const tw_fields *fields, char *out,
                        size_t capacity);

/* How a program ended. */
typedef struct tw_run_outcome {
    int code;                   /* exit code, or 128 + the signal that ended it */
    bool late;                  /* its time was up */
    int64_t us;                 /* that it ran */
    char last[TW_RUN_LINE_MAX]; /* line that it printed; "": none */
} tw_run_outcome;

/** Run a program to its end.
 * @param input     Given to it on standard input.
 * @param until_us  When it is ended at the latest, on CLOCK_MONOTONIC; 0: no such time.
 *                  Others may set it meanwhile.
 * @return TW_OK: it has run; TW_ENOENT, TW_EACCES...: it could not be started, err says
 *         why. */
tw_status tw_run_program(char *const argv[], const tw_fields *fields, const char *input,
                         int64_t timeout_us, const _Atomic int64_t *until_us,
                         tw_run_outcome *out, tw_error *err);

/** @return CLOCK_MONOTONIC, microseconds. */
int64_t tw_run_now(void);

#endif
