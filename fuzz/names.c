/* libFuzzer target: patterns and fields of names. Whatever they are, a name is one that
 * FAT and ext4 accept, stays below the store, and reading any name ends. */
#include <stdlib.h>
#include <string.h>

#include "../src/core/naming.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes);

enum { PART_MOST = 231 };

static void check_part(const char *part, size_t n)
{
    if (n == 0 || n > PART_MOST || part[n - 1] == '.' || part[n - 1] == ' ')
        abort();
    for (size_t i = 0; i < n; i++)
        if ((unsigned char)part[i] < 32 || strchr("<>:\"\\|?*", part[i]))
            abort();
}

static void check_name(const char *name)
{
    for (const char *at = name;; at++) {
        const size_t n = strcspn(at, "/");
        check_part(at, n);
        at += n;
        if (*at == '\0')
            return;
    }
}

/* The piece before the next line end, ended by 0; *rest is moved behind it. */
static char *take(char **rest)
{
    char *piece = *rest, *end = strchr(piece, '\n');
    if (end)
        *end = '\0';
    *rest = end ? end + 1 : piece + strlen(piece);
    return piece;
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes)
{
    char *text = malloc(bytes + 1), *rest = text, out[TWI_NAME_MAX];
    const char *problem = NULL;
    twi_name_parts parts;
    if (!text)
        return 0;
    if (bytes > 0)
        memcpy(text, data, bytes);
    text[bytes] = '\0';
    const char *pattern = take(&rest), *camera = take(&rest), *station = take(&rest);
    twi_name_fields fields = {.camera = camera,
                              .station = station,
                              .kind = "clip",
                              .sighting = (uint32_t)bytes,
                              .n = 1,
                              .extension = bytes % 2 ? "mp4" : ""};
    twi_civil_split((int64_t)bytes * 86399999999, 3600, &fields.time);
    if (twi_name_expand(pattern, &fields, out, sizeof out, &problem) == TW_OK) {
        check_name(out);
        (void)twi_name_read(pattern, out, &parts);
    }
    (void)twi_name_read(pattern, rest, &parts);
    free(text);
    return 0;
}
