/* Texts of settings files: as they are, and as they would be. */
#ifndef TW_TEXTS_H
#define TW_TEXTS_H

#include <stdbool.h>
#include <stddef.h>

#include "tawny/status.h"

enum { TW_TEXTS_MAX = 256 };

typedef struct tw_file_text {
    char *path, *shown; /* where it is; what messages call it */
    char *before, *now; /* ended by 0 */
    size_t before_bytes, now_bytes;
} tw_file_text;

/* Zero it to begin. All of it is owned. */
typedef struct tw_texts {
    tw_file_text *all;
    size_t count;
    bool sealed; /* no further file is read */
} tw_texts;

/** @return the text that stands for a file, NULL: it has not been read. */
const char *tw_texts_find(const tw_texts *texts, const char *path, size_t *bytes);

/** Keep what was read of a file. @return TW_OK; TW_ENOMEM; TW_ESIZE: too many. */
tw_status tw_texts_add(tw_texts *texts, const char *path, const char *shown,
                       const char *text, size_t bytes);
void tw_texts_clear(tw_texts *texts);

/** @return a copy that is ended by 0, the caller's; NULL: out of memory, or too long. */
char *tw_text_copy(const char *text, size_t bytes);

#endif
