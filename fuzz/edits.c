/* libFuzzer target: changes of settings files, as a page makes them. A change that is
 * taken is found again by the reader, and brings no other section or key with it: the
 * fields are head, name, key, value and the file, each ended by a line break. */
#include <stdlib.h>
#include <string.h>

#include "fields.h"
#include "tawny/settings.h"
#include "../src/settings/sections.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes);

static size_t count_lines(const char *text, size_t bytes)
{
    size_t lines = 0;
    for (size_t i = 0; i < bytes; i++)
        lines += text[i] == '\n';
    return lines + (bytes > 0 && text[bytes - 1] != '\n');
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes)
{
    char field[FIELDS][FIELD_MOST + 1];
    const size_t at = fuzz_fields(data, bytes, field);
    if (at == 0)
        return 0;
    const char *text = (const char *)data + at;
    char *out = NULL;
    size_t out_bytes = 0;
    if (twi_settings_edit(text, bytes - at, field[0], field[1], field[2], field[3], &out,
                          &out_bytes) != TW_OK)
        return 0;
    if (strspn(field[2], "abcdefghijklmnopqrstuvwxyz_") != strlen(field[2]) ||
        strcmp(field[2], "") == 0)
        abort(); /* no other spelling of a key is taken */
    if (out[out_bytes] != '\0' ||
        count_lines(out, out_bytes) > count_lines(text, bytes - at) + 3)
        abort(); /* a section and a line at most, and an empty one between */
    free(out);
    return 0;
}
