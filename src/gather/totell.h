/* What is to be told to stations: put by any thread, taken by the gatherer's, in order.
 */
#ifndef TWI_GATHER_TOTELL_H
#define TWI_GATHER_TOTELL_H

#include <stdbool.h>
#include <stddef.h>

#include "heard.h"

enum { TWI_TO_TELL_MAX = 20000 };

/* Nothing to be told by itself: something waits in the ledger. */
#define TWI_TO_TELL_DUE "due"

typedef struct twi_to_tell twi_to_tell;

typedef struct twi_word {
    struct twi_word *next;
    char station[TWI_HEARD_NAME], what[16];
    char text[]; /* owned with it: free() */
} twi_word;

/** @return NULL: out of memory. */
twi_to_tell *twi_to_tell_new(void);
void twi_to_tell_free(twi_to_tell *words); /* NULL is fine */

/** @param what  The last part of the topic: "order".
 * @return false: TWI_TO_TELL_MAX wait already, or out of memory. */
bool twi_to_tell_put(twi_to_tell *words, const char *station, const char *what,
                     const char *text);

/** @return the next one, the caller's; NULL: none waits. */
twi_word *twi_to_tell_take(twi_to_tell *words);

#endif
