/* Running a program of the user's, to its end. Any thread. */
#ifndef TWI_PROGRAM_H
#define TWI_PROGRAM_H

#include <stdatomic.h>
#include <stdbool.h>
#include <stdint.h>

#include "tawny/error.h"

enum { TWI_PROGRAM_ARGS_MAX = 32, TWI_PROGRAM_LINE_MAX = 512 };

/** Words of a command line: separated by blanks, "..." keeps them; \" and \\ stand for
 * themselves within.
 * @param text  Changed: the words lie in it.
 * @param words Set to point to them, ended by NULL.
 * @return TW_OK; TW_ESYNTAX: an open quote, a lone \, none or too many words. */
tw_status twi_program_split(char *text, char *words[TWI_PROGRAM_ARGS_MAX + 1]);

/* How a program ended. */
typedef struct twi_program_outcome {
    int code;                        /* exit code, or 128 + the signal that ended it */
    bool late;                       /* its time was up */
    int64_t us;                      /* that it ran */
    char last[TWI_PROGRAM_LINE_MAX]; /* line that it printed; "": none */
} twi_program_outcome;

/** Run a program to its end.
 * @param environment  Ended by NULL; NULL: ours.
 * @param input     Given to it on standard input.
 * @param until_us  When it is ended at the latest, on CLOCK_MONOTONIC; 0, or NULL: no
 *                  such time. Others may set it meanwhile.
 * @return TW_OK: it has run; TW_ENOENT, TW_EACCES...: it could not be started, err says
 *         why. */
tw_status twi_program_run(char *const argv[], char *const environment[],
                          const char *input, int64_t timeout_us,
                          const _Atomic int64_t *until_us, twi_program_outcome *out,
                          tw_error *err);

/** @return CLOCK_MONOTONIC, microseconds. */
int64_t twi_program_now(void);

/** @return whether a program is there and may be run: looked for as it is when it is run.
 */
bool twi_program_is_there(const char *program);

#endif
