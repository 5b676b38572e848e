/* Reading the text of a settings file, line by line. Knows the form, not the settings. */
#ifndef TWI_READER_H
#define TWI_READER_H

#include <stddef.h>

#include "tawny/settings.h"

enum { TWI_LINE_MAX = 4096, TWI_FILE_MAX = 1000000 }; /* bytes */

/* What the lines say. Texts are good for the call. */
typedef struct twi_reader {
    void *ctx;
    /* "[head name]"; name is "" for one without. */
    void (*section)(void *ctx, unsigned line, const char *head, const char *name);
    void (*value)(void *ctx, unsigned line, const char *key, const char *value);
    /* A line that is none of these; what says why. */
    void (*problem)(void *ctx, unsigned line, const char *what);
} twi_reader;

/** Read all lines of text; it need not be ended by 0. */
void twi_reader_run(const twi_reader *reader, const char *text, size_t bytes);

#endif
