/* Texts of settings files. */
#include "texts.h"

#include <stdlib.h>
#include <string.h>

#include "reader.h"

enum { TEXT_MAX = 2 * TWI_FILE_MAX };

const char *twi_texts_find(const twi_texts *t, const char *path, size_t *bytes)
{
    for (size_t i = 0; i < t->count; i++) {
        if (strcmp(t->all[i].path, path) == 0) {
            *bytes = t->all[i].now_bytes;
            return t->all[i].now;
        }
    }
    return NULL;
}

char *twi_text_copy(const char *text, size_t bytes)
{
    char *copy = bytes < TEXT_MAX ? malloc(bytes + 1) : NULL;
    if (copy) {
        memcpy(copy, text, bytes);
        copy[bytes] = '\0';
    }
    return copy;
}

static void free_text(twi_file_text *f)
{
    free(f->path);
    free(f->shown);
    free(f->before);
    free(f->now);
}

tw_status twi_texts_add(twi_texts *t, const char *path, const char *shown,
                        const char *text, size_t bytes)
{
    if (t->count == TWI_TEXTS_MAX)
        return TW_ESIZE;
    twi_file_text *more = realloc(t->all, (t->count + 1) * sizeof *more);
    if (!more)
        return TW_ENOMEM;
    t->all = more;
    twi_file_text made = {.path = strdup(path),
                          .shown = strdup(shown),
                          .before = twi_text_copy(text, bytes),
                          .now = twi_text_copy(text, bytes),
                          .before_bytes = bytes,
                          .now_bytes = bytes};
    if (!made.path || !made.shown || !made.before || !made.now) {
        free_text(&made);
        return TW_ENOMEM;
    }
    t->all[t->count++] = made;
    return TW_OK;
}

void twi_texts_clear(twi_texts *t)
{
    for (size_t i = 0; i < t->count; i++)
        free_text(&t->all[i]);
    free(t->all);
    *t = (twi_texts){0};
}
