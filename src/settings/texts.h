/* Texts of settings files: as they are, and as they would be. */
#ifndef TWI_TEXTS_H
#define TWI_TEXTS_H

#include <stdbool.h>
#include <stddef.h>

#include "tawny/error.h"

enum { TWI_TEXTS_MAX = 256 };

typedef struct twi_file_text {
    char *path, *shown; /* where it is; what messages call it */
    char *before, *now; /* ended by 0 */
    size_t before_bytes, now_bytes;
} twi_file_text;

/* Zero it to begin. All of it is owned. */
typedef struct twi_texts {
    twi_file_text *all;
    size_t count;
    bool sealed; /* no further file is read */
} twi_texts;

/** @return the text that stands for a file, NULL: it has not been read. */
const char *twi_texts_find(const twi_texts *texts, const char *path, size_t *bytes);

/** Keep what was read of a file. @return TW_OK; TW_ENOMEM; TW_ESIZE: too many. */
tw_status twi_texts_add(twi_texts *texts, const char *path, const char *shown,
                        const char *text, size_t bytes);
void twi_texts_clear(twi_texts *texts);

/** @return a copy that is ended by 0, the caller's; NULL: out of memory, or too long. */
char *twi_text_copy(const char *text, size_t bytes);

#endif
